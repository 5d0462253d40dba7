//! Writes: values that say what to insert, update or delete, and run only when a handle writes them.

mod assign;
mod change;
mod from_query;
mod insert;

pub use assign::{Assignment, IntoAssignments};
pub(crate) use change::Target;
pub use change::{Delete, Update};
pub use from_query::InsertFrom;
pub use insert::{Insert, Unsaved};

use crate::compile::{Asking, Dialect, Sql, Statement};
use crate::error::Error;
use crate::origin::Origin;
use crate::policy::Carried;
use crate::row::RowShape;

/// A part of a write: a statement of its own.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    /// One of the statements that it takes, counted from 0.
    Statement(usize),
    /// One of its rows alone, to find the one that the database refuses.
    Row(usize),
}

/// What handles write: an [`Insert`], an [`Update`] or a [`Delete`].
///
/// Name it to write a function that takes any: `fn audited(db: &impl Handle, write: &impl Writes)`.
pub trait Writes: Send + Sync {
    /// The row of the table that is written.
    type Row: RowShape + Send + 'static;

    /// The SQL that a handle runs; where that is several statements, the first of them. What the handle's
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
        self.shown(Asking::to_show(dialect, carried))
    }

    #[doc(hidden)]
    fn shown(&self, asking: Asking<'_>) -> Result<Sql, Error> {
        Ok(self
            .statement(asking, Part::Statement(0), false)?
            .into_sql())
    }

    /// In how many statements it is written.
    #[doc(hidden)]
    fn statements(&self, _asking: Asking<'_>) -> usize {
        1
    }

    /// How many rows it has before a statement, where it brings its own.
    #[doc(hidden)]
    fn rows_before(&self, _asking: Asking<'_>, _statement: usize) -> Option<usize> {
        None
    }

    /// A part of it, whose rows are read back where that is wanted.
    #[doc(hidden)]
    fn statement(
        &self,
        asking: Asking<'_>,
        part: Part,
        returning: bool,
    ) -> Result<Statement<'_>, Error>;

    /// Whether no row to change means that somebody else changed it.
    #[doc(hidden)]
    fn expects_a_version(&self) -> bool {
        false
    }

    /// The line of the program that began it.
    fn origin(&self) -> Origin;

    /// The table that is written.
    fn table_name(&self) -> &'static str;
}
