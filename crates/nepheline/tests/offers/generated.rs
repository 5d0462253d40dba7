//! Filters that chance writes: each means the same on every engine and in plain Rust, and is read back from its own text and
//! JSON without loss.

use std::cell::Cell;

use nepheline::blocking::RunsQueries as _;
use nepheline::prelude::*;
use nepheline_coreshed::Specimen;
use proptest::collection::vec;
use proptest::prelude::*;
use proptest::sample::select;
use proptest::test_runner::{Config, TestRunner};

use crate::meaning::SHED;
use crate::offer;
use crate::plain::passes;
use crate::support::demos;

const ROCKS: [&str; 4] = ["basalt", "gneiss", "nepheline syenite", "schist"];
const TEXTS: [&str; 9] =
    ["KP-014", "100%", "100_", "ØD-003", "ød-003", "O'Brien's piece", "", "Upper Tarn", r"\"];
const PATTERNS: [&str; 8] = ["%", "KP-%", "_P-0%", r"100\%", r"%\_", "%ø%", "%''%", "upper%"];
const DAYS: [&str; 5] = ["2017-02-13", "2020-01-01", "2021-10-12", "2024-05-28", "2030-12-31"];
const MOMENTS: [&str; 4] = [
    "2021-10-12T08:00:30.25Z",
    "2022-01-01T00:00:00Z",
    "2022-01-28T08:24:30.250000Z",
    "2029-01-01T00:00:00Z",
];
const OF_BOTH: [&str; 5] = ["T_AFTER", "T_BEFORE", "T_EQUALS", "T_DISJOINT", "T_INTERSECTS"];
const OF_INTERVALS: [&str; 10] = [
    "T_CONTAINS",
    "T_DURING",
    "T_FINISHEDBY",
    "T_FINISHES",
    "T_MEETS",
    "T_METBY",
    "T_OVERLAPPEDBY",
    "T_OVERLAPS",
    "T_STARTEDBY",
    "T_STARTS",
];

fn one<T: Clone + std::fmt::Debug + 'static>(of: &'static [T]) -> impl Strategy<Value = T> {
    select(of)
}

fn quoted(of: &'static [&'static str]) -> impl Strategy<Value = String> {
    one(of).prop_map(|text| format!("'{}'", text.replace("''", "'").replace('\'', "''")))
}

fn relation() -> impl Strategy<Value = &'static str> {
    one(&["=", "<>", "<", "<=", ">", ">="])
}

/// A whole number: of few digits, so that no result leaves the range of 64 bits.
fn whole() -> BoxedStrategy<String> {
    let leaf = prop_oneof![
        (-20_i64..1_000).prop_map(|n| n.to_string()),
        Just("results".to_owned()),
        Just("length(label)".to_owned()),
    ];
    leaf.prop_recursive(2, 6, 2, |inner| {
        prop_oneof![
            (inner.clone(), one(&["+", "-", "*", "%", "div"]), inner.clone())
                .prop_map(|(left, op, right)| format!("({left} {op} {right})")),
            inner.prop_map(|inner| format!("-({inner})")),
        ]
    })
    .boxed()
}

fn number() -> BoxedStrategy<String> {
    let leaf = prop_oneof![
        whole(),
        (-2_000..200_000_i32).prop_map(|n| format!("{}", f64::from(n) / 16.0)),
        one(&["depth", "assays.ppm", "2.5e2", "1E3", ".5"]).prop_map(str::to_owned),
    ];
    leaf.prop_recursive(2, 6, 2, |inner| {
        (inner.clone(), one(&["+", "-", "*", "/"]), inner)
            .prop_map(|(left, op, right)| format!("({left} {op} {right})"))
    })
    .boxed()
}

/// Two sides of a temporal function, over dates or over timestamps.
fn temporal() -> BoxedStrategy<String> {
    fn sides(
        name: &'static [&'static str],
        function: &'static str,
        values: &'static [&'static str],
    ) -> BoxedStrategy<String> {
        let instant = prop_oneof![
            one(name).prop_map(str::to_owned),
            one(values).prop_map(move |text| format!("{function}('{text}')")),
        ];
        let end = prop_oneof![
            Just("'..'".to_owned()),
            one(values).prop_map(|text| format!("'{text}'")),
            one(name).prop_map(str::to_owned),
        ];
        let interval = (end.clone(), end).prop_map(|(from, to)| format!("INTERVAL({from}, {to})"));
        let either = prop_oneof![instant.clone(), interval.clone()];
        prop_oneof![
            (one(&OF_BOTH), either.clone(), either).boxed(),
            (one(&OF_INTERVALS), interval.clone(), interval.clone()).boxed(),
            (Just("t_during"), instant, interval).boxed(),
        ]
        .prop_map(|(function, left, right)| format!("{function}({left}, {right})"))
        .boxed()
    }
    prop_oneof![
        sides(&["taken", "assays.reported"], "DATE", &DAYS),
        sides(&["withdrawn"], "TIMESTAMP", &MOMENTS),
    ]
    .boxed()
}

fn predicate() -> impl Strategy<Value = String> {
    let text = || one(&["label", "region", "assays.element"]);
    let compared = |value: BoxedStrategy<String>| {
        (relation(), value).prop_map(|(op, value)| format!("{op} {value}"))
    };
    let not = || one(&["", "NOT "]);
    let day = one(&DAYS).prop_map(|day| format!("DATE('{day}')")).boxed();
    let moment = one(&MOMENTS)
        .prop_map(|at| format!("TIMESTAMP('{at}')"))
        .boxed();
    prop_oneof![
        (number(), compared(number())).prop_map(|(left, right)| format!("{left} {right}")),
        (number(), not(), number(), number())
            .prop_map(|(value, not, low, high)| format!("{value} {not}BETWEEN {low} AND {high}")),
        (number(), not(), vec(number(), 1..4))
            .prop_map(|(value, not, items)| format!("{value} {not}IN ({})", items.join(", "))),
        (text(), compared(quoted(&TEXTS).boxed()))
            .prop_map(|(name, rest)| format!("{name} {rest}")),
        (text(), quoted(&TEXTS))
            .prop_map(|(name, other)| format!("CASEI({name}) = CASEI({other})")),
        (text(), not(), quoted(&PATTERNS))
            .prop_map(|(name, not, pattern)| format!("{name} {not}LIKE {pattern}")),
        (text(), not(), quoted(&PATTERNS))
            .prop_map(|(name, not, pattern)| format!("CASEI({name}) {not}LIKE CASEI({pattern})")),
        (not(), vec(quoted(&ROCKS), 1..3))
            .prop_map(|(not, rocks)| format!("rock {not}IN ({})", rocks.join(", "))),
        (one(&["taken", "assays.reported"]), compared(day))
            .prop_map(|(name, rest)| format!("{name} {rest}")),
        compared(moment).prop_map(|rest| format!("withdrawn {rest}")),
        (one(&["withdrawn", "assays.reported", "label", "results"]), not())
            .prop_map(|(name, not)| format!("{name} IS {not}NULL")),
        one(&["overdue = TRUE", "overdue <> TRUE", "FALSE = overdue", "TRUE", "FALSE"])
            .prop_map(str::to_owned),
        temporal(),
    ]
}

pub(crate) fn filter() -> impl Strategy<Value = String> {
    predicate().prop_recursive(4, 12, 3, |inner| {
        prop_oneof![
            vec(inner.clone(), 2..4).prop_map(|terms| format!("({})", terms.join(" AND "))),
            vec(inner.clone(), 2..4).prop_map(|terms| format!("({})", terms.join(" or "))),
            inner.prop_map(|term| format!("NOT ({term})")),
        ]
    })
}

/// Returns whether a mistake is one that a well-formed filter of this generator may have.
fn may_be(message: &str) -> bool {
    // Two values of the list of days may come in either order.
    message == "the interval ends before it begins"
}

#[test]
fn a_filter_has_the_same_rows_on_every_engine_and_in_plain_rust_and_is_read_back() {
    let cases = std::env::var("CQL2_CASES").map_or(48, |cases| cases.parse().unwrap());
    let (offer, demos) = (offer(), demos());
    let mut runner =
        TestRunner::new(Config { cases, failure_persistence: None, ..Config::default() });
    let seen = Cell::new((0, 0));
    let outcome = runner.run(&filter(), |text| {
        let filter = match offer.cql2_text(&text) {
            Ok(filter) => filter,
            Err(err) => {
                let mistake = err.mistake().unwrap();
                prop_assert!(may_be(mistake.message()), "{err}");
                return Ok(());
            }
        };
        let again = offer.cql2_text(&filter.to_string());
        prop_assert_eq!(again.as_ref().ok(), Some(&filter), "as text: {}", filter);
        let saved = serde_json::to_string(&filter).unwrap();
        let again = offer.cql2_json(&saved);
        prop_assert_eq!(again.as_ref().ok(), Some(&filter), "as JSON: {}", saved);

        let json = serde_json::to_value(&filter).unwrap();
        let passing = SHED.specimens.iter().filter(|row| passes(&json, *row));
        let expected: Vec<i64> = passing.map(|row| row.id).collect();
        let query = Specimen::rows()
            .filter(filter.scope())
            .select(|s| s.id)
            .order_by(|s| s.id.asc());
        for (engine, db) in &demos {
            let found = db.read(&query);
            let found = found.map_err(|err| {
                TestCaseError::fail(format!("{filter} on {}: {err:#}", engine.name))
            })?;
            prop_assert!(
                found == expected,
                "{} on {}: {} rows, and {} in plain Rust",
                filter,
                engine.name,
                found.len(),
                expected.len()
            );
        }
        let (all, some) = seen.get();
        let is_some = !expected.is_empty() && expected.len() < SHED.specimens.len();
        seen.set((all + 1, some + usize::from(is_some)));
        Ok(())
    });
    outcome.unwrap();
    // Filters that pass no row or every row would compare little.
    let (all, some) = seen.get();
    assert!(some * 4 > all, "{some} of {all} filters pass some rows");
}
