//! Inserts: new rows, as many as there are, in as few statements as an engine takes them in.

use std::fmt;
use std::marker::PhantomData;
use std::ops::Range;
use std::panic::Location;
use std::sync::Arc;

use smallvec::smallvec;

use super::Writes;
use crate::build::table::Table;
use crate::model::{BindValue, ColumnInfo, Error, LentBind, Origin};
use crate::plan::Asking;
use crate::plan::write::{
    LendsRows, NewRows, Part, Parts, RowBinds, Step, Stretch, WantedBack, made,
};
use crate::sql::{Binds, Sql, Statement};

/// A row before it is stored: what an INSERT supplies, without what the database or the handle does.
/// `#[derive(Table)]` writes it: `UnsavedSpecimen` beside `Specimen`.
pub trait Unsaved: Send + Sync + 'static {
    /// The table that it becomes a row of.
    type Table: Table;

    /// Lends the values of the columns that are given, one after the other.
    #[doc(hidden)]
    fn lend<'b>(&'b self, take: &mut dyn FnMut(LentBind<'b>));

    /// Returns about how many bytes they take on the way to a server.
    #[doc(hidden)]
    fn bytes(&self) -> usize;

    /// Returns whether no dialect could have a reason to refuse one of them.
    #[doc(hidden)]
    fn is_ordinary(&self) -> bool;
}

/// New rows of `T`. Made by `T::insert(row)` and `T::insert_all(rows)`.
#[must_use = "an insert does nothing until a handle writes it"]
pub struct Insert<T> {
    rows: Arc<dyn LendsRows>,
    at: Origin,
    table: PhantomData<fn() -> T>,
}

impl<U: Unsaved> LendsRows for Vec<U> {
    fn count(&self) -> usize {
        self.len()
    }

    fn lend<'b>(
        &'b self,
        rows: Range<usize>,
        made: &'b [BindValue],
        take: &mut dyn FnMut(LentBind<'b>),
    ) {
        for row in self.get(rows).unwrap_or_default() {
            row.lend(take);
            made.iter().for_each(|value| take(LentBind::Value(value)));
        }
    }

    fn end_within(&self, rows: Range<usize>, most_bytes: usize) -> usize {
        let mut bytes = 0;
        for (row, values) in rows.clone().zip(self.get(rows.clone()).unwrap_or_default()) {
            bytes += values.bytes();
            if bytes > most_bytes && row > rows.start {
                return row;
            }
        }
        rows.end
    }

    fn are_ordinary(&self, rows: Range<usize>) -> bool {
        let rows = self.get(rows).unwrap_or_default();
        rows.iter().all(Unsaved::is_ordinary)
    }
}

impl<T: Table> Insert<T> {
    #[doc(hidden)]
    #[track_caller]
    pub fn of<U: Unsaved<Table = T>>(rows: impl IntoIterator<Item = U>) -> Insert<T> {
        let rows: Vec<U> = rows.into_iter().collect();
        let at = Origin::of(Location::caller());
        Insert { rows: Arc::new(rows), at, table: PhantomData }
    }

    /// Takes rows of an iterator, as many as are written at a time; none if there are no more.
    #[doc(hidden)]
    pub fn take_ahead<U: Unsaved<Table = T>>(
        asking: Asking<'_>,
        rows: &mut impl Iterator<Item = U>,
    ) -> Vec<U> {
        let most = if asking.can_copy() { COPIED_AT_ONCE } else { ROWS_AHEAD };
        let (mut taken, mut bytes) = (Vec::with_capacity(rows.size_hint().0.min(most)), 0);
        while taken.len() < most && bytes < BYTES_AHEAD {
            let Some(row) = rows.next() else { break };
            bytes += row.bytes();
            taken.push(row);
        }
        taken
    }

    pub(super) fn rows(&self) -> usize {
        self.rows.count()
    }

    pub(super) fn at(&self) -> Origin {
        self.at
    }

    /// The columns that a new row gives.
    pub(super) fn given() -> impl Iterator<Item = &'static ColumnInfo> {
        T::INFO.columns().iter().filter(|column| column.is_given())
    }

    /// The values of each of these rows, in the order of the columns that are given.
    pub(super) fn values(&self, rows: Range<usize>) -> impl Iterator<Item = Vec<LentBind<'_>>> {
        rows.map(|row| {
            let mut values = Vec::new();
            self.rows
                .lend(row..row + 1, &[], &mut |bind| values.push(bind));
            values
        })
    }

    fn rows_at_once(asking: Asking<'_>) -> usize {
        let columns = T::INFO
            .columns()
            .iter()
            .filter(|column| !column.is_generated());
        asking.grammar.rows_at_once(columns.count()).max(1)
    }

    /// The stretches in which the rows are written: as many rows as a statement takes well, unless these are large.
    pub(super) fn stretches(&self, asking: Asking<'_>) -> Vec<Stretch> {
        let (rows, at_once) = (self.rows(), Self::rows_at_once(asking));
        let mut stretches = Vec::with_capacity(rows.div_ceil(at_once));
        let mut first = 0;
        while first < rows {
            let most = (first + at_once).min(rows);
            let end = self.rows.end_within(first..most, BYTES_AT_ONCE);
            stretches.push(Stretch { first, end });
            first = end;
        }
        stretches
    }

    /// The statement that inserts these rows.
    pub(super) fn of_rows(
        &self,
        asking: Asking<'_>,
        rows: Range<usize>,
        returning: bool,
    ) -> Result<Statement<'_>, Error> {
        // Those that were split by their size are so many by chance, so that the text does not come again.
        let is_cut = rows.len() < self.rows() && rows.len() != Self::rows_at_once(asking);
        let inserted = self.with_binds(asking, rows, returning, |new, binds| {
            Statement::to_insert(new, binds, asking.grammar, self.at)
        })?;
        Ok(if is_cut { inserted.once() } else { inserted })
    }

    /// Makes a statement of these rows and their values.
    fn with_binds<'q>(
        &'q self,
        asking: Asking<'_>,
        rows: Range<usize>,
        returning: bool,
        make: impl FnOnce(NewRows<'_>, Binds<'q>) -> Result<Statement<'q>, Error>,
    ) -> Result<Statement<'q>, Error> {
        if rows.is_empty() {
            return Err(Error::unfit_parts(NO_ROWS).asked_at(self.at));
        }
        let made = made(T::INFO, asking, self.at)?;
        let columns: Vec<&'static ColumnInfo> = Self::given()
            .chain(made.iter().map(|(column, _)| *column))
            .collect();
        let new = NewRows { table: T::INFO, columns: &columns, rows: rows.len(), returning };
        let made = made.into_iter().map(|(_, value)| value).collect();
        let width = columns.len();
        let binds = RowBinds { rows: &*self.rows, range: rows, width, made };
        make(new, Binds::OfRows(binds))
    }
}

/// How many rows are copied by one statement: what is in memory at once, and has to be tried again if one of
/// them is at fault.
const COPIED_AT_ONCE: usize = 10_000;
/// How many rows of an iterator are in memory at once where they are not copied: few enough that their memory is
/// used again for the next.
const ROWS_AHEAD: usize = 2_000;
/// About how many bytes of an iterator's rows are in memory at once.
const BYTES_AHEAD: usize = 4 << 20;
/// About how many bytes one statement binds, well below what a server accepts in one packet.
const BYTES_AT_ONCE: usize = 512 << 10;
const NO_ROWS: &str = "there are no rows to insert, and so there is no SQL; written, they are none";

impl<T: Table> Writes for Insert<T> {
    type Row = T;

    fn parts(&self, asking: Asking<'_>, wanted: WantedBack) -> Result<Parts, Error> {
        let rows = self.rows();
        if rows == 1 {
            return Ok(smallvec![Part::New(Stretch { first: 0, end: 1 })]);
        }
        // Rows of nothing but defaults are inserted one by one, and have nothing to copy.
        let copies =
            asking.can_copy() && wanted == WantedBack::Count && Self::rows_at_once(asking) > 1;
        Ok(match copies && rows > Self::rows_at_once(asking) {
            true => (0..rows)
                .step_by(COPIED_AT_ONCE)
                .map(|first| Stretch { first, end: (first + COPIED_AT_ONCE).min(rows) })
                .map(Part::Copied)
                .collect(),
            false => self.stretches(asking).into_iter().map(Part::New).collect(),
        })
    }

    fn rows_of(&self, part: Part) -> Range<usize> {
        match part {
            Part::New(rows) | Part::Present(rows) | Part::Copied(rows) => rows.first..rows.end,
            Part::Row(row) => row..row + 1,
            _ => 0..0,
        }
    }

    fn shown(&self, asking: Asking<'_>) -> Result<Sql, Error> {
        let parts = self.parts(asking, WantedBack::Count)?;
        let part = parts
            .first()
            .copied()
            .unwrap_or(Part::New(Stretch::default()));
        Ok(self
            .statement(asking, &Step { part, ..Step::shown() })?
            .into_sql(Vec::new()))
    }

    fn statement(&self, asking: Asking<'_>, step: &Step<'_>) -> Result<Statement<'_>, Error> {
        let rows = self.rows_of(step.part);
        if let Part::Copied(_) = step.part {
            return self.with_binds(asking, rows, false, |new, binds| {
                Statement::to_copy(&new, binds, asking.grammar, self.at)
            });
        }
        let returning = step.wanted == WantedBack::Rows;
        let inserted = self.of_rows(asking, rows, returning)?;
        inserted.returning(T::INFO, returning)
    }

    fn origin(&self) -> Origin {
        self.at
    }

    fn table_name(&self) -> &'static str {
        T::INFO.name()
    }
}

// By hand, because the derives would ask for `T: Clone` and `T: Debug`.
impl<T> Clone for Insert<T> {
    fn clone(&self) -> Self {
        Insert { rows: self.rows.clone(), at: self.at, table: PhantomData }
    }
}

impl<T> fmt::Debug for Insert<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Insert")
            .field("rows", &self.rows.count())
            .field("at", &self.at)
            .finish()
    }
}
