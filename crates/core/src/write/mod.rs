//! Writes: values that say what to insert, update or delete, and run only when a handle writes them.

mod assign;
mod change;
mod found;
mod from_query;
mod insert;
mod retire;
mod target;
mod upsert;

pub use assign::{Assignment, IntoAssignments};
pub use change::{Delete, Update};
pub use from_query::InsertFrom;
pub use insert::{Insert, Unsaved};
pub(crate) use target::Target;
pub use upsert::Upsert;

use smallvec::{SmallVec, smallvec};

use crate::compile::{Asking, Dialect, Sql, Statement};
use crate::error::Error;
use crate::origin::Origin;
use crate::policy::Carried;
use crate::query::Key;
use crate::row::RowShape;

/// Some of the new rows of a write, counted from 0.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Stretch {
    pub first: usize,
    /// The row after the last.
    pub end: usize,
}

/// A part of a write: a statement of its own.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    /// Changes all rows that are meant.
    All,
    /// Inserts these new rows.
    New(Stretch),
    /// Copies these new rows into the table, more at a time than one statement binds.
    Copied(Stretch),
    /// One of its new rows alone, to find the one that the database refuses.
    Row(usize),
    /// Asks which of these new rows are there already.
    Present(Stretch),
    /// Asks for the keys of the rows that are meant, and locks them.
    Keys,
    /// Retires the rows of another table that are retired with those whose keys were found.
    Children(usize),
    /// Changes the rows whose keys were found.
    ByKeys,
    /// Reads the rows whose keys were found.
    Stored,
}

impl Part {
    /// Whether it only prepares for what is wanted.
    pub fn prepares(self) -> bool {
        matches!(self, Part::Present(_) | Part::Keys | Part::Children(_))
    }
}

/// The parts of a write, in their order.
pub type Parts = SmallVec<[Part; 4]>;

/// What is wanted of a write.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WantedBack {
    /// How many rows were written.
    Count,
    /// The rows as they are stored now.
    Rows,
    /// How many were inserted, updated and kept.
    Kinds,
}

/// What an engine says of a statement that writes.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, Default)]
pub struct Written {
    /// How many rows it inserted, changed or deleted.
    pub rows: u64,
    /// Of how many it is known that they were inserted.
    pub inserted: u64,
}

/// Where a write has come to.
#[doc(hidden)]
#[derive(Debug, Clone, Copy)]
pub struct Step<'a> {
    pub part: Part,
    pub wanted: WantedBack,
    /// What was found before, if anything was asked: the keys of the rows that are meant, or which of the
    /// new rows are there already.
    pub found: Option<&'a [Key]>,
}

impl Step<'_> {
    /// The part by which a write is shown.
    pub(crate) fn shown() -> Step<'static> {
        Step { part: Part::All, wanted: WantedBack::Count, found: None }
    }
}

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
        self.shown(Asking::to_show(dialect, carried))
    }

    #[doc(hidden)]
    fn shown(&self, asking: Asking<'_>) -> Result<Sql, Error> {
        Ok(self.statement(asking, &Step::shown())?.into_sql())
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

    /// How many rows a statement has written of which the engine says so much.
    #[doc(hidden)]
    fn counted(&self, _asking: Asking<'_>, _step: &Step<'_>, written: Written) -> u64 {
        written.rows
    }

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
