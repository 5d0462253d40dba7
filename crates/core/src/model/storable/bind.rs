//! The values and types of binds.

use std::fmt;

use jiff::Timestamp;
use jiff::civil::{Date, DateTime, Time};
use rust_decimal::Decimal;
use uuid::Uuid;

use super::{NativeType, NativeValue, ParameterBind, ParameterForm};

/// The SQL types that columns and binds have, by their names in the SQL standard where it has one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum SqlType {
    /// BOOLEAN.
    Boolean,
    /// SMALLINT: 16 bits.
    SmallInt,
    /// INTEGER: 32 bits.
    Integer,
    /// BIGINT: 64 bits.
    BigInt,
    /// REAL: a float of 32 bits.
    Real,
    /// DOUBLE PRECISION: a float of 64 bits.
    Double,
    /// Text of any length.
    Text,
    /// Bytes of any length.
    Bytes,
    /// DATE.
    Date,
    /// TIME without a zone, to the microsecond.
    Time,
    /// TIMESTAMP without a zone, to the microsecond.
    DateTime,
    /// TIMESTAMP WITH TIME ZONE, to the microsecond, always in UTC.
    Timestamp,
    /// UUID (RFC 9562).
    Uuid,
    /// DECIMAL.
    Decimal,
    /// JSON (RFC 8259).
    Json,
    /// An enum type of the database; text on engines without one.
    Enum(&'static EnumType),
    /// A type of PostgreSQL; text on the other engines.
    Native(&'static NativeType),
}

/// An enum type of the database, with its values in the order in which they sort. `#[derive(Storable)]` writes it for
/// `#[nepheline(database_type = "rock_kind")]`.
#[derive(PartialEq, Eq, Hash)]
pub struct EnumType {
    name: &'static str,
    values: &'static [&'static str],
}

impl EnumType {
    #[doc(hidden)]
    pub const fn new(name: &'static str, values: &'static [&'static str]) -> EnumType {
        EnumType { name, values }
    }

    /// Returns the name of the type in the database.
    pub fn name(&self) -> &'static str {
        self.name
    }

    /// Returns the values in their order.
    pub fn values(&self) -> &'static [&'static str] {
        self.values
    }

    /// Returns the bind of a value.
    #[doc(hidden)]
    pub fn bind_of(&'static self, text: &str) -> Option<BindValue> {
        let number = self.values.iter().position(|value| *value == text)?;
        Some(BindValue::Enum(self, u16::try_from(number).ok()?))
    }

    /// Returns the value with this number.
    pub(crate) fn value(&self, number: u16) -> &'static str {
        self.values
            .get(usize::from(number))
            .copied()
            .unwrap_or_default()
    }
}

impl fmt::Debug for EnumType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name)
    }
}

impl fmt::Display for SqlType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            SqlType::Boolean => "boolean",
            SqlType::SmallInt => "smallint",
            SqlType::Integer => "integer",
            SqlType::BigInt => "bigint",
            SqlType::Real => "real",
            SqlType::Double => "double precision",
            SqlType::Text => "text",
            SqlType::Bytes => "bytes",
            SqlType::Date => "date",
            SqlType::Time => "time",
            SqlType::DateTime => "timestamp without time zone",
            SqlType::Timestamp => "timestamp",
            SqlType::Uuid => "uuid",
            SqlType::Decimal => "decimal",
            SqlType::Json => "json",
            SqlType::Enum(kind) => return write!(f, "enum `{}`", kind.name),
            SqlType::Native(NativeType::Array(item)) => return write!(f, "array of {item}"),
            SqlType::Native(native) => native.name(|_| "").0,
        })
    }
}

/// A value of a bind. It is sent beside the SQL text, never inside it.
///
/// Integers and floats of every width are sent with 64 bits, because every engine compares those with its
/// narrower columns and still uses an index.
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub enum BindValue {
    /// NULL of a type.
    Null(SqlType),
    /// A boolean.
    Bool(bool),
    /// An integer of any width.
    Int(i64),
    /// A float of any width. NaN is refused when the statement is compiled.
    Float(f64),
    /// Text. A NUL inside is refused when the statement is compiled.
    Text(Box<str>),
    /// Bytes.
    Bytes(Box<[u8]>),
    /// A date, years 1 to 9999.
    Date(Date),
    /// A time of day, in whole microseconds.
    Time(Time),
    /// A date and time without a zone, in whole microseconds, years 1 to 9999.
    DateTime(DateTime),
    /// A point in time, in whole microseconds, years 1 to 9999 in UTC.
    Timestamp(Timestamp),
    /// A UUID.
    Uuid(Uuid),
    /// A decimal number.
    Decimal(Decimal),
    /// JSON as text.
    Json(Box<str>),
    /// A value of an enum type, by its number in the order of the type.
    Enum(&'static EnumType, u16),
    /// A value of a type of PostgreSQL; text on the other engines.
    Native(&'static NativeType, Box<NativeValue>),
    /// A list of values of one type, sent as one bind.
    List(Box<List>),
    /// A bind parameter of a prepared query, whose value is given later.
    #[doc(hidden)]
    Parameter(Box<ParameterBind>),
}

/// A list of values of one type that is sent as a single bind. None of them is NULL.
#[derive(Debug, Clone, PartialEq)]
pub struct List {
    item_type: SqlType,
    items: Vec<BindValue>,
}

impl List {
    /// Returns a list of `items`; each must be of `item_type`.
    pub fn new(item_type: SqlType, items: Vec<BindValue>) -> List {
        List { item_type, items }
    }

    /// Returns the type of the items, also of an empty list.
    pub fn item_type(&self) -> SqlType {
        self.item_type
    }

    /// Returns the items in the order in which they were given.
    pub fn items(&self) -> &[BindValue] {
        &self.items
    }
}

impl BindValue {
    /// Returns the type that it is sent as; for a list, that of its items.
    pub fn sql_type(&self) -> SqlType {
        match self {
            BindValue::Null(sql_type) => *sql_type,
            BindValue::Bool(_) => SqlType::Boolean,
            BindValue::Int(_) => SqlType::BigInt,
            BindValue::Float(_) => SqlType::Double,
            BindValue::Text(_) => SqlType::Text,
            BindValue::Bytes(_) => SqlType::Bytes,
            BindValue::Date(_) => SqlType::Date,
            BindValue::Time(_) => SqlType::Time,
            BindValue::DateTime(_) => SqlType::DateTime,
            BindValue::Timestamp(_) => SqlType::Timestamp,
            BindValue::Uuid(_) => SqlType::Uuid,
            BindValue::Decimal(_) => SqlType::Decimal,
            BindValue::Json(_) => SqlType::Json,
            BindValue::Enum(kind, _) => SqlType::Enum(kind),
            BindValue::Native(native, _) => SqlType::Native(native),
            BindValue::List(list) => list.item_type,
            BindValue::Parameter(parameter) => parameter.sql_type,
        }
    }

    /// Returns the text that engines without the type store: dates and times in ISO 8601 with six digits of
    /// the second, so that texts sort in the order of time.
    #[doc(hidden)]
    pub fn plain_text(&self) -> Option<String> {
        self.sent().plain_text()
    }

    /// Returns roughly how many bytes it takes when it is sent.
    #[doc(hidden)]
    pub fn size(&self) -> usize {
        match self {
            BindValue::Text(text) | BindValue::Json(text) => text.len(),
            BindValue::Bytes(bytes) => bytes.len(),
            BindValue::List(list) => list.items.iter().map(|item| item.size() + 4).sum(),
            BindValue::Native(_, value) => value.size(),
            _ => 16,
        }
    }

    /// Returns whether it is plain that no dialect refuses the value, without a closer look.
    #[inline]
    pub(crate) fn is_ordinary(&self) -> bool {
        match self {
            BindValue::Int(_) | BindValue::Bool(_) | BindValue::Null(_) => true,
            BindValue::Float(value) => value.is_finite(),
            _ => false,
        }
    }

    /// Returns the bind parameter, if it is one.
    pub(crate) fn as_parameter(&self) -> Option<&ParameterBind> {
        match self {
            BindValue::Parameter(parameter) => Some(parameter),
            _ => None,
        }
    }

    /// Returns whether it is a bind parameter, whose value is given and checked later.
    pub(crate) fn is_unsettled(&self) -> bool {
        let parameter = self.as_parameter();
        parameter.is_some_and(|parameter| parameter.form != ParameterForm::Second)
    }

    /// Returns why no database can be sent this value, or `None` if it can.
    pub(crate) fn refusal(&self) -> Option<&'static str> {
        match self {
            BindValue::Float(x) if x.is_nan() => {
                Some("NaN is stored as NULL by some engines and refused by others")
            }
            BindValue::Text(text) | BindValue::Json(text) if has_nul(text) => {
                Some("text with a NUL character is cut short or refused by some engines")
            }
            BindValue::Date(date) => refused_year(date.year()),
            BindValue::DateTime(at) => refused_year(at.year()),
            // Comparing with the ends of the range saves a calendar computation for each bind.
            BindValue::Timestamp(at) if !(YEAR_1..YEAR_10000).contains(&at.as_second()) => {
                refused_year(0)
            }
            BindValue::List(list) => list.items.iter().find_map(BindValue::refusal),
            BindValue::Native(_, value) => value.refusal(),
            BindValue::Parameter(parameter) => Some(parameter.refusal()),
            _ => None,
        }
    }
}

/// Returns whether a text has a NUL character, which no engine stores.
pub(super) fn has_nul(text: &str) -> bool {
    text.as_bytes().contains(&0)
}

/// Seconds of 0001-01-01T00:00:00Z from the Unix epoch.
const YEAR_1: i64 = -62_135_596_800;
/// Seconds of 10000-01-01T00:00:00Z from the Unix epoch.
const YEAR_10000: i64 = 253_402_300_800;

fn refused_year(year: i16) -> Option<&'static str> {
    (year < 1).then_some("only the years 1 to 9999 mean the same on every engine")
}

/// Formats the value as SQL for people to read: long texts, bytes and lists are cut and say so.
impl fmt::Display for BindValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            BindValue::Null(_) => f.write_str("NULL"),
            BindValue::Bool(value) => write!(f, "{value}"),
            BindValue::Int(value) => write!(f, "{value}"),
            BindValue::Float(value) => write!(f, "{value:?}"),
            BindValue::Text(value) | BindValue::Json(value) => quote_text(f, value),
            BindValue::Bytes(value) => quote_bytes(f, value),
            BindValue::Date(value) => write!(f, "'{value}'"),
            BindValue::Time(value) => write!(f, "'{value}'"),
            BindValue::DateTime(value) => write!(f, "'{value}'"),
            BindValue::Timestamp(value) => write!(f, "'{value}'"),
            BindValue::Uuid(value) => write!(f, "'{value}'"),
            BindValue::Decimal(value) => write!(f, "{value}"),
            BindValue::Enum(kind, number) => write!(f, "'{}'", kind.value(*number)),
            BindValue::Native(_, value) => quote_text(f, &value.text()),
            BindValue::List(list) => list.fmt(f),
            BindValue::Parameter(parameter) => parameter.fmt(f),
        }
    }
}

const ITEMS_SHOWN: usize = 10;
const CHARACTERS_SHOWN: usize = 120;
const BYTES_SHOWN: usize = 32;

impl fmt::Display for List {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("[")?;
        for (i, item) in self.items.iter().take(ITEMS_SHOWN).enumerate() {
            if i > 0 {
                f.write_str(", ")?;
            }
            item.fmt(f)?;
        }
        match self.items.len().saturating_sub(ITEMS_SHOWN) {
            0 => f.write_str("]"),
            more => write!(f, ", and {more} more]"),
        }
    }
}

/// Writes a text between SQL quotes. Control characters are escaped, so that a log line stays one line.
pub(crate) fn quote_text(f: &mut fmt::Formatter<'_>, text: &str) -> fmt::Result {
    f.write_str("'")?;
    for character in text.chars().take(CHARACTERS_SHOWN) {
        match character {
            '\'' => f.write_str("''")?,
            c if c.is_control() => write!(f, "{}", c.escape_default())?,
            c => write!(f, "{c}")?,
        }
    }
    f.write_str("'")?;
    match text.char_indices().nth(CHARACTERS_SHOWN) {
        Some(_) => write!(f, " (the first {CHARACTERS_SHOWN} characters of {} bytes)", text.len()),
        None => Ok(()),
    }
}

pub(crate) fn quote_bytes(f: &mut fmt::Formatter<'_>, bytes: &[u8]) -> fmt::Result {
    f.write_str("x'")?;
    for byte in bytes.iter().take(BYTES_SHOWN) {
        write!(f, "{byte:02x}")?;
    }
    f.write_str("'")?;
    match bytes.len() > BYTES_SHOWN {
        true => write!(f, " (the first {BYTES_SHOWN} of {} bytes)", bytes.len()),
        false => Ok(()),
    }
}
