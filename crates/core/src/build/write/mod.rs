//! Writes: values that describe an insert, update or delete, and run only when a handle writes them.

mod assign;
mod change;
mod computed;
mod from_query;
mod insert;
mod upsert;

pub use assign::{ChangeValues, IntoAssignments, assignment};
pub use change::{Delete, Update};
pub use computed::ComputedInsert;
pub use from_query::InsertFrom;
pub use insert::{Insert, InsertValues, Inserted};
pub use upsert::Upsert;

use smallvec::smallvec;

use crate::dialect::Dialect;
use crate::model::{Carried, Error, ErrorKind, Origin, RowShape, TableInfo};
use crate::plan::CompileContext;
use crate::plan::write::{Checks, Part, Parts, Step, WriteShape, Written};
use crate::sql::{Sql, Statement};

/// A write: an [`Insert`], an [`Upsert`], an [`Update`] or a [`Delete`].
///
/// Name it to write a function that takes any: `fn audited(db: &impl RunsQueries, write: &impl Writes)`.
pub trait Writes: Send + Sync {
    /// The row of the table that is written.
    type Row: Send + 'static;

    /// The type that a returned row is read into.
    #[doc(hidden)]
    type Read: RowShape + Send + 'static;

    /// Returns the row as the caller gets it.
    #[doc(hidden)]
    fn row_of(read: Self::Read) -> Self::Row
    where
        Self: Sized;

    /// Returns the SQL that a handle runs; if that is several statements, the first that changes rows. Stamps
    /// are shown as of 1970, unless a [`Clock`](crate::Clock) is carried.
    ///
    /// # Errors
    ///
    /// Those of [`Query::sql`](crate::Query::sql), and those of the method that made the write.
    fn sql(&self, dialect: Dialect) -> Result<Sql, Error> {
        self.sql_carrying(dialect, &Carried::new())
    }

    /// Returns the SQL on a handle that carries these values, as
    /// [`Query::sql_carrying`](crate::Query::sql_carrying).
    ///
    /// # Errors
    ///
    /// Those of [`sql`](Self::sql).
    fn sql_carrying(&self, dialect: Dialect, carried: &Carried) -> Result<Sql, Error> {
        self.shown(CompileContext::to_show(dialect.grammar(), carried))
    }

    #[doc(hidden)]
    fn shown(&self, context: CompileContext<'_>) -> Result<Sql, Error> {
        Ok(self
            .statement(context, &Step::shown())?
            .into_sql(Vec::new()))
    }

    /// Returns the statements that it needs on this engine, in order, without those that check it. If `keyed`,
    /// one of them reads the keys of the written rows.
    #[doc(hidden)]
    fn parts(
        &self,
        _context: CompileContext<'_>,
        _shape: WriteShape,
        _keyed: bool,
    ) -> Result<Parts, Error> {
        Ok(smallvec![Part::All])
    }

    /// Returns the checks of the written rows and of the rows that they refer to.
    #[doc(hidden)]
    fn checks(&self, _context: CompileContext<'_>) -> Result<Option<Box<Checks>>, Error> {
        Ok(None)
    }

    /// Returns the statement of one of these checks; `None` for a part that is no check.
    #[doc(hidden)]
    fn check_statement(
        &self,
        checks: &Checks,
        context: CompileContext<'_>,
        step: &Step<'_>,
    ) -> Option<Result<Statement<'_>, Error>> {
        let query = checks.query(self.table(), context, step, self.origin())?;
        Some(query.and_then(|query| Statement::of_change(query, context.grammar)))
    }

    /// Returns the kind of an error for a violated foreign key of `table`, as far as this write can tell.
    #[doc(hidden)]
    fn foreign_key(&self, _table: Option<&str>) -> ErrorKind {
        ErrorKind::ForeignKeyViolation
    }

    /// Returns the new rows of a part, counted from 0.
    #[doc(hidden)]
    fn rows_of(&self, _part: Part) -> std::ops::Range<usize> {
        0..0
    }

    /// Returns one of its statements.
    #[doc(hidden)]
    fn statement(
        &self,
        context: CompileContext<'_>,
        step: &Step<'_>,
    ) -> Result<Statement<'_>, Error>;

    /// Returns the number of written rows, from the counts that the engine reported.
    #[doc(hidden)]
    fn counted(&self, _context: CompileContext<'_>, _step: &Step<'_>, written: Written) -> u64 {
        written.rows
    }

    /// Returns whether it changes the rows that it finds, which may be none.
    #[doc(hidden)]
    fn finds_rows(&self) -> bool {
        false
    }

    /// Returns whether finding no row to change means that another writer changed it.
    #[doc(hidden)]
    fn expects_a_version(&self) -> bool {
        false
    }

    /// Returns the line of the program that began it.
    fn origin(&self) -> Origin;

    /// Returns the descriptor of the table that is written.
    #[doc(hidden)]
    fn table(&self) -> &'static TableInfo;

    /// Returns the name of the table that is written.
    fn table_name(&self) -> &'static str {
        self.table().name()
    }
}
