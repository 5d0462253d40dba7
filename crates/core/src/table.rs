//! Static descriptors of tables and columns. `#[derive(Table)]` writes them; everything else reads them.

use crate::expr::RowColumns;
use crate::policy::{Carried, MissingValue, PolicyInfo};
use crate::query::{Query, Source};
use crate::row::RowShape;
use crate::storable::{BindValue, SqlType};
use crate::tree::RawColumn;

/// A struct whose values are the rows of a database table. Implemented by `#[derive(Table)]`.
///
/// ```
/// use nepheline::prelude::*;
///
/// #[derive(Debug, Clone, Table)]
/// pub struct Lab {
///     #[nepheline(key, generated)]
///     pub id: i64,
///     #[nepheline(unique)]
///     pub name: String,
///     pub country: Option<String>,
/// }
///
/// let query = Lab::rows().filter(|l| l.country.is_null());
/// assert_eq!(
///     query.sql(Dialect::Postgres)?.text(),
///     r#"SELECT "lab"."id", "lab"."name", "lab"."country" FROM "lab" WHERE "lab"."country" IS NULL"#,
/// );
/// # Ok::<(), Error>(())
/// ```
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a table",
    note = "add `#[derive(Table)]` to the struct"
)]
pub trait Table: RowStruct {
    /// The value of a column, as it is sent to the database.
    #[doc(hidden)]
    fn value(&self, column: &'static ColumnInfo) -> BindValue;

    /// The query for all rows of the table.
    ///
    /// The derive also writes it as a function of the struct itself, so that this trait need not be in scope.
    #[track_caller]
    fn rows() -> Query<Self> {
        Query::over_table()
    }
}

/// A struct each of whose fields is a column: a row of a table, or of a query that was selected into
/// it. Implemented by `#[derive(Table)]` and `#[derive(RowShape)]`.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a struct of columns",
    note = "add `#[derive(RowShape)]` to a struct with one field for each value, and select into it with `shape!`"
)]
pub trait RowStruct: RowShape + Send + 'static {
    /// The struct of typed columns that closures such as the one of [`Query::filter`] are given.
    type Columns: RowColumns<Row = Self>;

    /// What the database calls the table and its columns; of a query, what it is called inside another.
    const INFO: &'static TableInfo;

    /// The columns where the rows stand in a query as `source`.
    #[doc(hidden)]
    fn columns(source: Source) -> Self::Columns;
}

/// What is known of a table before any query runs.
#[derive(Debug)]
pub struct TableInfo {
    name: &'static str,
    schema: Option<&'static str>,
    // Written once at compile time for each quote mark, because every statement needs them.
    from: PerQuote,
    select_list: PerQuote,
    columns: &'static [ColumnInfo],
    references: &'static [Reference],
    policies: &'static [PolicyInfo],
    /// The relations to the rows that are retired with those of this table.
    retired_with: &'static [Reference],
}

/// From the rows of a table to at most one row of another: a foreign key, or the other side of one
/// that is unique.
#[doc(hidden)]
#[derive(Debug)]
pub struct Reference {
    name: &'static str,
    // Asked when it is followed, because tables may lead to each other in circles.
    target: fn() -> &'static TableInfo,
    /// The columns that are equal: of this table, and of the other.
    pairs: &'static [[ColumnOf; 2]],
    optional: bool,
}

/// A column of a table, wherever that stands in a query.
type ColumnOf = fn(Source) -> RawColumn;

impl Reference {
    /// `optional` where there may be no such row.
    pub const fn new(
        name: &'static str,
        target: fn() -> &'static TableInfo,
        pairs: &'static [[ColumnOf; 2]],
        optional: bool,
    ) -> Reference {
        Reference { name, target, pairs, optional }
    }

    pub(crate) fn name(&self) -> &'static str {
        self.name
    }

    pub(crate) fn target(&self) -> &'static TableInfo {
        (self.target)()
    }

    pub(crate) fn is_optional(&self) -> bool {
        self.optional
    }

    /// The columns that are equal, where this table and the other stand in a query.
    pub(crate) fn pairs(
        &self,
        own: Source,
        target: Source,
    ) -> impl Iterator<Item = [RawColumn; 2]> {
        self.pairs
            .iter()
            .map(move |[of_own, of_target]| [of_own(own), of_target(target)])
    }
}

/// A table with a primary key, which references lead to. Implemented by `#[derive(Table)]`.
#[diagnostic::on_unimplemented(
    message = "`{Self}` has no primary key",
    note = "mark its key with `#[nepheline(key)]`, or say which column is meant: `references = {Self} by column`"
)]
pub trait Keyed: Table {
    /// The column of the key, or a tuple of them.
    type Key;

    /// The key where the table stands in a query.
    fn key(columns: Self::Columns) -> Self::Key;
}

/// A table whose rows are marked as withdrawn instead of deleted. Implemented by `#[derive(Table)]` where it is
/// declared to `retire`.
#[diagnostic::on_unimplemented(
    message = "the rows of `{Self}` are deleted, and not retired",
    note = "declare the column that marks them: `#[nepheline(retire(withdrawn_at))]`"
)]
pub trait Retires: Table {}

/// A table that refers to the table `T` in one way. Implemented by `#[derive(Table)]`.
#[diagnostic::on_unimplemented(
    message = "`{Self}` does not refer to `{T}` in exactly one way",
    note = "one of its fields needs `#[nepheline(references = {T})]`"
)]
pub trait RefersTo<T: Table>: Table {
    /// The number of the reference among those of the table.
    #[doc(hidden)]
    const REFERENCE: u8;
}

/// A piece of SQL text for each of the quote marks in use: `"` and `` ` ``.
pub(crate) type PerQuote = [&'static str; 2];

impl TableInfo {
    #[doc(hidden)]
    pub const fn new(
        schema: Option<&'static str>,
        name: &'static str,
        from: PerQuote,
        select_list: PerQuote,
        columns: &'static [ColumnInfo],
        references: &'static [Reference],
    ) -> TableInfo {
        TableInfo {
            name,
            schema,
            from,
            select_list,
            columns,
            references,
            policies: &[],
            retired_with: &[],
        }
    }

    #[doc(hidden)]
    pub const fn under(mut self, policies: &'static [PolicyInfo]) -> TableInfo {
        self.policies = policies;
        self
    }

    #[doc(hidden)]
    pub const fn retiring(mut self, with: &'static [Reference]) -> TableInfo {
        self.retired_with = with;
        self
    }

    /// The table's name in the database, without its schema.
    pub fn name(&self) -> &'static str {
        self.name
    }

    /// The schema that the table was declared in, if one was given.
    pub fn schema(&self) -> Option<&'static str> {
        self.schema
    }

    /// The columns, in the order of the struct's fields.
    pub fn columns(&self) -> &'static [ColumnInfo] {
        self.columns
    }

    /// The columns of the primary key, in the order of the struct's fields.
    pub fn key(&self) -> impl Iterator<Item = &'static ColumnInfo> {
        self.columns.iter().filter(|column| column.is_key())
    }

    pub(crate) fn policies(&self) -> &'static [PolicyInfo] {
        self.policies
    }

    pub(crate) fn retired_with(&self) -> &'static [Reference] {
        self.retired_with
    }

    pub(crate) fn references(&self) -> &'static [Reference] {
        self.references
    }

    pub(crate) fn from_clause(&self) -> PerQuote {
        self.from
    }

    pub(crate) fn select_list(&self) -> PerQuote {
        self.select_list
    }
}

/// What is known of a column before any query runs.
#[derive(Debug)]
pub struct ColumnInfo {
    table: &'static str,
    name: &'static str,
    qualified: PerQuote,
    sql_type: SqlType,
    nullable: bool,
    role: ColumnRole,
}

/// What the attributes of a field say about its column.
#[doc(hidden)]
#[derive(Debug, Clone, Copy)]
pub struct ColumnRole {
    pub key: bool,
    pub generated: bool,
    pub unique: bool,
    pub by_code_point: bool,
    /// Whether a time in it marks the row as withdrawn.
    pub retires: bool,
    pub made: Made,
}

/// Where the value of a column comes from that the database does not generate.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, Default)]
pub enum Made {
    /// Whoever writes the row gives it.
    #[default]
    Given,
    /// From what the handle carries.
    Filled(fn(&Carried) -> Result<BindValue, MissingValue>),
    /// The time of the insert.
    StampedOnInsert,
    /// The time of the last write.
    StampedOnWrite,
    /// Counted up by each update.
    Version,
}

impl ColumnInfo {
    #[doc(hidden)]
    pub const fn new(
        table: &'static str,
        name: &'static str,
        qualified: PerQuote,
        (sql_type, nullable): (SqlType, bool),
        role: ColumnRole,
    ) -> ColumnInfo {
        ColumnInfo { table, name, qualified, sql_type, nullable, role }
    }

    /// The name of the table that the column is part of.
    pub fn table(&self) -> &'static str {
        self.table
    }

    /// The column's name in the database.
    pub fn name(&self) -> &'static str {
        self.name
    }

    /// The SQL type that the field's Rust type is stored as.
    pub fn sql_type(&self) -> SqlType {
        self.sql_type
    }

    /// Whether the field is an `Option`, so that NULL is expected.
    pub fn is_nullable(&self) -> bool {
        self.nullable
    }

    /// Whether the column is the primary key or a part of it.
    pub fn is_key(&self) -> bool {
        self.role.key
    }

    /// Whether the database makes the value when a row is inserted.
    pub fn is_generated(&self) -> bool {
        self.role.generated
    }

    /// Whether no two rows share a value of this column.
    pub fn is_unique(&self) -> bool {
        self.role.unique
    }

    /// Whether the database compares the column's text by code point of its own accord.
    pub fn is_by_code_point(&self) -> bool {
        self.role.by_code_point
    }

    /// Whether an insert is given its value.
    pub(crate) fn is_given(&self) -> bool {
        !self.is_generated() && matches!(self.role.made, Made::Given)
    }

    pub(crate) fn made(&self) -> Made {
        self.role.made
    }

    pub(crate) fn retires(&self) -> bool {
        self.role.retires
    }

    pub(crate) fn qualified(&self) -> PerQuote {
        self.qualified
    }
}
