//! Values that arrive as text, in a file or a form: the text is read as the type of its column.

use std::fmt;
use std::str::FromStr;

use jiff::Timestamp;
use jiff::civil::{Date, DateTime, Time};
use nepheline::{BindValue, SqlType};
use rust_decimal::Decimal;
use uuid::Uuid;

/// Text that is no value of the type that was expected.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UnreadableText {
    text: String,
    expected: SqlType,
}

impl fmt::Display for UnreadableText {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let UnreadableText { text, expected } = self;
        let form = match expected {
            SqlType::Boolean => "expected true or false",
            SqlType::SmallInt => "expected a whole number from -32768 to 32767",
            SqlType::Integer => "expected a whole number from -2147483648 to 2147483647",
            SqlType::BigInt => "expected a whole number of at most 64 bits",
            SqlType::Real | SqlType::Double => "expected a number",
            SqlType::Decimal => "expected a number of at most 28 digits",
            SqlType::Date => "expected a date such as 2026-03-14",
            SqlType::Time => "expected a time such as 09:30:00",
            SqlType::DateTime => "expected a date and time such as 2026-03-14 09:30:00",
            SqlType::Timestamp => {
                "expected a date, time and zone such as 2026-03-14T09:30:00Z or +01:00"
            }
            SqlType::Uuid => "expected a UUID",
            SqlType::Json => "expected JSON",
            SqlType::Bytes => "expected bytes in hexadecimal",
            SqlType::Enum(kind) => {
                return write!(f, "`{text}`: expected one of {}", kind.values().join(", "));
            }
            other => {
                return write!(f, "`{text}`: a value of type {other} cannot be read from text");
            }
        };
        write!(f, "`{text}`: {form}")
    }
}

impl std::error::Error for UnreadableText {}

/// Reads text as a value of a type.
///
/// Dates, times, timestamps, UUIDs and JSON have the forms of ISO 8601, RFC 3339, RFC 9562 and RFC 8259; bytes are in
/// hexadecimal. Booleans are true, t, yes, y, on, 1 and their opposites, in any case. White space around a value is ignored,
/// but not that of text.
///
/// ```
/// use nepheline::{BindValue, SqlType};
/// use nepheline_live::read_text;
///
/// assert_eq!(read_text("17", SqlType::Integer), Ok(BindValue::Int(17)));
/// let err = read_text("deep", SqlType::Double).unwrap_err();
/// assert_eq!(err.to_string(), "`deep`: expected a number");
/// ```
///
/// # Errors
///
/// [`UnreadableText`] for text that is no such value, and for types of PostgreSQL that have no form here, such as arrays.
pub fn read_text(text: &str, sql_type: SqlType) -> Result<BindValue, UnreadableText> {
    let trimmed = text.trim();
    let value = match sql_type {
        SqlType::Text => Some(BindValue::Text(text.into())),
        SqlType::Boolean => boolean(trimmed).map(BindValue::Bool),
        SqlType::SmallInt => parsed::<i16>(trimmed).map(|value| BindValue::Int(value.into())),
        SqlType::Integer => parsed::<i32>(trimmed).map(|value| BindValue::Int(value.into())),
        SqlType::BigInt => parsed(trimmed).map(BindValue::Int),
        SqlType::Real | SqlType::Double => {
            let value = parsed::<f64>(trimmed).filter(|value| value.is_finite());
            value.map(BindValue::Float)
        }
        SqlType::Decimal => decimal(trimmed).map(BindValue::Decimal),
        // The readers of dates ignore a time behind them, and those of times a date before them.
        SqlType::Date => parsed::<Date>(trimmed)
            .filter(|_| !trimmed.contains([':', ' ', 'T']))
            .map(BindValue::Date),
        SqlType::Time => parsed::<Time>(trimmed)
            .filter(|_| trimmed.contains(':') && !trimmed.contains(['-', '+', ' ']))
            .map(BindValue::Time),
        SqlType::DateTime => parsed::<DateTime>(trimmed)
            .filter(|_| trimmed.contains(':') && !has_zone(trimmed))
            .map(BindValue::DateTime),
        SqlType::Timestamp => parsed::<Timestamp>(trimmed).map(BindValue::Timestamp),
        SqlType::Uuid => Uuid::parse_str(trimmed).ok().map(BindValue::Uuid),
        SqlType::Json => serde_json::from_str::<serde::de::IgnoredAny>(trimmed)
            .ok()
            .map(|_| BindValue::Json(trimmed.into())),
        SqlType::Bytes => hex::decode(trimmed)
            .ok()
            .map(|bytes| BindValue::Bytes(bytes.into())),
        SqlType::Enum(kind) => kind.bind_of(trimmed),
        _ => None,
    };
    value.ok_or_else(|| UnreadableText { text: shortened(text), expected: sql_type })
}

fn parsed<T: FromStr>(text: &str) -> Option<T> {
    text.parse().ok()
}

fn boolean(text: &str) -> Option<bool> {
    let is_one_of = |words: &[&str]| words.iter().any(|word| text.eq_ignore_ascii_case(word));
    match text {
        _ if is_one_of(&["true", "t", "yes", "y", "on", "1"]) => Some(true),
        _ if is_one_of(&["false", "f", "no", "n", "off", "0"]) => Some(false),
        _ => None,
    }
}

fn decimal(text: &str) -> Option<Decimal> {
    let exact = Decimal::from_str_exact(text).ok();
    exact.or_else(|| Decimal::from_scientific(text).ok())
}

/// Returns whether a date and time ends in a zone.
fn has_zone(text: &str) -> bool {
    let time = text
        .split_once(['T', 't', ' '])
        .map_or("", |(_, time)| time);
    time.contains(['Z', 'z', '+', '-', '['])
}

/// Returns the text, or its beginning if it is long.
fn shortened(text: &str) -> String {
    match text.char_indices().nth(80) {
        Some((end, _)) => format!("{}..", text.get(..end).unwrap_or_default()),
        None => text.to_owned(),
    }
}
