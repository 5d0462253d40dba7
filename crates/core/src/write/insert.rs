//! Inserts: new rows, as many as there are, in as few statements as an engine takes them in.

use std::borrow::Cow;
use std::fmt;
use std::marker::PhantomData;
use std::panic::Location;

use super::{Part, Writes};
use crate::compile::{Asking, Dialect, NewRows, Sql, Statement};
use crate::error::Error;
use crate::origin::Origin;
use crate::policy::Carried;
use crate::storable::BindValue;
use crate::table::{ColumnInfo, Made, Table};

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
    table: PhantomData<fn() -> T>,
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
        Insert { values, rows: count, at, table: PhantomData }
    }

    /// The SQL that a handle runs; of rows for which it runs several statements, the first one.
    ///
    /// # Errors
    ///
    /// Of kind [`RefusedValue`](crate::ErrorKind::RefusedValue) for a value that no database should be sent,
    /// and [`MissingCarried`](crate::ErrorKind::MissingCarried) for one that a filled column needs.
    pub fn sql(&self, dialect: Dialect) -> Result<Sql, Error> {
        self.sql_carrying(dialect, &Carried::new())
    }

    /// The SQL that it is on a handle that carries these values, as
    /// [`Query::sql_carrying`](crate::Query::sql_carrying).
    ///
    /// # Errors
    ///
    /// Those of [`sql`](Self::sql).
    pub fn sql_carrying(&self, dialect: Dialect, carried: &Carried) -> Result<Sql, Error> {
        let asking = Asking::to_show(dialect, carried);
        Ok(self
            .part(asking, 0..self.rows_at_once(asking).min(self.rows), false)?
            .into_sql())
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
        let width = Self::given().count();
        // What is the same for all of them.
        let made = T::INFO
            .columns()
            .iter()
            .filter(|column| !column.is_generated() && !column.is_given());
        let made = made.map(|column| {
            let value = match column.made() {
                Made::Filled(fill) => fill(asking.carried).map_err(|missing| {
                    Error::missing_fill(column, missing.type_name()).asked_at(self.at)
                })?,
                Made::Version => BindValue::Int(1),
                Made::Given | Made::StampedOnInsert | Made::StampedOnWrite => {
                    column.mark_of(asking)
                }
            };
            Ok((column, value))
        });
        let made: Vec<(&'static ColumnInfo, BindValue)> = made.collect::<Result<_, Error>>()?;
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
        let new = NewRows { table: T::INFO, columns: &columns, rows: rows.len(), returning };
        Statement::to_insert(new, binds, asking.dialect, self.at)
    }
}

impl<T: Table> Writes for Insert<T> {
    type Row = T;

    fn statements(&self, asking: Asking<'_>) -> usize {
        self.rows.div_ceil(self.rows_at_once(asking).max(1))
    }

    fn rows_before(&self, asking: Asking<'_>, statement: usize) -> Option<(usize, usize)> {
        Some(((statement * self.rows_at_once(asking)).min(self.rows), self.rows))
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
        Insert { values: self.values.clone(), rows: self.rows, at: self.at, table: PhantomData }
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
