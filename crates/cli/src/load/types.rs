//! The types of the columns of a file: their names on the command line, and the values that each reads.

use std::fmt;
use std::str::FromStr;

use jiff::civil::{Date, DateTime, Time};
use jiff::{Timestamp, Zoned};
use nepheline::{BindValue, SqlType};
use nepheline_live::read_text;

/// A type that a column of a file can have, in the order in which the types are tried.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum ColumnType {
    Boolean,
    Integer,
    Decimal,
    Double,
    Date,
    Time,
    DateTime,
    Timestamp,
    Uuid,
    Text,
    /// Only if asked for.
    Json,
    /// Only if asked for.
    Bytes,
}

impl ColumnType {
    /// The types with their names and what they are in the database, in the order in which they are tried.
    const ALL: [(ColumnType, &'static str, SqlType); 12] = [
        (ColumnType::Boolean, "boolean", SqlType::Boolean),
        (ColumnType::Integer, "integer", SqlType::BigInt),
        (ColumnType::Decimal, "decimal", SqlType::Decimal),
        (ColumnType::Double, "double", SqlType::Double),
        (ColumnType::Date, "date", SqlType::Date),
        (ColumnType::Time, "time", SqlType::Time),
        (ColumnType::DateTime, "datetime", SqlType::DateTime),
        (ColumnType::Timestamp, "timestamp", SqlType::Timestamp),
        (ColumnType::Uuid, "uuid", SqlType::Uuid),
        (ColumnType::Text, "text", SqlType::Text),
        (ColumnType::Json, "json", SqlType::Json),
        (ColumnType::Bytes, "bytes", SqlType::Bytes),
    ];

    /// Returns all types, in the order in which they are tried.
    pub(super) fn all() -> impl Iterator<Item = ColumnType> {
        ColumnType::ALL.iter().map(|(column_type, ..)| *column_type)
    }

    pub(super) fn sql_type(self) -> SqlType {
        let own = ColumnType::ALL.iter().find(|(known, ..)| *known == self);
        own.map_or(SqlType::Text, |(_, _, sql_type)| *sql_type)
    }

    /// Returns whether a value that is not empty looks like one of this type, so plainly that the type may be guessed from it.
    pub(super) fn suits(self, text: &str) -> bool {
        let reads = |sql_type| read_text(text, sql_type).is_ok();
        match self {
            // 0 and 1 are numbers.
            ColumnType::Boolean => {
                text.len() > 1 && reads(SqlType::Boolean) && !text.eq_ignore_ascii_case("on")
            }
            ColumnType::Integer => is_plain_number(text) && reads(SqlType::BigInt),
            ColumnType::Decimal => {
                is_plain_number(text) && has_few_places(text) && reads(SqlType::Decimal)
            }
            ColumnType::Double => is_number(text) && keeps_digits(text) && reads(SqlType::Double),
            ColumnType::Date => text.len() == "2026-03-14".len() && reads(SqlType::Date),
            ColumnType::Time => reads(SqlType::Time),
            ColumnType::DateTime => reads(SqlType::DateTime),
            ColumnType::Timestamp => reads(SqlType::Timestamp),
            ColumnType::Uuid => text.len() == 36 && reads(SqlType::Uuid),
            ColumnType::Text => true,
            ColumnType::Json | ColumnType::Bytes => false,
        }
    }
}

impl fmt::Display for ColumnType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let own = ColumnType::ALL.iter().find(|(known, ..)| known == self);
        f.write_str(own.map_or("", |(_, name, _)| name))
    }
}

impl FromStr for ColumnType {
    type Err = String;

    fn from_str(text: &str) -> Result<ColumnType, String> {
        let known = ColumnType::ALL.iter().find(|(_, name, _)| *name == text);
        known.map(|(column_type, ..)| *column_type).ok_or_else(|| {
            let names: Vec<&str> = ColumnType::ALL.iter().map(|(_, name, _)| *name).collect();
            format!("`{text}` is no type; the types are {}", names.join(", "))
        })
    }
}

/// Returns whether text is written as a number in digits. `007` is not: its zeros would be lost.
fn is_plain_number(text: &str) -> bool {
    let digits = text.strip_prefix('-').unwrap_or(text);
    let (whole, places) = digits.split_once('.').unwrap_or((digits, "0"));
    let is_digits = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    is_digits(whole) && is_digits(places) && (whole.len() == 1 || !whole.starts_with('0'))
}

/// Returns whether text is written as a number, in digits or with an exponent.
fn is_number(text: &str) -> bool {
    let (mantissa, exponent) = text.split_once(['e', 'E']).unwrap_or((text, "0"));
    let exponent = exponent.strip_prefix(['-', '+']).unwrap_or(exponent);
    is_plain_number(mantissa)
        && !exponent.is_empty()
        && exponent.bytes().all(|byte| byte.is_ascii_digit())
}

/// Returns whether a decimal column of every engine keeps all its digits: MariaDB's has nine places.
fn has_few_places(text: &str) -> bool {
    text.split_once('.')
        .is_none_or(|(_, places)| places.len() <= 9)
}

/// Returns whether a float keeps all its digits: 17 tell every float apart.
fn keeps_digits(text: &str) -> bool {
    let mantissa = text.split(['e', 'E']).next().unwrap_or_default();
    let digits = mantissa.trim_start_matches(['-', '0', '.']);
    digits.bytes().filter(u8::is_ascii_digit).count() <= 17
}

/// The way in which the values of a column are read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct ColumnReader {
    pub(super) sql_type: SqlType,
    /// The form of its dates and times, by the conversions of strftime; without it, that of ISO 8601.
    pub(super) form: Option<String>,
    /// True if the column keeps a point in time as its date and time in UTC, because the engine has no type with a zone.
    pub(super) is_utc: bool,
}

impl ColumnReader {
    /// Reads a value that is not empty.
    pub(super) fn read(&self, text: &str) -> Result<BindValue, String> {
        let Some(form) = &self.form else {
            let read = read_text(text, self.sql_type);
            let in_utc = || {
                read_text(text, SqlType::Timestamp)
                    .ok()
                    .filter(|_| self.is_utc)
            };
            return read.or_else(|err| in_utc().ok_or_else(|| err.to_string()));
        };
        let trimmed = text.trim();
        let read = match self.sql_type {
            SqlType::Date => Date::strptime(form, trimmed).map(BindValue::Date),
            SqlType::Time => Time::strptime(form, trimmed).map(BindValue::Time),
            SqlType::DateTime => DateTime::strptime(form, trimmed).map(BindValue::DateTime),
            _ => Timestamp::strptime(form, trimmed)
                .or_else(|_| Zoned::strptime(form, trimmed).map(|zoned| zoned.timestamp()))
                .map(BindValue::Timestamp),
        };
        read.map_err(|_| format!("`{text}`: expected a value in the form {form}"))
    }
}

/// A type that was asked for: `depth_m=decimal`, `label=text?`, `taken_on=date:%d.%m.%Y`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct AskedType {
    pub(super) column: String,
    pub(super) column_type: ColumnType,
    /// True if NULL is allowed although the file has no empty value.
    pub(super) nullable: bool,
    pub(super) form: Option<String>,
}

impl FromStr for AskedType {
    type Err = String;

    fn from_str(text: &str) -> Result<AskedType, String> {
        let (column, asked) = text
            .split_once('=')
            .ok_or("expected COLUMN=TYPE, such as depth_m=decimal")?;
        let (asked, form) = match asked.split_once(':') {
            Some((asked, form)) => (asked, Some(form.to_owned())),
            None => (asked, None),
        };
        let (asked, nullable) = match asked.strip_suffix('?') {
            Some(asked) => (asked, true),
            None => (asked, false),
        };
        let column_type: ColumnType = asked.parse()?;
        let is_of_time = matches!(
            column_type,
            ColumnType::Date | ColumnType::Time | ColumnType::DateTime | ColumnType::Timestamp
        );
        if form.is_some() && !is_of_time {
            return Err(format!(
                "a form such as :%d.%m.%Y is for dates and times, not for {column_type}"
            ));
        }
        Ok(AskedType { column: column.to_owned(), column_type, nullable, form })
    }
}

#[cfg(test)]
mod tests {
    use super::ColumnType::{
        self, Boolean, Date, DateTime, Decimal, Double, Integer, Text, Time, Timestamp, Uuid,
    };

    #[test]
    fn a_type_is_guessed_only_where_no_digit_or_zone_is_lost() {
        let guessed = |text: &str| {
            ColumnType::all()
                .find(|column_type| column_type.suits(text))
                .unwrap_or(Text)
        };
        for (text, expected) in [
            ("true", Boolean),
            ("No", Boolean),
            ("1", Integer),
            ("-42", Integer),
            ("007", Text),
            ("+49301234", Text),
            ("9223372036854775808", Decimal),
            ("12.50", Decimal),
            ("0.5", Decimal),
            ("00.5", Text),
            (".5", Text),
            ("1e9", Double),
            ("0.00000000012345", Double),
            ("0.12345678901234567890", Text),
            ("1234567890123456789012345678901", Text),
            ("nan", Text),
            ("2026-03-14", Date),
            ("2026-02-30", Text),
            ("2026-03", Text),
            ("09:30", Time),
            ("09:30:15.25", Time),
            ("2026-03-14T09:30:00", DateTime),
            ("2026-03-14 09:30", DateTime),
            ("2026-03-14 09:30:00Z", Timestamp),
            ("2026-03-14T09:30:00+01:00", Timestamp),
            ("0190f5a4-7c1e-7b3a-9c51-3f1d2b6a8e10", Uuid),
            ("granite", Text),
            ("{}", Text),
        ] {
            assert_eq!(guessed(text), expected, "{text}");
        }
    }
}
