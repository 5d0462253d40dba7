//! Dates and times of `jiff`. Engines without such types store them as ISO 8601 text.
//!
//! The text has all six digits of the second, so that texts sort in the order of time. Another spelling of
//! the same moment would compare wrongly, so it is refused when it is read.
//!
//! Databases store microseconds. Finer digits are cut off when a value is sent, towards the past, so that a
//! value read back is the value that was compared.

use jiff::civil::{Date, DateTime, Time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, Unit};

use super::{BindValue, Mismatch, SqlType, Storable};
use crate::model::Cell;

impl Storable for Date {
    const SQL_TYPE: SqlType = SqlType::Date;

    fn to_bind(&self) -> BindValue {
        BindValue::Date(*self)
    }

    #[inline]
    fn from_cell(cell: Cell<'_>) -> Result<Date, Mismatch> {
        let date = match cell {
            Cell::Date(date) => Some(date),
            Cell::Text(text) if text.len() == "2026-01-31".len() => text.parse().ok(),
            _ => None,
        };
        // No other engine has the year 0.
        let date = date.filter(|date| date.year() >= 1);
        date.ok_or_else(|| Mismatch::expected("date (`Date`, ISO 8601 as in 2026-01-31)"))
    }
}

impl Storable for Time {
    const SQL_TYPE: SqlType = SqlType::Time;

    fn to_bind(&self) -> BindValue {
        let whole = self.subsec_nanosecond() / 1_000 * 1_000;
        BindValue::Time(
            self.with()
                .subsec_nanosecond(whole)
                .build()
                .unwrap_or(*self),
        )
    }

    #[inline]
    fn from_cell(cell: Cell<'_>) -> Result<Time, Mismatch> {
        let time = match cell {
            Cell::Time(time) => Some(time),
            Cell::Text(text) if text.len() == "13:45:00.000000".len() => text.parse().ok(),
            _ => None,
        };
        time.ok_or_else(|| Mismatch::expected("time (`Time`, ISO 8601 as in 13:45:00.000000)"))
    }
}

impl Storable for DateTime {
    const SQL_TYPE: SqlType = SqlType::DateTime;

    fn to_bind(&self) -> BindValue {
        let whole = self.subsec_nanosecond() / 1_000 * 1_000;
        BindValue::DateTime(
            self.with()
                .subsec_nanosecond(whole)
                .build()
                .unwrap_or(*self),
        )
    }

    #[inline]
    fn from_cell(cell: Cell<'_>) -> Result<DateTime, Mismatch> {
        let at = match cell {
            Cell::DateTime(at) | Cell::DateTimeOrUtc(at) => Some(at),
            Cell::Text(text) if text.len() == "2026-01-31T13:45:00.000000".len() => {
                text.parse().ok()
            }
            _ => None,
        };
        at.ok_or_else(|| {
            Mismatch::expected(
                "timestamp without time zone (`DateTime`, ISO 8601 as in 2026-01-31T13:45:00.000000)",
            )
        })
    }
}

impl Storable for Timestamp {
    const SQL_TYPE: SqlType = SqlType::Timestamp;

    fn to_bind(&self) -> BindValue {
        let finer = self.subsec_nanosecond() % 1_000;
        // Before 1970 the fraction counts backwards, so that truncation would move the time towards the
        // future.
        let whole = match finer {
            0 => Ok(*self),
            _ => self.round(
                jiff::TimestampRound::new()
                    .smallest(Unit::Microsecond)
                    .mode(jiff::RoundMode::Floor),
            ),
        };
        BindValue::Timestamp(whole.unwrap_or(*self))
    }

    #[inline]
    fn from_cell(cell: Cell<'_>) -> Result<Timestamp, Mismatch> {
        let at = match cell {
            Cell::Timestamp(at) => Some(at),
            Cell::DateTimeOrUtc(at) => TimeZone::UTC.to_timestamp(at).ok(),
            Cell::Text(text) if text.len() == "2026-01-31T13:45:00.000000Z".len() => {
                text.parse().ok().filter(|_| text.ends_with('Z'))
            }
            _ => None,
        };
        at.ok_or_else(|| {
            Mismatch::expected(
                "timestamp (`Timestamp`, RFC 3339 as in 2026-01-31T13:45:00.000000Z)",
            )
        })
    }
}
