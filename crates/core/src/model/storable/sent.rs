//! Binds and their types as drivers see them. The enums are exhaustive, so a driver that forgets a case does
//! not compile.

use jiff::Timestamp;
use jiff::civil::{Date, DateTime, Time};
use rust_decimal::Decimal;
use uuid::Uuid;

use super::{BindValue, LentBind, List, NativeType, NativeValue, SqlType};

/// A value as a driver sends it.
#[doc(hidden)]
#[derive(Debug, Clone, Copy)]
pub enum Sent<'b> {
    Null,
    Bool(bool),
    Int(i64),
    Float(f64),
    Text(&'b str),
    Bytes(&'b [u8]),
    Date(Date),
    Time(Time),
    DateTime(DateTime),
    Timestamp(Timestamp),
    Uuid(Uuid),
    Decimal(Decimal),
    Json(&'b str),
    Native(&'b NativeValue),
    List(&'b List),
    /// A bind parameter without a value. Statements that have one are not run.
    Parameter(&'static str),
}

/// The type of a value that is sent; for a list, that of its items.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SentType {
    Boolean,
    Integer,
    Float,
    Text,
    Bytes,
    Date,
    Time,
    DateTime,
    Timestamp,
    Uuid,
    Decimal,
    Json,
    /// Text whose type the database finds out.
    Enum,
    Native(&'static NativeType),
}

impl BindValue {
    /// Returns the value for a driver.
    #[doc(hidden)]
    #[inline]
    pub fn sent(&self) -> Sent<'_> {
        match self {
            BindValue::Null(_) => Sent::Null,
            BindValue::Bool(value) => Sent::Bool(*value),
            BindValue::Int(value) => Sent::Int(*value),
            BindValue::Float(value) => Sent::Float(*value),
            BindValue::Text(text) => Sent::Text(text),
            BindValue::Bytes(bytes) => Sent::Bytes(bytes),
            BindValue::Date(date) => Sent::Date(*date),
            BindValue::Time(time) => Sent::Time(*time),
            BindValue::DateTime(at) => Sent::DateTime(*at),
            BindValue::Timestamp(at) => Sent::Timestamp(*at),
            BindValue::Uuid(uuid) => Sent::Uuid(*uuid),
            BindValue::Decimal(decimal) => Sent::Decimal(*decimal),
            BindValue::Json(text) => Sent::Json(text),
            BindValue::Enum(kind, number) => Sent::Text(kind.value(*number)),
            BindValue::Native(_, value) => Sent::Native(value),
            BindValue::List(list) => Sent::List(list),
            BindValue::Parameter(parameter) => Sent::Parameter(parameter.name),
        }
    }
}

impl LentBind<'_> {
    /// Returns the value for a driver.
    #[inline]
    pub fn sent(&self) -> Sent<'_> {
        match self {
            LentBind::Int(value) => Sent::Int(*value),
            LentBind::Float(value) => Sent::Float(*value),
            LentBind::Text(text) => Sent::Text(text),
            LentBind::Bytes(bytes) => Sent::Bytes(bytes),
            LentBind::Value(value) => value.sent(),
            LentBind::Made(value) => value.sent(),
        }
    }
}

impl Sent<'_> {
    /// Returns the text that engines without the type store; see [`BindValue::plain_text`].
    pub fn plain_text(&self) -> Option<String> {
        Some(match self {
            Sent::Date(date) => date.to_string(),
            Sent::Time(time) => format!("{time:.6}"),
            Sent::DateTime(at) => format!("{at:.6}"),
            Sent::Timestamp(at) => format!("{at:.6}"),
            Sent::Uuid(uuid) => uuid.to_string(),
            Sent::Decimal(decimal) => decimal.to_string(),
            Sent::Native(value) => value.text(),
            Sent::Null
            | Sent::Bool(_)
            | Sent::Int(_)
            | Sent::Float(_)
            | Sent::Text(_)
            | Sent::Bytes(_)
            | Sent::Json(_)
            | Sent::List(_)
            | Sent::Parameter(_) => return None,
        })
    }
}

impl SqlType {
    /// Returns the type for a driver: numbers of every width are sent with 64 bits.
    #[doc(hidden)]
    pub fn sent(self) -> SentType {
        match self {
            SqlType::Boolean => SentType::Boolean,
            SqlType::SmallInt | SqlType::Integer | SqlType::BigInt => SentType::Integer,
            SqlType::Real | SqlType::Double => SentType::Float,
            SqlType::Text => SentType::Text,
            SqlType::Bytes => SentType::Bytes,
            SqlType::Date => SentType::Date,
            SqlType::Time => SentType::Time,
            SqlType::DateTime => SentType::DateTime,
            SqlType::Timestamp => SentType::Timestamp,
            SqlType::Uuid => SentType::Uuid,
            SqlType::Decimal => SentType::Decimal,
            SqlType::Json => SentType::Json,
            SqlType::Enum(_) => SentType::Enum,
            SqlType::Native(native) => SentType::Native(native),
        }
    }
}
