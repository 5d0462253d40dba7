//! New rows: of which columns they are, and what they bind.

use std::fmt;
use std::ops::Range;

use crate::model::{BindValue, ColumnInfo, Error, LentBind, Made, Origin, TableInfo};
use crate::plan::Asking;

/// New rows: of which columns, and how many.
pub(crate) struct NewRows<'a> {
    pub(crate) table: &'static TableInfo,
    pub(crate) columns: &'a [&'static ColumnInfo],
    pub(crate) rows: usize,
    /// True if they are given back as they are stored.
    pub(crate) returning: bool,
}

/// Rows that lend their values.
pub(crate) trait LendsRows: Send + Sync {
    fn count(&self) -> usize;

    /// Lends the values of these rows, one after the other, each row's followed by what is the same for all.
    fn lend<'b>(
        &'b self,
        rows: Range<usize>,
        made: &'b [BindValue],
        take: &mut dyn FnMut(LentBind<'b>),
    );

    /// Returns where the first of these rows end that take no more than so many bytes, at least one of them.
    fn end_within(&self, rows: Range<usize>, most_bytes: usize) -> usize;

    /// Returns whether no dialect could have a reason to refuse a value of these rows.
    fn are_ordinary(&self, rows: Range<usize>) -> bool;
}

/// The values of some of the rows that there are, each with what is the same for all.
pub(crate) struct RowBinds<'q> {
    pub(crate) rows: &'q dyn LendsRows,
    pub(crate) range: Range<usize>,
    /// How many values of a row are bound.
    pub(crate) width: usize,
    /// The values that the rows do not give themselves.
    pub(crate) made: Vec<BindValue>,
}

impl fmt::Debug for RowBinds<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "RowBinds({:?})", self.range)
    }
}

/// Returns the values that are the same for all rows of an insert: what the handle fills, stamps and counts.
pub(crate) fn made(
    table: &'static TableInfo,
    asking: Asking<'_>,
    at: Origin,
) -> Result<Vec<(&'static ColumnInfo, BindValue)>, Error> {
    let columns = table.columns().iter();
    let made = columns.filter(|column| !column.is_generated() && !column.is_given());
    let made = made.map(|column| {
        let value = match column.made() {
            Made::Filled(fill) => fill(asking.carried)
                .map_err(|missing| Error::missing_fill(column, missing.type_name()).asked_at(at))?,
            Made::Version => BindValue::Int(1),
            Made::Given | Made::StampedOnInsert | Made::StampedOnWrite => column.mark_of(asking),
        };
        Ok((column, value))
    });
    made.collect()
}
