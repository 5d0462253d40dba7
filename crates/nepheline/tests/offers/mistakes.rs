//! The texts of mistakes.

use std::fmt::Write as _;

use insta::assert_snapshot;
use nepheline::cql2::property;
use nepheline::prelude::*;
use nepheline::{Offer, Offered, OfferedUse};
use nepheline_coreshed::{Assay, Specimen};

use crate::offer;

/// Returns the errors of texts, one after the other.
fn errors<T>(texts: &[&str], read: impl Fn(&str) -> Result<T, Error>) -> String {
    let mut errors = String::new();
    for text in texts {
        match read(text) {
            Ok(_) => writeln!(errors, "NO MISTAKE: {text}").unwrap(),
            Err(err) => {
                writeln!(errors, "[{}] {err}\n", err.mistake().unwrap().kind().as_str()).unwrap()
            }
        }
    }
    errors
}

#[test]
fn mistakes_in_text_have_their_place_and_the_way_out() {
    let texts = [
        "dept > 100",
        "salary > 100",
        "assay.ppm > 1",
        "assays.pmp > 1",
        "assays > 1",
        "shout(label) = 'A'",
        "length(label, 1) = 2",
        "length(depth) = 2",
        "depth > 'ten'",
        "label = 10",
        "overdue = 1",
        "overdue > FALSE",
        "rock = 'cheese'",
        "rock IN ('basalt', 'cheese')",
        "results = 1e400",
        "depth >",
        "depth > 100 AND",
        "(depth > 1",
        "depth > 1)",
        "",
        "overdue",
        "NOT overdue",
        "label",
        "depth + 1",
        "'basalt'",
        "depth = 1 = 2",
        "depth BETWEEN 1",
        "depth NOT 1",
        "rock IN ()",
        "rock IN 'basalt'",
        "depth IS 1",
        "depth > (label = 'x')",
        "label LIKE depth",
        r"label LIKE 'a\'",
        "label = 'a\0b'",
        "depth LIKE '1%'",
        "taken > DATE('2024-02-30')",
        "taken > DATE(2024)",
        "taken > TIMESTAMP('2024-02-03T00:00:00Z')",
        "withdrawn > TIMESTAMP('2024-02-03')",
        "withdrawn > DATE('2024-02-03')",
        "taken > '2024-02-03'",
        "taken > INTERVAL('..', '..')",
        "T_AFTER(taken, 3)",
        "T_AFTER(taken)",
        "T_MEETS(taken, INTERVAL('2020-01-01', '..'))",
        "T_DURING(taken, DATE('2020-01-01'))",
        "T_AFTER(taken, INTERVAL('2021-01-01', '2020-01-01'))",
        "T_AFTER(taken, INTERVAL('soon', '..'))",
        "depth % 2 = 0",
        "label + 1 = 2",
        "CASEI(depth) = 1",
        "depth > 1 & depth < 2",
        "depth > 'unfinished",
        "\"depth > 1",
        "S_INTERSECTS(geom, POINT(1 2))",
        "A_CONTAINS(tags, ('a'))",
        "ACCENTI(label) = 'a'",
        "label = 'Ørsted' AND 水位 > 3",
        "rock = 'basalt'\n  AND depht > 3\n  AND overdue = TRUE",
        &format!(
            "{} AND dept > 3 AND {}",
            ["depth > 1"; 9].join(" AND "),
            ["depth > 2"; 9].join(" AND ")
        ),
    ];
    assert_snapshot!(errors(&texts, |text| offer().cql2_text(text)));
}

#[test]
fn mistakes_in_json_have_their_place_too() {
    let texts = [
        r#"{"op": ">", "args": [{"property": "dept"}, 100]}"#,
        r#"{"op": ">", "args": [{"property": "depth"}, "ten"]}"#,
        r#"{"op": ">", "args": [{"property": "depth"}]}"#,
        r#"{"op": ">", "args": {"property": "depth"}}"#,
        r#"{"op": ">"}"#,
        r#"{"op": ">", "args": [], "more": 1}"#,
        r#"{"op": "and", "args": [true]}"#,
        r#"{"op": "in", "args": [{"property": "depth"}, []]}"#,
        r#"{"op": "=", "args": [{"property": "depth"}, null]}"#,
        r#"{"op": "=", "args": [{"property": "depth", "of": 1}, 1]}"#,
        r#"{"op": "=", "op": "<>", "args": [1, 2]}"#,
        r#"{"op": "=", "args": [{"date": "2024-02-30"}, 1]}"#,
        r#"{"op": "t_after", "args": [{"property": "taken"}, {"interval": [".."]}]}"#,
        r#"{"op": "s_intersects", "args": [{"property": "geom"}, {"type": "Point"}]}"#,
        r#"{"op": "=", "args": [{"bbox": [1, 2]}, 1]}"#,
        r#"{"op": "=", "args": [{"property": "depth"}, 1e400]}"#,
        r#"{"op": "=", "args": [1, 2]"#,
        "depth > 1",
        "7",
        "{}",
    ];
    assert_snapshot!(errors(&texts, |text| offer().cql2_json(text)));
}

#[test]
fn mistakes_in_lists_have_their_place_too() {
    let offer = offer();
    let mut shown = errors(
        &["dept", "-depth,,label", "", "depth,-depth", "assays.ppm", "--depth", "depth desc"],
        |text| offer.sort_by(text),
    );
    shown += &errors(&["label,region,deep", "label,label", "assays.ppm", "label,"], |text| {
        offer.properties(text)
    });
    shown += &errors(
        &[
            "total(depth)",
            "sum",
            "sum(label)",
            "sum(depth",
            "sum()",
            "count, count",
            "count as rock",
            "sum(depth) as 1st",
            "sum(assays.ppm)",
            "",
        ],
        |text| offer.totals("rock", text),
    );
    let totals = || offer.totals("rock", "count, sum(depth) as metres").unwrap();
    shown += &errors(&["meters > 3", "depth > 3", "metres > 'x'"], |text| totals().having(text));
    shown += &errors(&["-depth"], |text| totals().sort_by(text));
    assert_snapshot!(shown);
}

#[test]
fn only_offered_uses_are_allowed_and_the_error_lists_them() {
    let offer = Offer::of::<Specimen>()
        .value(
            Offered::name("label")
                .only([OfferedUse::Equal, OfferedUse::In, OfferedUse::Like])
                .unsorted(),
            |s| s.label,
        )
        .value(Offered::name("depth").only([OfferedUse::Ordered]), |s| s.top_m)
        .value(Offered::name("taken").only([OfferedUse::Temporal]), |s| s.taken_on)
        .value(Offered::name("secret").only([]).unsorted(), |s| s.id)
        .build()
        .unwrap();
    let texts = [
        "label <> 'x'",
        "label > 'x'",
        "label IS NULL",
        "CASEI(label) = 'x'",
        "depth = 1",
        "depth BETWEEN 1 AND 2",
        "depth + 0 > 1",
        "taken > DATE('2020-01-01')",
        "secret = 1",
    ];
    let mut shown = errors(&texts, |text| offer.cql2_text(text));
    shown += &errors(&["label"], |text| offer.sort_by(text));
    shown += &errors(&["sum(depth)"], |text| offer.totals("", text));
    assert_snapshot!(shown);
    for text in
        ["label IN ('x')", "label LIKE '%'", "depth >= 1", "T_AFTER(taken, DATE('2020-01-01'))"]
    {
        let _ = offer.cql2_text(text).unwrap();
    }
}

#[test]
fn a_saved_filter_of_an_older_offer_says_which_name_is_gone() {
    let old = Offer::of::<Specimen>()
        .value("depth", |s| s.top_m)
        .value("tray", |s| s.id)
        .build()
        .unwrap();
    let saved = serde_json::to_string(&old.cql2_text("depth > 1 AND tray = 7").unwrap()).unwrap();
    let err = offer().cql2_json(&saved).unwrap_err();
    let mistake = err.mistake().unwrap();
    assert!(mistake.message().starts_with("unknown name `tray`"), "{err}");
    assert_eq!(
        saved
            .get(mistake.offset()..)
            .unwrap()
            .get(..mistake.length()),
        Some(r#"{"property":"tray"}"#)
    );
}

#[test]
fn a_filter_of_rust_is_checked_as_its_text() {
    let offer = offer();
    let filter = property("depth").gt(0.5) & property("region").one_of(["Upper Tarn", "O'Hara"]);
    let filter = offer
        .filter_of(filter | property("withdrawn").is_null())
        .unwrap();
    let text = "depth > 0.5 AND region IN ('Upper Tarn', 'O''Hara') OR withdrawn IS NULL";
    assert_eq!(filter.to_string(), text);
    assert_eq!(offer.cql2_text(text).unwrap(), filter);

    let err = offer
        .filter_of(property("depth").gt(1) & property("rokc").eq("basalt"))
        .unwrap_err();
    assert_eq!(
        err.to_string(),
        "unknown name `rokc`; did you mean `rock`? (position 14)\n  depth > 1 AND rokc = 'basalt'\n                ^^^^",
    );
    // Values without a form in CQL2.
    for filter in [property("depth").gt(f64::NAN), property("depth").lt(f64::INFINITY)] {
        assert_eq!(offer.filter_of(filter).unwrap_err().kind(), ErrorKind::InvalidRequest);
    }
    // Deeper than any offer reads, and still no stack that overflows.
    let mut deep = property("depth").gt(1);
    for _ in 0..100_000 {
        deep = !(deep & property("depth").gt(1));
    }
    assert_eq!(offer.filter_of(deep).unwrap_err().kind(), ErrorKind::InvalidRequest);
}

#[test]
fn an_offer_with_names_that_cannot_be_is_refused_when_it_is_built() {
    let assays = Offer::of::<Assay>()
        .value("ppm", |a| a.ppm)
        .build()
        .unwrap();
    let new = Offer::of::<Specimen>;
    let mut shown = String::new();
    for builder in [
        new()
            .value("depth", |s| s.top_m)
            .value("depth", |s| s.base_m),
        new().value("", |s| s.top_m),
        new().value("7th", |s| s.top_m),
        new().value("top depth", |s| s.top_m),
        new()
            .children("assays", |s| s.assays(), &assays)
            .value("assays.count", |s| s.assays().count()),
        new().function("half of", |(x,): (Expr<Option<f64>>,)| x / 2),
    ] {
        writeln!(shown, "{}", builder.build().unwrap_err()).unwrap();
    }
    assert_snapshot!(shown);
}
