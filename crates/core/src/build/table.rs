//! The traits of structs whose values are rows. The derives implement them.

use super::call::{self, DatabaseCall};
use super::expr::{Condition, RowColumns};
use super::query::{self, Query};
use crate::model::{BindValue, ColumnInfo, FieldValue, RowShape, TableInfo};
use crate::tree::{RawColumn, Source};

/// A struct whose values are the rows of a database table. `#[derive(Table)]` implements it.
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
    /// The sets of fields that no two rows have the same values in: the key first, then the others.
    #[doc(hidden)]
    const UNIQUE: &'static [&'static [&'static str]];

    /// The same sets without the key, by the numbers of their columns.
    #[doc(hidden)]
    const UNIQUE_COLUMNS: &'static [&'static [u16]];

    /// Returns the value of a column, as it is sent to the database.
    #[doc(hidden)]
    fn value(&self, column: &'static ColumnInfo) -> BindValue;

    /// Returns the query for all rows of the table.
    ///
    /// The derive also writes it as an associated function of the struct, so that this trait need not be in
    /// scope.
    #[track_caller]
    fn rows() -> Query<Self> {
        Query::over_table()
    }
}

/// Returns the value of a column out of all values of a row, in the order of the columns; NULL for a column of
/// another table.
#[doc(hidden)]
pub fn value_of(
    columns: &'static [ColumnInfo],
    values: &[&dyn FieldValue],
    column: &'static ColumnInfo,
) -> BindValue {
    let own = columns.iter().position(|own| std::ptr::eq(own, column));
    match own.and_then(|own| values.get(own)) {
        Some(value) => value.bind(),
        None => BindValue::Null(column.sql_type()),
    }
}

/// A struct whose fields are columns: a row of a table, or of a query that selects into it.
/// `#[derive(Table)]` and `#[derive(RowShape)]` implement it.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a row shape",
    note = "add `#[derive(RowShape)]` to a struct with one field for each value, and select into it with `shape!`"
)]
pub trait RowStruct: RowShape + Send + 'static {
    /// The struct of typed columns that closures receive, such as that of [`Query::filter`].
    type Columns: RowColumns<Row = Self>;

    /// The names of the table and its columns in the database; for a row shape, the names in a derived table.
    const INFO: &'static TableInfo;

    /// Returns the columns for a source in a query.
    #[doc(hidden)]
    fn columns(source: Source) -> Self::Columns;

    /// Returns the query for the rows of a function of the database. They are filtered, joined and grouped like those of
    /// a table, and the policies of a table struct apply to them. The function's columns have the names of the struct's.
    ///
    /// Joined with other rows, its arguments may be columns of tables before it (a lateral join).
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// use nepheline::call;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String, analyst_id: Option<i64> }
    /// let (x, y) = (471_200.0, 5_402_100.0);
    /// let near = Specimen::rows_from(call!("specimens_near"(x, y, 500.0))).filter(|s| s.analyst_id.is_null());
    /// assert_eq!(
    ///     near.sql(Dialect::Postgres)?.text(),
    ///     r#"SELECT "specimen"."id", "specimen"."label", "specimen"."analyst_id" FROM "specimens_near"($1, $2, $3) AS "specimen" WHERE "specimen"."analyst_id" IS NULL"#,
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// # Errors
    ///
    /// When compiled, [`Unsupported`](crate::ErrorKind::Unsupported) on MariaDB and MySQL, which have no functions that
    /// return rows.
    #[track_caller]
    fn rows_from(call: DatabaseCall) -> Query<Self> {
        call::rows_from(call)
    }
}

/// A table that a relation leads to: every [`Table`]. `#[derive(Table)]` implements it.
// Implemented for each table and not for all, because the compiler gives up at a type that it cannot find: a
// relation to a struct that is no table is one error, and not one for each use.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a table",
    note = "add `#[derive(Table)]` to the struct"
)]
pub trait Target {
    /// The table itself.
    type Row: Table<Columns = Self::Columns>;

    /// The struct of its columns.
    type Columns: RowColumns<Row = Self::Row>;

    /// Returns the query for rows whose columns equal those of a row of an outer query.
    #[doc(hidden)]
    #[track_caller]
    fn related(condition: impl FnOnce(Self::Columns) -> Condition) -> Query<Self::Row> {
        query::related(condition)
    }

    /// Returns the query for rows whose columns have these values; no rows if one of them is NULL.
    #[doc(hidden)]
    #[track_caller]
    fn with_values<const N: usize>(
        columns: impl FnOnce(Self::Columns) -> [RawColumn; N],
        values: [BindValue; N],
    ) -> Query<Self::Row> {
        query::with_values(columns, values)
    }
}

/// A table whose primary key has the columns `K`, which references lead to. `#[derive(Table)]` implements it.
// The columns are a parameter and no associated type, so that the type of a key may be private.
#[diagnostic::on_unimplemented(
    message = "`{Self}` has no primary key of as many columns",
    note = "mark its key with `#[nepheline(key)]`, or name a unique column: `references = {Self} by column`",
    note = "a key of several columns is referred to by as many fields: `#[nepheline(references(name: {Self} by (a, b)))]` on the struct"
)]
pub trait Keyed<K>: Table {
    /// Returns the key for the columns of a source.
    #[doc(hidden)]
    fn key(columns: Self::Columns) -> K;
}

/// A table whose rows are marked as retired instead of deleted. `#[derive(Table)]` implements it for
/// `#[nepheline(retire(..))]`.
#[diagnostic::on_unimplemented(
    message = "`{Self}` does not retire its rows",
    note = "declare the column that marks them: `#[nepheline(retire(withdrawn_at))]`"
)]
pub trait Retires: Table {}

/// A table that has exactly one reference to the table `T`, with the number `N`. `#[derive(Table)]` implements
/// it.
// The number is a parameter, so that two references to one table are two implementations, between which the
// compiler does not choose.
#[diagnostic::on_unimplemented(
    message = "`{Self}` does not refer to `{T}` in exactly one way",
    note = "one of its fields needs `#[nepheline(references = {T})]`"
)]
pub trait RefersTo<T, N>: Table {
    /// The number of the reference in the table's list.
    #[doc(hidden)]
    const REFERENCE: u8;
}

/// The number of a reference in the table's list.
#[doc(hidden)]
#[derive(Debug)]
pub struct Numbered<const N: u8>;
