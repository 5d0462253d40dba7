//! Every operation that an expression has: its SQL for the documentation, and its value on every
//! engine against plain Rust, over generated rows.
//!
//! A new operation is one more line in [`operations`]: how it is written, and what it is in Rust.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::fmt::{Debug, Write as _};
use std::net::IpAddr;
use std::num::NonZeroI64;
use std::ops::Bound;

use jiff::tz::TimeZone;
use nepheline::blocking::{Database, RunsQueries};
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;
use nepheline::{Array, BindValue, ColumnType, Pattern, RangeOf, TruncUnit};
use proptest::collection::vec;
use proptest::option;
use proptest::prelude::*;
use proptest::sample::select;
use proptest::test_runner::{Config, TestRunner};
use serde_json::json;
use support::{Engine, engines};

/// Columns of every type, many of them once with NULLs and once without.
#[derive(Debug, Clone, PartialEq, Table)]
struct Core {
    #[nepheline(key)]
    id: i64,
    boxes: i32,
    number: i64,
    maybe_number: Option<i64>,
    narrow: f32,
    float: f64,
    maybe_float: Option<f64>,
    price: Decimal,
    text: String,
    maybe_text: Option<String>,
    flag: bool,
    maybe_flag: Option<bool>,
    day: Date,
    maybe_day: Option<Date>,
    clock: Time,
    moment: DateTime,
    at: Timestamp,
    maybe_at: Option<Timestamp>,
    code: Uuid,
    notes: Option<Json>,
    tags: Array<String>,
    maybe_counts: Option<Array<i32>>,
    host: IpAddr,
    maybe_host: Option<IpAddr>,
    valid: RangeOf<Date>,
    maybe_depths: Option<RangeOf<i32>>,
}

/// One operation: how it is written, the SQL of it, and whether an engine computes it as Rust does.
struct Operation {
    group: &'static str,
    rust: String,
    sql: fn(Dialect) -> Result<String, Error>,
    check: fn(&Database, &[Core]) -> Result<(), String>,
}

/// A list of operations; `$s` stands for the columns and `$row` for the row.
macro_rules! operations {
    ($s:ident, $row:ident; $($group:literal { $($written:expr => $expected:expr;)* })*) => {
        vec![$($(Operation {
            group: $group,
            rust: shown(stringify!($written)),
            sql: |dialect| {
                let query = Core::rows().select(|$s| ($s.id, $written));
                let sql = query.sql(dialect)?;
                let text = sql.text().split_once(", ").map_or("", |(_, selected)| selected);
                let quoted = text.rsplit_once(" FROM ").map_or(text, |(value, _)| value);
                Ok(quoted.replace("\"core\".", "").replace("`core`.", ""))
            },
            check: |db, rows| {
                let selected = Core::rows().select(|$s| ($s.id, $written)).order_by(|$s| $s.id.asc());
                // The page says which operations a dialect refuses; such a one has no answer.
                let is_refused = |err: Error| err.kind() == ErrorKind::Unsupported;
                if selected.sql(db.dialect()).is_err_and(is_refused) {
                    return Ok(());
                }
                let expected: Vec<_> = rows.iter().map(|$row| ($row.id, $expected)).collect();
                compare(db.read(&selected), &expected, rows)?;
                // In a filter a condition may have another form than as a value.
                let filtered = Core::rows()
                    .filter(|$s| $written.as_filter())
                    .select(|$s| $s.id)
                    .order_by(|$s| $s.id.asc());
                let passing: Vec<_> = expected
                    .iter()
                    .filter(|(_, value)| !is_condition(|$s| $written) || is_true(value))
                    .map(|(id, _)| *id)
                    .collect();
                compare(db.read(&filtered), &passing, rows)
            },
        },)*)*]
    };
}

/// The expression, as a filter if it is a condition.
trait AsFilter {
    const IS_CONDITION: bool;

    fn as_filter(self) -> Option<Condition>;
}

impl AsFilter for Condition {
    const IS_CONDITION: bool = true;

    fn as_filter(self) -> Option<Condition> {
        Some(self)
    }
}

impl<T> AsFilter for Expr<T> {
    const IS_CONDITION: bool = false;

    fn as_filter(self) -> Option<Condition> {
        None
    }
}

fn is_condition<W: AsFilter>(_: fn(CoreColumns) -> W) -> bool {
    W::IS_CONDITION
}

fn is_true(value: &impl Debug) -> bool {
    format!("{value:?}") == "Some(true)"
}

/// Compares what was read with what was expected.
fn compare<T: PartialEq + Debug>(
    found: Result<Vec<T>, Error>,
    expected: &[T],
    rows: &[Core],
) -> Result<(), String> {
    match found {
        Ok(found) if found == expected => Ok(()),
        Ok(found) => Err(format!("found {found:?}, expected {expected:?} of {rows:#?}")),
        Err(err) => Err(format!("{err:#}")),
    }
}

/// Source text as one would write it, whatever spaces the compiler puts in.
fn shown(source: &str) -> String {
    source.split_whitespace().collect::<Vec<_>>().join(" ")
}

#[allow(unused_variables, reason = "not every operation needs the columns")]
fn operations() -> Vec<Operation> {
    operations! { s, row;
        "Comparisons" {
        s.number.eq(7) => Some(row.number == 7);
        s.text.eq("a") => Some(row.text == "a");
        s.maybe_text.ne(s.text) => row.maybe_text.as_ref().map(|other| *other != row.text);
        s.float.lt(0.5) => Some(row.float < 0.5);
        s.text.le("a") => Some(*row.text <= *"a");
        s.maybe_day.gt(s.day) => row.maybe_day.map(|day| day > row.day);
        s.at.ge(noon()) => Some(row.at >= noon());
        s.number.between(0, 7) => Some((0..=7).contains(&row.number));
        s.text.between("A", s.maybe_text) => between(&row.text, "A", row.maybe_text.as_deref());
        s.number.within(0..7) => Some((0..7).contains(&row.number));
        s.number.within(..=7) => Some(row.number <= 7);
        s.day.within(leap_day()..) => Some(row.day >= leap_day());
        s.maybe_number.is_null() => Some(row.maybe_number.is_none());
        s.maybe_number.is_not_null() => Some(row.maybe_number.is_some());
        s.maybe_number.is_distinct_from(Some(7)) => Some(row.maybe_number != Some(7));
        s.maybe_number.is_not_distinct_from(None) => Some(row.maybe_number.is_none());
        s.maybe_text.is_not_distinct_from(s.text) => Some(row.maybe_text.as_ref() == Some(&row.text));
        !s.maybe_number.is_not_distinct_from(Some(7)) => Some(row.maybe_number != Some(7));
        s.maybe_flag.is_true() => Some(row.maybe_flag == Some(true));
        s.maybe_flag.is_false() => Some(row.maybe_flag == Some(false));
        s.number.gt(0).is_true() => Some(row.number > 0);
        s.maybe_number.gt(0).is_null() => Some(row.maybe_number.is_none());
        s.number.one_of([1, 7]) => Some([1, 7].contains(&row.number));
        s.maybe_text.none_of(["a", "b"]) => Some(!["a", "b"].contains(&row.maybe_text.as_deref().unwrap_or("-")));
        s.maybe_number.one_of([Some(7), None]) => Some([Some(7), None].contains(&row.maybe_number));
        s.number.one_of(Core::rows().filter(|c| c.number.gt(1)).select(|c| c.number)) => Some(row.number > 1);
        s.text.none_of(Core::rows().select(|c| c.text.substring(1, 0))) => Some(!row.text.is_empty());
        }
        "Conditions" {
        s.flag.eq(true) & s.maybe_number.gt(0) => and(row.flag, row.maybe_number.map(|n| n > 0));
        s.flag.eq(true) | s.maybe_number.gt(0) => and(!row.flag, row.maybe_number.map(|n| n <= 0)).map(|b| !b);
        !s.maybe_number.gt(0) => row.maybe_number.map(|n| n <= 0);
        any_of([s.number.eq(1), s.number.eq(7)]) => Some([1, 7].contains(&row.number));
        all_of(Vec::<Condition>::new()) => Some(true);
        any_of(Vec::<Condition>::new()) => Some(false);
        }
        "Text" {
        s.text.like("_a%") => Some(row.text.chars().nth(1) == Some('a'));
        s.text.not_like(Pattern::new("!%%").escape('!')) => Some(!row.text.starts_with('%'));
        s.maybe_text.contains("%") => row.maybe_text.as_ref().map(|text| text.contains('%'));
        s.text.contains(s.maybe_text) => row.maybe_text.as_ref().map(|part| row.text.contains(part.as_str()));
        s.text.starts_with("_") => Some(row.text.starts_with('_'));
        s.text.starts_with(s.maybe_text) => row.maybe_text.as_ref().map(|start| row.text.starts_with(start.as_str()));
        s.text.ends_with("*") => Some(row.text.ends_with('*'));
        s.text.ends_with(s.maybe_text) => row.maybe_text.as_ref().map(|end| row.text.ends_with(end.as_str()));
        s.text.any_case().eq("ÉA") => Some(lower(&row.text) == "éa");
        s.text.any_case().ne(s.maybe_text) => row.maybe_text.as_ref().map(|text| lower(text) != lower(&row.text));
        s.text.any_case().one_of(["A", "Σ"]) => Some(["a", "σ"].contains(&lower(&row.text).as_str()));
        s.text.any_case().like("A%") => Some(lower(&row.text).starts_with('a'));
        s.text.any_case().not_like("%_A") => Some(!(row.text.chars().count() > 1 && lower(&row.text).ends_with('a')));
        s.text.any_case().contains("É") => Some(lower(&row.text).contains('é'));
        s.text.any_case().starts_with("A") => Some(lower(&row.text).starts_with('a'));
        s.text.any_case().starts_with(s.text) => Some(true);
        s.text.any_case().ends_with("Σ") => Some(lower(&row.text).ends_with('σ'));
        s.text.length() => row.text.chars().count() as i64;
        s.maybe_text.lower() => row.maybe_text.as_deref().map(lower);
        s.text.upper() => upper(&row.text);
        s.text.trim() => row.text.trim_matches(' ').to_owned();
        s.text.substring(2, 2) => row.text.chars().skip(1).take(2).collect::<String>();
        s.text.replace("a", "%") => row.text.replace('a', "%");
        s.text.replace(s.maybe_text, "") => row.maybe_text.as_ref().map(|part| match part.as_str() {
            "" => row.text.clone(),
            part => row.text.replace(part, ""),
        });
        s.text.concat("!").concat(s.maybe_text) => row.maybe_text.as_ref().map(|text| format!("{}!{text}", row.text));
        s.text.position("a") => row.text.chars().position(|c| c == 'a').map_or(0, |at| at as i64 + 1);
        }
        "Numbers" {
        s.number + 1 => row.number + 1;
        s.boxes - s.boxes * 2 => row.boxes - row.boxes * 2;
        s.float * s.maybe_float => row.maybe_float.map(|f| row.float * f);
        100 - s.maybe_number => row.maybe_number.map(|n| 100 - n);
        s.narrow + 0.5 => f64::from(row.narrow) + 0.5;
        s.price + s.price * 2 => row.price + row.price * Decimal::TWO;
        s.number / 2 => Some(row.number / 2);
        s.number / s.boxes.cast::<i64>() => row.number.checked_div(i64::from(row.boxes));
        s.number / NonZeroI64::new(2).unwrap() => row.number / 2;
        s.float / s.maybe_float => row.maybe_float.filter(|by| *by != 0.0).map(|by| row.float / by);
        s.number % s.maybe_number => row.maybe_number.and_then(|by| row.number.checked_rem(by));
        s.number % NonZeroI64::new(-2).unwrap() => row.number % -2;
        -s.number => -row.number;
        (s.number + 1) * (s.number - 1) => (row.number + 1) * (row.number - 1);
        s.number - (s.boxes.cast::<i64>() - 1) => row.number - (i64::from(row.boxes) - 1);
        s.boxes.abs() => row.boxes.abs();
        s.float.floor() => row.float.floor();
        s.maybe_float.ceil() => row.maybe_float.map(f64::ceil);
        s.price.round(1) => row.price.round_dp_with_strategy(1, rust_decimal::RoundingStrategy::MidpointAwayFromZero);
        s.float.round(1) => row.float;
        s.float.power(2) => Some(row.float * row.float);
        s.float.power(-0.5) => (row.float > 0.0).then(|| row.float.powf(-0.5));
        s.number.least(s.maybe_number) => row.maybe_number.map(|n| n.min(row.number));
        s.text.greatest("a") => row.text.as_str().max("a").to_owned();
        }
        "Dates and times" {
        s.day.year() => i32::from(row.day.year());
        s.day.quarter() => (i32::from(row.day.month()) + 2) / 3;
        s.at.month() => i32::from(utc(row.at).month());
        s.maybe_day.day() => row.maybe_day.map(|day| i32::from(day.day()));
        s.moment.day_of_year() => i32::from(row.moment.day_of_year());
        s.day.weekday() => i32::from(row.day.weekday().to_monday_one_offset());
        s.at.iso_week() => i32::from(utc(row.at).date().iso_week_date().week());
        s.day.iso_year() => i32::from(row.day.iso_week_date().year());
        s.clock.hour() => i32::from(row.clock.hour());
        s.at.minute() => i32::from(utc(row.at).minute());
        s.moment.second() => i32::from(row.moment.second());
        s.at.microsecond() => utc(row.at).subsec_nanosecond() / 1_000;
        s.clock.microsecond() => row.clock.subsec_nanosecond() / 1_000;
        s.day + days(30) => row.day + 30.days();
        s.at + days(s.boxes.cast::<i64>()) => row.at + jiff::SignedDuration::from_hours(24 * i64::from(row.boxes));
        s.maybe_day + weeks(-1) => row.maybe_day.map(|day| day - 1.week());
        s.day + months(1) => row.day + 1.month();
        s.moment + months(-1) => row.moment - 1.month();
        s.day + years(1) => row.day + 1.year();
        s.at + hours(25) => row.at + 25.hours();
        s.moment + minutes(-90) => row.moment - 90.minutes();
        s.at + seconds(s.boxes.cast::<i64>()) => row.at + jiff::SignedDuration::from_secs(i64::from(row.boxes));
        s.maybe_day.days_since(s.day) => row.maybe_day.map(|day| days_between(row.day, day));
        s.at.days_since(noon()) => days_between(utc(noon()).date(), utc(row.at).date());
        s.at.microseconds_since(noon()) => row.at.as_microsecond() - noon().as_microsecond();
        s.day.date_trunc(TruncUnit::Year) => row.day.with().month(1).day(1).build().unwrap();
        s.at.date_trunc(TruncUnit::Quarter) => midnight(quarter(utc(row.at).date()));
        s.day.date_trunc(TruncUnit::Quarter) => quarter(row.day);
        s.maybe_at.date_trunc(TruncUnit::Month) => row.maybe_at.map(|at| midnight(utc(at).date().first_of_month()));
        s.moment.date_trunc(TruncUnit::Week) => monday(row.moment.date()).at(0, 0, 0, 0);
        s.day.date_trunc(TruncUnit::Week) => monday(row.day);
        s.at.date_trunc(TruncUnit::Day) => midnight(utc(row.at).date());
        s.at.date_trunc(TruncUnit::Hour) => to_timestamp(utc(row.at).with().minute(0).second(0).subsec_nanosecond(0).build().unwrap());
        s.moment.date_trunc(TruncUnit::Minute) => row.moment.with().second(0).subsec_nanosecond(0).build().unwrap();
        s.at.date_trunc(TruncUnit::Second) => to_timestamp(utc(row.at).with().subsec_nanosecond(0).build().unwrap());
        }
        "NULL and cases" {
        s.maybe_number.coalesce(0) => row.maybe_number.unwrap_or(0);
        s.maybe_flag.coalesce(false) => row.maybe_flag.unwrap_or(false);
        coalesce((s.maybe_text, s.text)) => row.maybe_text.clone().unwrap_or_else(|| row.text.clone());
        s.text.null_if("a") => Some(row.text.clone()).filter(|text| text != "a");
        case().when(s.number.gt(1), "many").when(s.number.eq(1), "one").otherwise(s.text) => match row.number {
            2.. => "many".to_owned(),
            1 => "one".to_owned(),
            _ => row.text.clone(),
        };
        case().when(s.flag.is_true(), s.number).or_null() => row.flag.then_some(row.number);
        bind(leap_day()) => leap_day();
        bind(None::<i64>) => None::<i64>;
        }
        "Casts" {
        s.number.cast::<f64>() => row.number as f64;
        s.number.cast::<String>() => row.number.to_string();
        s.number.cast::<Decimal>() => Decimal::from(row.number);
        s.boxes.cast::<i64>() => i64::from(row.boxes);
        s.float.cast::<i64>() => row.float as i64;
        s.narrow.cast::<f64>() => f64::from(row.narrow);
        s.price.cast::<f64>() => f64::try_from(row.price).unwrap();
        s.maybe_flag.cast::<i32>() => row.maybe_flag.map(i32::from);
        s.code.cast::<String>() => row.code.to_string();
        s.day.cast::<String>() => row.day.to_string();
        s.day.cast::<Timestamp>() => midnight(row.day);
        s.day.cast::<DateTime>() => row.day.at(0, 0, 0, 0);
        s.at.cast::<Date>() => utc(row.at).date();
        s.at.cast::<DateTime>() => utc(row.at);
        s.at.cast::<Time>() => utc(row.at).time();
        s.moment.cast::<Date>() => row.moment.date();
        s.moment.cast::<Timestamp>() => to_timestamp(row.moment);
        s.text.cast::<i64>() => 0;
        s.float.cast::<String>() => String::new();
        }
        "JSON" {
        s.notes.key("a").json_value::<String>() => row.note("a").as_ref().and_then(|a| a.as_str().map(str::to_owned));
        s.notes.key("a").json_value::<i64>() => row.note("a").as_ref().and_then(Json::as_i64);
        s.notes.key("a").json_value::<f64>() => row.note("a").as_ref().and_then(Json::as_f64);
        s.notes.key("a").json_value::<bool>() => row.note("a").as_ref().and_then(Json::as_bool);
        s.notes.key("b").item(0).json_value::<i64>() => row.note("b").and_then(|b| b.get(0)?.as_i64());
        s.notes.key("b c").key("d").json_value::<String>() => row.note("b c").and_then(|b| Some(b.get("d")?.as_str()?.to_owned()));
        s.notes.with_key("a", Json::from(7)).key("a").json_value::<i64>() => row.notes.as_ref().and_then(|notes| notes.is_object().then_some(7));
        s.notes.with_key("e", s.notes.key("b")).key("e").is_null() => Some(row.note("b").is_none());
        s.notes.without_key("a").key("a").is_null() => Some(true);
        s.notes.without_key("a").key("b").item(0).json_value::<i64>() => row.note("b").and_then(|b| b.get(0)?.as_i64());
        s.notes.key("b").without_key("a").item(0).json_value::<i64>() => row.note("b").and_then(|b| b.get(0)?.as_i64());
        s.notes.contains_document(json!({"b": [3]})) => row.notes.as_ref().map(contains_b_3);
        }
        "Arrays" {
        s.tags.contains("a") => Some(row.tags.contains(&"a".to_owned()));
        s.tags.contains_all(["a", "A"]) => Some(["a", "A"].iter().all(|tag| row.tags.iter().any(|own| own == tag)));
        s.tags.contains_all(Vec::<String>::new()) => Some(true);
        s.tags.overlaps(["éa", "", "b"]) => Some(row.tags.iter().any(|tag| ["éa", "", "b"].contains(&tag.as_str())));
        s.tags.length() => i64::try_from(row.tags.len()).unwrap();
        s.tags.append("'\\").length() => i64::try_from(row.tags.len() + 1).unwrap();
        s.tags.append("'\\") => row.tags.iter().cloned().chain(["'\\".to_owned()]).collect::<Array<String>>();
        s.tags.eq(Array::from(vec!["a".to_owned()])) => Some(*row.tags == ["a"]);
        s.maybe_counts.contains(2) => row.maybe_counts.as_ref().map(|counts| counts.contains(&2));
        !s.maybe_counts.contains(2) => row.maybe_counts.as_ref().map(|counts| !counts.contains(&2));
        s.maybe_counts.overlaps([-3, 3]) => row.maybe_counts.as_ref().map(|counts| counts.iter().any(|n| n.abs() == 3));
        s.maybe_counts.overlaps(Vec::<i32>::new()) => row.maybe_counts.as_ref().map(|_| false);
        s.maybe_counts.append(7) => row.maybe_counts.as_ref().map(|counts| counts.iter().copied().chain([7]).collect::<Array<i32>>());
        s.maybe_counts.length().gt(1) => row.maybe_counts.as_ref().map(|counts| counts.len() > 1);
        }
        "Addresses and ranges" {
        s.host.eq(local()) => Some(row.host == local());
        s.maybe_host.ne(s.host) => row.maybe_host.map(|host| host != row.host);
        s.host.one_of([local()]) => Some(row.host == local());
        s.maybe_host.is_not_distinct_from(None) => Some(row.maybe_host.is_none());
        s.host.lt(local()) => Some(row.host < local());
        s.valid.contains(leap_day()) => Some(row.valid.contains(&leap_day()));
        s.valid.overlaps(RangeOf::from(leap_day()..=leap_day())) => Some(row.valid.contains(&leap_day()));
        s.valid.contains_range(s.valid) => Some(true);
        s.valid.eq(RangeOf::empty()) => Some(row.valid.is_empty());
        s.valid.is_empty() => row.valid.is_empty();
        s.valid.lower() => row.valid.lower().and_then(end_of);
        s.maybe_depths.contains(s.boxes) => row.maybe_depths.map(|depths| depths.contains(&row.boxes));
        s.maybe_depths.contains(2) => row.maybe_depths.map(|depths| depths.contains(&2));
        s.maybe_depths.upper() => row.maybe_depths.and_then(|depths| end_of(depths.upper()?));
        }
        "Hand-written" {
        verbatim!("{} * {factor}", s.number + 1, factor = 3_i64).typed::<i64>() => (row.number + 1) * 3;
        verbatim!("{} = 1 OR {0} = 7", s.number).condition() & s.flag.is_true() => Some([1, 7].contains(&row.number) && row.flag);
        verbatim!(postgres: "left({}, 1)", sqlite: "substr({}, 1, 1)", mysql: "LEFT({}, 1)", s.text).typed::<String>()
            => row.text.chars().take(1).collect::<String>();
        }
    }
}

fn noon() -> Timestamp {
    "2024-02-29T12:00:00Z".parse().unwrap()
}

fn leap_day() -> Date {
    "2024-02-29".parse().unwrap()
}

fn between(text: &str, low: &str, high: Option<&str>) -> Option<bool> {
    match high {
        Some(high) => Some(low <= text && text <= high),
        None if text < low => Some(false),
        None => None,
    }
}

fn and(one: bool, other: Option<bool>) -> Option<bool> {
    if one { other } else { Some(false) }
}

/// Lower case, letter by letter.
fn lower(text: &str) -> String {
    text.chars()
        .map(|c| match c.to_lowercase().collect::<Vec<_>>()[..] {
            ['ς'] => 'σ',
            [one] => one,
            _ => c,
        })
        .collect()
}

/// Upper case, letter by letter.
fn upper(text: &str) -> String {
    text.chars()
        .map(|c| match c.to_uppercase().collect::<Vec<_>>()[..] {
            [one] => one,
            _ => c,
        })
        .collect()
}

fn utc(at: Timestamp) -> DateTime {
    TimeZone::UTC.to_datetime(at)
}

fn to_timestamp(at: DateTime) -> Timestamp {
    TimeZone::UTC.to_timestamp(at).unwrap()
}

fn midnight(day: Date) -> Timestamp {
    to_timestamp(day.at(0, 0, 0, 0))
}

fn quarter(day: Date) -> Date {
    Date::new(day.year(), (day.month() - 1) / 3 * 3 + 1, 1).unwrap()
}

fn monday(day: Date) -> Date {
    day - i64::from(day.weekday().to_monday_zero_offset()).days()
}

fn days_between(earlier: Date, later: Date) -> i64 {
    i64::from(earlier.until((jiff::Unit::Day, later)).unwrap().get_days())
}

fn local() -> IpAddr {
    IpAddr::from([192, 0, 2, 7])
}

fn end_of<T>(bound: Bound<T>) -> Option<T> {
    match bound {
        Bound::Included(end) | Bound::Excluded(end) => Some(end),
        Bound::Unbounded => None,
    }
}

fn contains_b_3(notes: &Json) -> bool {
    let items = notes.get("b").and_then(Json::as_array);
    items.is_some_and(|items| items.contains(&json!(3)))
}

impl Core {
    fn note(&self, key: &str) -> Option<Json> {
        self.notes.as_ref()?.get(key).cloned()
    }

    fn binds(&self) -> Vec<BindValue> {
        vec![
            self.id.to_bind_or_null(),
            self.boxes.to_bind_or_null(),
            self.number.to_bind_or_null(),
            self.maybe_number.to_bind_or_null(),
            self.narrow.to_bind_or_null(),
            self.float.to_bind_or_null(),
            self.maybe_float.to_bind_or_null(),
            self.price.to_bind_or_null(),
            self.text.to_bind_or_null(),
            self.maybe_text.to_bind_or_null(),
            self.flag.to_bind_or_null(),
            self.maybe_flag.to_bind_or_null(),
            self.day.to_bind_or_null(),
            self.maybe_day.to_bind_or_null(),
            self.clock.to_bind_or_null(),
            self.moment.to_bind_or_null(),
            self.at.to_bind_or_null(),
            self.maybe_at.to_bind_or_null(),
            self.code.to_bind_or_null(),
            self.notes.to_bind_or_null(),
            self.tags.to_bind_or_null(),
            self.maybe_counts.to_bind_or_null(),
            self.host.to_bind_or_null(),
            self.maybe_host.to_bind_or_null(),
            self.valid.to_bind_or_null(),
            self.maybe_depths.to_bind_or_null(),
        ]
    }
}

// Values that go wrong somewhere, and few enough that they meet.

fn rows() -> impl Strategy<Value = Vec<Core>> {
    let numbers = || select(vec![0, 1, 2, 7, -7, -1, 3_000_000_000]);
    let floats = || select(vec![0.0, 0.25, -2.5, 1.5, 1e10, 2.0, -3.0]);
    let texts = || {
        let texts = [
            "", " ", "a", "A", "a ", " ab ", "b", "éa", "ÉA", "ß", "%", "_a", "!", "a*", "ba%",
            "🪨a", "ΟΔΟΣ", "οδος", "Σ", "ﬁ", "\\", "'", "aab",
        ];
        select(texts.map(str::to_owned).to_vec())
    };
    let days = || {
        let days = [
            "2024-02-29",
            "2024-01-31",
            "2023-12-31",
            "2021-01-03",
            "2020-12-28",
            "1970-01-01",
            "0001-03-01",
            "9990-12-30",
            "2026-06-15",
        ];
        select(days.map(|day| day.parse::<Date>().unwrap()).to_vec())
    };
    let times = || {
        let times = ["00:00:00", "23:59:59.999999", "12:34:56.5", "09:00:00.000001"];
        select(times.map(|time| time.parse::<Time>().unwrap()).to_vec())
    };
    let notes = || {
        select(vec![
            json!({}),
            json!({"a": "x", "b": [3, 4], "b c": {"d": "é"}}),
            json!({"a": 5, "b": 3, "b c": {"d": 1}}),
            json!({"a": -2.5, "b": {"0": 1}}),
            json!({"a": true, "b": [], "b c": [{"d": "x"}]}),
            json!({"a": null, "b": ["x"]}),
            json!({"a": [1], "b": [[7]]}),
            json!([1]),
        ])
    };
    let hosts = || {
        let hosts = ["192.0.2.7", "192.0.2.70", "203.0.113.9", "2001:db8::7", "::ffff:192.0.2.7"];
        select(hosts.map(|host| host.parse::<IpAddr>().unwrap()).to_vec())
    };
    let moments = move || (days(), times()).prop_map(|(day, time)| day.to_datetime(time));
    let row = (
        (-3..4_i32, numbers(), option::of(numbers()), select(vec![0.0_f32, 0.1, -1.5, 3.0])),
        (floats(), option::of(floats()), select(vec!["0.00", "1.25", "-1.25", "10.05", "999.95"])),
        (texts(), option::of(texts()), any::<bool>(), any::<Option<bool>>()),
        (days(), option::of(days()), times(), moments(), moments(), option::of(moments())),
        (any::<u128>(), option::of(notes())),
        (vec(texts(), 0..4), option::of(vec(-3..4_i32, 0..4)), hosts(), option::of(hosts())),
        (days(), 0..40_i64, option::of((-5..5_i32, 0..4_i32))),
    );
    vec(row, 1..25).prop_map(|rows| {
        let numbered = rows.into_iter().zip(1..);
        numbered
            .map(|((numbers, floats, texts, times, others, listed, ranges), id)| Core {
                id,
                boxes: numbers.0,
                number: numbers.1,
                maybe_number: numbers.2,
                narrow: numbers.3,
                float: floats.0,
                maybe_float: floats.1,
                price: floats.2.parse().unwrap(),
                text: texts.0,
                maybe_text: texts.1,
                flag: texts.2,
                maybe_flag: texts.3,
                day: times.0,
                maybe_day: times.1,
                clock: times.2,
                moment: times.3,
                at: to_timestamp(times.4),
                maybe_at: times.5.map(to_timestamp),
                // A version and a variant of RFC 9562, which one engine asks for.
                code: uuid::Builder::from_u128(others.0)
                    .with_version(uuid::Version::Random)
                    .with_variant(uuid::Variant::RFC4122)
                    .into_uuid(),
                notes: others.1,
                tags: Array::from(listed.0),
                maybe_counts: listed.1.map(Array::from),
                host: listed.2,
                maybe_host: listed.3,
                valid: RangeOf::from(ranges.0..ranges.0 + ranges.1.days()),
                maybe_depths: ranges.2.map(|(top, deep)| RangeOf::from(top..top + deep)),
            })
            .collect()
    })
}

fn with_table(engine: Engine) -> (Engine, Database) {
    let db = engine.open();
    let types = engine.pick(
        "id INTEGER, boxes INTEGER, number INTEGER, maybe_number INTEGER, narrow REAL, float REAL, \
         maybe_float REAL, price TEXT, text TEXT, maybe_text TEXT COLLATE NOCASE, flag INTEGER, \
         maybe_flag INTEGER, day TEXT, maybe_day TEXT, clock TEXT, moment TEXT, at TEXT, \
         maybe_at TEXT, code TEXT, notes TEXT, tags TEXT, maybe_counts TEXT, host TEXT, maybe_host TEXT, valid TEXT, \
         maybe_depths TEXT",
        "id bigint, boxes int, number bigint, maybe_number bigint, narrow real, float float8, \
         maybe_float float8, price numeric(12, 2), text text, maybe_text varchar(20) COLLATE \"en-x-icu\", \
         flag boolean, maybe_flag boolean, day date, maybe_day date, clock time, moment timestamp, \
         at timestamptz, maybe_at timestamptz, code uuid, notes jsonb, tags text[], maybe_counts int4[], host inet, maybe_host inet, \
         valid daterange, maybe_depths int4range",
        "id BIGINT, boxes INT, number BIGINT, maybe_number BIGINT, narrow FLOAT, `float` DOUBLE, \
         maybe_float DOUBLE, price DECIMAL(12, 2), \
         text VARCHAR(20) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci, \
         maybe_text VARCHAR(20) CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci, \
         flag BOOLEAN, maybe_flag BOOLEAN, day DATE, maybe_day DATE, clock TIME(6), \
         moment DATETIME(6), at DATETIME(6), maybe_at DATETIME(6), code UUID, notes JSON, tags JSON, maybe_counts JSON, host VARCHAR(45), maybe_host VARCHAR(45), \
         valid VARCHAR(60), maybe_depths VARCHAR(60)",
    );
    db.run_text("DROP TABLE IF EXISTS core", vec![]).unwrap();
    db.run_text(&format!("CREATE TABLE core ({types})"), vec![])
        .unwrap();
    (engine, db)
}

fn fill(engine: &Engine, db: &Database, rows: &[Core]) {
    db.run_text("DELETE FROM core", vec![]).unwrap();
    let width = Core::INFO.columns().len();
    for row in rows {
        let places: Vec<_> = (1..=width)
            .map(|i| engine.pick("?", &format!("${i}"), "?").to_owned())
            .collect();
        let text = format!("INSERT INTO core VALUES ({})", places.join(", "));
        db.run_text(&text, row.binds()).unwrap();
    }
}

#[test]
fn every_engine_computes_as_plain_rust_does() {
    let operations = operations();
    let databases: Vec<_> = engines().into_iter().map(with_table).collect();
    let mut runner =
        TestRunner::new(Config { cases: 12, failure_persistence: None, ..Config::default() });
    let outcome = runner.run(&rows(), |rows| {
        for (engine, db) in &databases {
            fill(engine, db, &rows);
            let differences = operations.iter().filter_map(|operation| {
                let difference = (operation.check)(db, &rows).err()?;
                let sql = (operation.sql)(engine.dialect());
                Some(format!("on {}: `{}` {difference}; {sql:?}", engine.name, operation.rust))
            });
            let differences: Vec<_> = differences.collect();
            prop_assert!(differences.is_empty(), "{}", differences.join("\n\n"));
        }
        Ok(())
    });
    outcome.unwrap_or_else(|err| panic!("{err}"));
}

#[test]
fn the_page_of_operations_is_true() {
    let mut page = String::from(
        "# Operations\n\n\
         The SQL of each operation of an expression, on each engine. A test writes this page. It also runs each\n\
         operation on SQLite, PostgreSQL and MariaDB, and compares the results with those of plain Rust. Names of\n\
         tables are left out here. *Refused* means that the engine has no form with the same meaning, so that the\n\
         query is an error of kind `Unsupported`.\n",
    );
    let mut group = "";
    for operation in operations() {
        if operation.group != group {
            group = operation.group;
            let _ = write!(page, "\n## {group}\n");
        }
        let _ = write!(page, "\n`{}`\n\n| engine | SQL |\n|---|---|\n", operation.rust);
        let each = Dialect::ALL.map(|dialect| match (operation.sql)(dialect) {
            Ok(sql) => (dialect, code_in_table(&sql)),
            Err(err) if err.kind() == ErrorKind::Unsupported => (dialect, "*refused*".to_owned()),
            Err(err) => panic!("{err}"),
        });
        // Dialects with the same form share a row.
        let mut rows: Vec<(String, &str)> = Vec::new();
        for (dialect, sql) in &each {
            match rows.iter_mut().find(|(_, other)| other == sql) {
                Some((dialects, _)) => {
                    let _ = write!(dialects, ", {dialect}");
                }
                None => rows.push((dialect.to_string(), sql)),
            }
        }
        for (dialects, sql) in rows {
            let _ = writeln!(page, "| {dialects} | {sql} |");
        }
    }
    support::check_page("operations.md", &page);
}

/// Returns SQL as code in a cell of a table. It may contain backticks, and bars, which would end the cell.
fn code_in_table(sql: &str) -> String {
    let sql = sql.replace('|', "\\|");
    match sql.contains('`') {
        true => format!("`` {sql} ``"),
        false => format!("`{sql}`"),
    }
}

#[test]
fn an_expression_knows_whether_computing_it_can_fail() {
    use nepheline::internal::can_fail;

    let s = <nepheline_coreshed::Specimen as nepheline::RowStruct>::columns(
        nepheline::internal::Source::NOWHERE,
    );
    assert!(!can_fail(s.top_m.gt(50) & s.label.like("a%") | s.analyst_id.is_null()));
    assert!(!can_fail(s.label.lower()));
    assert!(!can_fail(s.assays().any(|a| a.ppm.gt(3))));
    assert!(can_fail(s.id + 1));
    assert!(can_fail((s.top_m / 2).gt(3)));
    assert!(can_fail(s.label.eq("a") & (s.id * 2).gt(7)));
    assert!(can_fail(s.assays().any(|a| (a.ppm * 2).gt(3))));
    assert!(can_fail(verbatim!("{} / 10 = 4", s.id).condition()));
}
