//! Keys: the values that identify rows or connect them to others, as they were read and as they are bound
//! again.

use std::net::IpAddr;

use jiff::Timestamp;
use jiff::civil::{Date, DateTime, Time};
use rust_decimal::Decimal;
use smallvec::SmallVec;
use uuid::Uuid;

use super::error::Error;
use super::row::{Cell, Cells, RowShape};
use super::storable::{BindValue, NativeType, SqlType, Storable};
use super::table::ColumnInfo;

/// The values of key columns. A row with a NULL in its key is connected to nothing.
#[doc(hidden)]
pub type Key = SmallVec<[KeyPart; 1]>;

/// A row, and its key cells, by which related rows are found.
#[doc(hidden)]
#[derive(Debug)]
pub struct KeyedRow<R> {
    pub row: R,
    pub keys: Key,
}

impl<R: RowShape> RowShape for KeyedRow<R> {
    const WIDTH: usize = R::WIDTH;

    #[inline]
    fn read<C: Cells>(cells: &mut C) -> Result<Self, Error> {
        let row = R::read(cells)?;
        let mut keys = Key::new();
        for number in 0..cells.key_cells().len() {
            let Some(&cell) = cells.key_cells().get(number) else { break };
            cells.go_to(cell);
            keys.push(KeyPart::of(cells.next_cell())?);
        }
        Ok(KeyedRow { row, keys })
    }
}

/// A value of a key column as it arrived.
#[doc(hidden)]
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum KeyPart {
    Null,
    Bool(bool),
    Int(i64),
    /// The bits of a float, so that equality holds for NaN too.
    Float(u64),
    Text(Box<str>),
    Bytes(Box<[u8]>),
    Date(Date),
    DateTime(DateTime),
    DateTimeOrUtc(DateTime),
    Time(Time),
    Timestamp(Timestamp),
    Uuid(Uuid),
    Decimal(Decimal),
}

impl KeyPart {
    #[inline]
    pub(crate) fn of(cell: Cell<'_>) -> Result<KeyPart, Error> {
        Ok(match cell {
            Cell::Null => KeyPart::Null,
            Cell::Bool(value) => KeyPart::Bool(value),
            Cell::Int(value) => KeyPart::Int(value),
            Cell::Float(value) => KeyPart::Float(value.to_bits()),
            Cell::Text(text) => KeyPart::Text(text.into()),
            Cell::Native(native) => KeyPart::Text(native.text.as_str().into()),
            Cell::Bytes(bytes) => KeyPart::Bytes(bytes.into()),
            Cell::Date(value) => KeyPart::Date(value),
            Cell::DateTime(value) => KeyPart::DateTime(value),
            Cell::DateTimeOrUtc(value) => KeyPart::DateTimeOrUtc(value),
            Cell::Timestamp(value) => KeyPart::Timestamp(value),
            Cell::Uuid(value) => KeyPart::Uuid(value),
            Cell::Decimal(value) => KeyPart::Decimal(value),
            Cell::Time(value) => KeyPart::Time(value),
            other => {
                return Err(Error::mismatch_in_result("a value of a key", other));
            }
        })
    }

    /// Returns the value of a key column of a row in hand; `None` if its type cannot be a key.
    pub(crate) fn of_bind(bind: BindValue) -> Option<KeyPart> {
        Some(match bind {
            BindValue::Null(_) => KeyPart::Null,
            BindValue::Bool(value) => KeyPart::Bool(value),
            BindValue::Int(value) => KeyPart::Int(value),
            BindValue::Float(value) => KeyPart::Float(value.to_bits()),
            BindValue::Text(text) => KeyPart::Text(text),
            BindValue::Bytes(bytes) => KeyPart::Bytes(bytes),
            BindValue::Date(value) => KeyPart::Date(value),
            BindValue::Time(value) => KeyPart::Time(value),
            BindValue::DateTime(value) => KeyPart::DateTime(value),
            BindValue::Timestamp(value) => KeyPart::Timestamp(value),
            BindValue::Uuid(value) => KeyPart::Uuid(value),
            BindValue::Decimal(value) => KeyPart::Decimal(value),
            BindValue::Enum(kind, number) => KeyPart::Text(kind.value(number).into()),
            BindValue::Native(_, value) => KeyPart::Text(value.text().into()),
            BindValue::Json(_) | BindValue::List(_) | BindValue::Parameter(..) => return None,
        })
    }

    /// Returns the value as a row in hand has it, where engines without the type return another one.
    pub(crate) fn as_in_hand(&self, sql_type: SqlType) -> Option<KeyPart> {
        KeyPart::of_bind(self.to_bind(sql_type)?)
    }

    pub(crate) fn as_cell(&self) -> Cell<'_> {
        match self {
            KeyPart::Null => Cell::Null,
            KeyPart::Bool(value) => Cell::Bool(*value),
            KeyPart::Int(value) => Cell::Int(*value),
            KeyPart::Float(bits) => Cell::Float(f64::from_bits(*bits)),
            KeyPart::Time(value) => Cell::Time(*value),
            KeyPart::Text(text) => Cell::Text(text),
            KeyPart::Bytes(bytes) => Cell::Bytes(bytes),
            KeyPart::Date(value) => Cell::Date(*value),
            KeyPart::DateTime(value) => Cell::DateTime(*value),
            KeyPart::DateTimeOrUtc(value) => Cell::DateTimeOrUtc(*value),
            KeyPart::Timestamp(value) => Cell::Timestamp(*value),
            KeyPart::Uuid(value) => Cell::Uuid(*value),
            KeyPart::Decimal(value) => Cell::Decimal(*value),
        }
    }

    /// Returns the value of a column as a bind that a column of this type can be compared with.
    pub(crate) fn bound_as(
        &self,
        sql_type: SqlType,
        column: &'static ColumnInfo,
    ) -> Result<BindValue, Error> {
        self.to_bind(sql_type)
            .ok_or_else(|| Error::mismatch(column, "a key", self.as_cell()))
    }

    /// Returns the value as a bind that a column of this type can be compared with.
    pub fn to_bind(&self, sql_type: SqlType) -> Option<BindValue> {
        fn as_stored<T: Storable>(cell: Cell<'_>) -> Option<BindValue> {
            T::from_cell(cell).ok().map(|value| value.to_bind())
        }
        let cell = self.as_cell();
        if matches!(cell, Cell::Null) {
            return Some(BindValue::Null(sql_type));
        }
        match sql_type {
            SqlType::Boolean => as_stored::<bool>(cell),
            SqlType::SmallInt | SqlType::Integer | SqlType::BigInt => as_stored::<i64>(cell),
            SqlType::Real | SqlType::Double => as_stored::<f64>(cell),
            SqlType::Time => as_stored::<Time>(cell),
            SqlType::Text => as_stored::<String>(cell),
            SqlType::Bytes => as_stored::<Vec<u8>>(cell),
            SqlType::Date => as_stored::<Date>(cell),
            SqlType::DateTime => as_stored::<DateTime>(cell),
            SqlType::Timestamp => as_stored::<Timestamp>(cell),
            SqlType::Uuid => as_stored::<Uuid>(cell),
            SqlType::Decimal => as_stored::<Decimal>(cell),
            SqlType::Enum(kind) => {
                let BindValue::Text(text) = as_stored::<String>(cell)? else { return None };
                kind.bind_of(&text)
            }
            SqlType::Native(NativeType::Inet) => as_stored::<IpAddr>(cell),
            // Nobody refers to rows by these.
            SqlType::Json | SqlType::Native(_) => None,
        }
    }
}
