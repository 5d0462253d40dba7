//! The values of MariaDB and MySQL as binds and as cells.

use jiff::civil::{Date, DateTime, Time};
use mysql_async::consts::{ColumnFlags, ColumnType};
use mysql_async::{Column, Row, Value};
use nepheline_core::internal::{LentBind, Sent};
use nepheline_core::{Cell, Cells, Error, ErrorKind};
use rust_decimal::Decimal;

use super::Flavour;

/// The character set number of binary strings.
const BINARY: u16 = 63;

/// The most digits after the point that MariaDB computes. A product of more loses the rest.
const MOST_DIGITS: u8 = 38;

/// The cells of one row, from left to right.
pub(crate) struct RowCells<'r> {
    row: &'r mut Row,
    key_cells: &'r [usize],
    next: usize,
    /// A cell that was taken, and is not UTF-8.
    unfit: Option<(usize, Vec<u8>)>,
}

impl<'r> RowCells<'r> {
    pub(super) fn new(row: &'r mut Row, key_cells: &'r [usize]) -> Self {
        RowCells { row, key_cells, next: 0, unfit: None }
    }
}

impl Cells for RowCells<'_> {
    #[inline]
    fn back(&mut self, cells: usize) {
        self.next -= cells;
    }

    fn go_to(&mut self, cell: usize) {
        self.next = cell;
    }

    fn width(&self) -> usize {
        self.row.len()
    }

    fn key_cells(&self) -> &[usize] {
        self.key_cells
    }

    #[inline]
    fn next_cell(&mut self) -> Cell<'_> {
        let position = self.next;
        self.next += 1;
        match (self.row.as_ref(position), self.row.columns_ref().get(position)) {
            (Some(value), Some(column)) => cell_of(value, column),
            _ => match &self.unfit {
                Some((unfit, bytes)) if *unfit == position => Cell::Bytes(bytes),
                _ => Cell::Unknown("no such column"),
            },
        }
    }

    #[inline]
    fn take_text(&mut self) -> Option<String> {
        let position = self.next;
        let is_text = matches!(self.row.as_ref(position), Some(Value::Bytes(_)))
            && self.row.columns_ref().get(position).is_some_and(is_plain_text);
        // A cell that is a key too is read twice.
        if !is_text || self.key_cells.contains(&position) {
            return None;
        }
        let Some(Value::Bytes(bytes)) = self.row.take(position) else { return None };
        match String::from_utf8(bytes) {
            Ok(text) => {
                self.next += 1;
                Some(text)
            }
            Err(err) => {
                self.unfit = Some((position, err.into_bytes()));
                None
            }
        }
    }
}

/// Returns whether the bytes of a column are text, and nothing else.
fn is_plain_text(column: &Column) -> bool {
    let is_other = matches!(
        column.column_type(),
        ColumnType::MYSQL_TYPE_NEWDECIMAL
            | ColumnType::MYSQL_TYPE_DECIMAL
            | ColumnType::MYSQL_TYPE_BIT
            | ColumnType::MYSQL_TYPE_JSON
    );
    !is_other && column.character_set() != BINARY
}

#[inline]
fn cell_of<'r>(value: &'r Value, column: &Column) -> Cell<'r> {
    match *value {
        Value::NULL => Cell::Null,
        Value::Int(number) => Cell::Int(number),
        Value::UInt(number) => match i64::try_from(number) {
            Ok(number) => Cell::Int(number),
            Err(_) => Cell::Unknown("bigint unsigned above the range of bigint"),
        },
        Value::Double(number) => Cell::Float(number),
        Value::Float(number) => Cell::Float(number.into()),
        Value::Bytes(ref bytes) => cell_of_bytes(bytes, column),
        Value::Date(year, month, day, hour, minute, second, micro) => {
            date_cell(column, (year, month, day), (hour, minute, second, micro))
        }
        Value::Time(negative, days, hour, minute, second, micro) => {
            match time_of(hour, minute, second, micro) {
                Some(time) if !negative && days == 0 => Cell::Time(time),
                _ => Cell::Unknown("time, outside of a day"),
            }
        }
    }
}

fn cell_of_bytes<'r>(bytes: &'r [u8], column: &Column) -> Cell<'r> {
    let text = || std::str::from_utf8(bytes).ok();
    match column.column_type() {
        ColumnType::MYSQL_TYPE_NEWDECIMAL | ColumnType::MYSQL_TYPE_DECIMAL => {
            if column.decimals() >= MOST_DIGITS && column.org_name_ref().is_empty() {
                return Cell::Unknown(
                    "decimal with 38 digits after the point, which may have lost more: round it, or its factors",
                );
            }
            match text().and_then(decimal) {
                // These engines return the SUM of integers as a decimal.
                Some(number) if number.scale() == 0 => match i64::try_from(number) {
                    Ok(whole) if whole_column(column) => Cell::Int(whole),
                    _ => Cell::Decimal(number),
                },
                Some(number) => Cell::Decimal(number),
                None => Cell::Unknown("decimal with more than 28 digits"),
            }
        }
        // Older schemas have BIT(1) where they mean a boolean.
        ColumnType::MYSQL_TYPE_BIT if column.column_length() == 1 => {
            Cell::Bool(bytes.iter().any(|byte| *byte != 0))
        }
        ColumnType::MYSQL_TYPE_JSON => text().map_or(Cell::Bytes(bytes), Cell::Text),
        _ if column.character_set() == BINARY => Cell::Bytes(bytes),
        _ => text().map_or(Cell::Bytes(bytes), Cell::Text),
    }
}

/// Returns a decimal with the digits that are written. If they do not fit, it is without the zeros that the server writes
/// up to the scale of the type.
fn decimal(text: &str) -> Option<Decimal> {
    Decimal::from_str_exact(text)
        .or_else(|err| match text.contains('.') {
            true => Decimal::from_str_exact(text.trim_end_matches('0').trim_end_matches('.')),
            false => Err(err),
        })
        .ok()
}

/// Returns whether a decimal column has scale 0.
fn whole_column(column: &Column) -> bool {
    column.decimals() == 0
}

fn date_cell<'r>(
    column: &Column,
    (year, month, day): (u16, u8, u8),
    (hour, minute, second, micro): (u8, u8, u8, u32),
) -> Cell<'r> {
    let part = |part: u8| i8::try_from(part).ok();
    let date = || Date::new(i16::try_from(year).ok()?, part(month)?, part(day)?).ok();
    let Some(date) = date() else { return Cell::Unknown("date that does not exist, such as day 0") };
    match column.column_type() {
        ColumnType::MYSQL_TYPE_DATE | ColumnType::MYSQL_TYPE_NEWDATE => Cell::Date(date),
        _ => match time_of(hour, minute, second, micro) {
            Some(time) => Cell::DateTimeOrUtc(DateTime::from_parts(date, time)),
            None => Cell::Unknown("time, outside of a day"),
        },
    }
}

fn time_of(hour: u8, minute: u8, second: u8, micro: u32) -> Option<Time> {
    let part = |part: u8| i8::try_from(part).ok();
    let nanos = i32::try_from(micro.checked_mul(1_000)?).ok()?;
    Time::new(part(hour)?, part(minute)?, part(second)?, nanos).ok()
}

/// Returns a bind as MariaDB and MySQL accept it.
pub(super) fn bind(bind: &LentBind<'_>, server: Flavour) -> Result<Value, Error> {
    let sent = bind.sent();
    let as_text = || sent.plain_text().map_or(Value::NULL, |text| Value::Bytes(text.into_bytes()));
    Ok(match sent {
        Sent::Null => Value::NULL,
        Sent::List(_) | Sent::Parameter(_) => {
            let reason = "the protocol has no form for a list, nor for a parameter without a value";
            return Err(Error::of_driver(ErrorKind::RefusedValue, reason));
        }
        Sent::Bool(value) => Value::Int(i64::from(value)),
        Sent::Int(value) => Value::Int(value),
        Sent::Float(value) => Value::Double(value),
        Sent::Text(text) | Sent::Json(text) => Value::Bytes(text.as_bytes().to_vec()),
        Sent::Bytes(bytes) => Value::Bytes(bytes.to_vec()),
        Sent::Date(date) => moment(DateTime::from_parts(date, Time::midnight())),
        Sent::DateTime(at) => moment(at),
        Sent::Timestamp(at) => moment(at.to_zoned(jiff::tz::TimeZone::UTC).datetime()),
        Sent::Time(time) => Value::Time(
            false,
            0,
            time.hour().unsigned_abs(),
            time.minute().unsigned_abs(),
            time.second().unsigned_abs(),
            time.subsec_nanosecond().unsigned_abs() / 1_000,
        ),
        // MariaDB reads the text form into its UUID type; MySQL has no such type and stores 16 bytes.
        Sent::Uuid(uuid) => match server {
            Flavour::MariaDb => as_text(),
            Flavour::MySql => Value::Bytes(uuid.as_bytes().to_vec()),
        },
        Sent::Decimal(_) | Sent::Native(_) => as_text(),
    })
}

fn moment(at: DateTime) -> Value {
    Value::Date(
        at.year().unsigned_abs(),
        at.month().unsigned_abs(),
        at.day().unsigned_abs(),
        at.hour().unsigned_abs(),
        at.minute().unsigned_abs(),
        at.second().unsigned_abs(),
        at.subsec_nanosecond().unsigned_abs() / 1_000,
    )
}

/// Returns the name of a column's type.
pub(super) fn type_name(column: &Column) -> String {
    let is_binary = column.character_set() == BINARY;
    let is_unsigned = column.flags().contains(ColumnFlags::UNSIGNED_FLAG);
    let name = match column.column_type() {
        ColumnType::MYSQL_TYPE_TINY if column.column_length() == 1 => "tinyint(1)",
        ColumnType::MYSQL_TYPE_TINY => "tinyint",
        ColumnType::MYSQL_TYPE_SHORT | ColumnType::MYSQL_TYPE_YEAR => "smallint",
        ColumnType::MYSQL_TYPE_INT24 | ColumnType::MYSQL_TYPE_LONG => "int",
        ColumnType::MYSQL_TYPE_LONGLONG => "bigint",
        ColumnType::MYSQL_TYPE_FLOAT => "float",
        ColumnType::MYSQL_TYPE_DOUBLE => "double",
        ColumnType::MYSQL_TYPE_DECIMAL | ColumnType::MYSQL_TYPE_NEWDECIMAL => "decimal",
        ColumnType::MYSQL_TYPE_DATE | ColumnType::MYSQL_TYPE_NEWDATE => "date",
        ColumnType::MYSQL_TYPE_TIME | ColumnType::MYSQL_TYPE_TIME2 => "time",
        ColumnType::MYSQL_TYPE_DATETIME | ColumnType::MYSQL_TYPE_DATETIME2 => "datetime",
        ColumnType::MYSQL_TYPE_TIMESTAMP | ColumnType::MYSQL_TYPE_TIMESTAMP2 => "timestamp",
        ColumnType::MYSQL_TYPE_BIT if column.column_length() == 1 => "bit(1)",
        ColumnType::MYSQL_TYPE_JSON => "json",
        ColumnType::MYSQL_TYPE_STRING | ColumnType::MYSQL_TYPE_VAR_STRING | ColumnType::MYSQL_TYPE_VARCHAR
        | ColumnType::MYSQL_TYPE_BLOB | ColumnType::MYSQL_TYPE_TINY_BLOB | ColumnType::MYSQL_TYPE_MEDIUM_BLOB
        | ColumnType::MYSQL_TYPE_LONG_BLOB => if is_binary { "blob" } else { "text" },
        _ => "",
    };
    match is_unsigned && column.column_type().is_numeric_type() {
        true => format!("{name} unsigned"),
        false => name.to_owned(),
    }
}
