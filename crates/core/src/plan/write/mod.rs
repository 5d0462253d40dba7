//! Writes: the statements that an engine needs for one, and the rows of each.

mod change;
mod check;
mod found;
mod retire;
mod rows;

use smallvec::SmallVec;

pub(crate) use change::{Added, Change, Changing, Target, guarded, outside_rows, refused_set};
pub use check::Checks;
pub(crate) use check::StoredRows;
pub(crate) use found::{is, one_of};
pub(crate) use retire::{Stamps, Way, children, stamps, ways_from};
pub use rows::RowValues;
pub(crate) use rows::{NewRows, NewStored, RowBinds, RowList, Rows, RowsOfValues, made};

use crate::model::{ColumnInfo, Key};
use crate::tree::Source;

/// The update of a stored row that an insert conflicts with.
pub(crate) struct OnConflict {
    /// The columns that identify the stored row.
    pub(crate) known_by: Vec<&'static ColumnInfo>,
    /// The rows to update and their assignments, or `None` to leave them unchanged.
    pub(crate) target: Option<Target>,
    /// The source of the proposed row's columns.
    pub(crate) new: Source,
}

/// A range of the new rows of a write, counted from 0.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct RowRange {
    pub first: usize,
    /// The end of the range, exclusive.
    pub end: usize,
}

/// A part of a write: a statement of its own.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    /// Changes all rows at once.
    All,
    /// Inserts these new rows.
    New(RowRange),
    /// Copies these new rows into the table, more at a time than one statement can bind.
    Copied(RowRange),
    /// Inserts rows, and reads the keys that they have got.
    Keyed(RowRange),
    /// Reads which parents of the new rows the handle sees, and locks them.
    Parents(usize),
    /// Reads the stored rows whose reference leads to a row that the handle sees.
    WithParents(usize),
    /// Reads the stored rows that satisfy the policies of the table.
    Satisfying,
    /// Inserts one of the new rows alone, to find the one that the database refuses.
    Row(usize),
    /// Reads which of these new rows are already stored.
    Present(RowRange),
    /// Reads the keys of the rows to change, and locks the rows.
    Keys,
    /// Retires the rows of another table that are retired with those whose keys were found.
    Children(usize),
    /// Changes the rows whose keys were found.
    ByKeys,
    /// Reads the rows whose keys were found.
    Stored,
}

impl Part {
    /// Returns whether the part only prepares a later one.
    pub fn prepares(self) -> bool {
        matches!(self, Part::Present(_) | Part::Keys | Part::Children(_)) || self.checks()
    }

    /// Returns whether the part changes rows, rather than only reading some.
    pub fn changes_rows(self) -> bool {
        !matches!(self, Part::Present(_) | Part::Keys | Part::Stored) && !self.checks()
    }

    /// Returns whether the part only checks what is written.
    pub fn checks(self) -> bool {
        matches!(self, Part::Parents(_) | Part::WithParents(_) | Part::Satisfying)
    }
}

/// The parts of a write, in their order.
pub type Parts = SmallVec<[Part; 4]>;

/// The result that the caller expects of a write.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WriteShape {
    /// The number of written rows.
    Count,
    /// The rows as they are stored now.
    Rows,
    /// The numbers of inserted, updated and unchanged rows.
    Kinds,
}

/// The counts that an engine reports for a writing statement.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, Default)]
pub struct Written {
    /// The number of rows that it inserted, changed or deleted.
    pub rows: u64,
    /// The number of rows that were inserted, where that is known.
    pub inserted: u64,
}

/// The current part of a write, and what earlier parts have read.
#[doc(hidden)]
#[derive(Debug, Clone, Copy)]
pub struct Step<'a> {
    pub part: Part,
    pub shape: WriteShape,
    /// The values that an earlier part read, if one did: the keys of the rows to change, or which of the new
    /// rows are already stored.
    pub found: Option<&'a [Key]>,
}

impl Step<'_> {
    /// Returns the part by which a write is shown.
    pub(crate) fn shown() -> Step<'static> {
        Step { part: Part::All, shape: WriteShape::Count, found: None }
    }
}
