//! The same question, asked of every engine and of plain Rust: rows and queries are generated, and
//! all answers have to be equal.
//!
//! To let it cover a new operation, add a variant to [`Test`], say in [`Test::holds`] what it means
//! in Rust, and in [`Test::condition`] how it is written.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::cmp::Ordering;

use nepheline::blocking::{Database, RunsQueries};
use nepheline::bounds::{BaseOf, ListItem, Nullable, Operand};
use nepheline::cql2::{Cql2, property};
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;
use nepheline::{BindValue, Offer, PerRow};
use proptest::collection::vec;
use proptest::option;
use proptest::prelude::*;
use proptest::sample::select;
use proptest::test_runner::{Config, TestRunner};
use support::{Engine, demos, engines};

/// Columns of every type that can be compared, each once with NULLs and once without.
#[derive(Debug, Clone, PartialEq, Table)]
struct Probe {
    #[nepheline(key)]
    id: i64,
    number: i64,
    maybe_number: Option<i64>,
    float: f64,
    maybe_float: Option<f64>,
    text: String,
    maybe_text: Option<String>,
    flag: bool,
    maybe_flag: Option<bool>,
    day: Date,
    maybe_at: Option<Timestamp>,
}

/// A value of any of those columns.
#[derive(Debug, Clone, PartialEq, PartialOrd)]
enum Value {
    Number(i64),
    Float(f64),
    Text(String),
    Flag(bool),
    Day(Date),
    At(Timestamp),
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Field {
    Number,
    MaybeNumber,
    Float,
    MaybeFloat,
    Text,
    MaybeText,
    Flag,
    MaybeFlag,
    Day,
    MaybeAt,
}

impl Field {
    /// Returns the name of the column.
    fn name(self) -> &'static str {
        let position = FIELDS.iter().position(|field| *field == self);
        Probe::INFO.columns()[position.unwrap() + 1].name()
    }
}

const FIELDS: [Field; 10] = [
    Field::Number,
    Field::MaybeNumber,
    Field::Float,
    Field::MaybeFloat,
    Field::Text,
    Field::MaybeText,
    Field::Flag,
    Field::MaybeFlag,
    Field::Day,
    Field::MaybeAt,
];

#[derive(Debug, Clone, Copy)]
enum Comparison {
    Eq,
    Ne,
    Lt,
    Le,
    Gt,
    Ge,
}

/// A condition, as data.
#[derive(Debug, Clone)]
enum Test {
    Compare(Field, Comparison, Value),
    /// With the column of the same type that may be NULL.
    CompareColumns(Comparison),
    IsNull(Field),
    IsNotNull(Field),
    OneOf(Field, Vec<Option<Value>>),
    NoneOf(Field, Vec<Option<Value>>),
    Like(Field, String),
    Flag,
    And(Box<Test>, Box<Test>),
    Or(Box<Test>, Box<Test>),
    Not(Box<Test>),
    Unknown(Box<Test>),
}

#[derive(Debug, Clone)]
struct Question {
    filters: Vec<Test>,
    orders: Vec<(Field, bool, bool)>,
    limit: Option<u64>,
    offset: Option<u64>,
}

impl Probe {
    fn get(&self, field: Field) -> Option<Value> {
        match field {
            Field::Number => Some(Value::Number(self.number)),
            Field::MaybeNumber => self.maybe_number.map(Value::Number),
            Field::Float => Some(Value::Float(self.float)),
            Field::MaybeFloat => self.maybe_float.map(Value::Float),
            Field::Text => Some(Value::Text(self.text.clone())),
            Field::MaybeText => self.maybe_text.clone().map(Value::Text),
            Field::Flag => Some(Value::Flag(self.flag)),
            Field::MaybeFlag => self.maybe_flag.map(Value::Flag),
            Field::Day => Some(Value::Day(self.day)),
            Field::MaybeAt => self.maybe_at.map(Value::At),
        }
    }

    fn binds(&self) -> Vec<BindValue> {
        fn optional<T: Storable>(value: &Option<T>) -> BindValue {
            value
                .as_ref()
                .map_or(BindValue::Null(T::SQL_TYPE), T::to_bind)
        }
        vec![
            self.id.to_bind(),
            self.number.to_bind(),
            optional(&self.maybe_number),
            self.float.to_bind(),
            optional(&self.maybe_float),
            self.text.to_bind(),
            optional(&self.maybe_text),
            self.flag.to_bind(),
            optional(&self.maybe_flag),
            self.day.to_bind(),
            optional(&self.maybe_at),
        ]
    }
}

impl Comparison {
    fn holds(self, order: Ordering) -> bool {
        match self {
            Comparison::Eq => order.is_eq(),
            Comparison::Ne => order.is_ne(),
            Comparison::Lt => order.is_lt(),
            Comparison::Le => order.is_le(),
            Comparison::Gt => order.is_gt(),
            Comparison::Ge => order.is_ge(),
        }
    }
}

impl Test {
    /// Returns the truth value of the condition for a row, in the three-valued logic of SQL.
    fn holds(&self, row: &Probe) -> Option<bool> {
        match self {
            Test::Compare(field, comparison, value) => row
                .get(*field)
                .map(|found| comparison.holds(found.partial_cmp(value).unwrap())),
            Test::CompareColumns(comparison) => row
                .maybe_text
                .as_ref()
                .map(|other| comparison.holds(row.text.cmp(other))),
            Test::IsNull(field) => Some(row.get(*field).is_none()),
            Test::IsNotNull(field) => Some(row.get(*field).is_some()),
            Test::OneOf(field, list) => match row.get(*field) {
                // Nothing is in an empty list, not even NULL.
                None if !list.is_empty() && !list.contains(&None) => None,
                found => Some(list.contains(&found)),
            },
            Test::NoneOf(field, list) => Some(!list.contains(&row.get(*field))),
            Test::Like(field, pattern) => match row.get(*field)? {
                Value::Text(text) => {
                    let (text, pattern): (Vec<_>, Vec<_>) =
                        (text.chars().collect(), pattern.chars().collect());
                    Some(like(&text, &pattern))
                }
                _ => None,
            },
            Test::Flag => Some(row.flag),
            Test::And(a, b) => match (a.holds(row), b.holds(row)) {
                (Some(false), _) | (_, Some(false)) => Some(false),
                (Some(true), Some(true)) => Some(true),
                _ => None,
            },
            Test::Or(a, b) => match (a.holds(row), b.holds(row)) {
                (Some(true), _) | (_, Some(true)) => Some(true),
                (Some(false), Some(false)) => Some(false),
                _ => None,
            },
            Test::Not(a) => a.holds(row).map(|holds| !holds),
            Test::Unknown(a) => Some(a.holds(row).is_none()),
        }
    }

    fn condition(&self, c: ProbeColumns) -> Condition {
        match self {
            Test::Compare(field, comparison, value) => match (field, value.clone()) {
                (Field::Number, Value::Number(v)) => compare(c.number, *comparison, v),
                (Field::MaybeNumber, Value::Number(v)) => compare(c.maybe_number, *comparison, v),
                (Field::Float, Value::Float(v)) => compare(c.float, *comparison, v),
                (Field::MaybeFloat, Value::Float(v)) => compare(c.maybe_float, *comparison, v),
                (Field::Text, Value::Text(v)) => compare(c.text, *comparison, v),
                (Field::MaybeText, Value::Text(v)) => compare(c.maybe_text, *comparison, v),
                (Field::Flag, Value::Flag(v)) => compare(c.flag, *comparison, v),
                (Field::MaybeFlag, Value::Flag(v)) => compare(c.maybe_flag, *comparison, v),
                (Field::Day, Value::Day(v)) => compare(c.day, *comparison, v),
                (Field::MaybeAt, Value::At(v)) => compare(c.maybe_at, *comparison, v),
                other => panic!("{other:?} cannot be compared"),
            },
            Test::CompareColumns(comparison) => compare(c.text, *comparison, c.maybe_text),
            Test::IsNull(field) => null(c, *field, false),
            Test::IsNotNull(field) => null(c, *field, true),
            Test::OneOf(field, list) => in_list(c, *field, list, false),
            Test::NoneOf(field, list) => in_list(c, *field, list, true),
            Test::Like(Field::Text, pattern) => c.text.like(pattern),
            Test::Like(_, pattern) => c.maybe_text.like(pattern),
            Test::Flag => c.flag.eq(true),
            Test::And(a, b) => a.condition(c) & b.condition(c),
            Test::Or(a, b) => a.condition(c) | b.condition(c),
            Test::Not(a) => !a.condition(c),
            Test::Unknown(a) => a.condition(c).is_null(),
        }
    }
}

impl Test {
    /// Returns the condition in CQL2; `None` if it has no form there.
    fn cql2(&self) -> Option<Cql2> {
        let name = |field: &Field| property(field.name());
        let missing = |field: &Field| name(field).is_null();
        Some(match self {
            // Booleans have no order there.
            Test::Compare(Field::Flag | Field::MaybeFlag, comparison, _)
                if !matches!(comparison, Comparison::Eq | Comparison::Ne) =>
            {
                return None;
            }
            Test::Compare(field, comparison, value) => {
                compared(name(field), *comparison, value.cql2())
            }
            Test::CompareColumns(comparison) => {
                compared(name(&Field::Text), *comparison, name(&Field::MaybeText))
            }
            Test::IsNull(field) => missing(field),
            Test::IsNotNull(field) => !missing(field),
            Test::OneOf(field, list) => {
                let found = name(field).one_of(list.iter().flatten().map(Value::cql2));
                match list.contains(&None) {
                    true => missing(field) | found,
                    false => found,
                }
            }
            Test::NoneOf(field, list) => {
                let found = name(field).one_of(list.iter().flatten().map(Value::cql2));
                match list.contains(&None) {
                    true => !missing(field) & !found,
                    false => missing(field) | !found,
                }
            }
            Test::Like(field, pattern) => name(field).like(pattern.replace('\\', r"\\")),
            Test::Flag => name(&Field::Flag).eq(true),
            Test::And(a, b) => a.cql2()? & b.cql2()?,
            Test::Or(a, b) => a.cql2()? | b.cql2()?,
            Test::Not(a) => !a.cql2()?,
            // NULL is no value of a condition there.
            Test::Unknown(_) => return None,
        })
    }
}

fn compared(left: Cql2, comparison: Comparison, right: Cql2) -> Cql2 {
    match comparison {
        Comparison::Eq => left.eq(right),
        Comparison::Ne => left.ne(right),
        Comparison::Lt => left.lt(right),
        Comparison::Le => left.le(right),
        Comparison::Gt => left.gt(right),
        Comparison::Ge => left.ge(right),
    }
}

impl Value {
    fn cql2(&self) -> Cql2 {
        match self.clone() {
            Value::Number(value) => value.into(),
            Value::Float(value) => value.into(),
            Value::Text(value) => value.into(),
            Value::Flag(value) => value.into(),
            Value::Day(value) => value.into(),
            Value::At(value) => value.into(),
        }
    }
}

/// The names of the columns, for filters that arrive as text.
fn offer() -> Offer<Probe> {
    let offer = Offer::of::<Probe>()
        .value("number", |p| p.number)
        .value("maybe_number", |p| p.maybe_number)
        .value("float", |p| p.float)
        .value("maybe_float", |p| p.maybe_float)
        .value("text", |p| p.text)
        .value("maybe_text", |p| p.maybe_text)
        .value("flag", |p| p.flag)
        .value("maybe_flag", |p| p.maybe_flag)
        .value("day", |p| p.day)
        .value("maybe_at", |p| p.maybe_at);
    offer.build().unwrap()
}

fn like(text: &[char], pattern: &[char]) -> bool {
    match pattern.split_first() {
        None => text.is_empty(),
        Some(('%', rest)) => (0..=text.len()).any(|skipped| like(&text[skipped..], rest)),
        Some((wanted, rest)) => text.split_first().is_some_and(|(found, others)| {
            (*wanted == '_' || wanted == found) && like(others, rest)
        }),
    }
}

fn compare<E: ExprExt<Level = PerRow>>(
    e: E,
    comparison: Comparison,
    other: impl Operand<BaseOf<E>>,
) -> Condition {
    match comparison {
        Comparison::Eq => e.eq(other),
        Comparison::Ne => e.ne(other),
        Comparison::Lt => e.lt(other),
        Comparison::Le => e.le(other),
        Comparison::Gt => e.gt(other),
        Comparison::Ge => e.ge(other),
    }
}

fn null(c: ProbeColumns, field: Field, not: bool) -> Condition {
    fn ask<E: ExprExt<Level = PerRow>>(e: E, not: bool) -> Condition
    where
        E::Type: Nullable,
    {
        if not { e.is_not_null() } else { e.is_null() }
    }
    match field {
        Field::MaybeNumber => ask(c.maybe_number, not),
        Field::MaybeFloat => ask(c.maybe_float, not),
        Field::MaybeText => ask(c.maybe_text, not),
        Field::MaybeFlag => ask(c.maybe_flag, not),
        _ => ask(c.maybe_at, not),
    }
}

fn in_list(c: ProbeColumns, field: Field, list: &[Option<Value>], none: bool) -> Condition {
    fn ask<E: ExprExt<Level = PerRow>, V: ListItem<E::Type>>(
        e: E,
        values: Vec<V>,
        none: bool,
    ) -> Condition {
        if none { e.none_of(values) } else { e.one_of(values) }
    }
    /// The values of one type.
    macro_rules! values {
        ($variant:ident) => {
            list.iter().map(|value| match value {
                Some(Value::$variant(value)) => Some(value.clone()),
                _ => None,
            })
        };
    }
    match field {
        Field::Number => ask(c.number, values!(Number).flatten().collect(), none),
        Field::MaybeNumber => ask(c.maybe_number, values!(Number).collect(), none),
        Field::Float => ask(c.float, values!(Float).flatten().collect(), none),
        Field::MaybeFloat => ask(c.maybe_float, values!(Float).collect(), none),
        Field::Text => ask(c.text, values!(Text).flatten().collect(), none),
        Field::MaybeText => ask(c.maybe_text, values!(Text).collect(), none),
        Field::Flag => ask(c.flag, values!(Flag).flatten().collect(), none),
        Field::MaybeFlag => ask(c.maybe_flag, values!(Flag).collect(), none),
        Field::Day => ask(c.day, values!(Day).flatten().collect(), none),
        Field::MaybeAt => ask(c.maybe_at, values!(At).collect(), none),
    }
}

impl Question {
    fn query(&self) -> Query<Probe> {
        let mut query = Probe::rows();
        for filter in &self.filters {
            query = query.filter(|c| filter.condition(c));
        }
        for (field, descending, nulls_first) in &self.orders {
            query = query.order_by(|c| {
                macro_rules! order {
                    ($column:expr) => {
                        if *descending { $column.desc() } else { $column.asc() }
                    };
                }
                let order = match field {
                    Field::Number => order!(c.number),
                    Field::MaybeNumber => order!(c.maybe_number),
                    Field::Float => order!(c.float),
                    Field::MaybeFloat => order!(c.maybe_float),
                    Field::Text => order!(c.text),
                    Field::MaybeText => order!(c.maybe_text),
                    Field::Flag => order!(c.flag),
                    Field::MaybeFlag => order!(c.maybe_flag),
                    Field::Day => order!(c.day),
                    Field::MaybeAt => order!(c.maybe_at),
                };
                if *nulls_first { order.nulls_first() } else { order }
            });
        }
        query = query.order_by(|c| c.id.asc());
        if let Some(limit) = self.limit {
            query = query.limit(limit);
        }
        match self.offset {
            Some(offset) => query.offset(offset),
            None => query,
        }
    }

    fn answer(&self, rows: &[Probe]) -> Vec<Probe> {
        let passes = |row: &&Probe| self.filters.iter().all(|f| f.holds(row) == Some(true));
        let mut kept: Vec<Probe> = rows.iter().filter(passes).cloned().collect();
        kept.sort_by(|a, b| {
            let each = self.orders.iter().map(|(field, descending, nulls_first)| {
                match (a.get(*field), b.get(*field)) {
                    (Some(a), Some(b)) if *descending => b.partial_cmp(&a).unwrap(),
                    (Some(a), Some(b)) => a.partial_cmp(&b).unwrap(),
                    (a, b) if *nulls_first => b.is_none().cmp(&a.is_none()),
                    (a, b) => a.is_none().cmp(&b.is_none()),
                }
            });
            each.fold(Ordering::Equal, Ordering::then)
                .then(a.id.cmp(&b.id))
        });
        let offset = self.offset.map_or(0, |offset| offset as usize);
        let limit = self.limit.map_or(usize::MAX, |limit| limit as usize);
        kept.into_iter().skip(offset).take(limit).collect()
    }
}

// Few values, so that they meet; and those that go wrong somewhere.

fn numbers() -> impl Strategy<Value = i64> {
    select(vec![0, 1, 2, -1, 7, i64::MAX, i64::MIN, 9_007_199_254_740_993])
}

fn floats() -> impl Strategy<Value = f64> {
    select(vec![0.0, 0.1, -0.5, 1.0, 1e300, -1e-300, 9_007_199_254_740_992.0])
}

fn texts() -> impl Strategy<Value = String> {
    let texts = [
        "", " ", "a", "A", "a ", "ab", "b", "á", "Á", "ß", "ss", "%", "_", "!", "\\", "*", "?",
        "[a]", "a\nb", "'", "🪨", "\u{FFFD}", "é", "e\u{301}", "0", "00",
    ];
    select(texts.map(str::to_owned).to_vec())
}

fn days() -> impl Strategy<Value = Date> {
    let days = ["2024-02-29", "2024-03-01", "1999-12-31", "0001-01-01", "9999-12-31"];
    select(days.map(|day| day.parse().unwrap()).to_vec())
}

fn times() -> impl Strategy<Value = Timestamp> {
    let times = [
        "2024-02-29T23:59:59.999999Z",
        "2024-02-29T23:59:59.99999Z",
        "2024-03-01T00:00:00Z",
        "0001-01-01T00:00:00Z",
        "9999-12-30T21:59:59.999999Z",
    ];
    select(times.map(|time| time.parse().unwrap()).to_vec())
}

fn rows() -> impl Strategy<Value = Vec<Probe>> {
    let row = (
        (numbers(), option::of(numbers()), floats(), option::of(floats())),
        (texts(), option::of(texts()), any::<bool>(), any::<Option<bool>>()),
        (days(), option::of(times())),
    );
    vec(row, 0..30).prop_map(|rows| {
        let numbered = rows.into_iter().zip(1..);
        numbered
            .map(|((numbers, texts, times), id)| Probe {
                id,
                number: numbers.0,
                maybe_number: numbers.1,
                float: numbers.2,
                maybe_float: numbers.3,
                text: texts.0,
                maybe_text: texts.1,
                flag: texts.2,
                maybe_flag: texts.3,
                day: times.0,
                maybe_at: times.1,
            })
            .collect()
    })
}

fn value_of(field: Field) -> BoxedStrategy<Value> {
    match field {
        Field::Number | Field::MaybeNumber => numbers().prop_map(Value::Number).boxed(),
        Field::Float | Field::MaybeFloat => floats().prop_map(Value::Float).boxed(),
        Field::Text | Field::MaybeText => texts().prop_map(Value::Text).boxed(),
        Field::Flag | Field::MaybeFlag => any::<bool>().prop_map(Value::Flag).boxed(),
        Field::Day => days().prop_map(Value::Day).boxed(),
        Field::MaybeAt => times().prop_map(Value::At).boxed(),
    }
}

fn nullable() -> impl Strategy<Value = Field> {
    let nullable =
        [Field::MaybeNumber, Field::MaybeFloat, Field::MaybeText, Field::MaybeFlag, Field::MaybeAt];
    select(nullable.to_vec())
}

fn list_for(field: Field) -> BoxedStrategy<Vec<Option<Value>>> {
    let may_be_null = nullable_field(field);
    let item = match may_be_null {
        true => option::of(value_of(field)).boxed(),
        false => value_of(field).prop_map(Some).boxed(),
    };
    vec(item, 0..4).boxed()
}

fn nullable_field(field: Field) -> bool {
    !matches!(field, Field::Number | Field::Float | Field::Text | Field::Flag | Field::Day)
}

fn comparisons() -> impl Strategy<Value = Comparison> {
    use Comparison::{Eq, Ge, Gt, Le, Lt, Ne};
    select(vec![Eq, Ne, Lt, Le, Gt, Ge])
}

fn tests() -> impl Strategy<Value = Test> {
    let fields = || select(FIELDS.to_vec());
    let patterns =
        vec(select(vec!["%", "_", "a", "A", " ", "!", "*", "?", "[", "]", "\\", "á", "🪨"]), 0..4);
    let leaf = prop_oneof![
        4 => (fields(), comparisons())
            .prop_flat_map(|(field, c)| value_of(field).prop_map(move |v| Test::Compare(field, c, v))),
        1 => comparisons().prop_map(Test::CompareColumns),
        1 => nullable().prop_map(Test::IsNull),
        1 => nullable().prop_map(Test::IsNotNull),
        2 => fields().prop_flat_map(|field| list_for(field).prop_map(move |l| Test::OneOf(field, l))),
        2 => fields().prop_flat_map(|field| list_for(field).prop_map(move |l| Test::NoneOf(field, l))),
        2 => (any::<bool>(), patterns).prop_map(|(maybe, parts)| {
            Test::Like(if maybe { Field::MaybeText } else { Field::Text }, parts.concat())
        }),
        1 => Just(Test::Flag),
    ];
    leaf.prop_recursive(4, 16, 2, |inner| {
        let boxed = || inner.clone().prop_map(Box::new);
        prop_oneof![
            (boxed(), boxed()).prop_map(|(a, b)| Test::And(a, b)),
            (boxed(), boxed()).prop_map(|(a, b)| Test::Or(a, b)),
            boxed().prop_map(Test::Not),
            boxed().prop_map(Test::Unknown),
        ]
    })
}

fn questions() -> impl Strategy<Value = Question> {
    let order = (select(FIELDS.to_vec()), any::<bool>(), any::<bool>());
    (vec(tests(), 0..3), vec(order, 0..3), option::of(0..8_u64), option::of(0..8_u64))
        .prop_map(|(filters, orders, limit, offset)| Question { filters, orders, limit, offset })
}

/// An engine with an empty table of probes.
fn probed(engine: Engine) -> (Engine, Database) {
    let db = engine.open();
    let types = engine.pick(
        "id INTEGER, number INTEGER, maybe_number INTEGER, float REAL, maybe_float REAL, text TEXT, \
         maybe_text TEXT COLLATE NOCASE, flag INTEGER, maybe_flag INTEGER, day TEXT, maybe_at TEXT",
        "id bigint, number bigint, maybe_number bigint, float float8, maybe_float float8, text text, \
         maybe_text varchar(20) COLLATE \"en-x-icu\", flag boolean, maybe_flag boolean, day date, \
         maybe_at timestamptz",
        "id BIGINT, number BIGINT, maybe_number BIGINT, `float` DOUBLE, maybe_float DOUBLE, \
         text VARCHAR(20) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci, \
         maybe_text VARCHAR(20) CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci, \
         flag BOOLEAN, maybe_flag BOOLEAN, day DATE, maybe_at DATETIME(6)",
    );
    db.run_text("DROP TABLE IF EXISTS probe", vec![]).unwrap();
    db.run_text(&format!("CREATE TABLE probe ({types})"), vec![])
        .unwrap();
    (engine, db)
}

fn fill(engine: &Engine, db: &Database, rows: &[Probe]) {
    db.run_text("DELETE FROM probe", vec![]).unwrap();
    if rows.is_empty() {
        return;
    }
    let width = Probe::INFO.columns().len();
    let groups: Vec<_> = (0..rows.len())
        .map(|row| {
            let places: Vec<_> = (1..=width)
                .map(|i| {
                    engine
                        .pick("?", &format!("${}", row * width + i), "?")
                        .to_owned()
                })
                .collect();
            format!("({})", places.join(", "))
        })
        .collect();
    let binds = rows.iter().flat_map(Probe::binds).collect();
    db.run_text(&format!("INSERT INTO probe VALUES {}", groups.join(", ")), binds)
        .unwrap();
}

#[test]
fn every_engine_answers_as_plain_rust_does() {
    let databases: Vec<_> = engines().into_iter().map(probed).collect();
    let offer = offer();
    let mut runner = TestRunner::new(Config { cases: 60, ..Config::default() });
    let cases = (rows(), vec(questions(), 12));
    let outcome = runner.run(&cases, |(rows, questions)| {
        for (engine, db) in &databases {
            fill(engine, db, &rows);
            for question in &questions {
                let query = question.query();
                let expected = question.answer(&rows);
                let found = db.read(&query).unwrap();
                prop_assert_eq!(
                    &found,
                    &expected,
                    "on {}: {}",
                    engine.name,
                    query.sql(engine.dialect()).unwrap()
                );
                prop_assert_eq!(db.count(&query).unwrap(), expected.len() as u64);
                prop_assert_eq!(db.exists(&query).unwrap(), !expected.is_empty());
                prop_assert_eq!(db.read_first(&query).unwrap(), expected.first().cloned());

                // The same filters, as the text of a request.
                let as_text = question
                    .filters
                    .iter()
                    .map(Test::cql2)
                    .collect::<Option<Vec<_>>>();
                let Some(filter) = as_text.and_then(|all| all.into_iter().reduce(|a, b| a & b))
                else {
                    continue;
                };
                let text = filter.to_string();
                let filter = offer.cql2_text(&text).unwrap_or_else(|err| panic!("{err}"));
                let unlimited =
                    Question { orders: vec![], limit: None, offset: None, ..question.clone() };
                let query = Probe::rows()
                    .filter(filter.scope())
                    .order_by(|p| p.id.asc());
                prop_assert_eq!(
                    db.read(&query).unwrap(),
                    unlimited.answer(&rows),
                    "{} on {}",
                    text,
                    engine.name
                );
            }
        }
        Ok(())
    });
    outcome.unwrap_or_else(|err| panic!("{err}"));
}

#[test]
fn true_false_and_null_are_the_three_parts_of_the_whole() {
    let databases = demos();
    use nepheline_coreshed::{Specimen, SpecimenColumns};
    type Part = fn(SpecimenColumns) -> Condition;
    let conditions: [Part; 5] = [
        |s| s.analyst_id.gt(3),
        |s| s.analyst_id.ne(3) & s.top_m.gt(100),
        |s| s.analyst_id.eq(3) | s.parent_id.lt(200),
        |s| s.analyst_id.one_of([1, 2]) | s.label.like("K%"),
        |s| s.analyst_id.none_of([1, 2]),
    ];
    for (engine, db) in &databases {
        for condition in conditions {
            let count = |part: fn(Condition) -> Condition| {
                db.count(&Specimen::rows().filter(|s| part(condition(s))))
                    .unwrap()
            };
            let parts = [count(|c| c), count(|c| !c), count(|c| c.is_null())];
            assert_eq!(parts.iter().sum::<u64>(), 600, "on {}: {parts:?}", engine.name);
        }
    }
}
