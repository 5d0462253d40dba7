//! Every type that a column can have: its values are sent and read back on each engine, and each use of it agrees with
//! plain Rust or is refused. The page of types is written from what was found.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::cmp::Ordering;
use std::fmt::Write as _;
use std::net::IpAddr;
use std::ops::Bound;

use jiff::Span;
use nepheline::blocking::{Database, RunsQueries};
use nepheline::bounds::RangeItem;
use nepheline::prelude::*;
use nepheline::{Array, BindValue, Cursor, JsonDocument, RangeOf, create_table, statement};
use serde_json::json;
use support::engines;

#[derive(Debug, Clone, Copy, PartialEq, PartialOrd, Storable)]
enum State {
    Open,
    Closed,
}

#[derive(Debug, Clone, Copy, PartialEq, PartialOrd, Storable)]
#[nepheline(integer)]
#[repr(i16)]
enum Priority {
    Low = -5,
    High = 10,
}

#[derive(Debug, Clone, Copy, PartialEq, PartialOrd, Storable)]
#[nepheline(database_type = "types_rock")]
enum Rock {
    Shale,
    Basalt,
    Gneiss,
}

/// The uses of a type that an engine may refuse.
const USES: [&str; 5] = ["=, joins, groups", "lists", "<, ORDER BY", "cursors", "min, max"];

/// The uses of a type that an engine has.
type Outcome = [bool; USES.len()];

/// A type: its name in Rust, its column on each dialect, and the test of it on an engine.
struct Type {
    rust: &'static str,
    column: fn(Dialect) -> String,
    outcome: fn(&Database) -> Outcome,
}

/// Returns what a query gave, or `None` if the engine refuses it.
fn unless_refused<T>(given: Result<T, Error>) -> Option<T> {
    match given {
        Err(err) if [ErrorKind::Unsupported, ErrorKind::InvalidPage].contains(&err.kind()) => None,
        given => Some(given.unwrap_or_else(|err| panic!("{err:#}"))),
    }
}

fn order<T: PartialOrd>(left: &T, right: &T) -> Ordering {
    left.partial_cmp(right).unwrap()
}

/// Returns whether two values are the same. An engine may write JSON with other spaces.
fn is_same<T: Storable>(left: &T, right: &T) -> bool {
    match (left.to_bind(), right.to_bind()) {
        (BindValue::Json(left), BindValue::Json(right)) => {
            parsed::<Json>(&left) == parsed::<Json>(&right)
        }
        (left, right) => left == right,
    }
}

/// Stands for the order of a type that has none.
fn none<T>(_: &T, _: &T) -> Ordering {
    Ordering::Equal
}

fn by_bounds<T: RangeItem>(left: &RangeOf<T>, right: &RangeOf<T>) -> Ordering {
    let end = |bound: Option<Bound<T>>| match bound {
        Some(Bound::Included(end) | Bound::Excluded(end)) => Some(end),
        _ => None,
    };
    let ends = |range: &RangeOf<T>| (end(range.lower()), end(range.upper()));
    ends(left).cmp(&ends(right))
}

macro_rules! types {
    ($($module:ident: $type:ty, $order:expr, [$($value:expr),* $(,)?];)*) => {
        $(mod $module {
            use super::*;

            #[derive(Debug, Clone, Table)]
            #[nepheline(table = "types_row", to_insert(derive(Clone)))]
            pub(super) struct Sample {
                #[nepheline(key)]
                id: i64,
                value: $type,
                maybe: Option<$type>,
            }

            pub(super) fn column(dialect: Dialect) -> String {
                let table = create_table::<Sample>(dialect).unwrap();
                let line = table.text().lines().nth(2).unwrap().trim();
                let (_, column) = line.split_once(' ').unwrap();
                column.split(" NOT NULL").next().unwrap().to_owned()
            }

            pub(super) fn outcome(db: &Database) -> Outcome {
                let values: Vec<$type> = vec![$($value),*];
                let order: fn(&$type, &$type) -> Ordering = $order;
                prepare(db, &create_table::<Sample>(db.dialect()).unwrap());
                let row = |id: usize| {
                    let value = values[id % values.len()].clone();
                    let maybe = (id % 3 > 0).then(|| value.clone());
                    SampleToInsert { id: i64::try_from(id).unwrap(), value, maybe }
                };
                let is_row = |stored: &Sample, id: usize| {
                    let row = row(id);
                    let same = is_same(&stored.value, &row.value)
                        && stored.maybe.is_some() == row.maybe.is_some()
                        && stored.maybe.as_ref().zip(row.maybe.as_ref()).is_none_or(|(stored, value)| is_same(stored, value));
                    assert!(same, "{} {stored:?} of {:?} on {}", stringify!($type), row.value, db.dialect());
                };
                // Alone, in an update, and many: PostgreSQL copies more than a thousand.
                is_row(&db.write_returning_one(&Sample::insert(row(0))).unwrap(), 0);
                let update = Sample::row(0).update(|r| (r.value.set(row(1).value), r.maybe.set(row(1).value)));
                is_row(&{ db.write(&update).unwrap(); Sample { id: 1, ..db.read_one(&Sample::row(0)).unwrap() } }, 1);
                db.write(&Sample::row(0).delete()).unwrap();
                let many = if db.dialect() == Dialect::Postgres { 1_100 } else { 12 };
                db.write(&Sample::insert_all((0..many).map(row))).unwrap();
                db.write(&Sample::rows().filter(|r| r.id.ge(12)).delete()).unwrap();
                let again = Sample::insert(row(5)).or_update(|r| r.id, |r, new| r.value.set(new.value));
                db.write(&again).unwrap();
                let all = db.read(&Sample::rows().order_by(|r| r.id.asc())).unwrap();
                all.iter().zip(0..).for_each(|(stored, id)| is_row(stored, id));
                let by_hand = statement!("SELECT {columns of Sample as r} FROM types_row r WHERE {} IS NOT NULL ORDER BY r.id", row(0).value);
                let by_hand = db.read(&by_hand.rows_as::<Sample>()).unwrap();
                assert_eq!(by_hand.len(), 12);
                by_hand.iter().zip(0..).for_each(|(stored, id)| is_row(stored, id));

                let ids = |query: &Query<Sample>| unless_refused(db.read(&query.clone().order_by(|r| r.id.asc()).select(|r| r.id)));
                let of = |keep: &dyn Fn(&$type) -> bool| -> Vec<i64> {
                    all.iter().filter(|row| keep(&row.value)).map(|row| row.id).collect()
                };
                let one = row(1).value;
                let equal = ids(&Sample::rows().filter(|r| r.value.eq(one.clone())));
                let listed = ids(&Sample::rows().filter(|r| r.value.one_of([one.clone()])));
                let equals = of(&|value| is_same(value, &one));
                for found in [&equal, &listed].into_iter().flatten() {
                    assert_eq!(*found, equals, "{} on {}", stringify!($type), db.dialect());
                }
                let joined = Sample::rows().join(|r| Sample::rows().filter(move |other| other.maybe.eq(r.value)));
                let pairs = all.iter().flat_map(|one| all.iter().map(move |other| (one, other)));
                let pairs = pairs.filter(|(one, other)| other.maybe.as_ref().is_some_and(|other| is_same(other, &one.value)));
                if let Some(found) = unless_refused(db.count(&joined)) {
                    assert_eq!(found, pairs.count() as u64, "{} on {}", stringify!($type), db.dialect());
                }
                let groups = Sample::rows().select(|r| (per(r.value), count()));
                if let Some(groups) = unless_refused(db.read(&groups)) {
                    assert_eq!(groups.len(), values.len(), "{} on {}", stringify!($type), db.dialect());
                }
                let less = ids(&Sample::rows().filter(|r| r.value.lt(one.clone())));
                let ordered = Sample::rows().order_by(|r| (r.value.desc(), r.id.asc()));
                let sorted = unless_refused(db.read(&ordered.clone().select(|r| r.id)));
                let mut expected: Vec<&Sample> = all.iter().collect();
                expected.sort_by(|left, right| order(&right.value, &left.value).then(left.id.cmp(&right.id)));
                let expected: Vec<i64> = expected.into_iter().map(|row| row.id).collect();
                if let (Some(less), Some(sorted)) = (&less, &sorted) {
                    assert_eq!(*less, of(&|value| order(value, &one).is_lt()), "{} on {}", stringify!($type), db.dialect());
                    assert_eq!(*sorted, expected, "{} on {}", stringify!($type), db.dialect());
                }
                let page = |after: Option<&Cursor>| db.read_after(&ordered, after, 7);
                let paged = unless_refused(page(None).and_then(|first| {
                    let rest: Cursor = first.after().unwrap().to_string().parse().unwrap();
                    let rest = page(Some(&rest))?;
                    Ok(first.rows().iter().chain(rest.rows()).map(|row| row.id).collect::<Vec<_>>())
                }));
                if let Some(paged) = &paged {
                    assert_eq!(*paged, expected, "{} on {}", stringify!($type), db.dialect());
                }
                let ends = unless_refused(db.read_one(&Sample::rows().select(|r| (min(r.value), max(r.value)))));
                if let Some((Some(least), Some(greatest))) = &ends {
                    assert!(values.iter().all(|value| order(least, value).is_le() && order(value, greatest).is_le()));
                }
                [equal.is_some(), listed.is_some(), less.is_some() && sorted.is_some(), paged.is_some(), ends.is_some()]
            }
        })*

        const TYPES: &[Type] = &[$(Type {
            rust: stringify!($type),
            column: $module::column,
            outcome: $module::outcome,
        }),*];
    };
}

fn parsed<T: std::str::FromStr>(text: &str) -> T {
    text.parse().unwrap_or_else(|_| panic!("{text}"))
}

fn document(depth: i64) -> JsonDocument<Vec<i64>> {
    JsonDocument::of(vec![depth, 7]).unwrap()
}

types! {
    boolean: bool, order, [false, true];
    small: i16, order, [-7, i16::MAX, 0];
    integer: i32, order, [-7, i32::MAX, 0];
    big: i64, order, [-7, i64::MAX, 0];
    single: f32, order, [-0.5, 1.25, 0.1];
    double: f64, order, [-0.5, 1.25e300, 0.1];
    decimal: Decimal, order, [parsed("-0.500"), parsed("12345678901234567.250"), parsed("0.100")];
    text: String, order, ["é'\\".into(), "Z".into(), String::new()];
    bytes: Vec<u8>, order, [vec![0, 255], vec![7], vec![]];
    uuid: Uuid, order, [parsed("00000000-0000-4000-8000-000000000007"), parsed("f0000000-0000-4000-8000-000000000001")];
    date: Date, order, [parsed("2026-06-15"), parsed("0001-01-01"), parsed("9999-12-31")];
    time: Time, order, [parsed("13:45:00.000001"), parsed("00:00:00")];
    date_time: DateTime, order, [parsed("2026-06-15T13:45:00.5"), parsed("1601-01-01T00:00:00")];
    timestamp: Timestamp, order, [parsed("2026-06-15T13:45:00.5Z"), parsed("1601-01-01T00:00:00Z")];
    text_enum: State, |left, right| format!("{left:?}").cmp(&format!("{right:?}")), [State::Open, State::Closed];
    integer_enum: Priority, order, [Priority::Low, Priority::High];
    database_enum: Rock, order, [Rock::Gneiss, Rock::Shale, Rock::Basalt];
    json: Json, none, [json!({"a": [1, null]}), json!("text")];
    typed_json: JsonDocument<Vec<i64>>, none, [document(1), document(2)];
    texts: Array<String>, order, [Array::from(vec!["b".into(), "\"é,\\".into()]), Array::default(), Array::from(vec!["a".into()])];
    numbers: Array<i32>, order, [Array::from(vec![2, -7]), Array::from(vec![1, 9])];
    days: Array<Date>, order, [Array::from(vec![parsed("2026-06-15")]), Array::from(vec![])];
    address: IpAddr, order, [parsed("203.0.113.9"), parsed("2001:db8::7"), parsed("20.0.0.1")];
    span: Span, none, [parsed("P1Y2M3DT4H5M6.5S"), parsed("-PT90M"), parsed("P2W")];
    date_range: RangeOf<Date>, by_bounds, [(parsed("2026-06-15")..parsed("2026-07-01")).into(), RangeOf::empty()];
    time_range: RangeOf<Timestamp>, by_bounds, [(parsed("2026-06-15T00:00:00Z")..=parsed("2026-07-01T00:00:00Z")).into()];
    integer_range: RangeOf<i32>, by_bounds, [(10..=20).into(), (-5..7).into()];
    big_range: RangeOf<i64>, by_bounds, [(10..).into(), (9..7_000_000_000).into()];
}

fn prepare(db: &Database, table: &nepheline::Script) {
    db.write(&statement!("DROP TABLE IF EXISTS types_row"))
        .unwrap();
    if db.dialect() == Dialect::Postgres {
        db.write(&statement!("DROP TYPE IF EXISTS types_rock"))
            .unwrap();
        db.write(&statement!("CREATE TYPE types_rock AS ENUM ('shale', 'basalt', 'gneiss')"))
            .unwrap();
    }
    db.run_script(table).unwrap();
}

#[test]
fn the_page_of_types_is_true() {
    let databases: Vec<_> = engines().iter().map(support::Engine::open).collect();
    let mut page = include_str!("types/opening.md").to_owned();
    let columns = ["Rust type", "SQLite", "PostgreSQL", "MariaDB", "MySQL"]
        .into_iter()
        .chain(USES);
    let _ = writeln!(page, "| {} |", columns.clone().collect::<Vec<_>>().join(" | "));
    let _ = writeln!(page, "|{}", "---|".repeat(columns.count()));
    for of in TYPES {
        let rust = of
            .rust
            .replace(" <", "<")
            .replace("< ", "<")
            .replace(" >", ">");
        let _ = write!(page, "| `{rust}` |");
        for dialect in [Dialect::Sqlite, Dialect::Postgres, Dialect::MariaDb, Dialect::MySql] {
            let _ = write!(page, " `{}` |", (of.column)(dialect).replace(['`', '"'], ""));
        }
        let outcomes: Vec<_> = databases
            .iter()
            .map(|db| (db.dialect(), (of.outcome)(db)))
            .collect();
        for number in 0..USES.len() {
            let there = outcomes.iter().filter(|(_, outcome)| outcome[number]);
            let names: Vec<String> = there.map(|(dialect, _)| dialect.to_string()).collect();
            let names = match names.len() {
                0 => "none".to_owned(),
                all if all == databases.len() => "all".to_owned(),
                _ => names.join(", "),
            };
            let _ = write!(page, " {names} |");
        }
        page.push('\n');
    }
    page.push_str(include_str!("types/closing.md"));
    // The page is about all three engines.
    if databases.len() == 3 {
        support::check_page("types.md", &page);
    }
}
