//! Writes: the statements that an engine needs for one, and which rows each of them is of.

mod change;
mod found;
mod retire;
mod rows;

use smallvec::SmallVec;

pub(crate) use change::{Change, Changing, Target};
pub(crate) use found::{is, one_of};
pub(crate) use retire::{Way, children, ways_from};
pub(crate) use rows::{LendsRows, NewRows, RowBinds, made};

use crate::model::{ColumnInfo, Key};
use crate::tree::Source;

/// The fate of a stored row that an insert conflicts with.
pub(crate) struct OnConflict {
    /// The columns by which it is known.
    pub(crate) known_by: Vec<&'static ColumnInfo>,
    /// The rows to update and their assignments; nothing, if they stay.
    pub(crate) target: Option<Target>,
    /// Where the columns of the new row stand.
    pub(crate) new: Source,
}

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
    /// Returns whether it only prepares for what is wanted.
    pub fn prepares(self) -> bool {
        matches!(self, Part::Present(_) | Part::Keys | Part::Children(_))
    }
}

/// The parts of a write, in their order.
pub type Parts = SmallVec<[Part; 4]>;

/// The answer that is wanted of a write.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WantedBack {
    /// The number of rows that were written.
    Count,
    /// The rows as they are stored now.
    Rows,
    /// The numbers of rows that were inserted, updated and kept.
    Kinds,
}

/// The counts that an engine gives of a statement that writes.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, Default)]
pub struct Written {
    /// The number of rows that it inserted, changed or deleted.
    pub rows: u64,
    /// The number of rows that are known to be inserted.
    pub inserted: u64,
}

/// Where a write has come to.
#[doc(hidden)]
#[derive(Debug, Clone, Copy)]
pub struct Step<'a> {
    pub part: Part,
    pub wanted: WantedBack,
    /// The rows that were found before, if any were asked for: the keys of the rows that are meant, or which of the
    /// new rows are there already.
    pub found: Option<&'a [Key]>,
}

impl Step<'_> {
    /// The part by which a write is shown.
    pub(crate) fn shown() -> Step<'static> {
        Step { part: Part::All, wanted: WantedBack::Count, found: None }
    }
}
