//! Dates and times: parts, sums, differences, and truncation.

use std::marker::PhantomData;

use jiff::Timestamp;
use jiff::civil::{Date, DateTime, Time};

use super::arithmetic::Adds;
use super::cast::utc;
use super::level::Level;
use super::{BaseOf, Expr, ExprExt, Follows, FollowsEither, Operand};
use crate::model::function::{Function, Truncation};
use crate::model::{BindValue, ColumnType, SqlType, Storable, function};
use crate::tree::Node;

/// The types with a date: `Date`, `DateTime` and `Timestamp`.
#[diagnostic::on_unimplemented(
    message = "a `{Self}` has no date",
    label = "there is no date in it"
)]
pub trait HasDate: Storable {}

/// The types with a time of day: `Time`, `DateTime` and `Timestamp`.
#[diagnostic::on_unimplemented(
    message = "a `{Self}` has no time of day",
    label = "there is no time of day in it"
)]
pub trait HasTime: Storable {}

impl HasDate for Date {}
impl HasDate for DateTime {}
impl HasDate for Timestamp {}
impl HasTime for Time {}
impl HasTime for DateTime {}
impl HasTime for Timestamp {}

/// The unit of [`date_trunc`](TimeExt::date_trunc).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[expect(missing_docs, reason = "the names say it")]
pub enum TruncUnit {
    Year,
    /// A quarter begins in January, April, July or October.
    Quarter,
    Month,
    /// A week begins on Monday (ISO 8601).
    Week,
    Day,
    Hour,
    Minute,
    Second,
}

/// Methods of dates and times. A `Timestamp` is read in UTC.
///
/// Today and now are values of the program's clock: no statement reads the clock of the database. A range
/// between two days needs no method from here, because Rust computes its ends:
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::TruncUnit;
/// # #[derive(Debug, Table)] struct Assay { #[nepheline(key)] id: i64, due_on: Date, reported_on: Option<Date>, taken_at: Timestamp }
/// let today: Date = "2026-06-15".parse().unwrap();
/// let due_in_the_next_30_days = Assay::rows().filter(|a| a.due_on.within(today..=today + 30.days()));
///
/// let late = Assay::rows().filter(|a| a.reported_on.gt(a.due_on + days(14)));
/// let delays: Query<Assay, Option<i64>> = Assay::rows().select(|a| a.reported_on.days_since(a.due_on));
/// let months: Query<Assay, (i32, Timestamp)> =
///     Assay::rows().select(|a| (a.due_on.iso_week(), a.taken_at.date_trunc(TruncUnit::Month)));
/// # assert!(late.sql(Dialect::Sqlite)?.text().ends_with(r#"WHERE "assay"."reported_on" > date("assay"."due_on", ? || ' days')"#));
/// # Ok::<(), Error>(())
/// ```
///
/// Sums must stay within the years 1 to 9999, as all dates here. Beyond that a condition sees NULL or
/// whatever the engine computes, and reading the value is an error.
pub trait TimeExt: ExprExt {
    /// Returns the year, 1 to 9999.
    fn year(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        part(&function::YEAR, self)
    }

    /// Returns the quarter of the year, 1 to 4.
    fn quarter(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        part(&function::QUARTER, self)
    }

    /// Returns the month, 1 to 12.
    fn month(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        part(&function::MONTH, self)
    }

    /// Returns the day of the month, 1 to 31.
    fn day(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        part(&function::DAY, self)
    }

    /// Returns the day of the year, 1 to 366.
    fn day_of_year(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        part(&function::DAY_OF_YEAR, self)
    }

    /// Returns the day of the week, 1 for Monday to 7 for Sunday (ISO 8601).
    fn weekday(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        part(&function::WEEKDAY, self)
    }

    /// Returns the number of the week, 1 to 53 (ISO 8601: week 1 contains the year's first Thursday).
    fn iso_week(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        part(&function::ISO_WEEK, self)
    }

    /// Returns the year of the week (ISO 8601).
    fn iso_year(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        part(&function::ISO_YEAR, self)
    }

    /// Returns the hour, 0 to 23.
    fn hour(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasTime>,
    {
        part_of_time([&function::HOUR, &function::HOUR_OF_TIME], self)
    }

    /// Returns the minute, 0 to 59.
    fn minute(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasTime>,
    {
        part_of_time([&function::MINUTE, &function::MINUTE_OF_TIME], self)
    }

    /// Returns the second, 0 to 59, without its fraction.
    fn second(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasTime>,
    {
        part_of_time([&function::SECOND, &function::SECOND_OF_TIME], self)
    }

    /// Returns the fraction of the second in microseconds, 0 to 999,999.
    fn microsecond(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasTime>,
    {
        part_of_time([&function::MICROSECOND, &function::MICROSECOND_OF_TIME], self)
    }

    /// Returns the number of midnights from `earlier` to this; negative if `earlier` is later.
    fn days_since<O: Operand<BaseOf<Self>, Self::Level>>(
        self,
        earlier: O,
    ) -> Expr<FollowsEither<Self, O::Null, i64>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        let function = match BaseOf::<Self>::SQL_TYPE {
            SqlType::Date => &function::DATE_DIFFERENCE,
            _ => &function::DAYS_BETWEEN,
        };
        let days = [
            in_utc(self.into_node(), BaseOf::<Self>::SQL_TYPE),
            in_utc(earlier.into_operand(), BaseOf::<Self>::SQL_TYPE),
        ];
        Expr::from_node(Node::call(function, SqlType::BigInt, days))
    }

    /// Returns the number of microseconds from `earlier` to this; negative if `earlier` is later.
    fn microseconds_since<O: Operand<BaseOf<Self>, Self::Level>>(
        self,
        earlier: O,
    ) -> Expr<FollowsEither<Self, O::Null, i64>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate + HasTime>,
    {
        let times = [self.into_node(), earlier.into_operand()];
        Expr::from_node(Node::call(&function::MICROSECONDS_BETWEEN, SqlType::BigInt, times))
    }

    /// Returns the start of the unit that contains the date or time. For a date, units below the day change
    /// nothing.
    fn date_trunc(self, unit: TruncUnit) -> Expr<Self::Type, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        let truncation: &'static Truncation = match unit {
            TruncUnit::Year => &function::TO_YEAR,
            TruncUnit::Quarter => &function::TO_QUARTER,
            TruncUnit::Month => &function::TO_MONTH,
            TruncUnit::Week => &function::TO_WEEK,
            TruncUnit::Day => &function::TO_DAY,
            TruncUnit::Hour => &function::TO_HOUR,
            TruncUnit::Minute => &function::TO_MINUTE,
            TruncUnit::Second => &function::TO_SECOND,
        };
        let sql_type = BaseOf::<Self>::SQL_TYPE;
        let function = match sql_type {
            SqlType::Date if unit == TruncUnit::Day => &function::SAME,
            SqlType::Date => &truncation.date,
            SqlType::DateTime => &truncation.date_time,
            _ => &truncation.timestamp,
        };
        Expr::from_node(Node::call(function, sql_type, [self.into_node()]))
    }
}

impl<E: ExprExt> TimeExt for E {}

/// Converts a point in time to the date and time in UTC; other types stay as they are.
fn in_utc(node: Node, sql_type: SqlType) -> Node {
    match sql_type {
        SqlType::Timestamp => utc(node),
        _ => node,
    }
}

fn part<E: ExprExt>(function: &'static Function, of: E) -> Expr<Follows<E, i32>, E::Level> {
    let of = in_utc(of.into_node(), BaseOf::<E>::SQL_TYPE);
    Expr::from_node(Node::call(function, SqlType::Integer, [of]))
}

fn part_of_time<E: ExprExt>(
    [of_date_time, of_time]: [&'static Function; 2],
    of: E,
) -> Expr<Follows<E, i32>, E::Level> {
    let function = match BaseOf::<E>::SQL_TYPE {
        SqlType::Time => of_time,
        _ => of_date_time,
    };
    part(function, of)
}

/// A number of days, months, hours or another unit, to be added to a date or time or subtracted from it. Made by
/// [`days`], [`weeks`], [`months`], [`years`], [`hours`], [`minutes`] and [`seconds`].
#[derive(Debug, Clone, Copy)]
#[must_use = "an interval does something only when it is added to a date or time"]
pub struct Interval<U, N> {
    count: N,
    unit: PhantomData<U>,
}

/// The units of an [`Interval`].
pub trait IntervalUnit {
    /// Adds a number to a date and time, and to a date.
    #[doc(hidden)]
    const PLUS: [&'static Function; 2];

    /// The number of the function's units in one.
    #[doc(hidden)]
    const TIMES: i64;
}

/// The units that a date without a time of day has.
#[diagnostic::on_unimplemented(
    message = "a date has no hours, minutes or seconds",
    note = "compute with `.cast::<DateTime>()`, which is midnight of the date"
)]
pub trait DateUnit: IntervalUnit {}

macro_rules! units {
    ($($(#[$doc:meta])* $function:ident, $unit:ident, $plus:expr, $times:literal;)*) => {
        /// The unit types of [`Interval`], one for each function that makes one.
        pub mod unit {
            $(
                #[doc = concat!("The unit of [`", stringify!($function), "`](super::", stringify!($function), ").")]
                #[derive(Debug, Clone, Copy)]
                pub enum $unit {}
            )*
        }

        $(
            impl IntervalUnit for unit::$unit {
                const PLUS: [&'static Function; 2] = $plus;
                const TIMES: i64 = $times;
            }

            $(#[$doc])*
            pub fn $function<N>(count: N) -> Interval<unit::$unit, N> {
                Interval { count, unit: PhantomData }
            }
        )*
    };
}

units! {
    /// An interval of days, for `+` and `-` on dates, dates with times and points in time: `a.due_on + days(14)`.
    ///
    /// The number is an `i64` or an expression of one, and may be negative. The sum is NULL where a side is.
    days, Day, [&function::PLUS_DAYS, &function::DATE_PLUS_DAYS], 1;
    /// An interval of weeks of seven days; otherwise as [`days`].
    weeks, Week, [&function::PLUS_DAYS, &function::DATE_PLUS_DAYS], 7;
    /// An interval of calendar months: a day that the other month lacks becomes its last day. Otherwise as [`days`].
    months, Month, [&function::PLUS_MONTHS, &function::DATE_PLUS_MONTHS], 1;
    /// An interval of calendar years: February 29 becomes February 28 in a common year. Otherwise as [`days`].
    years, Year, [&function::PLUS_MONTHS, &function::DATE_PLUS_MONTHS], 12;
    /// An interval of hours, for dates with times and points in time; otherwise as [`days`].
    hours, Hour, [&function::PLUS_SECONDS; 2], 3_600;
    /// An interval of minutes, for dates with times and points in time; otherwise as [`days`].
    minutes, Minute, [&function::PLUS_SECONDS; 2], 60;
    /// An interval of seconds, for dates with times and points in time; otherwise as [`days`].
    seconds, Second, [&function::PLUS_SECONDS; 2], 1;
}

impl DateUnit for unit::Day {}
impl DateUnit for unit::Week {}
impl DateUnit for unit::Month {}
impl DateUnit for unit::Year {}

macro_rules! adds_intervals {
    ($($base:ty, $unit:ident;)*) => {$(
        impl<U: $unit, L: Level, N: Operand<i64, L>> Adds<Interval<U, N>, L> for $base {
            type Null = N::Null;
            type Sum = $base;

            fn plus(left: Node, right: Interval<U, N>) -> Node {
                moved(U::PLUS, left, right.count.into_operand(), U::TIMES)
            }

            fn minus(left: Node, right: Interval<U, N>) -> Node {
                moved(U::PLUS, left, right.count.into_operand(), -U::TIMES)
            }
        }
    )*};
}

adds_intervals! {
    Date, DateUnit;
    DateTime, IntervalUnit;
    Timestamp, IntervalUnit;
}

/// Returns a date or time moved by `count` times `times` units of a function. The text depends on the type of
/// the count and on the unit, never on the value.
fn moved(
    [to_date_time, to_date]: [&'static Function; 2],
    start: Node,
    count: Node,
    times: i64,
) -> Node {
    let sql_type = start.sql_type();
    let count = match (count, times) {
        (count, 1) => count,
        // No engine has a date so far away that the end of the range would be reached.
        (Node::Bind(BindValue::Int(count)), times) => {
            Node::Bind(BindValue::Int(count.saturating_mul(times)))
        }
        (count, times) => {
            let factors = [count, Node::Bind(BindValue::Int(times))];
            Node::call(&function::MULTIPLY, SqlType::BigInt, factors)
        }
    };
    match sql_type {
        SqlType::Date => Node::call(to_date, sql_type, [start, count]),
        // As a date and time of UTC and back: a point in time moves with the session's zone otherwise.
        SqlType::Timestamp => {
            let sum = Node::call(to_date_time, SqlType::DateTime, [utc(start), count]);
            Node::call(&function::UTC, sql_type, [sum])
        }
        _ => Node::call(to_date_time, sql_type, [start, count]),
    }
}
