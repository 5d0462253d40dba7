//! Dates and times: parts, sums, differences, and what comes before a unit's fraction.

use jiff::Timestamp;
use jiff::civil::{Date, DateTime, Time};

use super::cast::utc;
use super::{BaseOf, Expr, Expression, Follows, FollowsEither, Operand};
use crate::model::function::{Function, Truncation};
use crate::model::{BindValue, ColumnType, SqlType, Storable, function};
use crate::tree::Node;

/// The types that hold a date: `Date`, `DateTime` and `Timestamp`.
#[diagnostic::on_unimplemented(
    message = "a `{Self}` has no date",
    label = "there is no date in it"
)]
pub trait HasDate: Storable {}

/// The types that hold a time of day: `Time`, `DateTime` and `Timestamp`.
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

/// A unit that [`truncated_to`](TimeExpression::truncated_to) keeps whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[expect(missing_docs, reason = "the names say it")]
pub enum TimeUnit {
    Year,
    /// January, April, July and October begin one.
    Quarter,
    Month,
    /// It begins on Monday (ISO 8601).
    Week,
    Day,
    Hour,
    Minute,
    Second,
}

/// What can be computed from dates and times; points in time are read in UTC (a `Timestamp` has no
/// other zone here).
///
/// Today and now are values of the caller's clock: the database's is never asked. What lies between
/// two days, one of them computed in Rust, needs nothing from here:
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::TimeUnit;
/// # #[derive(Debug, Table)] struct Assay { #[nepheline(key)] id: i64, due_on: Date, reported_on: Option<Date>, taken_at: Timestamp }
/// let today: Date = "2026-06-15".parse().unwrap();
/// let due_in_the_next_30_days = Assay::rows().filter(|a| a.due_on.within(today..=today + 30.days()));
///
/// let late = Assay::rows().filter(|a| a.reported_on.gt(a.due_on.plus_days(14)));
/// let delays: Query<Assay, Option<i64>> = Assay::rows().select(|a| a.reported_on.days_since(a.due_on));
/// let months: Query<Assay, (i32, Timestamp)> =
///     Assay::rows().select(|a| (a.due_on.iso_week(), a.taken_at.truncated_to(TimeUnit::Month)));
/// # assert!(late.sql(Dialect::Sqlite)?.text().ends_with(r#"WHERE "assay"."reported_on" > date("assay"."due_on", ? || ' days')"#));
/// # Ok::<(), Error>(())
/// ```
///
/// Sums stay within the years 1 to 9999, as all dates here do. One beyond is NULL or another day
/// of the engine's in a condition, and an error when it is read.
pub trait TimeExpression: Expression {
    /// The year, 1 to 9999.
    fn year(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        part(&function::YEAR, self)
    }

    /// The quarter of the year, 1 to 4.
    fn quarter(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        part(&function::QUARTER, self)
    }

    /// The month, 1 to 12.
    fn month(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        part(&function::MONTH, self)
    }

    /// The day of the month, 1 to 31.
    fn day(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        part(&function::DAY, self)
    }

    /// The day of the year, 1 to 366.
    fn day_of_year(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        part(&function::DAY_OF_YEAR, self)
    }

    /// The day of the week, 1 for Monday to 7 for Sunday (ISO 8601).
    fn weekday(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        part(&function::WEEKDAY, self)
    }

    /// The number of the week, 1 to 53 (ISO 8601: the first has the year's first Thursday).
    fn iso_week(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        part(&function::ISO_WEEK, self)
    }

    /// The year that the week counts to (ISO 8601).
    fn iso_year(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        part(&function::ISO_YEAR, self)
    }

    /// The hour, 0 to 23.
    fn hour(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasTime>,
    {
        part_of_time([&function::HOUR, &function::HOUR_OF_TIME], self)
    }

    /// The minute, 0 to 59.
    fn minute(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasTime>,
    {
        part_of_time([&function::MINUTE, &function::MINUTE_OF_TIME], self)
    }

    /// The second, 0 to 59, without its fraction.
    fn second(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasTime>,
    {
        part_of_time([&function::SECOND, &function::SECOND_OF_TIME], self)
    }

    /// The fraction of the second in microseconds, 0 to 999,999.
    fn microsecond(self) -> Expr<Follows<Self, i32>, Self::Level>
    where
        Self::Type: ColumnType<Base: HasTime>,
    {
        part_of_time([&function::MICROSECOND, &function::MICROSECOND_OF_TIME], self)
    }

    /// So many days later, or earlier if negative.
    fn plus_days<N: Operand<i64, Self::Level>>(self, days: N) -> Sum<Self, N>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        plus([&function::PLUS_DAYS, &function::DATE_PLUS_DAYS], self, days, 1)
    }

    /// So many weeks later, or earlier if negative.
    fn plus_weeks<N: Operand<i64, Self::Level>>(self, weeks: N) -> Sum<Self, N>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        plus([&function::PLUS_DAYS, &function::DATE_PLUS_DAYS], self, weeks, 7)
    }

    /// So many months later, or earlier if negative; where the month is too short for the day, its
    /// last day.
    fn plus_months<N: Operand<i64, Self::Level>>(self, months: N) -> Sum<Self, N>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        plus([&function::PLUS_MONTHS, &function::DATE_PLUS_MONTHS], self, months, 1)
    }

    /// So many years later, or earlier if negative; of February 29 February 28, where there is none.
    fn plus_years<N: Operand<i64, Self::Level>>(self, years: N) -> Sum<Self, N>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        plus([&function::PLUS_MONTHS, &function::DATE_PLUS_MONTHS], self, years, 12)
    }

    /// So many seconds later, or earlier if negative.
    fn plus_seconds<N: Operand<i64, Self::Level>>(self, seconds: N) -> Sum<Self, N>
    where
        Self::Type: ColumnType<Base: HasDate + HasTime>,
    {
        plus([&function::PLUS_SECONDS; 2], self, seconds, 1)
    }

    /// So many minutes later, or earlier if negative.
    fn plus_minutes<N: Operand<i64, Self::Level>>(self, minutes: N) -> Sum<Self, N>
    where
        Self::Type: ColumnType<Base: HasDate + HasTime>,
    {
        plus([&function::PLUS_SECONDS; 2], self, minutes, 60)
    }

    /// So many hours later, or earlier if negative.
    fn plus_hours<N: Operand<i64, Self::Level>>(self, hours: N) -> Sum<Self, N>
    where
        Self::Type: ColumnType<Base: HasDate + HasTime>,
    {
        plus([&function::PLUS_SECONDS; 2], self, hours, 3_600)
    }

    /// Returns how many midnights lie between `earlier` and this; negative if it is the later one.
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

    /// Returns how many microseconds lie between `earlier` and this; negative if it is the later one.
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

    /// The beginning of the year, month, .. that it is in. Of a date, units below the day change
    /// nothing.
    fn truncated_to(self, unit: TimeUnit) -> Expr<Self::Type, Self::Level>
    where
        Self::Type: ColumnType<Base: HasDate>,
    {
        let truncation: &'static Truncation = match unit {
            TimeUnit::Year => &function::TO_YEAR,
            TimeUnit::Quarter => &function::TO_QUARTER,
            TimeUnit::Month => &function::TO_MONTH,
            TimeUnit::Week => &function::TO_WEEK,
            TimeUnit::Day => &function::TO_DAY,
            TimeUnit::Hour => &function::TO_HOUR,
            TimeUnit::Minute => &function::TO_MINUTE,
            TimeUnit::Second => &function::TO_SECOND,
        };
        let sql_type = BaseOf::<Self>::SQL_TYPE;
        let function = match sql_type {
            SqlType::Date if unit == TimeUnit::Day => &function::SAME,
            SqlType::Date => &truncation.date,
            SqlType::DateTime => &truncation.date_time,
            _ => &truncation.timestamp,
        };
        Expr::from_node(Node::call(function, sql_type, [self.into_node()]))
    }
}

impl<E: Expression> TimeExpression for E {}

/// The sum of a date or time and a number of units.
type Sum<E, N> = Expr<
    FollowsEither<E, <N as Operand<i64, <E as Expression>::Level>>::Null, BaseOf<E>>,
    <E as Expression>::Level,
>;

/// A point in time as the date and time that it is in UTC; any other as it is.
fn in_utc(node: Node, sql_type: SqlType) -> Node {
    match sql_type {
        SqlType::Timestamp => utc(node),
        _ => node,
    }
}

fn part<E: Expression>(function: &'static Function, of: E) -> Expr<Follows<E, i32>, E::Level> {
    let of = in_utc(of.into_node(), BaseOf::<E>::SQL_TYPE);
    Expr::from_node(Node::call(function, SqlType::Integer, [of]))
}

fn part_of_time<E: Expression>(
    [of_date_time, of_time]: [&'static Function; 2],
    of: E,
) -> Expr<Follows<E, i32>, E::Level> {
    let function = match BaseOf::<E>::SQL_TYPE {
        SqlType::Time => of_time,
        _ => of_date_time,
    };
    part(function, of)
}

fn plus<E: Expression, N: Operand<i64, E::Level>>(
    [to_date_time, to_date]: [&'static Function; 2],
    start: E,
    count: N,
    times: i64,
) -> Sum<E, N> {
    let sql_type = BaseOf::<E>::SQL_TYPE;
    let count = match (count.into_operand(), times) {
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
    Expr::from_node(match sql_type {
        SqlType::Date => Node::call(to_date, sql_type, [start.into_node(), count]),
        // As a date and time of UTC and back: a point in time moves with the session's zone otherwise.
        SqlType::Timestamp => {
            let sum = [utc(start.into_node()), count];
            Node::call(&function::UTC, sql_type, [Node::call(to_date_time, SqlType::DateTime, sum)])
        }
        _ => Node::call(to_date_time, sql_type, [start.into_node(), count]),
    })
}
