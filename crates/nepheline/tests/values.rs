//! Values of every type, both ways through a real database, on every engine.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use nepheline::blocking::{Database, RunsQueries};
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;
use nepheline::{BindValue, SqlType, literal};
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use support::{Engine, engines};

#[derive(Debug, Clone, Copy, PartialEq, Storable)]
struct ReadingId(i64);

#[derive(Debug, Clone, PartialEq, Storable)]
struct Remark {
    text: String,
}

#[derive(Debug, Clone, Copy, PartialEq, Storable)]
enum Quality {
    Good,
    #[nepheline(text = "so so")]
    SoSo,
    VeryBad,
}

/// A column of every type that there is.
#[derive(Debug, Clone, PartialEq, Table)]
struct Reading {
    #[nepheline(key)]
    id: ReadingId,
    tiny: i8,
    small: i16,
    normal: i32,
    big: i64,
    byte: u8,
    word: u16,
    long_word: u32,
    ratio: f64,
    coarse: f32,
    good: bool,
    name: String,
    raw: Vec<u8>,
    taken_on: Date,
    taken: Time,
    local: DateTime,
    taken_at: Timestamp,
    uuid: Uuid,
    price: Decimal,
    notes: Json,
    quality: Quality,
    remark: Option<Remark>,
    maybe_at: Option<Timestamp>,
    maybe_price: Option<Decimal>,
}

/// Values with all that the types hold, the extremes among them.
fn readings() -> impl Strategy<Value = Reading> {
    let numbers = (any::<i64>(), any::<i8>(), any::<i16>(), any::<i32>(), any::<i64>());
    let others = (any::<u8>(), any::<u16>(), any::<u32>(), any::<bool>(), any::<u128>());
    let floats = (
        any::<f64>().prop_filter("NaN is refused", |x| !x.is_nan()),
        any::<f32>().prop_filter("NaN is refused", |x| !x.is_nan()),
    );
    let text = ("[^\0]{0,12}", any::<Vec<u8>>(), proptest::option::of("[^\0]{0,4}"));
    // Microseconds from the year 1 to the last that `Timestamp` holds.
    let times = (
        -62_135_596_800_000_000_i64..253_402_207_199_999_999,
        proptest::option::of(-62_135_596_800_000_000_i64..253_402_207_199_999_999),
        0..3_u8,
    );
    (numbers, others, floats, text, times).prop_map(|(numbers, others, floats, text, times)| {
        let (id, tiny, small, normal, big) = numbers;
        let (byte, word, long_word, good, wide) = others;
        let at = Timestamp::from_microsecond(times.0).unwrap();
        let local = at.to_zoned(jiff::tz::TimeZone::UTC).datetime();
        let price = Decimal::from_i128_with_scale((wide >> 40) as i128, 9);
        Reading {
            id: ReadingId(id),
            tiny,
            small,
            normal,
            big,
            byte,
            word,
            long_word,
            ratio: floats.0,
            coarse: floats.1,
            good,
            name: text.0,
            raw: text.1,
            taken_on: local.date(),
            taken: local.time(),
            local,
            taken_at: at,
            // MariaDB refuses some that no version of the standard (RFC 9562) makes.
            uuid: uuid::Builder::from_random_bytes(wide.to_be_bytes()).into_uuid(),
            price,
            notes: serde_json::json!({ "byte": byte, "deep": [null, good, { "k": small }] }),
            quality: [Quality::Good, Quality::SoSo, Quality::VeryBad][usize::from(times.2)],
            remark: text.2.map(|text| Remark { text }),
            maybe_at: times.1.map(|us| Timestamp::from_microsecond(us).unwrap()),
            maybe_price: good.then_some(price),
        }
    })
}

/// The row as binds, in the order of the columns.
fn binds(reading: &Reading) -> Vec<BindValue> {
    fn optional<T: Storable>(value: &Option<T>) -> BindValue {
        value
            .as_ref()
            .map_or(BindValue::Null(T::SQL_TYPE), T::to_bind)
    }
    let r = reading;
    vec![
        r.id.to_bind(),
        r.tiny.to_bind(),
        r.small.to_bind(),
        r.normal.to_bind(),
        r.big.to_bind(),
        r.byte.to_bind(),
        r.word.to_bind(),
        r.long_word.to_bind(),
        r.ratio.to_bind(),
        r.coarse.to_bind(),
        r.good.to_bind(),
        r.name.to_bind(),
        r.raw.to_bind(),
        r.taken_on.to_bind(),
        r.taken.to_bind(),
        r.local.to_bind(),
        r.taken_at.to_bind(),
        r.uuid.to_bind(),
        r.price.to_bind(),
        r.notes.to_bind(),
        r.quality.to_bind(),
        optional(&r.remark),
        optional(&r.maybe_at),
        optional(&r.maybe_price),
    ]
}

/// Makes the table anew, each column of the type that its Rust type is stored as.
fn make_table(engine: &Engine, db: &Database) {
    let columns = Reading::INFO.columns().iter().map(|column| {
        let null = if column.is_nullable() { "NULL" } else { "NOT NULL" };
        format!("{} {} {null}", column.name(), column_type(engine, column.sql_type()))
    });
    let columns = columns.collect::<Vec<_>>().join(", ");
    db.run_text("DROP TABLE IF EXISTS reading", vec![]).unwrap();
    db.run_text(&format!("CREATE TABLE reading ({columns})"), vec![])
        .unwrap();
}

fn column_type(engine: &Engine, sql_type: SqlType) -> &'static str {
    let [sqlite, postgres, mariadb] = match sql_type {
        SqlType::Boolean => ["INTEGER", "boolean", "BOOLEAN"],
        SqlType::SmallInt => ["INTEGER", "smallint", "SMALLINT"],
        SqlType::Integer => ["INTEGER", "integer", "INTEGER"],
        SqlType::BigInt => ["INTEGER", "bigint", "BIGINT"],
        SqlType::Real => ["REAL", "real", "FLOAT"],
        SqlType::Double => ["REAL", "double precision", "DOUBLE"],
        SqlType::Text => ["TEXT", "text", "LONGTEXT"],
        SqlType::Bytes => ["BLOB", "bytea", "LONGBLOB"],
        SqlType::Date => ["TEXT", "date", "DATE"],
        SqlType::Time => ["TEXT", "time", "TIME(6)"],
        SqlType::DateTime => ["TEXT", "timestamp", "DATETIME(6)"],
        SqlType::Timestamp => ["TEXT", "timestamptz", "DATETIME(6)"],
        SqlType::Uuid => ["TEXT", "uuid", "UUID"],
        SqlType::Decimal => ["TEXT", "numeric", "DECIMAL(38, 9)"],
        SqlType::Json => ["TEXT", "jsonb", "JSON"],
        other => panic!("a new type: {other}"),
    };
    engine.pick(sqlite, postgres, mariadb)
}

fn store(engine: &Engine, db: &Database, reading: &Reading) {
    let values = binds(reading);
    let places: Vec<_> = (1..=values.len())
        .map(|i| if engine.dialect() == Dialect::Postgres { format!("${i}") } else { "?".into() })
        .collect();
    db.run_text("DELETE FROM reading", vec![]).unwrap();
    db.run_text(&format!("INSERT INTO reading VALUES ({})", places.join(", ")), values)
        .unwrap();
}

#[test]
fn values_travel_both_ways_unchanged() {
    for engine in engines() {
        let db = engine.open();
        make_table(&engine, &db);
        let mut runner = TestRunner::new(Config { cases: 150, ..Config::default() });
        let outcome = runner.run(&readings(), |reading| {
            let has_infinity = reading.ratio.is_infinite() || reading.coarse.is_infinite();
            if has_infinity && engine.dialect() == Dialect::MariaDb {
                let query = Reading::rows().filter(|c| c.ratio.eq(f64::INFINITY));
                let err = db.read(&query).unwrap_err();
                prop_assert_eq!(err.kind(), ErrorKind::RefusedValue);
                return Ok(());
            }
            store(&engine, &db, &reading);
            travel(&engine, &db, reading)
        });
        outcome.unwrap_or_else(|err| panic!("on {}: {err}", engine.name));
    }
}

fn travel(engine: &Engine, db: &Database, reading: Reading) -> Result<(), TestCaseError> {
    let comparable = engine.dialect() != Dialect::Sqlite;
    // Read back it is equal, and sent as a bind it is found again.
    let r = reading.clone();
    let query = Reading::row(r.id)
        .filter(|c| c.tiny.eq(r.tiny) & c.small.eq(r.small) & c.normal.eq(r.normal))
        .filter(|c| c.big.eq(r.big) & c.byte.eq(r.byte) & c.word.eq(r.word))
        .filter(|c| c.long_word.eq(r.long_word) & c.ratio.eq(r.ratio) & c.coarse.eq(r.coarse))
        .filter(|c| c.good.eq(r.good) & c.name.eq(&r.name) & c.raw.eq(&r.raw))
        .filter(|c| c.taken_on.eq(r.taken_on) & c.taken.eq(r.taken) & c.local.eq(r.local))
        .filter(|c| c.taken_at.eq(r.taken_at) & c.uuid.eq(r.uuid) & c.quality.eq(r.quality))
        .filter(|c| comparable.then(|| c.price.eq(r.price)))
        .filter(|c| r.remark.clone().map(|remark| c.remark.eq(remark)))
        .filter(|c| r.maybe_at.map(|at| c.maybe_at.eq(at)));
    prop_assert_eq!(db.read_one(&query).unwrap(), reading.clone());

    // And found in a list of it.
    let listed = Reading::rows()
        .filter(|c| c.id.one_of([r.id]) & c.big.one_of([r.big, 0]) & c.good.one_of([r.good]))
        .filter(|c| c.name.one_of([&r.name]) & c.raw.one_of([&r.raw]) & c.uuid.one_of([r.uuid]))
        .filter(|c| c.taken_on.one_of([r.taken_on]) & c.taken.one_of([r.taken]))
        .filter(|c| c.local.one_of([r.local]) & c.taken_at.one_of([r.taken_at]))
        .filter(|c| c.maybe_at.one_of([r.maybe_at]) & c.remark.one_of([&r.remark]))
        .filter(|c| comparable.then(|| c.price.one_of([r.price])))
        .filter(|c| r.ratio.is_finite().then(|| c.ratio.one_of([r.ratio])));
    prop_assert_eq!(db.read_one(&listed).unwrap(), reading);
    Ok(())
}

#[test]
fn what_is_finer_than_a_microsecond_is_cut_towards_the_past() {
    let cases = [
        ("2026-01-31T10:00:00.123456789Z", "2026-01-31T10:00:00.123456Z"),
        ("1969-12-31T23:59:59.999999999Z", "1969-12-31T23:59:59.999999Z"),
    ];
    for (given, sent) in cases {
        let given: Timestamp = given.parse().unwrap();
        assert_eq!(given.to_bind(), BindValue::Timestamp(sent.parse().unwrap()));
        let local = given.to_zoned(jiff::tz::TimeZone::UTC).datetime();
        let sent: Timestamp = sent.parse().unwrap();
        let sent = sent.to_zoned(jiff::tz::TimeZone::UTC).datetime();
        assert_eq!(local.to_bind(), BindValue::DateTime(sent));
        assert_eq!(local.time().to_bind(), BindValue::Time(sent.time()));
    }
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "values_constant")]
struct Held {
    #[nepheline(key)]
    id: i64,
    name: String,
    ratio: f64,
    good: bool,
    quality: Quality,
    small: i16,
}

const HOSTILE: &str = r#"O'Shea "\' {0} {} $1 ? :x -- é ß 🪨 \"#;

#[test]
fn constants_of_the_program_are_text_of_each_engine() {
    let constants = Held::rows().filter(|h| {
        h.name.eq(literal!(HOSTILE))
            & h.ratio.eq(literal!(-2.5e-3))
            & h.good.eq(literal!(true))
            & h.quality.eq(literal!(Quality::SoSo))
            & h.id.eq(literal!(i64::MIN))
            & h.small.one_of(Held::rows().select(|_| literal!(-7_i16)))
    });
    let shown: Vec<String> = Dialect::ALL
        .into_iter()
        .map(|dialect| {
            let sql = constants.sql(dialect).unwrap();
            assert!(sql.binds().is_empty(), "{sql}");
            format!("{dialect}\n{}", sql.by_clause())
        })
        .collect();
    insta::assert_snapshot!(shown.join("\n"));
    for engine in engines() {
        let db = engine.open();
        let text = engine.pick("TEXT", "text", "VARCHAR(90) CHARACTER SET utf8mb4");
        db.run_text("DROP TABLE IF EXISTS values_constant", vec![])
            .unwrap();
        db.run_text(
            &format!(
                "CREATE TABLE values_constant (id BIGINT PRIMARY KEY, name {text}, ratio DOUBLE PRECISION, good BOOLEAN, \
                 quality {text}, small SMALLINT)"
            ),
            vec![],
        )
        .unwrap();
        let held = |id, name: &str| Held {
            id,
            name: name.into(),
            ratio: -2.5e-3,
            good: true,
            quality: Quality::SoSo,
            small: -7,
        };
        let rows = [held(i64::MIN, HOSTILE), held(1, "x")];
        db.write(&Held::insert_all(rows.iter().cloned().map(|row| HeldToInsert {
            id: row.id,
            name: row.name,
            ratio: row.ratio,
            good: row.good,
            quality: row.quality,
            small: row.small,
        })))
        .unwrap();
        assert_eq!(db.read(&constants).unwrap(), rows[..1], "on {}", engine.name);

        // As values of their own, and in a transaction that repeats the statement as a prepared one.
        let selected = Held::rows()
            .select(|_| {
                (
                    literal!(HOSTILE),
                    literal!(i64::MIN),
                    literal!(3.0),
                    literal!(false),
                    literal!(Quality::Good),
                    literal!(-7_i32) + 1,
                )
            })
            .limit(1);
        let expected = (HOSTILE.to_owned(), i64::MIN, 3.0, false, Quality::Good, -6);
        for _ in 0..8 {
            assert_eq!(db.read_one(&selected).unwrap(), expected, "on {}", engine.name);
        }
        db.run_text("DROP TABLE values_constant", vec![]).unwrap();
    }
}
