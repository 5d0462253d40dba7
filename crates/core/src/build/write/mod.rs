//! Writes: values that say what to insert, update or delete, and run only when a handle writes them.

mod assign;
mod change;
mod from_query;
mod insert;
mod upsert;

pub use assign::IntoAssignments;
pub use change::{Delete, Update};
pub use from_query::InsertFrom;
pub use insert::{Insert, Unsaved};
pub use upsert::Upsert;

use smallvec::smallvec;

use crate::dialect::Dialect;
use crate::model::{Carried, Error, Origin, RowShape};
use crate::plan::Asking;
use crate::plan::write::{Part, Parts, Step, WantedBack, Written};
use crate::sql::{Sql, Statement};

/// What handles write: an [`Insert`], an [`Upsert`], an [`Update`] or a [`Delete`].
///
/// Name it to write a function that takes any: `fn audited(db: &impl Handle, write: &impl Writes)`.
pub trait Writes: Send + Sync {
    /// The row of the table that is written.
    type Row: RowShape + Send + 'static;

    /// The SQL that a handle runs; where that is several statements, the first that changes rows. What the handle's
    /// clock stamps is shown as of 1970, unless a [`Clock`](crate::Clock) is carried.
    ///
    /// # Errors
    ///
    /// Those of [`Query::sql`](crate::Query::sql), and what is said where the write is made.
    fn sql(&self, dialect: Dialect) -> Result<Sql, Error> {
        self.sql_carrying(dialect, &Carried::new())
    }

    /// The SQL that it is on a handle that carries these values, as
    /// [`Query::sql_carrying`](crate::Query::sql_carrying).
    ///
    /// # Errors
    ///
    /// Those of [`sql`](Self::sql).
    fn sql_carrying(&self, dialect: Dialect, carried: &Carried) -> Result<Sql, Error> {
        self.shown(Asking::to_show(dialect.grammar(), carried))
    }

    #[doc(hidden)]
    fn shown(&self, asking: Asking<'_>) -> Result<Sql, Error> {
        Ok(self.statement(asking, &Step::shown())?.into_sql(Vec::new()))
    }

    /// The statements that it takes on this engine, in their order.
    #[doc(hidden)]
    fn parts(&self, _asking: Asking<'_>, _wanted: WantedBack) -> Result<Parts, Error> {
        Ok(smallvec![Part::All])
    }

    /// The new rows of a part, counted from 0.
    #[doc(hidden)]
    fn rows_of(&self, _part: Part) -> std::ops::Range<usize> {
        0..0
    }

    /// One of its statements.
    #[doc(hidden)]
    fn statement(&self, asking: Asking<'_>, step: &Step<'_>) -> Result<Statement<'_>, Error>;

    /// Returns how many rows a statement has written of which the engine says so much.
    #[doc(hidden)]
    fn counted(&self, _asking: Asking<'_>, _step: &Step<'_>, written: Written) -> u64 {
        written.rows
    }

    /// Returns whether no row to change means that somebody else changed it.
    #[doc(hidden)]
    fn expects_a_version(&self) -> bool {
        false
    }

    /// The line of the program that began it.
    fn origin(&self) -> Origin;

    /// The table that is written.
    fn table_name(&self) -> &'static str;
}
