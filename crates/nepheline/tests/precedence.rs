//! Brackets: what was built is what a parser of SQL reads back, in every dialect.

#![allow(dead_code, clippy::unwrap_used, clippy::panic, reason = "tests")]

use nepheline::prelude::*;
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use sqlparser::ast::{
    BinaryOperator, Expr as Ast, SelectItem, SetExpr, Statement, UnaryOperator, Value,
};
use sqlparser::dialect::{MySqlDialect, PostgreSqlDialect, SQLiteDialect};
use sqlparser::parser::Parser;

#[derive(Debug, Table)]
struct Probe {
    #[nepheline(key)]
    id: i64,
    number: i64,
    maybe: Option<i64>,
    #[nepheline(by_code_point)]
    text: String,
}

/// A number, as data.
#[derive(Debug, Clone)]
enum Number {
    Column,
    Bind(i64),
    Add(Box<Number>, Box<Number>),
    Subtract(Box<Number>, Box<Number>),
    Multiply(Box<Number>, Box<Number>),
    Minus(Box<Number>),
}

/// A condition, as data.
#[derive(Debug, Clone)]
enum Test {
    Greater(Number, Number),
    Between(Number, i64, i64),
    IsNull,
    Same(i64),
    Like,
    Fragment(i64),
    All(Vec<Test>),
    Any(Vec<Test>),
    Not(Box<Test>),
    IsTrue(Box<Test>),
    Equal(Box<Test>, bool),
}

impl Number {
    fn expression(&self, p: ProbeColumns) -> nepheline::Expr<i64> {
        match self {
            // As an expression, which all the others are.
            Number::Column => p.number.cast::<i64>(),
            Number::Bind(value) => bind(*value),
            Number::Add(a, b) => a.expression(p) + b.expression(p),
            Number::Subtract(a, b) => a.expression(p) - b.expression(p),
            Number::Multiply(a, b) => a.expression(p) * b.expression(p),
            Number::Minus(a) => -a.expression(p),
        }
    }

    fn built(&self) -> String {
        match self {
            Number::Column => "number".to_owned(),
            Number::Bind(value) => value.to_string(),
            Number::Add(a, b) => format!("(+ {} {})", a.built(), b.built()),
            Number::Subtract(a, b) => format!("(- {} {})", a.built(), b.built()),
            Number::Multiply(a, b) => format!("(* {} {})", a.built(), b.built()),
            Number::Minus(a) => format!("(minus {})", a.built()),
        }
    }
}

impl Test {
    fn condition(&self, p: ProbeColumns) -> Condition {
        match self {
            Test::Greater(a, b) => a.expression(p).gt(b.expression(p)),
            Test::Between(a, low, high) => a.expression(p).between(*low, *high),
            Test::IsNull => p.maybe.is_null(),
            Test::Same(value) => p.maybe.is_distinct_from(Some(*value)),
            Test::Like => p.text.like("a%"),
            Test::Fragment(value) => verbatim!("{} = {value} OR {0} = 0", p.number).condition(),
            Test::All(tests) => all_of(tests.iter().map(|test| test.condition(p))),
            Test::Any(tests) => any_of(tests.iter().map(|test| test.condition(p))),
            Test::Not(test) => !test.condition(p),
            Test::IsTrue(test) => test.condition(p).is_true(),
            Test::Equal(test, value) => test.condition(p).eq(*value),
        }
    }

    /// The condition as it was built; lists are flat, and two negations cancel out.
    fn built(&self) -> String {
        match self {
            Test::Greater(a, b) => format!("(> {} {})", a.built(), b.built()),
            Test::Between(a, low, high) => format!("(between {} {low} {high})", a.built()),
            Test::IsNull => "(null maybe)".to_owned(),
            Test::Same(value) => format!("(distinct maybe {value})"),
            Test::Like => "(like text)".to_owned(),
            Test::Fragment(value) => format!("(or (= number {value}) (= number 0))"),
            Test::All(tests) => list("and", "true", tests.iter().map(Test::built)),
            Test::Any(tests) => list("or", "false", tests.iter().map(Test::built)),
            Test::Not(test) => negated(test.built()),
            Test::IsTrue(test) => format!("(is-true {})", test.built()),
            Test::Equal(test, value) => format!("(= {} {value})", test.built()),
        }
    }
}

/// A flat list, whichever way its terms were bracketed.
fn list(join: &str, of_none: &str, terms: impl Iterator<Item = String>) -> String {
    let terms: Vec<_> = terms.collect();
    if let [one] = terms.as_slice() {
        return one.clone();
    }
    let opening = format!("({join} ");
    let flat: Vec<_> = terms
        .into_iter()
        .map(|term| match term.strip_prefix(&opening) {
            Some(inner) => inner[..inner.len() - 1].to_owned(),
            None => term,
        })
        .collect();
    match flat.as_slice() {
        [] => of_none.to_owned(),
        terms => format!("({join} {})", terms.join(" ")),
    }
}

fn negated(test: String) -> String {
    match test.strip_prefix("(not ") {
        Some(inner) => inner[..inner.len() - 1].to_owned(),
        None => format!("(not {test})"),
    }
}

/// Reads SQL back. Each placeholder is the value that is bound to it.
struct Reader<'a> {
    binds: std::slice::Iter<'a, nepheline::BindValue>,
}

impl Reader<'_> {
    fn read(&mut self, ast: &Ast) -> String {
        match ast {
            Ast::Nested(inner) => self.read(inner),
            Ast::CompoundIdentifier(names) => names.last().unwrap().value.clone(),
            Ast::Value(value) => match &value.value {
                Value::Placeholder(_) => self.binds.next().unwrap().to_string(),
                other => other.to_string(),
            },
            Ast::BinaryOp { left, op, right } => {
                let (left, right) = (self.read(left), self.read(right));
                match op {
                    BinaryOperator::And => list("and", "", [left, right].into_iter()),
                    // PostgreSQL's form of "not distinct" that an index serves.
                    BinaryOperator::Or if is_both_null(&left, &right) => {
                        let sides = left.trim_start_matches("(= ");
                        format!("(not (distinct {sides})")
                    }
                    BinaryOperator::Or => list("or", "", [left, right].into_iter()),
                    BinaryOperator::Spaceship => format!("(not (distinct {left} {right}))"),
                    op => format!("({op} {left} {right})"),
                }
            }
            Ast::UnaryOp { op: UnaryOperator::Not, expr } => negated(self.read(expr)),
            Ast::UnaryOp { op: UnaryOperator::Minus, expr } => {
                format!("(minus {})", self.read(expr))
            }
            Ast::IsNull(inner) => format!("(null {})", self.read(inner)),
            Ast::IsNotNull(inner) => negated(format!("(null {})", self.read(inner))),
            Ast::IsTrue(inner) => format!("(is-true {})", self.read(inner)),
            Ast::IsDistinctFrom(a, b) => format!("(distinct {} {})", self.read(a), self.read(b)),
            Ast::IsNotDistinctFrom(a, b) => {
                negated(format!("(distinct {} {})", self.read(a), self.read(b)))
            }
            Ast::Between { expr, low, high, negated: false } => {
                format!("(between {} {} {})", self.read(expr), self.read(low), self.read(high))
            }
            Ast::Like { negated: not, expr, pattern, .. } => {
                let text = self.read(expr);
                self.read(pattern);
                match not {
                    true => negated(format!("(like {text})")),
                    false => format!("(like {text})"),
                }
            }
            Ast::Collate { expr, .. } => self.read(expr),
            other => panic!("not expected in what we write: {other:?}"),
        }
    }
}

/// Returns whether these are `(= a b)` and `(and (null a) (null b))`.
fn is_both_null(equal: &str, null: &str) -> bool {
    let sides = equal
        .strip_prefix("(= ")
        .and_then(|sides| sides.strip_suffix(')'));
    let sides = sides.and_then(|sides| sides.split_once(' '));
    sides.is_some_and(|(a, b)| null == format!("(and (null {a}) (null {b}))"))
}

/// Returns the parsed condition, which is the only selected value of the text.
fn read_back(sql: &nepheline::Sql, dialect: Dialect, text: &str) -> String {
    // SQLite's own operators, by their standard names, which the parser knows.
    let standard = match dialect {
        Dialect::Sqlite => text
            .replace(" NOT GLOB ", " NOT LIKE ")
            .replace(" GLOB ", " LIKE ")
            .replace(" IS NOT ?", " IS DISTINCT FROM ?")
            .replace(" IS ?", " IS NOT DISTINCT FROM ?"),
        _ => text.to_owned(),
    };
    let statements = match dialect {
        Dialect::Sqlite => Parser::parse_sql(&SQLiteDialect {}, &standard),
        Dialect::Postgres => Parser::parse_sql(&PostgreSqlDialect {}, &standard),
        _ => Parser::parse_sql(&MySqlDialect {}, &standard),
    };
    let statement = statements
        .unwrap_or_else(|err| panic!("{err} in {standard}"))
        .remove(0);
    let Statement::Query(query) = statement else { panic!("{statement} is no query") };
    let SetExpr::Select(select) = *query.body else { panic!("no SELECT") };
    let SelectItem::UnnamedExpr(condition) = &select.projection[0] else { panic!("no condition") };
    Reader { binds: sql.binds().iter() }.read(condition)
}

fn numbers() -> impl Strategy<Value = Number> {
    let leaf = prop_oneof![Just(Number::Column), (1..9_i64).prop_map(Number::Bind)];
    leaf.prop_recursive(3, 8, 2, |inner| {
        let boxed = || inner.clone().prop_map(Box::new);
        prop_oneof![
            (boxed(), boxed()).prop_map(|(a, b)| Number::Add(a, b)),
            (boxed(), boxed()).prop_map(|(a, b)| Number::Subtract(a, b)),
            (boxed(), boxed()).prop_map(|(a, b)| Number::Multiply(a, b)),
            boxed().prop_map(Number::Minus),
        ]
    })
}

fn tests() -> impl Strategy<Value = Test> {
    let leaf = prop_oneof![
        (numbers(), numbers()).prop_map(|(a, b)| Test::Greater(a, b)),
        (numbers(), 1..9_i64, 1..9_i64).prop_map(|(a, low, high)| Test::Between(a, low, high)),
        Just(Test::IsNull),
        (1..9_i64).prop_map(Test::Same),
        Just(Test::Like),
        (1..9_i64).prop_map(Test::Fragment),
    ];
    leaf.prop_recursive(5, 40, 4, |inner| {
        let boxed = || inner.clone().prop_map(Box::new);
        let several = || proptest::collection::vec(inner.clone(), 1..4);
        prop_oneof![
            3 => several().prop_map(Test::All),
            3 => several().prop_map(Test::Any),
            2 => boxed().prop_map(Test::Not),
            1 => boxed().prop_map(Test::IsTrue),
            1 => (boxed(), any::<bool>()).prop_map(|(test, value)| Test::Equal(test, value)),
        ]
    })
}

#[test]
fn what_was_built_is_what_is_read_back() {
    let config = Config { cases: 400, failure_persistence: None, ..Config::default() };
    let outcome = TestRunner::new(config).run(&tests(), |test| {
        // Selected and filtered by: both places have rules of their own about brackets.
        let selected = Probe::rows().select(|p| test.condition(p));
        let filtered = Probe::rows()
            .filter(|p| test.condition(p))
            .filter(|p| p.id.gt(0));
        for dialect in Dialect::ALL {
            let sql = selected.sql(dialect).unwrap();
            prop_assert_eq!(
                read_back(&sql, dialect, sql.text()),
                test.built(),
                "{}: {}",
                dialect,
                sql
            );

            let sql = filtered.sql(dialect).unwrap();
            let condition = sql.text().split_once(" WHERE ").unwrap().1;
            let as_selected = format!("SELECT {condition}");
            let whole = list("and", "", [test.built(), "(> id 0)".to_owned()].into_iter());
            prop_assert_eq!(read_back(&sql, dialect, &as_selected), whole, "{}: {}", dialect, sql);
        }
        Ok(())
    });
    outcome.unwrap_or_else(|err| panic!("{err}"));
}
