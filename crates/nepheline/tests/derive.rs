//! What the derives write: names, keys, types, and code that does not depend on what is in scope.

#![allow(clippy::unwrap_used, reason = "tests")]

use nepheline::blocking::Database;
use nepheline::prelude::*;
use nepheline::{BindValue, SqlType};
use proptest::prelude::*;
use rusqlite::Connection;

#[test]
fn names_come_from_rust_unless_given() {
    #[derive(Debug, Table)]
    #[nepheline(schema = "survey", table = "thin sections")]
    #[expect(dead_code, reason = "only its SQL is looked at")]
    struct ThinSection {
        #[nepheline(key)]
        r#type: i64,
        #[nepheline(column = "Thickness µm")]
        thickness: Option<f32>,
    }
    let query = ThinSection::rows().filter(|t| t.thickness.is_null() & t.r#type.eq(3));
    insta::assert_snapshot!(query.sql(Dialect::MySql).unwrap());
    let info = ThinSection::INFO;
    assert_eq!((info.schema(), info.name()), (Some("survey"), "thin sections"));
    assert_eq!(info.key().map(|column| column.name()).collect::<Vec<_>>(), ["type"]);
    let thickness = &info.columns()[1];
    assert_eq!((thickness.sql_type(), thickness.is_nullable()), (SqlType::Real, true));
}

/// The generated code names everything by its full path, so nothing in scope can get in its way.
mod shadowed {
    #![allow(
        dead_code,
        non_snake_case,
        missing_docs,
        unreachable_pub,
        missing_debug_implementations,
        reason = "it has only to compile"
    )]

    pub struct Option;
    pub struct Result;
    pub struct String;
    pub struct Vec;
    pub struct Self_;
    pub trait Storable {}
    pub trait Table {}
    pub trait Into {}
    pub fn Some() {}
    pub fn None() {}
    pub fn Ok() {}
    pub fn Err() {}

    #[derive(Debug, ::nepheline::Table)]
    pub struct Drawer {
        #[nepheline(key)]
        pub id: i64,
        #[nepheline(unique)]
        pub kind: Kind,
    }

    #[derive(Debug, ::nepheline::Storable)]
    pub enum Kind {
        Ok,
        Err,
    }
}

#[test]
fn generated_code_does_not_depend_on_what_is_in_scope() {
    let sql = shadowed::Drawer::row_by_kind(shadowed::Kind::Ok).sql(Dialect::Sqlite).unwrap();
    assert_eq!(sql.binds(), [BindValue::Text("ok".into())]);
}

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
    // Microseconds from the year 1 to the end of 9999.
    let times = (
        -62_135_596_800_000_000_i64..253_402_300_799_999_999,
        proptest::option::of(-62_135_596_800_000_000_i64..253_402_300_799_999_999),
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
            uuid: Uuid::from_u128(wide),
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
        value.as_ref().map_or(BindValue::Null(T::SQL_TYPE), T::to_bind)
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

fn stored(reading: &Reading) -> Database {
    let connection = Connection::open_in_memory().unwrap();
    let columns = Reading::INFO.columns();
    let names: Vec<_> = columns.iter().map(|column| column.name()).collect();
    connection.execute_batch(&format!("CREATE TABLE reading ({})", names.join(", "))).unwrap();
    let places = vec!["?"; names.len()].join(", ");
    let values = binds(reading).into_iter().map(|bind| match bind {
        BindValue::Null(_) => rusqlite::types::Value::Null,
        BindValue::Bool(value) => i64::from(value).into(),
        BindValue::Int(value) => value.into(),
        BindValue::Float(value) => value.into(),
        BindValue::Text(text) | BindValue::Json(text) => String::from(text).into(),
        BindValue::Bytes(bytes) => Vec::from(bytes).into(),
        other => other.plain_text().unwrap().into(),
    });
    let insert = format!("INSERT INTO reading VALUES ({places})");
    connection.execute(&insert, rusqlite::params_from_iter(values)).unwrap();
    Database::over(connection).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, ..ProptestConfig::default() })]

    #[test]
    fn values_travel_both_ways_unchanged(reading in readings()) {
        let db = stored(&reading);
        // Read back it is equal, and sent as a bind it is found again.
        let r = reading.clone();
        let query = Reading::row(r.id)
            .filter(|c| c.tiny.eq(r.tiny) & c.small.eq(r.small) & c.normal.eq(r.normal))
            .filter(|c| c.big.eq(r.big) & c.byte.eq(r.byte) & c.word.eq(r.word))
            .filter(|c| c.long_word.eq(r.long_word) & c.ratio.eq(r.ratio) & c.coarse.eq(r.coarse))
            .filter(|c| c.good.eq(r.good) & c.name.eq(&r.name) & c.raw.eq(&r.raw))
            .filter(|c| c.taken_on.eq(r.taken_on) & c.taken.eq(r.taken) & c.local.eq(r.local))
            .filter(|c| c.taken_at.eq(r.taken_at) & c.uuid.eq(r.uuid) & c.quality.eq(r.quality))
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
            .filter(|c| r.ratio.is_finite().then(|| c.ratio.one_of([r.ratio])));
        prop_assert_eq!(db.read_one(&listed).unwrap(), reading);
    }
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
