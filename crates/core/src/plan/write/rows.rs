//! The new rows of an insert: their columns and their binds.

use std::collections::HashSet;
use std::fmt;
use std::ops::Range;
use std::sync::{Arc, OnceLock};

use super::StoredRows;
use crate::model::{
    BindValue, Borrower, ColumnInfo, Error, LentBind, Measure, Origin, TableInfo, TakesValues,
    ValueSource,
};
use crate::plan::{CompileContext, required};

/// The columns of new rows, and their number.
pub(crate) struct NewRows<'a> {
    pub(crate) table: &'static TableInfo,
    pub(crate) columns: &'a [&'static ColumnInfo],
    pub(crate) rows: usize,
    /// True if the statement returns them as they are stored.
    pub(crate) returning: bool,
    /// The schema of a table that names none.
    pub(crate) schema: Option<&'a Arc<str>>,
}

/// A new row, which passes on its values.
#[doc(hidden)]
pub trait RowValues: Send + Sync {
    /// Passes the values of the given columns, in order.
    fn pass_to<'b>(&'b self, to: &mut impl TakesValues<'b>);
}

/// New rows, of whatever type.
pub(crate) trait RowList: Send + Sync {
    fn count(&self) -> usize;

    /// Lends the values of these rows in order, each row's followed by the values that are the same for all
    /// rows.
    fn lend<'b>(
        &'b self,
        rows: Range<usize>,
        made: &'b [BindValue],
        take: &mut dyn FnMut(LentBind<'b>),
    );

    /// Takes the measure of these rows.
    fn measure_of(&self, rows: Range<usize>) -> Measure;

    /// Returns where the measure of all rows is kept.
    fn measured(&self) -> &OnceLock<Measure>;
}

/// New rows of one type.
pub(crate) struct Rows<U> {
    pub(crate) rows: Vec<U>,
    pub(crate) measured: OnceLock<Measure>,
}

// Every table has these methods of its own, so they are short. What need not be fast stands below, once for all.
impl<U: RowValues> RowList for Rows<U> {
    fn count(&self) -> usize {
        self.rows.len()
    }

    fn lend<'b>(
        &'b self,
        rows: Range<usize>,
        made: &'b [BindValue],
        take: &mut dyn FnMut(LentBind<'b>),
    ) {
        let mut to = Borrower(take);
        for row in self.rows.get(rows).unwrap_or_default() {
            row.pass_to(&mut to);
            for value in made {
                to.take(LentBind::Value(value));
            }
        }
    }

    fn measure_of(&self, rows: Range<usize>) -> Measure {
        let mut measure = Measure::NOTHING;
        for row in self.rows.get(rows).unwrap_or_default() {
            row.pass_to(&mut measure);
        }
        measure
    }

    fn measured(&self) -> &OnceLock<Measure> {
        &self.measured
    }
}

/// New rows of a table that is known at run time: their values, one row after the other.
pub(crate) struct RowsOfValues {
    /// The number of values of a row, at least 1.
    width: usize,
    values: Vec<BindValue>,
    measured: OnceLock<Measure>,
}

impl RowsOfValues {
    /// Returns the rows of a table. Values that are no whole row are left out.
    pub(crate) fn of(table: &'static TableInfo, values: Vec<BindValue>) -> RowsOfValues {
        let given = table.columns().iter().filter(|column| column.is_given());
        RowsOfValues { width: given.count().max(1), values, measured: OnceLock::new() }
    }

    fn rows(&self, rows: Range<usize>) -> impl Iterator<Item = &[BindValue]> {
        let all = self.values.chunks_exact(self.width);
        all.skip(rows.start).take(rows.len())
    }
}

impl RowList for RowsOfValues {
    fn count(&self) -> usize {
        self.values.len() / self.width
    }

    fn lend<'b>(
        &'b self,
        rows: Range<usize>,
        made: &'b [BindValue],
        take: &mut dyn FnMut(LentBind<'b>),
    ) {
        for row in self.rows(rows) {
            row.iter()
                .chain(made)
                .for_each(|value| take(LentBind::Value(value)));
        }
    }

    fn measure_of(&self, rows: Range<usize>) -> Measure {
        let mut measure = Measure::NOTHING;
        for value in self.rows(rows).flatten() {
            measure.take(LentBind::Value(value));
        }
        measure
    }

    fn measured(&self) -> &OnceLock<Measure> {
        &self.measured
    }
}

impl dyn RowList + '_ {
    /// Returns the measure of all rows, which is taken once.
    fn measure(&self) -> Measure {
        *self
            .measured()
            .get_or_init(|| self.measure_of(0..self.count()))
    }

    /// Returns the end of the longest range from the first row that takes at most `most_bytes`, but at least
    /// one row.
    pub(crate) fn end_within(&self, rows: Range<usize>, most_bytes: usize) -> usize {
        if self.measure().bytes <= most_bytes {
            return rows.end;
        }
        let mut bytes = 0;
        for number in rows.clone() {
            bytes += self.measure_of(number..number + 1).bytes;
            if bytes > most_bytes && number > rows.start {
                return number;
            }
        }
        rows.end
    }

    /// Returns whether it is plain that no dialect refuses a value of these rows.
    pub(crate) fn are_ordinary(&self, rows: Range<usize>) -> bool {
        self.measure().ordinary || self.measure_of(rows).ordinary
    }
}

/// The binds of a range of new rows, each followed by the values that are the same for all.
pub(crate) struct RowBinds<'q> {
    pub(crate) rows: &'q dyn RowList,
    pub(crate) range: Range<usize>,
    /// The number of binds of a row that the row itself gives.
    pub(crate) width: usize,
    /// The values that are the same for all rows.
    pub(crate) made: Vec<BindValue>,
}

impl fmt::Debug for RowBinds<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "RowBinds({:?})", self.range)
    }
}

/// New rows as the checks see them.
pub(crate) struct NewStored<'r> {
    pub(crate) rows: &'r dyn RowList,
    pub(crate) table: &'static TableInfo,
    /// The values that are the same for all rows.
    pub(crate) made: Vec<(&'static ColumnInfo, BindValue)>,
}

impl StoredRows for NewStored<'_> {
    fn table(&self) -> &'static TableInfo {
        self.table
    }

    fn writes_some(&self) -> bool {
        self.rows.count() > 0
    }

    fn sets(&self, _: &'static ColumnInfo) -> bool {
        true
    }

    fn given(&self, columns: &[&'static ColumnInfo]) -> Option<Vec<Vec<BindValue>>> {
        let given: Vec<_> = self
            .table
            .columns()
            .iter()
            .filter(|column| column.is_given())
            .collect();
        let places: Option<Vec<usize>> = columns
            .iter()
            .map(|column| {
                let mut all = given
                    .iter()
                    .copied()
                    .chain(self.made.iter().map(|(made, _)| *made));
                all.position(|own| std::ptr::eq(own, *column))
            })
            .collect();
        let (places, width) = (places?, given.len());
        if width == 0 {
            let tuple = places.iter().filter_map(|place| self.made.get(*place));
            return Some(vec![tuple.map(|(_, value)| value.clone()).collect()]);
        }
        let mut seen = HashSet::new();
        let mut tuples: Vec<Vec<BindValue>> = Vec::new();
        let mut row = Vec::with_capacity(width);
        self.rows.lend(0..self.rows.count(), &[], &mut |bind| {
            row.push(bind);
            if row.len() < width {
                return;
            }
            let tuple = places.iter().map(|place| match row.get(*place) {
                Some(bind) => bind.to_value(),
                None => self
                    .made
                    .get(place - width)
                    .map_or(BindValue::Bool(false), |(_, value)| value.clone()),
            });
            let tuple: Vec<BindValue> = tuple.collect();
            row.clear();
            // Rows of one parent often follow each other.
            if tuples.last() != Some(&tuple) && seen.insert(format!("{tuple:?}")) {
                tuples.push(tuple);
            }
        });
        Some(tuples)
    }
}

/// Returns the values that are the same for all rows of an insert: carried values, stamps and the first
/// version.
pub(crate) fn made(
    table: &'static TableInfo,
    context: CompileContext<'_>,
    at: Origin,
) -> Result<Vec<(&'static ColumnInfo, BindValue)>, Error> {
    required::check_table(table, context.carried, at)?;
    let columns = table.columns().iter();
    let made = columns.filter(|column| !column.is_generated() && !column.is_given());
    let made = made.map(|column| {
        let value = match column.made() {
            ValueSource::Carried(fill) => fill(context.carried).map_err(|missing| {
                Error::missing_carried_column(column, missing.type_name()).asked_at(at)
            })?,
            ValueSource::Version => BindValue::Int(1),
            ValueSource::Given | ValueSource::StampedOnInsert | ValueSource::StampedOnWrite => {
                column.mark_of(context)
            }
        };
        Ok((column, value))
    });
    made.collect()
}
