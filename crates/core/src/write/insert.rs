//! Inserts: new rows, as many as there are, in as few statements as an engine takes them in.

use std::borrow::Cow;
use std::collections::HashSet;
use std::fmt;
use std::marker::PhantomData;
use std::panic::Location;

use super::{Assignment, IntoAssignments, Part, Target, Writes};
use crate::compile::{Asking, NewRows, OnConflict, Statement};
use crate::error::Error;
use crate::expr::{PerRow, Selectable, Selection};
use crate::origin::Origin;
use crate::query::{Query, Source};
use crate::storable::BindValue;
use crate::table::{ColumnInfo, Made, RowStruct, Table};
use crate::tree::{Node, Select};

/// A row before it is stored: what an INSERT supplies, without what the database or the handle does.
/// `#[derive(Table)]` writes it: `UnsavedSpecimen` beside `Specimen`.
pub trait Unsaved {
    /// The table that it becomes a row of.
    type Table: Table;

    /// Gives its values in the order of the columns that are given.
    #[doc(hidden)]
    fn each_value(self, take: &mut dyn FnMut(BindValue));
}

/// New rows of `T`. Made by `T::insert(row)` and `T::insert_all(rows)`.
#[must_use = "an insert does nothing until a handle writes it"]
pub struct Insert<T> {
    values: Vec<BindValue>,
    rows: usize,
    at: Origin,
    conflict: Option<Conflict>,
    table: PhantomData<fn() -> T>,
}

/// What becomes of a row that is there already.
#[derive(Debug, Clone)]
struct Conflict {
    /// The columns by which it is known: a key, or what is unique.
    known_by: Vec<Node>,
    /// The table as it is, and what is set then; nothing, if the row stays.
    stored: Box<Select>,
    sets: Vec<Assignment>,
    /// Where the columns of the new row stand.
    new: Source,
}

impl<T: Table> Insert<T> {
    #[doc(hidden)]
    #[track_caller]
    pub fn of<U: Unsaved<Table = T>>(rows: impl IntoIterator<Item = U>) -> Insert<T> {
        let (mut values, mut count) = (Vec::new(), 0);
        for row in rows {
            row.each_value(&mut |value| values.push(value));
            count += 1;
        }
        let at = Origin::of(Location::caller());
        Insert { values, rows: count, at, conflict: None, table: PhantomData }
    }

    /// Updates the row that is there already instead, where one has the same value in a unique column or
    /// the same key: what the second closure sets, of the columns of the stored row and of the new one.
    /// A stored row that a policy hides is left as it is, and the new one is not stored.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Lab { #[nepheline(key, generated)] id: i64, #[nepheline(unique)] name: String, visits: i64 }
    /// let visited = Lab::insert(UnsavedLab { name: "Ostra Assays".into(), visits: 1 })
    ///     .or_update(|l| l.name, |l, new| l.visits.set(l.visits + new.visits));
    /// assert_eq!(
    ///     visited.sql(Dialect::Sqlite)?.text(),
    ///     r#"INSERT INTO "lab" ("name", "visits") VALUES (?, ?) ON CONFLICT ("name") DO UPDATE SET "visits" = "lab"."visits" + excluded."visits""#,
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// The number of rows that [`write`](crate::Writes) tells counts those that were inserted or updated; on
    /// MariaDB and MySQL not those that were left as they are, and those that were updated twice.
    ///
    /// # Errors
    ///
    /// When compiled, [`UnfitParts`](crate::ErrorKind::UnfitParts) if the first closure gives something else than
    /// columns, or if two of the new rows are the same row;
    /// [`Unsupported`](crate::ErrorKind::Unsupported) on MariaDB and MySQL if the rows could be known by another
    /// unique column too, since the engine would not tell by which.
    #[track_caller]
    pub fn or_update<K, A>(
        mut self,
        known_by: impl FnOnce(T::Columns) -> K,
        sets: impl FnOnce(T::Columns, T::Columns) -> A,
    ) -> Insert<T>
    where
        K: Selectable<Level = PerRow>,
        A: IntoAssignments,
    {
        let query = Query::<T>::over_table();
        let (stored, new) = (query.columns(), Source::fresh());
        let known_by = Selection::of(known_by(stored)).into_vec();
        let mut assignments = Vec::new();
        sets(stored, <T as RowStruct>::columns(new)).each(&mut |set| assignments.push(set));
        let stored = query.into_select();
        self.conflict = Some(Conflict { known_by, stored, sets: assignments, new });
        self
    }

    /// Leaves a row as it is that is there already; otherwise as [`or_update`](Self::or_update).
    ///
    /// # Errors
    ///
    /// As [`or_update`](Self::or_update).
    #[track_caller]
    pub fn or_keep<K>(self, known_by: impl FnOnce(T::Columns) -> K) -> Insert<T>
    where
        K: Selectable<Level = PerRow>,
    {
        self.or_update(known_by, |_, _| Vec::<Assignment>::new())
    }

    /// What is written after the rows, where a row may be there already.
    fn conflict(&self, asking: Asking<'_>, first: bool) -> Result<Option<OnConflict>, Error> {
        let Some(Conflict { known_by, stored, sets, new }) = &self.conflict else {
            return Ok(None);
        };
        let refuse = |reason: &'static str| Err(Error::unfit_parts(reason).asked_at(self.at));
        let mut columns = Vec::new();
        for node in known_by {
            match node {
                Node::Column(column) => columns.push(column.info),
                _ => return refuse(NOT_COLUMNS),
            }
        }
        let is_known_by =
            |column: &ColumnInfo| columns.iter().any(|own| std::ptr::eq(*own, column));
        let other = T::INFO.columns().iter().find(|column| {
            let distinguishes = column.is_unique() || column.is_key();
            distinguishes && column.is_given() && !is_known_by(column)
        });
        if let (Some(column), true) = (other, asking.dialect.confuses_unique_columns()) {
            let what = format!("an upsert of rows that `{}` could tell apart too", column.name());
            let way_out = "look for the row first, in a transaction";
            return Err(Error::unsupported(&what, asking.dialect, way_out).asked_at(self.at));
        }
        // All rows are looked at once, by the first of the statements.
        if first {
            self.check_twice(&columns)?;
        }
        let target = match sets.is_empty() {
            true => None,
            false => Some(Target::of_stored::<T>(stored, sets, asking, self.at)?),
        };
        Ok(Some(OnConflict { known_by: columns, target, new: *new }))
    }

    /// Refuses new rows of which two are the same row: engines do not agree on which of them counts.
    fn check_twice(&self, known_by: &[&'static ColumnInfo]) -> Result<(), Error> {
        let is_known_by =
            |column: &ColumnInfo| known_by.iter().any(|own| std::ptr::eq(*own, column));
        let width = Self::given().count();
        let places: Vec<usize> = Self::given()
            .enumerate()
            .filter(|(_, column)| is_known_by(column))
            .map(|(i, _)| i)
            .collect();
        let mut seen = HashSet::new();
        let twice = (0..self.rows).any(|row| {
            let values = places
                .iter()
                .map(|place| self.values.get(row * width + place));
            !seen.insert(format!("{:?}", values.collect::<Vec<_>>()))
        });
        match twice {
            true => Err(Error::unfit_parts(TWICE).asked_at(self.at)),
            false => Ok(()),
        }
    }

    fn given() -> impl Iterator<Item = &'static ColumnInfo> {
        T::INFO.columns().iter().filter(|column| column.is_given())
    }

    fn rows_at_once(&self, asking: Asking<'_>) -> usize {
        let columns = T::INFO
            .columns()
            .iter()
            .filter(|column| !column.is_generated());
        asking.dialect.rows_at_once(columns.count())
    }

    fn part(
        &self,
        asking: Asking<'_>,
        rows: std::ops::Range<usize>,
        returning: bool,
    ) -> Result<Statement<'_>, Error> {
        if rows.is_empty() {
            return Err(Error::unfit_parts(NO_ROWS).asked_at(self.at));
        }
        let width = Self::given().count();
        let made = made::<T>(asking, self.at)?;
        let columns: Vec<&'static ColumnInfo> = Self::given()
            .chain(made.iter().map(|(column, _)| *column))
            .collect();
        let values = self
            .values
            .get(rows.start * width..rows.end * width)
            .unwrap_or_default();
        let mut binds = Vec::with_capacity(rows.len() * columns.len());
        for row in 0..rows.len() {
            let given = values
                .get(row * width..(row + 1) * width)
                .unwrap_or_default();
            binds.extend(given.iter().map(Cow::Borrowed));
            binds.extend(made.iter().map(|(_, value)| Cow::Owned(value.clone())));
        }
        let new = NewRows { table: T::INFO, columns: &columns, rows: rows.len() };
        let inserted = Statement::to_insert(new, binds, asking.dialect, self.at)?;
        match self.conflict(asking, rows.start == 0)? {
            None => inserted.returning(T::INFO, returning),
            Some(conflict) => inserted
                .on_conflict(&conflict)?
                .returning(T::INFO, returning),
        }
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

const NO_ROWS: &str = "there are no rows to insert, and so there is no SQL; written, they are none";
const NOT_COLUMNS: &str =
    "a row that is there already is known by columns: its key, or what is unique";
const TWICE: &str = "two of the rows to insert or update are the same row; put them together first";

impl<T: Table> Writes for Insert<T> {
    type Row = T;

    fn statements(&self, asking: Asking<'_>) -> usize {
        self.rows.div_ceil(self.rows_at_once(asking).max(1))
    }

    fn rows_before(&self, asking: Asking<'_>, statement: usize) -> Option<usize> {
        Some((statement * self.rows_at_once(asking)).min(self.rows))
    }

    fn statement(
        &self,
        asking: Asking<'_>,
        part: Part,
        returning: bool,
    ) -> Result<Statement<'_>, Error> {
        let size = self.rows_at_once(asking);
        let rows = match part {
            Part::Statement(number) => number * size..((number + 1) * size).min(self.rows),
            Part::Row(row) => row..row + 1,
        };
        self.part(asking, rows, returning)
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
        let Insert { values, rows, at, conflict, .. } = self;
        let (values, conflict) = (values.clone(), conflict.clone());
        Insert { values, rows: *rows, at: *at, conflict, table: PhantomData }
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
