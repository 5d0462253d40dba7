//! The traits of structs whose values are rows. The derives implement them.

use super::expr::RowColumns;
use super::query::Query;
use crate::model::{BindValue, ColumnInfo, RowShape, TableInfo};
use crate::tree::Source;

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

    /// The names of the table and its columns in the database; of a query, its names inside another.
    const INFO: &'static TableInfo;

    /// The columns where the rows stand in a query as `source`.
    #[doc(hidden)]
    fn columns(source: Source) -> Self::Columns;
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
