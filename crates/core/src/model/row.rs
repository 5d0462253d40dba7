//! Reading rows: from the cells that a driver hands over to typed values, with checks.
//!
//! Nothing is kept between the driver and the struct: a [`Cell`] borrows what the driver holds, and
//! each field takes one.

use std::fmt;

use jiff::Timestamp;
use jiff::civil::{Date, DateTime, Time};
use rust_decimal::Decimal;
use uuid::Uuid;

use crate::model::{ColumnInfo, ColumnType, Error, Mismatch, Storable, storable};

/// One value of a row as it arrived, in the words of the driver.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub enum Cell<'r> {
    /// NULL.
    Null,
    /// A truth value.
    Bool(bool),
    /// An integer of any width.
    Int(i64),
    /// A float of any width.
    Float(f64),
    /// Text, and whatever an engine can only say as text.
    Text(&'r str),
    /// Bytes, and text that is not UTF-8.
    Bytes(&'r [u8]),
    /// A date.
    Date(Date),
    /// A time of day.
    Time(Time),
    /// A date and time without a zone.
    DateTime(DateTime),
    /// A date and time from an engine with one type for both kinds: it is UTC where a point in
    /// time is wanted.
    DateTimeOrUtc(DateTime),
    /// A point in time.
    Timestamp(Timestamp),
    /// A UUID.
    Uuid(Uuid),
    /// A decimal number.
    Decimal(Decimal),
    /// A value of a type that Nepheline does not know, by the engine's name for it.
    Unknown(&'r str),
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
            Cell::Unknown(sql_type) => write!(f, "a value of type `{sql_type}`"),
        }
    }
}

/// The cells of one row, handed out from left to right. Each driver has one.
pub trait Cells {
    /// The next cell. There are as many as the statement selects.
    fn next_cell(&mut self) -> Cell<'_>;

    /// Goes back by so many cells, to read them again.
    fn back(&mut self, cells: usize);

    /// Goes to the cell with this number, counted from 0.
    fn go_to(&mut self, cell: usize);

    /// The numbers of the cells that tell to which other rows a row belongs, if the statement reads such.
    fn key_cells(&self) -> &[usize];

    /// Reads the next cell as the field of a table's column.
    ///
    /// # Errors
    ///
    /// A mismatch that names the table, the column, what was expected and what was found.
    // Left to the compiler, it is inlined or not by chance, and costs a row of five columns 10 % more when it is not.
    #[inline(always)]
    fn column<T: ColumnType>(&mut self, column: &'static ColumnInfo) -> Result<T, Error> {
        let cell = self.next_cell();
        T::from_cell(cell).map_err(|expected| mismatch(column, &expected, cell))
    }
}

#[cold]
fn mismatch(column: &ColumnInfo, expected: &Mismatch, found: Cell<'_>) -> Error {
    Error::mismatch(column, expected.as_str(), found)
}

/// A type that one row is read into. `#[derive(Table)]` implements it; the values that can be
/// stored, `Option`s of them and tuples of up to 16 have it too.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be read from a row",
    note = "add `#[derive(Table)]` to the struct"
)]
pub trait RowShape: Sized {
    /// How many cells one row takes.
    const WIDTH: usize;

    /// Reads one row.
    ///
    /// # Errors
    ///
    /// The first cell that does not fit its field.
    fn read<C: Cells>(cells: &mut C) -> Result<Self, Error>;
}

impl<T: Storable> RowShape for T {
    const WIDTH: usize = 1;

    #[inline]
    fn read<C: Cells>(cells: &mut C) -> Result<T, Error> {
        value(cells)
    }
}

/// A row that there may not be: `None` where all its cells are NULL.
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
}

/// One value that was selected on its own.
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
        }
    };
}

for_each_tuple!(tuples, up_to_16);
