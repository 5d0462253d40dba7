//! Reads rows: from the cells of a driver to typed values, with checks.
//!
//! Nothing is copied between the driver and the struct: a [`Cell`] borrows from the driver, and each field
//! takes one.

use std::fmt;

use jiff::Timestamp;
use jiff::civil::{Date, DateTime, Time};
use rust_decimal::Decimal;
use rust_decimal::prelude::ToPrimitive;
use uuid::Uuid;

use crate::model::{ColumnInfo, ColumnType, Error, Mismatch, SqlType, Storable, storable};

/// A value of a row as it arrived.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub enum Cell<'r> {
    /// NULL.
    Null,
    /// A boolean.
    Bool(bool),
    /// An integer of any width.
    Int(i64),
    /// A float of any width.
    Float(f64),
    /// Text, also for values that an engine returns only as text.
    Text(&'r str),
    /// Bytes, and text that is not UTF-8.
    Bytes(&'r [u8]),
    /// A date.
    Date(Date),
    /// A time of day.
    Time(Time),
    /// A date and time without a zone.
    DateTime(DateTime),
    /// A date and time from an engine with one type for both kinds. It is UTC where a point in time is
    /// expected.
    DateTimeOrUtc(DateTime),
    /// A point in time.
    Timestamp(Timestamp),
    /// A UUID.
    Uuid(Uuid),
    /// A decimal number.
    Decimal(Decimal),
    /// A value of a type that PostgreSQL has and other engines store as text: arrays as JSON, intervals in ISO 8601.
    Native(&'r NativeText),
    /// A value of a type that Nepheline does not know, with the engine's name for it.
    Unknown(&'r str),
}

/// The text of a value whose type has no cell of its own.
#[derive(Debug, Clone, Default)]
pub struct NativeText {
    /// The name of the type in the database.
    pub sql_type: String,
    /// The text.
    pub text: String,
}

impl Cell<'_> {
    /// Returns the text, of a text or of a type without a cell of its own.
    pub(crate) fn text(&self) -> Option<&str> {
        match self {
            Cell::Text(text) => Some(text),
            Cell::Native(native) => Some(&native.text),
            _ => None,
        }
    }
}

impl fmt::Display for Cell<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Cell::Null => f.write_str("NULL"),
            Cell::Bool(value) => write!(f, "boolean {value}"),
            Cell::Int(value) => write!(f, "integer {value}"),
            Cell::Float(value) => write!(f, "float {value:?}"),
            Cell::Text(text) => {
                f.write_str("text ")?;
                storable::quote_text(f, text)
            }
            Cell::Bytes(bytes) => {
                f.write_str("bytes ")?;
                storable::quote_bytes(f, bytes)
            }
            Cell::Date(value) => write!(f, "date {value}"),
            Cell::Time(value) => write!(f, "time {value}"),
            Cell::DateTimeOrUtc(value) => write!(f, "date and time {value}"),
            Cell::DateTime(value) => write!(f, "timestamp without time zone {value}"),
            Cell::Timestamp(value) => write!(f, "timestamp {value}"),
            Cell::Uuid(value) => write!(f, "uuid {value}"),
            Cell::Decimal(value) => write!(f, "decimal {value}"),
            Cell::Native(native) => {
                write!(f, "{} ", native.sql_type)?;
                storable::quote_text(f, &native.text)
            }
            Cell::Unknown(sql_type) => write!(f, "a value of type `{sql_type}`"),
        }
    }
}

/// The cells of one row, read from left to right. Each driver implements it.
pub trait Cells {
    /// Returns the next cell. A row has as many as the statement selects.
    fn next_cell(&mut self) -> Cell<'_>;

    /// Takes the next cell out of the row, if it is text that a driver has put into a `String` for it.
    #[doc(hidden)]
    #[inline]
    fn take_text(&mut self) -> Option<String> {
        None
    }

    /// Returns the number of cells of the row.
    fn width(&self) -> usize;

    /// Goes back by this number of cells, to read them again.
    fn back(&mut self, cells: usize);

    /// Goes to the cell with this number, counted from 0.
    fn go_to(&mut self, cell: usize);

    /// Returns the numbers of the key cells, which connect a row to others, if the statement reads any.
    fn key_cells(&self) -> &[usize];

    /// Reads the next cell as the field of a table's column.
    ///
    /// # Errors
    ///
    /// A mismatch that names the table, the column, what was expected and what was found.
    // `inline(always)`: when the compiler does not inline it, a row of five columns costs 10 % more. A build for
    // debugging compiles faster without.
    #[cfg_attr(not(debug_assertions), inline(always))]
    fn column<T: ColumnType>(&mut self, column: &'static ColumnInfo) -> Result<T, Error> {
        if T::Base::IS_TEXT
            && let Some(value) = self.take_text().and_then(T::of_owned_text)
        {
            return Ok(value);
        }
        let cell = self.next_cell();
        match T::from_cell(cell) {
            Ok(value) => Ok(value),
            Err(expected) => nearest(column, &expected, cell),
        }
    }
}

/// Reads the nearest float of an exact number where the column says so.
#[cold]
#[inline(never)]
fn nearest<T: ColumnType>(
    column: &ColumnInfo,
    expected: &Mismatch,
    found: Cell<'_>,
) -> Result<T, Error> {
    let exact = match found {
        Cell::Decimal(exact) => exact.to_f64(),
        // The text of a decimal is that of a float. SQLite stores some as text, and has long integers.
        Cell::Text(text) => text.parse().ok(),
        Cell::Int(whole) => Some(whole as f64),
        _ => None,
    };
    exact
        .filter(|value| column.is_approximate() && value.is_finite())
        .map(|value| narrowed::<T>(value))
        .and_then(|cell| T::from_cell(cell).ok())
        .ok_or_else(|| Error::mismatch(column, expected.as_str(), found))
}

/// Returns a float as one of the width of the type.
fn narrowed<T: ColumnType>(value: f64) -> Cell<'static> {
    match T::Base::SQL_TYPE {
        SqlType::Real => Cell::Float(f64::from(value as f32)),
        _ => Cell::Float(value),
    }
}

/// A type that a row is read into. `#[derive(Table)]` and `#[derive(RowShape)]` implement it; storable
/// values, `Option`s of them and tuples of up to 16 have it too.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be read from a row",
    note = "add `#[derive(Table)]` to the struct"
)]
pub trait RowShape: Sized {
    /// The number of cells that a row takes.
    const WIDTH: usize;

    /// Reads one row.
    ///
    /// # Errors
    ///
    /// The first cell that does not fit its field.
    fn read<C: Cells>(cells: &mut C) -> Result<Self, Error>;

    /// Adds the name of each of its columns, in the order in which they are read; `None` for one without a name.
    #[doc(hidden)]
    fn wanted(names: &mut Vec<Option<&'static str>>) {
        names.extend(std::iter::repeat_n(None, Self::WIDTH));
    }

    /// True if the columns are matched with its cells by name.
    #[doc(hidden)]
    const BY_NAME: bool = false;

    /// Adds the type of each of its cells, and whether it may be NULL, in the order in which they are read.
    #[doc(hidden)]
    fn cell_types(_types: &mut Vec<(SqlType, bool)>) {}
}

impl<T: Storable> RowShape for T {
    const WIDTH: usize = 1;

    #[inline]
    fn read<C: Cells>(cells: &mut C) -> Result<T, Error> {
        value(cells)
    }

    fn cell_types(types: &mut Vec<(SqlType, bool)>) {
        types.push((T::SQL_TYPE, false));
    }
}

/// A row that may be missing: `None` where all its cells are NULL.
impl<R: RowShape> RowShape for Option<R> {
    const WIDTH: usize = R::WIDTH;

    #[inline]
    fn read<C: Cells>(cells: &mut C) -> Result<Option<R>, Error> {
        for seen in 1..=R::WIDTH {
            if !matches!(cells.next_cell(), Cell::Null) {
                cells.back(seen);
                return R::read(cells).map(Some);
            }
        }
        Ok(None)
    }

    fn wanted(names: &mut Vec<Option<&'static str>>) {
        R::wanted(names);
    }

    fn cell_types(types: &mut Vec<(SqlType, bool)>) {
        let before = types.len();
        R::cell_types(types);
        types
            .iter_mut()
            .skip(before)
            .for_each(|(_, nullable)| *nullable = true);
    }
}

/// Reads one value that was selected on its own.
#[inline]
fn value<T: ColumnType, C: Cells>(cells: &mut C) -> Result<T, Error> {
    let cell = cells.next_cell();
    T::from_cell(cell).map_err(|expected| Error::mismatch_in_result(expected.as_str(), cell))
}

macro_rules! tuples {
    ($($name:ident)+) => {
        impl<$($name: RowShape),+> RowShape for ($($name,)+) {
            const WIDTH: usize = 0 $(+ $name::WIDTH)+;

            #[inline]
            fn read<Source: Cells>(cells: &mut Source) -> Result<Self, Error> {
                Ok(($($name::read(cells)?,)+))
            }

            fn wanted(names: &mut Vec<Option<&'static str>>) {
                $($name::wanted(names);)+
            }

            fn cell_types(types: &mut Vec<(SqlType, bool)>) {
                $($name::cell_types(types);)+
            }
        }
    };
}

for_each_tuple!(tuples, up_to_16);
