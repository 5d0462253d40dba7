//! Any text as the filter, the sort, the properties and the totals of a request: `cargo fuzz run requests`.
//!
//! Each is read or refused with a place in the text. A filter that is read becomes SQL in every dialect, and is read back from
//! its own text and JSON.
#![no_main]

use std::sync::LazyLock;

use libfuzzer_sys::fuzz_target;
use nepheline::prelude::*;
use nepheline::{Offer, OfferedFilter};

#[derive(Debug, Table)]
#[nepheline(children(assays: Assay by specimen_id))]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    label: String,
    rock: Rock,
    tray: i16,
    price: Decimal,
    top_m: f64,
    taken_on: Date,
    opened: Time,
    code: Uuid,
    withdrawn_at: Option<Timestamp>,
}

#[derive(Debug, Table)]
struct Assay {
    #[nepheline(key)]
    id: i64,
    #[nepheline(references = Specimen)]
    specimen_id: i64,
    ppm: Option<f64>,
    late: bool,
}

#[derive(Debug, Clone, Copy, Storable)]
enum Rock {
    Basalt,
    Gneiss,
}

static OFFER: LazyLock<Offer<Specimen>> = LazyLock::new(|| {
    let assays = Offer::of::<Assay>()
        .value("ppm", |a| a.ppm)
        .value("late", |a| a.late)
        .build();
    Offer::of::<Specimen>()
        .value("label", |s| s.label)
        .value("rock", |s| s.rock)
        .value("tray", |s| s.tray)
        .value("price", |s| s.price)
        .value("depth", |s| s.top_m)
        .value("taken", |s| s.taken_on)
        .value("opened", |s| s.opened)
        .value("code", |s| s.code)
        .value("withdrawn", |s| s.withdrawn_at)
        .value("results", |s| s.assays().count())
        .value("late", |s| s.assays().any(|a| a.late))
        .children("assays", |s| s.assays(), &assays.expect("the names of assays"))
        .function("least", |(a, b): (Expr<Option<f64>>, Expr<Option<f64>>)| a.least(b))
        .build()
        .expect("the names of specimens")
});

fuzz_target!(|text: &str| {
    for read in [OFFER.cql2_text(text), OFFER.cql2_json(text)] {
        match read {
            Ok(filter) => check_filter(&filter),
            Err(err) => check_mistake(&err, text),
        }
    }
    let lists = [
        OFFER.sort_by(text).err(),
        OFFER.properties(text).err(),
        OFFER.totals(text, "count").err(),
        OFFER.totals("rock", text).err(),
    ];
    lists
        .iter()
        .flatten()
        .for_each(|err| check_mistake(err, text));
});

fn check_filter(filter: &OfferedFilter<Specimen>) {
    let text = filter.to_string();
    let again = OFFER
        .cql2_text(&text)
        .unwrap_or_else(|err| panic!("{text}\n{err}"));
    assert_eq!(&again, filter, "as text: {text}");
    let saved = serde_json::to_string(filter).expect("a filter has JSON");
    let again = OFFER
        .cql2_json(&saved)
        .unwrap_or_else(|err| panic!("{saved}\n{err}"));
    assert_eq!(&again, filter, "as JSON: {saved}");
    let query = Specimen::rows().filter(filter.scope());
    for dialect in Dialect::ALL {
        match query.sql(dialect) {
            Ok(sql) => assert!(
                !sql.text().contains(&text) || text.len() < 20,
                "the text of a filter is SQL"
            ),
            Err(err) => panic!("{text}\n{err:#}"),
        }
    }
}

fn check_mistake(err: &Error, text: &str) {
    assert_eq!(err.kind(), ErrorKind::InvalidRequest);
    let mistake = err.mistake().expect("a mistake has a place");
    assert!(text.is_char_boundary(mistake.offset()), "{mistake:?}");
    assert!(text.is_char_boundary(mistake.offset() + mistake.length()), "{mistake:?}");
    let _ = mistake.marked();
}
