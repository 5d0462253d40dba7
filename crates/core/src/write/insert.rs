//! Inserts: new rows, as many as there are, in as few statements as an engine takes them in.

use std::borrow::Cow;
use std::fmt;
use std::marker::PhantomData;
use std::ops::Range;
use std::panic::Location;

use smallvec::SmallVec;

use super::{Part, Parts, Step, WantedBack, Writes};
use crate::compile::{Asking, Binds, NewRows, Sql, Statement};
use crate::error::Error;
use crate::origin::Origin;
use crate::storable::BindValue;
use crate::table::{ColumnInfo, Made, Table};

/// A row before it is stored: what an INSERT supplies, without what the database or the handle does.
/// `#[derive(Table)]` writes it: `UnsavedSpecimen` beside `Specimen`.
pub trait Unsaved {
    /// The table that it becomes a row of.
    type Table: Table;

    /// Adds its values in the order of the columns that are given.
    #[doc(hidden)]
    fn push_values(self, values: &mut Vec<BindValue>);
}

/// New rows of `T`. Made by `T::insert(row)` and `T::insert_all(rows)`.
#[must_use = "an insert does nothing until a handle writes it"]
pub struct Insert<T> {
    values: Vec<BindValue>,
    rows: usize,
    at: Origin,
    table: PhantomData<fn() -> T>,
}

impl<T: Table> Insert<T> {
    #[doc(hidden)]
    #[track_caller]
    pub fn of<U: Unsaved<Table = T>>(rows: impl IntoIterator<Item = U>) -> Insert<T> {
        let rows = rows.into_iter();
        // Room at once for as many as are promised, up to some: growing would copy them again and again.
        let promised = rows.size_hint().0.min(ROOM_AT_ONCE);
        let mut values = Vec::with_capacity(promised * Self::given().count());
        let mut count = 0;
        for row in rows {
            row.push_values(&mut values);
            count += 1;
        }
        let at = Origin::of(Location::caller());
        Insert { values, rows: count, at, table: PhantomData }
    }

    pub(super) fn rows(&self) -> usize {
        self.rows
    }

    pub(super) fn at(&self) -> Origin {
        self.at
    }

    /// The columns that a new row gives.
    pub(super) fn given() -> impl Iterator<Item = &'static ColumnInfo> {
        T::INFO.columns().iter().filter(|column| column.is_given())
    }

    /// The values of each of these rows, in the order of the columns that are given.
    pub(super) fn values(&self, rows: Range<usize>) -> impl Iterator<Item = &[BindValue]> {
        let width = Self::given().count();
        rows.map(move |row| {
            let values = self.values.get(row * width..(row + 1) * width);
            values.unwrap_or_default()
        })
    }

    fn rows_at_once(asking: Asking<'_>) -> usize {
        let columns = T::INFO
            .columns()
            .iter()
            .filter(|column| !column.is_generated());
        asking.dialect.rows_at_once(columns.count()).max(1)
    }

    /// In how many parts the rows are written.
    pub(super) fn part_count(&self, asking: Asking<'_>) -> usize {
        self.rows.div_ceil(Self::rows_at_once(asking))
    }

    /// The statement that inserts these rows.
    pub(super) fn of_rows(
        &self,
        asking: Asking<'_>,
        rows: Range<usize>,
    ) -> Result<Statement<'_>, Error> {
        self.with_binds(asking, rows, |new, binds| {
            Statement::to_insert(new, binds, asking.dialect, self.at)
        })
    }

    /// Makes a statement of these rows and their values.
    fn with_binds<'q>(
        &'q self,
        asking: Asking<'_>,
        rows: Range<usize>,
        make: impl FnOnce(NewRows<'_>, Binds<'q>) -> Result<Statement<'q>, Error>,
    ) -> Result<Statement<'q>, Error> {
        if rows.is_empty() {
            return Err(Error::unfit_parts(NO_ROWS).asked_at(self.at));
        }
        let made = made::<T>(asking, self.at)?;
        let columns: Vec<&'static ColumnInfo> = Self::given()
            .chain(made.iter().map(|(column, _)| *column))
            .collect();
        let (count, width) = (rows.len(), Self::given().count());
        let binds = match made.is_empty() {
            true => {
                let values = self.values.get(rows.start * width..rows.end * width);
                Binds::AsGiven(values.unwrap_or_default())
            }
            false => {
                let mut binds = SmallVec::with_capacity(count * columns.len());
                for given in self.values(rows) {
                    binds.extend(given.iter().map(Cow::Borrowed));
                    binds.extend(made.iter().map(|(_, value)| Cow::Owned(value.clone())));
                }
                Binds::Each(binds)
            }
        };
        make(NewRows { table: T::INFO, columns: &columns, rows: count }, binds)
    }
}

/// What is the same for all rows of an insert: what the handle fills, stamps and counts.
pub(super) fn made<T: Table>(
    asking: Asking<'_>,
    at: Origin,
) -> Result<Vec<(&'static ColumnInfo, BindValue)>, Error> {
    let columns = T::INFO.columns().iter();
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

/// How many rows are copied by one statement: what is in memory at once, and has to be tried again if one of
/// them is at fault.
const COPIED_AT_ONCE: usize = 10_000;
/// For how many rows room is made before they are there.
const ROOM_AT_ONCE: usize = 100_000;
const NO_ROWS: &str = "there are no rows to insert, and so there is no SQL; written, they are none";

impl<T: Table> Writes for Insert<T> {
    type Row = T;

    fn parts(&self, asking: Asking<'_>, wanted: WantedBack) -> Result<Parts, Error> {
        let parts = self.part_count(asking);
        let copies = asking.copies && asking.dialect.copies() && wanted == WantedBack::Count;
        Ok(match parts > 1 && copies {
            true => (0..self.rows.div_ceil(COPIED_AT_ONCE))
                .map(Part::Copied)
                .collect(),
            false => (0..parts).map(Part::Rows).collect(),
        })
    }

    fn rows_of(&self, asking: Asking<'_>, part: Part) -> Range<usize> {
        let stretch = |number: usize, size: usize| {
            (number * size).min(self.rows)..((number + 1) * size).min(self.rows)
        };
        match part {
            Part::Rows(number) | Part::Present(number) => {
                stretch(number, Self::rows_at_once(asking))
            }
            Part::Copied(number) => stretch(number, COPIED_AT_ONCE),
            Part::Row(row) => row..row + 1,
            _ => 0..0,
        }
    }

    fn shown(&self, asking: Asking<'_>) -> Result<Sql, Error> {
        let parts = self.parts(asking, WantedBack::Count)?;
        let part = parts.first().copied().unwrap_or(Part::Rows(0));
        Ok(self
            .statement(asking, &Step { part, ..Step::shown() })?
            .into_sql())
    }

    fn statement(&self, asking: Asking<'_>, step: &Step<'_>) -> Result<Statement<'_>, Error> {
        let rows = self.rows_of(asking, step.part);
        if let Part::Copied(_) = step.part {
            return self.with_binds(asking, rows, |new, binds| {
                Statement::to_copy(&new, binds, asking.dialect, self.at)
            });
        }
        let inserted = self.of_rows(asking, rows)?;
        inserted.returning(T::INFO, step.wanted == WantedBack::Rows)
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
        let Insert { values, rows, at, .. } = self;
        Insert { values: values.clone(), rows: *rows, at: *at, table: PhantomData }
    }
}

impl<T> fmt::Debug for Insert<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Insert")
            .field("rows", &self.rows)
            .field("at", &self.at)
            .finish()
    }
}
