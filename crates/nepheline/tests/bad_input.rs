//! Input that goes wrong somewhere: on every engine the same outcome, or an error that says why.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::fmt::Write as _;

use nepheline::blocking::{Database, RunsQueries};
use nepheline::prelude::*;
use nepheline::{Pattern, RowShape, Verbatim};
use nepheline_coreshed::{Assay, Specimen};
use support::{Engine, demos, engines};

/// The result of a query on each engine: its rows, or the kind of its error and the message.
fn outcomes<R>(databases: &[(Engine, Database)], query: &Query<Specimen, R>) -> String
where
    R: RowShape + std::fmt::Debug + Send + 'static,
{
    let mut seen = String::new();
    for (engine, db) in databases {
        let outcome = match db.read(query) {
            Ok(rows) if rows.len() > 2 => format!("{} rows", rows.len()),
            Ok(rows) => format!("{rows:?}"),
            Err(err) => {
                let text = err.to_string();
                let words = text.split("; the SQL was").next().unwrap();
                let words = words.split("; asked for at").next().unwrap();
                format!("{:?}: {words}", err.kind())
            }
        };
        let _ = writeln!(seen, "{}: {outcome}", engine.name);
    }
    seen
}

#[test]
fn bad_input_has_one_outcome_or_a_clear_error() {
    let databases = demos();
    let mut seen = String::new();
    macro_rules! ask {
        ($($what:literal: |$s:pat_param| $filter:expr;)*) => {$(
            let query = Specimen::rows().filter(|$s| $filter).select(|s| s.id);
            let _ = writeln!(seen, "# {}\n{}", $what, outcomes(&databases, &query));
        )*};
    }
    macro_rules! compute {
        ($($what:literal: |$s:pat_param| $value:expr;)*) => {$(
            let query = Specimen::rows().filter(|s| s.id.eq(1)).select(|$s| $value);
            let _ = writeln!(seen, "# {}\n{}", $what, outcomes(&databases, &query));
        )*};
    }
    let regex = "(";
    ask! {
        "a pattern that ends in its escape character": |s| s.label.like(Pattern::new(r"KP\").escape('\\'));
        "the same, whatever the case": |s| s.label.any_case().not_like(Pattern::new("KP!").escape('!'));
        "an empty pattern": |s| s.label.like("");
        "an empty part": |s| s.label.contains("");
        "an invalid regex": |s| verbatim!(postgres: "{} ~ {regex}", mysql: "{} REGEXP {regex}", s.label).condition();
        "an empty list": |s| s.id.one_of(Vec::<i64>::new());
        "an empty list, of what may be NULL": |s| s.analyst_id.one_of(Vec::<Option<i64>>::new());
        "none of an empty list": |s| s.analyst_id.none_of(Vec::<i64>::new());
        "a reversed range": |s| s.top_m.between(100, 50);
        "a reversed half-open range": |s| s.top_m.within(100.0..50.0);
        "NaN": |s| s.top_m.gt(f64::NAN);
        "NaN inside an expression": |s| (s.top_m + f64::NAN).gt(0);
        "infinity": |s| s.top_m.lt(f64::INFINITY);
        "a day before the year 1": |s| s.taken_on.gt("-000001-01-01".parse::<Date>().unwrap());
        "text with NUL": |s| s.label.contains("a\0b");
        "text with NUL, in lower case": |s| s.label.any_case().eq("a\0b");
        "a place in a text counted from 0": |s| s.label.substring(0, 2).eq("KP");
        "a key of JSON with a quotation mark": |_| bind(Json::Null).key("a\"b").json_value::<String>().is_null();
        "trusted text with a placeholder": |_| Verbatim::trusting_text_made_at_run_time("1 = :one").condition();
        "trusted text that is no SQL": |_| Verbatim::trusting_text_made_at_run_time("1 = ").condition();
        "queries in queries, twelve deep": |s| {
            let mut innermost = Specimen::rows().select(|s| s.id);
            for _ in 0..11 {
                innermost = Specimen::rows().filter(|t| t.id.one_of(&innermost)).select(|t| t.id);
            }
            s.id.one_of(innermost)
        };
    }
    compute! {
        "division by zero": |s| (s.id / (s.id - 1), s.id % (s.id - 1), s.top_m / (s.top_m - s.top_m));
        "an integer beyond 64 bits": |s| s.id + i64::MAX;
        "the opposite of the least integer": |s| (bind(i64::MIN) + (s.id - 1)).abs();
        "a day after the year 9999": |s| s.taken_on + years(9000);
        "a day before the year 1, computed": |s| s.taken_on + years(-3000);
        "so many days that no calendar has them": |s| s.taken_on + days(i64::MAX);
        "a number that is too large for its type": |s| (s.id + 3_000_000_000_i64).cast::<i32>();
        "a float too large for an integer": |s| (s.top_m + 1e300).cast::<i64>();
        "a power that is no real number": |_| (bind(-8.0).power(0.5), bind(0.0).power(-1));
        "JSON numbers within and beyond 64 bits": |_| {
            let numbers = json_of_numbers();
            let at = |item| numbers.clone().item(item).json_value::<i64>();
            (at(0), at(1), at(2), at(3), at(4))
        };
        "JSON numbers within and beyond a float": |_| {
            let numbers = json_of_numbers();
            let at = |item| numbers.clone().item(item).json_value::<f64>();
            (at(1), at(3), at(4), at(5), at(6))
        };
        "a fragment of another type": |s| verbatim!("{}", s.label).typed::<i64>();
        "a fragment that is NULL": |_| verbatim!("NULL").typed::<i64>();
    }
    insta::assert_snapshot!(seen);
}

fn json_of_numbers() -> Expr<Json> {
    let text = "[9223372036854775807, 9223372036854775808, -9223372036854775809, \
                123456789012345678901234567890, 1e400, -1e400, 1e-400]";
    verbatim!(
        sqlite: "{text}",
        postgres: "{text}::text::json",
        mysql: "{text}",
    )
    .typed::<Json>()
}

#[test]
fn ten_thousand_conditions_run_and_a_tree_too_deep_is_refused() {
    for engine in engines() {
        let db = engine.demo();
        let many = Specimen::rows().filter(|s| any_of((1..=10_000).map(|id| s.id.eq(id))));
        assert_eq!(db.count(&many).unwrap(), 600, "on {}", engine.name);
        let mut each = Assay::rows();
        for id in 0..10_000 {
            each = each.filter(|a| a.id.ne(id + 100_000));
        }
        assert_eq!(db.count(&each).unwrap(), 3000, "on {}", engine.name);

        let deep = Specimen::rows().filter(|s| {
            let sum = (0..500).fold(s.id + 1, |sum, _| (sum + 1) * 1);
            sum.gt(0)
        });
        let err = db.read(&deep).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::TooDeep);
        assert_eq!(err.origin().unwrap().file(), file!());
    }
}

#[test]
fn the_same_filter_twice_changes_nothing() {
    let db = nepheline_coreshed::in_memory().unwrap();
    let once = Specimen::rows()
        .filter(|s| s.top_m.gt(300) | s.analyst_id.is_null())
        .order_by(|s| s.id.asc());
    let twice = once
        .clone()
        .filter(|s| s.top_m.gt(300) | s.analyst_id.is_null());
    assert_eq!(db.read(&once).unwrap(), db.read(&twice).unwrap());
}

#[test]
fn a_dialect_without_a_variant_names_the_line_of_the_fragment() {
    let line = line!() + 1;
    let random = verbatim!(postgres: "random()", mysql: "rand()").typed::<f64>();
    let query = Specimen::rows().order_by(|_| random.asc());
    assert!(query.sql(Dialect::Postgres).is_ok() && query.sql(Dialect::MariaDb).is_ok());
    let err = query.sql(Dialect::Sqlite).unwrap_err();
    assert_eq!(err.kind(), ErrorKind::Unsupported);
    assert_eq!(err.origin().unwrap().line(), line);
}
