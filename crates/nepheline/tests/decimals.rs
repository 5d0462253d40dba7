//! Decimals of every size: what the engines compute, compare, sort, group, page and sum, against exact numbers in Rust.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Debug;

use nepheline::blocking::{Database, RunsQueries, Session};
use nepheline::prelude::*;
use nepheline::{Cursor, statement};
use num_bigint::BigInt;
use proptest::collection::vec;
use proptest::option;
use proptest::prelude::*;
use proptest::sample::select;
use proptest::test_runner::{Config, TestRunner};
use support::{Engine, engines};

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "money", to_insert(derive(Clone)))]
struct Money {
    #[nepheline(key)]
    id: i64,
    /// Two digits after the point.
    price: Decimal,
    /// Up to 28 digits after the point.
    wide: Decimal,
    maybe: Option<Decimal>,
    pieces: i32,
}

#[derive(Debug, Clone, PartialEq, RowShape)]
struct Amount {
    amount: Decimal,
}

/// An exact number: digits, and how many of them stand after the point.
#[derive(Debug, Clone)]
struct Exact(BigInt, u32);

impl Exact {
    fn of(value: Decimal) -> Exact {
        Exact(value.mantissa().into(), value.scale())
    }

    fn scaled(&self, scale: u32) -> BigInt {
        &self.0 * BigInt::from(10).pow(scale - self.1)
    }

    fn plus(&self, other: &Exact) -> Exact {
        let scale = self.1.max(other.1);
        Exact(self.scaled(scale) + other.scaled(scale), scale)
    }

    fn times(&self, other: &Exact) -> Exact {
        Exact(&self.0 * &other.0, self.1 + other.1)
    }

    fn over(&self, other: &Exact, scale: u32) -> Option<Exact> {
        let ten = |power| BigInt::from(10).pow(power);
        let (over, under) = (&self.0 * ten(scale + other.1), &other.0 * ten(self.1));
        let is_negative = (over < BigInt::ZERO) != (under < BigInt::ZERO);
        let (over, under) = (over.magnitude().clone(), under.magnitude().clone());
        if under == BigInt::ZERO.magnitude().clone() {
            return None;
        }
        let rounded = BigInt::from((over * 2_u8 + &under) / (under * 2_u8));
        Some(Exact(if is_negative { -rounded } else { rounded }, scale))
    }

    /// Returns the decimal, or `None` if it has more digits than fit.
    fn fits(&self) -> Option<Decimal> {
        let (mut digits, mut scale) = (self.0.clone(), self.1);
        while scale > 0 && (&digits % 10_u8) == BigInt::ZERO {
            (digits, scale) = (digits / 10_u8, scale - 1);
        }
        let digits = i128::try_from(digits).ok()?;
        Decimal::try_from_i128_with_scale(digits, scale).ok()
    }
}

fn exact(value: Decimal) -> Exact {
    Exact::of(value)
}

fn rows() -> impl Strategy<Value = Vec<Money>> {
    let prices = || {
        let prices = ["0.00", "1.50", "-1.50", "10.05", "999.99", "0.01", "1234567.89", "-0.05"];
        select(
            prices
                .map(|price| price.parse::<Decimal>().unwrap())
                .to_vec(),
        )
    };
    let wide = || {
        let extremes = [
            "0",
            "1",
            "-1",
            "1.5",
            "1.50",
            "0.0000000000000000000000000001",
            "-0.0000000000000000000000000001",
            "7922816251426433759354395033.5",
            "-79228162514264337593543950335",
            "79228162514264337593543950335",
            "0.0005",
            "0.00049999999999999999999999999",
            "12345678901234.56789012345678",
            "10",
            "9",
            "100.000000",
        ];
        let extremes = select(
            extremes
                .map(|value| value.parse::<Decimal>().unwrap())
                .to_vec(),
        );
        let any =
            (any::<i64>(), 0..=28_u32).prop_map(|(digits, scale)| Decimal::new(digits, scale));
        prop_oneof![extremes, any]
    };
    let row = (prices(), wide(), option::of(wide()), -3..9_i32);
    vec(row, 1..12).prop_map(|rows| {
        let numbered = rows.into_iter().zip(1..);
        numbered
            .map(|((price, wide, maybe, pieces), id)| Money { id, price, wide, maybe, pieces })
            .collect()
    })
}

fn with_table(engine: Engine) -> (Engine, Database) {
    let db = engine.open();
    db.write(&statement!("DROP TABLE IF EXISTS money")).unwrap();
    db.write(&statement!(
        sqlite: "CREATE TABLE money (id INTEGER PRIMARY KEY, price TEXT NOT NULL, wide TEXT NOT NULL, maybe, \
                 pieces INTEGER NOT NULL)",
        postgres: "CREATE TABLE money (id bigint PRIMARY KEY, price numeric(12, 2) NOT NULL, wide numeric NOT NULL, \
                   maybe numeric, pieces integer NOT NULL)",
        mysql: "CREATE TABLE money (id BIGINT PRIMARY KEY, price DECIMAL(12, 2) NOT NULL, \
                wide DECIMAL(57, 28) NOT NULL, maybe DECIMAL(57, 28), pieces INTEGER NOT NULL)"
    ))
    .unwrap();
    (engine, db)
}

/// Compares what a query gives with what is exact; a result that does not fit is an error on every engine.
fn check<T: Debug + PartialEq>(
    name: &str,
    found: Result<Vec<T>, Error>,
    expected: Option<Vec<T>>,
) -> Result<(), TestCaseError> {
    match (found, expected) {
        (Ok(found), Some(expected)) => prop_assert_eq!(found, expected, "{}", name),
        (Err(err), None) => {
            let refused = [ErrorKind::Mismatch, ErrorKind::Database];
            prop_assert!(refused.contains(&err.kind()), "{}: {:#}", name, err);
        }
        // The product of two columns with 28 digits each is refused by MariaDB's type, not by its value.
        (Err(err), Some(_)) if err.to_string().contains("which may have lost more") => {
            prop_assert!(name.starts_with("m.wide * m.wide"), "{}: {:#}", name, err);
        }
        (Err(err), Some(_)) => prop_assert!(false, "{}: {:#}", name, err),
        (Ok(found), None) => prop_assert!(false, "{}: {:?} does not fit", name, found),
    }
    Ok(())
}

/// Compares an expression of each row with an exact number.
macro_rules! each_row {
    ($db:expr, $name:expr, $rows:expr, $([$s:ident, $row:ident] $written:expr => $expected:expr;)*) => {$(
        for $row in $rows {
            let query = Money::rows().filter(|$s| $s.id.eq($row.id)).select(|$s| $written);
            let expected: Option<Exact> = $expected;
            let name = format!("{} of {:?} on {}", stringify!($written), $row, $name);
            let expected = match expected.map(|exact| exact.fits()) {
                None => Some(vec![None]),
                Some(fits) => fits.map(|decimal| vec![Some(decimal)]),
            };
            let found = $db.read(&query).map(|found| found.into_iter().map(Option::<Decimal>::from).collect());
            check(&name, found, expected)?;
        }
    )*};
}

fn by_value(left: &Money, right: &Money) -> std::cmp::Ordering {
    left.wide.cmp(&right.wide).then(left.id.cmp(&right.id))
}

fn compare(db: &Database, name: &str, rows: &[Money]) -> Result<(), TestCaseError> {
    db.write(&Money::rows().filter(|m| m.id.gt(0)).delete())
        .unwrap();
    let written = rows.iter().map(|row| MoneyToInsert {
        id: row.id,
        price: row.price,
        wide: row.wide,
        maybe: row.maybe,
        pieces: row.pieces,
    });
    db.write(&Money::insert_all(written)).unwrap();
    let stored = db.read(&Money::rows().order_by(|m| m.id.asc())).unwrap();
    prop_assert_eq!(&stored, rows, "{}", name);
    each_row! { db, name, rows,
        [m, row] m.price + m.wide => Some(exact(row.price).plus(&exact(row.wide)));
        [m, row] 1 - m.wide => Some(exact(dec!(1)).plus(&exact(-row.wide)));
        [m, row] m.price * m.wide => Some(exact(row.price).times(&exact(row.wide)));
        [m, row] m.wide * m.wide => Some(exact(row.wide).times(&exact(row.wide)));
        [m, row] m.price * m.pieces => Some(exact(row.price).times(&exact(row.pieces.into())));
        [m, row] m.price * dec!(0.875) * dec!(1.19) => Some(exact(row.price).times(&exact(dec!(1.04125))));
        [m, row] -m.wide => Some(exact(-row.wide));
        [m, row] m.wide.abs() => Some(exact(row.wide.abs()));
        [m, row] m.wide.floor() => Some(exact(row.wide.floor()));
        [m, row] m.wide.ceil() => Some(exact(row.wide.ceil()));
        [m, row] m.maybe.round(3) => row.maybe.map(|maybe| exact(maybe).over(&exact(dec!(1)), 3).unwrap());
        [m, row] m.wide.round(0) => exact(row.wide).over(&exact(dec!(1)), 0);
        [m, row] m.price.divided_by(m.wide, 4) => exact(row.price).over(&exact(row.wide), 4);
        [m, row] m.price.divided_by(m.pieces, 2) => exact(row.price).over(&exact(row.pieces.into()), 2);
        [m, row] m.wide.divided_by(dec!(3), 10) => exact(row.wide).over(&exact(dec!(3)), 10);
        [m, row] m.price.divided_by(dec!(0.07), 20) => exact(row.price).over(&exact(dec!(0.07)), 20);
        [m, row] m.wide.least(m.maybe) => row.maybe.map(|maybe| exact(maybe.min(row.wide)));
        [m, row] m.wide.greatest(m.price) => Some(exact(row.wide.max(row.price)));
        [m, row] m.maybe.coalesce(m.price) => Some(exact(row.maybe.unwrap_or(row.price)));
    }

    // Comparisons, lists, order, pages.
    let one = rows[0].wide;
    let ids = |query: Query<Money>| db.read(&query.order_by(|m| m.id.asc()).select(|m| m.id));
    let of = |keep: &dyn Fn(&Money) -> bool| {
        Some(
            rows.iter()
                .filter(|row| keep(row))
                .map(|row| row.id)
                .collect::<Vec<_>>(),
        )
    };
    let all = Money::rows;
    check(name, ids(all().filter(|m| m.wide.eq(one))), of(&|m| m.wide == one))?;
    check(
        name,
        ids(all().filter(|m| m.maybe.ne(one))),
        of(&|m| m.maybe.is_some_and(|it| it != one)),
    )?;
    check(name, ids(all().filter(|m| m.wide.eq(m.maybe))), of(&|m| m.maybe == Some(m.wide)))?;
    check(name, ids(all().filter(|m| m.wide.lt(dec!(1.5)))), of(&|m| m.wide < dec!(1.5)))?;
    check(name, ids(all().filter(|m| m.price.ge(m.wide))), of(&|m| m.price >= m.wide))?;
    check(name, ids(all().filter(|m| m.wide.gt(m.pieces))), of(&|m| m.wide > m.pieces.into()))?;
    check(
        name,
        ids(all().filter(|m| m.wide.between(-1, 10))),
        of(&|m| (dec!(-1)..=dec!(10)).contains(&m.wide)),
    )?;
    check(
        name,
        ids(all().filter(|m| m.wide.one_of([one, dec!(1.500)]))),
        of(&|m| [one, dec!(1.5)].contains(&m.wide)),
    )?;
    check(name, ids(all().filter(|m| m.maybe.none_of([one]))), of(&|m| m.maybe != Some(one)))?;
    check(
        name,
        ids(all().filter(|m| m.maybe.is_distinct_from(Some(one)))),
        of(&|m| m.maybe != Some(one)),
    )?;
    check(
        name,
        ids(all().filter(|m| m.maybe.is_not_distinct_from(m.wide))),
        of(&|m| m.maybe == Some(m.wide)),
    )?;
    let others = all().filter(|m| m.pieces.gt(0)).select(|m| m.wide);
    let positive: Vec<Decimal> = rows
        .iter()
        .filter(|m| m.pieces > 0)
        .map(|m| m.wide)
        .collect();
    check(name, ids(all().filter(|m| m.wide.one_of(others))), of(&|m| positive.contains(&m.wide)))?;
    let mut sorted = rows.to_vec();
    sorted.sort_by(by_value);
    let order = all().order_by(|m| (m.wide.asc(), m.id.asc()));
    prop_assert_eq!(db.read(&order).unwrap(), &*sorted, "{}", name);
    let mut paged = Vec::new();
    let mut after: Option<Cursor> = None;
    while let Some(next) = {
        let page = db.read_after(&order, after.as_ref(), 4).unwrap();
        paged.extend(page.rows().iter().cloned());
        page.after()
            .map(|cursor| cursor.to_string().parse().unwrap())
    } {
        after = Some(next);
    }
    prop_assert_eq!(&paged, &sorted, "{}", name);

    // Groups, distinct values, sets, windows, totals.
    let mut groups: BTreeMap<Decimal, i64> = BTreeMap::new();
    rows.iter()
        .for_each(|row| *groups.entry(row.wide).or_default() += 1);
    let counted = all()
        .select(|m| (per(m.wide), count()))
        .order_by(|m| per(m.wide).asc());
    check(name, db.read(&counted), Some(groups.clone().into_iter().collect()))?;
    let wides: BTreeSet<Decimal> = groups.keys().copied().collect();
    let both: BTreeSet<Decimal> = wides
        .iter()
        .copied()
        .chain(rows.iter().map(|row| row.price))
        .collect();
    let each = |query: Result<Vec<Decimal>, Error>| {
        query.map(|found| {
            let values: BTreeSet<Decimal> = found.iter().copied().collect();
            (found.len(), values)
        })
    };
    prop_assert_eq!(
        each(db.read(&all().select(|m| m.wide).distinct())).unwrap(),
        (wides.len(), wides.clone())
    );
    let of_prices = all().select(|m| shape!(Amount { amount: m.price }));
    let united = all()
        .select(|m| shape!(Amount { amount: m.wide }))
        .union(of_prices);
    let united = db
        .read(&united)
        .map(|all| all.into_iter().map(|it| it.amount).collect());
    prop_assert_eq!(each(united).unwrap(), (both.len(), both));
    let distinct = db
        .read_one(&all().select(|m| (count_distinct(m.wide), min(m.wide), max(m.maybe))))
        .unwrap();
    let ends = (
        i64::try_from(wides.len()).unwrap(),
        wides.first().copied(),
        rows.iter().filter_map(|m| m.maybe).max(),
    );
    prop_assert_eq!(distinct, ends, "{}", name);
    let ranks = all()
        .order_by(|m| m.id.asc())
        .select(|m| rank().over(|w| w.order_by(m.wide.desc())));
    let ranked = rows
        .iter()
        .map(|row| 1 + rows.iter().filter(|other| other.wide > row.wide).count() as i64);
    check(name, db.read(&ranks), Some(ranked.collect()))?;
    let total = |of: &dyn Fn(&Money) -> Option<Decimal>| {
        let values: Vec<Exact> = rows.iter().filter_map(of).map(exact).collect();
        values
            .clone()
            .into_iter()
            .reduce(|sum, value| sum.plus(&value))
            .map(|sum| (sum, values.len()))
    };
    let fits = |total: Option<(Exact, usize)>| match total {
        None => Some(vec![None]),
        Some((sum, _)) => sum.fits().map(|sum| vec![Some(sum)]),
    };
    check(name, db.read(&all().select(|m| sum(m.price))), fits(total(&|m| Some(m.price))))?;
    check(name, db.read(&all().select(|m| sum(m.maybe))), fits(total(&|m| m.maybe)))?;
    let positive = total(&|m| (m.pieces > 0).then_some(m.price));
    check(name, db.read(&all().select(|m| sum(m.price).filter(m.pieces.gt(0)))), fits(positive))?;
    let average = |of: Option<(Exact, usize)>, digits| {
        of.and_then(|(sum, n)| Some((sum.over(&exact(n.into()), digits)?, n)))
    };
    check(
        name,
        db.read(&all().select(|m| avg_decimal(m.price, 4))),
        fits(average(total(&|m| Some(m.price)), 4)),
    )?;
    check(
        name,
        db.read(&all().select(|m| avg_decimal(m.pieces, 2))),
        fits(average(total(&|m| Some(m.pieces.into())), 2)),
    )?;
    let running = all()
        .order_by(|m| m.id.asc())
        .select(|m| sum(m.price).over(|w| w.order_by(m.id.asc())));
    let mut so_far = dec!(0);
    let expected = rows
        .iter()
        .map(|row| {
            so_far += row.price;
            Some(so_far)
        })
        .collect();
    check(name, db.read(&running), Some(expected))?;
    let moving = all()
        .order_by(|m| m.id.asc())
        .select(|m| avg_decimal(m.price, 2).over(|w| w.order_by(m.id.asc()).rows(-1..=0)));
    let pairs = (0..rows.len()).map(|i| {
        let near: Vec<Decimal> = rows[i.saturating_sub(1)..=i]
            .iter()
            .map(|row| row.price)
            .collect();
        exact(near.iter().sum())
            .over(&exact(near.len().into()), 2)
            .unwrap()
            .fits()
    });
    check(name, db.read(&moving), Some(pairs.collect()))?;
    Ok(())
}

#[test]
fn decimals_of_every_size_are_exact_on_every_engine() {
    let databases: Vec<_> = engines().into_iter().map(with_table).collect();
    let config = Config { cases: 24, failure_persistence: None, ..Config::default() };
    let outcome = TestRunner::new(config).run(&rows(), |rows| {
        for (engine, db) in &databases {
            compare(db, engine.name, &rows)?;
        }
        Ok(())
    });
    outcome.unwrap_or_else(|err| panic!("{err}"));
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "odd_money")]
struct Odd {
    #[nepheline(key)]
    id: i64,
    amount: Decimal,
}

#[test]
fn numbers_that_no_decimal_holds_are_errors_that_name_the_way_out() {
    let mut told = Vec::new();
    for engine in engines() {
        let db = engine.open();
        db.write(&statement!("DROP TABLE IF EXISTS odd_money"))
            .unwrap();
        db.write(&statement!(
            sqlite: "CREATE TABLE odd_money (id INTEGER PRIMARY KEY, amount NUMERIC)",
            postgres: "CREATE TABLE odd_money (id bigint PRIMARY KEY, amount numeric)",
            mysql: "CREATE TABLE odd_money (id BIGINT PRIMARY KEY, amount DECIMAL(65, 38))"
        ))
        .unwrap();
        db.write(&statement!(
            sqlite: "INSERT INTO odd_money VALUES (1, 0.1), (2, 12345678.12345678), (3, '1e'), (4, x'00'), \
                     (5, 3.0e2)",
            postgres: "INSERT INTO odd_money VALUES (1, 0.1), (2, 1e-40), (3, 1e30), (4, 'NaN'), (5, 300.00)",
            mysql: "INSERT INTO odd_money VALUES (1, 0.1), (2, 1e-35), (5, 300)"
        ))
        .unwrap();
        let amount = |id| db.read_one(&Odd::row(id).select(|o| o.amount));
        assert_eq!((amount(1).unwrap(), amount(5).unwrap()), (dec!(0.1), dec!(300)));
        for id in 2..5 {
            match amount(id) {
                Err(err) if err.kind() == ErrorKind::NotFound => {}
                read => told.push(format!("{}: {}", engine.name, read.unwrap_err())),
            }
        }
        if db.dialect() == Dialect::Sqlite {
            let doubled = |id| db.read_one(&Odd::row(id).select(|o| o.amount * 2));
            assert_eq!(doubled(1).unwrap(), dec!(0.2));
            told.extend((2..5).map(|id| format!("computed: {}", doubled(id).unwrap_err())));
            // Another program could not open a file whose schema needs the functions.
            let index =
                statement!("CREATE INDEX odd_key ON odd_money (nepheline_decimal_key(amount))");
            told.push(format!("index: {}", db.write(&index).unwrap_err()));
        }
    }
    insta::assert_snapshot!(told.join("\n"));
}

#[test]
fn a_session_over_a_connection_of_the_program_computes_decimals_and_finds_them_by_an_index() {
    let connection = rusqlite::Connection::open_in_memory().unwrap();
    connection
        .execute_batch(
            "CREATE TABLE odd_money (id INTEGER PRIMARY KEY, amount TEXT NOT NULL); \
             CREATE INDEX odd_amount ON odd_money (amount); \
             INSERT INTO odd_money VALUES (1, '1.5'), (2, '1.50'), (3, '-1.5000'), (4, '15')",
        )
        .unwrap();
    let session = Session::over(&connection).unwrap();
    let same = Odd::rows().filter(|o| o.amount.eq(dec!(1.500)));
    assert_eq!(session.count(&same).unwrap(), 2);
    let plan = session.explain(&same).unwrap();
    assert!(
        plan.contains("USING INDEX odd_amount") || plan.contains("USING COVERING INDEX odd_amount"),
        "{plan}"
    );
    let total = Odd::rows().select(|o| sum(o.amount * dec!(0.1)));
    assert_eq!(session.read_one(&total).unwrap(), Some(dec!(1.65)));
}

#[test]
fn the_sql_of_decimals() {
    let query = Money::rows()
        .filter(|m| m.wide.gt(dec!(1.5)) & m.price.eq(10) & m.maybe.one_of([Some(dec!(0.1)), None]))
        .order_by(|m| m.price.desc())
        .select(|m| {
            let net = (m.price * (1 - m.wide) * m.pieces).round(2);
            (net, m.price.divided_by(m.pieces, 1), sum(m.price).over(|w| w.partition_by(m.wide)))
        });
    let grouped = Money::rows()
        .select(|m| (per(m.wide), avg_decimal(m.price, 2), min(m.maybe), count_distinct(m.price)));
    let mut texts = Vec::new();
    for dialect in Dialect::ALL {
        let (one, other) = (query.sql(dialect).unwrap(), grouped.sql(dialect).unwrap());
        texts.push(format!("-- {dialect}\n{}\n{:?}\n{}", one.text(), one.binds(), other.text()));
    }
    let digits = Money::rows()
        .select(|m| m.price.round(29))
        .sql(Dialect::Sqlite);
    texts.push(digits.unwrap_err().to_string());
    insta::assert_snapshot!(texts.join("\n\n"));
}
