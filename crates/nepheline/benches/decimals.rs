//! Decimals on SQLite, which has no type for them, against the same amounts as integers of cents:
//! `cargo bench -p nepheline --bench decimals`.
#![allow(
    missing_docs,
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stdout,
    reason = "a bench"
)]

mod support;

use criterion::{Criterion, criterion_group, criterion_main};
use nepheline::blocking::Database;
use nepheline::prelude::*;
use nepheline::{create_table, statement};
use support::against_by_hand;

const ROWS: i64 = 100_000;

#[derive(Debug, Clone, PartialEq, Table)]
struct Line {
    #[nepheline(key)]
    id: i64,
    service: i64,
    quantity: i64,
    price: Decimal,
    cents: i64,
}

fn filled() -> Database {
    let db = Database::open("sqlite::memory:").unwrap();
    db.run_script(&create_table::<Line>(db.dialect()).unwrap())
        .unwrap();
    let line = |id: i64| {
        let cents = id * 7_919 % 1_000_003;
        LineToInsert {
            id,
            service: id % 50,
            quantity: id % 30,
            price: Decimal::new(cents, 2),
            cents,
        }
    };
    db.write(&Line::insert_all((0..ROWS).map(line))).unwrap();
    db.write(&statement!("CREATE INDEX line_price ON line (price)"))
        .unwrap();
    db.write(&statement!("CREATE INDEX line_cents ON line (cents)"))
        .unwrap();
    db
}

fn benches(criterion: &mut Criterion) {
    let db = filled();
    let cents = |value: Option<Decimal>| i64::try_from(value.unwrap() * dec!(100)).unwrap();
    let (money, whole) =
        (Line::rows().select(|l| sum(l.price)), Line::rows().select(|l| sum(l.cents)));
    assert_eq!(cents(db.read_one(&money).unwrap()), db.read_one(&whole).unwrap().unwrap());
    against_by_hand(
        criterion,
        ("sum of 100000 decimals, against cents", 99.0),
        1,
        || db.read_one(&money).unwrap(),
        || db.read_one(&whole).unwrap(),
    );
    let money = Line::rows().select(|l| (per(l.service), sum(l.price * l.quantity)));
    let whole = Line::rows().select(|l| (per(l.service), sum(l.cents * l.quantity)));
    against_by_hand(
        criterion,
        ("sum of products in 50 groups, against cents", 99.0),
        1,
        || db.read(&money).unwrap(),
        || db.read(&whole).unwrap(),
    );
    let money = Line::rows().filter(|l| l.price.gt(dec!(9900)));
    let whole = Line::rows().filter(|l| l.cents.gt(990_000));
    assert_eq!(db.count(&money).unwrap(), db.count(&whole).unwrap());
    against_by_hand(
        criterion,
        ("`>`, 1000 of 100000 rows, against cents with an index", 999.0),
        1,
        || db.count(&money).unwrap(),
        || db.count(&whole).unwrap(),
    );
    let money = Line::rows()
        .order_by(|l| (l.price.desc(), l.id.asc()))
        .limit(20);
    let whole = Line::rows()
        .order_by(|l| (l.cents.desc(), l.id.asc()))
        .limit(20);
    assert_eq!(db.read(&money).unwrap(), db.read(&whole).unwrap());
    against_by_hand(
        criterion,
        ("the 20 greatest of 100000, against cents with an index", 9_999.0),
        1,
        || db.read(&money).unwrap(),
        || db.read(&whole).unwrap(),
    );
    let money = Line::rows().filter(|l| l.price.eq(dec!(79.19)));
    let whole = Line::rows().filter(|l| l.cents.eq(7_919));
    assert_eq!(db.read(&money).unwrap(), db.read(&whole).unwrap());
    against_by_hand(
        criterion,
        ("`=` by an index, against cents", 99.0),
        200,
        || db.read(&money).unwrap(),
        || db.read(&whole).unwrap(),
    );
}

criterion_group!(group, benches);
criterion_main!(group);
