//! Types that PostgreSQL has and that other engines store as text: arrays, network addresses, intervals and ranges.
//!
//! A value has one text, which is the same on every engine: ISO 8601 for intervals, JSON for arrays, and the
//! notation of PostgreSQL for ranges (manual, "Range Input/Output").

use std::fmt::Write as _;
use std::net::IpAddr;
use std::ops::Bound;

use jiff::{Span, SpanRound, Unit};

use super::{BindValue, List, Mismatch, SqlType, Storable};
use crate::model::Cell;

/// A type of PostgreSQL whose values other engines store as text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum NativeType {
    /// An array of values of a type.
    Array(SqlType),
    /// `inet`: the address of a host.
    Inet,
    /// `interval`: months, days and microseconds.
    Interval,
    /// A range of values of a type.
    Range(SqlType),
}

/// A value of a [`NativeType`].
#[derive(Debug, Clone, PartialEq)]
pub enum NativeValue {
    /// The items of an array. None of them is NULL.
    Array(List),
    /// The address of a host.
    Inet(IpAddr),
    /// An interval: each part counts on its own.
    Interval {
        /// The months, and 12 for each year.
        months: i32,
        /// The days.
        days: i32,
        /// The microseconds of the hours, minutes and seconds.
        micros: i64,
    },
    /// The bounds of a range; `None` for an empty one.
    Range(Option<[Bound<BindValue>; 2]>),
}

impl NativeType {
    /// Returns the name of the type in PostgreSQL, without the brackets of an array, and whether it is one.
    pub(crate) fn name(self, item: fn(SqlType) -> &'static str) -> (&'static str, bool) {
        match self {
            NativeType::Array(of) => (item(of), true),
            NativeType::Inet => ("inet", false),
            NativeType::Interval => ("interval", false),
            NativeType::Range(SqlType::Date) => ("daterange", false),
            NativeType::Range(SqlType::DateTime) => ("tsrange", false),
            NativeType::Range(SqlType::Timestamp) => ("tstzrange", false),
            NativeType::Range(SqlType::Integer) => ("int4range", false),
            NativeType::Range(_) => ("int8range", false),
        }
    }
}

impl NativeValue {
    /// Returns the text that engines without the type store.
    #[doc(hidden)]
    pub fn text(&self) -> String {
        match self {
            NativeValue::Array(list) => super::array::json_of(list),
            NativeValue::Inet(address) => address.to_string(),
            NativeValue::Interval { months, days, micros } => {
                interval_text(*months, *days, *micros)
            }
            NativeValue::Range(None) => "empty".into(),
            NativeValue::Range(Some([lower, upper])) => {
                let text = |bound: &Bound<BindValue>| match bound {
                    Bound::Unbounded => String::new(),
                    Bound::Included(value) | Bound::Excluded(value) => {
                        value.plain_text().unwrap_or_else(|| value.to_string())
                    }
                };
                let open = if matches!(lower, Bound::Included(_)) { '[' } else { '(' };
                let close = if matches!(upper, Bound::Included(_)) { ']' } else { ')' };
                format!("{open}{},{}{close}", text(lower), text(upper))
            }
        }
    }

    /// Returns why no database can be sent this value, or `None` if it can.
    pub(super) fn refusal(&self) -> Option<&'static str> {
        match self {
            NativeValue::Array(list) => list.items().iter().find_map(|item| match item {
                BindValue::Float(x) if x.is_infinite() => Some("arrays have no infinity"),
                item => item.refusal(),
            }),
            NativeValue::Inet(_) | NativeValue::Interval { .. } | NativeValue::Range(None) => None,
            NativeValue::Range(Some(bounds)) => bounds.iter().find_map(|bound| match bound {
                Bound::Included(value) | Bound::Excluded(value) => value.refusal(),
                Bound::Unbounded => None,
            }),
        }
    }

    /// Returns roughly how many bytes it takes when it is sent.
    pub(super) fn size(&self) -> usize {
        match self {
            NativeValue::Array(list) => list.items().iter().map(|item| item.size() + 4).sum(),
            _ => 32,
        }
    }
}

/// Returns an interval in ISO 8601, as in `P1Y2M3DT4H5M6.5S`. Parts of different signs have none, so that each has a
/// sign of its own.
#[doc(hidden)]
pub fn interval_text(months: i32, days: i32, micros: i64) -> String {
    let span = || {
        let of_time = Span::new().try_microseconds(micros).ok()?;
        let of_time = of_time.round(SpanRound::new().largest(Unit::Hour)).ok()?;
        of_time
            .try_years(months / 12)
            .and_then(|span| span.try_months(months % 12))
            .and_then(|span| span.try_days(days))
            .ok()
    };
    let has_one_sign = [i64::from(months), days.into(), micros]
        .iter()
        .all(|part| *part >= 0)
        || months <= 0 && days <= 0 && micros <= 0;
    match span() {
        Some(span) if has_one_sign => span.to_string(),
        _ => format!("{months} months {days} days {micros} microseconds"),
    }
}

/// Stored as `interval` on PostgreSQL and as ISO 8601 elsewhere: months, days and microseconds. It is read back in
/// years, months, days, hours, minutes and seconds; weeks are days, and 25 hours are no day. Finer digits than
/// microseconds are cut off.
///
/// Values are not compared, ordered or grouped, because 1 month equals 30 days on PostgreSQL only.
impl Storable for Span {
    const SQL_TYPE: SqlType = SqlType::Native(&NativeType::Interval);

    fn to_bind(&self) -> BindValue {
        let months = i32::from(self.get_years()) * 12 + self.get_months();
        let days = self.get_weeks() * 7 + self.get_days();
        let nanos = i128::from(self.get_hours()) * 3_600_000_000_000
            + i128::from(self.get_minutes()) * 60_000_000_000
            + i128::from(self.get_seconds()) * 1_000_000_000
            + i128::from(self.get_milliseconds()) * 1_000_000
            + i128::from(self.get_microseconds()) * 1_000
            + i128::from(self.get_nanoseconds());
        // The limits of `Span` keep the sum of its units far below 64 bits.
        let micros = i64::try_from(nanos / 1_000).unwrap_or(i64::MAX);
        let value = NativeValue::Interval { months, days, micros };
        BindValue::Native(&NativeType::Interval, Box::new(value))
    }

    fn from_cell(cell: Cell<'_>) -> Result<Span, Mismatch> {
        let span = cell.text().and_then(|text| text.parse::<Span>().ok());
        span.ok_or_else(|| {
            Mismatch::expected(
                "interval (`Span`, ISO 8601 as in P1Y2M3DT4H5M6S, all parts of one sign)",
            )
        })
    }
}

/// Stored as `inet` on PostgreSQL and as text elsewhere, in the form of RFC 5952 for version 6. An address with a
/// network prefix is refused when it is read.
impl Storable for IpAddr {
    const SQL_TYPE: SqlType = SqlType::Native(&NativeType::Inet);

    fn to_bind(&self) -> BindValue {
        BindValue::Native(&NativeType::Inet, Box::new(NativeValue::Inet(*self)))
    }

    fn from_cell(cell: Cell<'_>) -> Result<IpAddr, Mismatch> {
        let address = cell.text().and_then(|text| {
            // Another spelling of the same address would not be found by `=`.
            let parsed = text.parse::<IpAddr>().ok();
            parsed.filter(|address| has_text(address, text))
        });
        address.ok_or_else(|| {
            Mismatch::expected("inet (`IpAddr`, as in 192.0.2.7 or 2001:db8::7, without a prefix)")
        })
    }
}

fn has_text(address: &IpAddr, text: &str) -> bool {
    let mut own = String::with_capacity(text.len());
    write!(own, "{address}").is_ok() && own == text
}
