//! Texts that nobody meant well: each is a filter or a mistake with a place, within bounds and without a panic.

use std::time::{Duration, Instant};

use nepheline::prelude::*;
use nepheline::{MistakeKind, Offer};
use nepheline_coreshed::Specimen;
use proptest::collection::vec;
use proptest::prelude::*;
use proptest::sample::select;

use crate::generated::filter;
use crate::offer;

/// Checks what is true of every text.
fn check(offer: &Offer<Specimen>, text: &str) -> Result<(), TestCaseError> {
    for result in [offer.cql2_text(text), offer.cql2_json(text)] {
        match result {
            Ok(filter) => {
                let again = offer.cql2_text(&filter.to_string());
                prop_assert_eq!(again.as_ref().ok(), Some(&filter));
            }
            Err(err) => check_mistake(&err, text)?,
        }
    }
    for err in [
        offer.sort_by(text).err(),
        offer.properties(text).err(),
        offer.totals(text, "count").err(),
        offer.totals("rock", text).err(),
    ] {
        err.map_or(Ok(()), |err| check_mistake(&err, text))?;
    }
    Ok(())
}

fn check_mistake(err: &Error, text: &str) -> Result<(), TestCaseError> {
    prop_assert_eq!(err.kind(), ErrorKind::InvalidRequest);
    let mistake = err.mistake().unwrap();
    prop_assert!(mistake.offset() + mistake.length() <= text.len(), "{:?}", mistake);
    prop_assert!(text.is_char_boundary(mistake.offset()));
    prop_assert!(text.is_char_boundary(mistake.offset() + mistake.length()));
    prop_assert_eq!(mistake.marked().lines().count(), 2);
    prop_assert!(mistake.message().len() < 2_000, "{}", mistake.message());
    Ok(())
}

/// Words of the language, well or badly put together.
fn words() -> impl Strategy<Value = String> {
    const WORDS: &[&str] = &[
        "depth",
        "label",
        "rock",
        "assays.ppm",
        "taken",
        "overdue",
        "nothing",
        "AND",
        "OR",
        "NOT",
        "LIKE",
        "BETWEEN",
        "IN",
        "IS",
        "NULL",
        "TRUE",
        "(",
        ")",
        ",",
        "=",
        "<>",
        "<",
        "+",
        "-",
        "*",
        "/",
        "%",
        "^",
        "div",
        "1",
        "2.5",
        "1e400",
        "0e6320",
        "1e-30",
        "1e-400",
        "'x'",
        "'",
        "\"",
        "\"label\"",
        "DATE('2020-01-01')",
        "DATE(",
        "TIMESTAMP('x')",
        "INTERVAL('..', taken)",
        "CASEI(",
        "T_AFTER(",
        "length(",
        "S_INTERSECTS(",
        "ø",
        "\0",
        "\n",
        "{",
        "}",
        "[",
        "]",
        ":",
        "\"op\"",
        "\"args\"",
        "\"and\"",
        "\"property\"",
        "count",
        "sum(depth)",
        "as",
        "-depth",
    ];
    vec(select(WORDS), 0..12).prop_map(|words| words.join(" "))
}

/// A filter as JSON, with some bytes changed.
fn broken_json() -> impl Strategy<Value = String> {
    let changes = vec((any::<prop::sample::Index>(), select(&b"{}[]\",:x0\\ "[..])), 0..4);
    (filter(), changes).prop_map(|(text, changes)| {
        let Ok(filter) = offer().cql2_text(&text) else { return text };
        let mut json = serde_json::to_vec(&filter).unwrap();
        for (place, byte) in changes {
            let place = place.index(json.len());
            json[place] = byte;
        }
        String::from_utf8_lossy(&json).into_owned()
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn every_text_is_a_filter_or_a_mistake_with_a_place(
        text in prop_oneof![words(), broken_json(), ".{0,60}", "[a-z0-9 ()=<>'\"+*.,-]{0,60}"],
    ) {
        check(&offer(), &text)?;
    }
}

#[test]
fn a_number_has_one_form_whatever_it_was_written_as() {
    let offer = offer();
    for (written, shown) in [
        ("1.50", "1.5"),
        ("2.5e2", "250"),
        ("0e6320", "0"),
        ("-0.0", "0"),
        ("1111111e22", "11111110000000000000000000000"),
        ("79228162514264337593543950335", "79228162514264337593543950335"),
        ("1e29", "1e29"),
        ("1e-30", "1e-30"),
        // Two texts are equally near to its float.
        ("1113333333333311.3", "1113333333333311.3"),
    ] {
        let filter = offer.cql2_text(&format!("depth = {written}")).unwrap();
        assert_eq!(filter.to_string(), format!("depth = {shown}"));
        assert_eq!(offer.cql2_text(&filter.to_string()).unwrap(), filter);
        assert_eq!(
            offer
                .cql2_json(&serde_json::to_string(&filter).unwrap())
                .unwrap(),
            filter
        );
    }
    for written in [
        "1e400",
        "1e-400",
        "0.12345678901234567890123456789012",
        "-.0000000200000000000000000055515957",
    ] {
        assert!(offer.cql2_text(&format!("depth = {written}")).is_err(), "{written}");
    }
}

#[test]
fn what_is_too_large_is_refused_before_any_work_grows() {
    let terms = |count: usize| vec!["depth = 1"; count].join(" AND ");
    let large = [
        ("deep brackets", "(".repeat(100_000)),
        ("deep brackets within the bound of bytes", "(".repeat(60_000)),
        ("deep NOT", "NOT ".repeat(10_000)),
        ("deep minus", format!("depth > {}1", "-(".repeat(30_000))),
        ("deep sum", format!("depth > 1{}", " + 1".repeat(500))),
        ("deep functions", "length(".repeat(9_000)),
        ("deep JSON", "[".repeat(60_000)),
        ("deep operators", r#"{"op":"not","args":["#.repeat(3_000)),
        ("a long text", format!("label = '{}'", "x".repeat(10_000_000))),
        ("many terms", terms(100_000)),
        ("many terms within the bound of bytes", terms(1_200)),
        ("a long list", format!("depth IN (1{})", ",1".repeat(20_000))),
        ("a name of many dots", format!("{}a = 1", "a.".repeat(30_000))),
        (
            "many members",
            format!(
                "{{{}}}",
                (0..8_000)
                    .map(|n| format!("\"{n}\":1"))
                    .collect::<Vec<_>>()
                    .join(",")
            ),
        ),
        ("a computed value beside many items", {
            let value = vec!["(depth * 2)"; 30].join(" + ");
            format!("{value} IN ({})", vec!["results"; 400].join(", "))
        }),
        ("a long sort", "depth,".repeat(1_000)),
    ];
    let offer = offer();
    for (what, text) in &large {
        let start = Instant::now();
        let errors = [
            offer.cql2_text(text).err(),
            offer.cql2_json(text).err(),
            offer.sort_by(text).err(),
            offer.properties(text).err(),
            offer.totals(text, "count").err(),
        ];
        let mistakes = errors
            .iter()
            .map(|err| err.as_ref().unwrap().mistake().unwrap());
        let kinds: Vec<MistakeKind> = mistakes.map(|mistake| mistake.kind()).collect();
        assert!(kinds.contains(&MistakeKind::TooLarge), "{what}: {kinds:?}");
        // Far more than it takes: this only tells linear time from any other.
        assert!(start.elapsed() < Duration::from_secs(5), "{what} took {:?}", start.elapsed());
    }

    // At the bounds, all is well: the tree becomes SQL that every engine accepts.
    let bounded = offer.cql2_text(&terms(500)).unwrap();
    let nested = format!("{}depth > 1{}", "NOT (".repeat(30), ")".repeat(30));
    let nested = offer.cql2_text(&nested).unwrap();
    let db = nepheline_coreshed::in_memory().unwrap();
    for filter in [bounded, nested] {
        db.count(&Specimen::rows().filter(filter.scope())).unwrap();
    }
}

#[test]
fn an_offer_sets_its_own_bounds() {
    let offer = Offer::of::<Specimen>()
        .value("depth", |s| s.top_m)
        .most_bytes(40)
        .most_terms(4)
        .build()
        .unwrap();
    assert!(offer.cql2_text("depth > 1 AND depth < 2").is_ok());
    let err = offer.cql2_text("depth IN (1, 2, 3, 4)").unwrap_err();
    assert_eq!(err.mistake().unwrap().message(), "the filter has more than 4 names and values");
    let err = offer.cql2_text(&"depth > 1 AND ".repeat(4)).unwrap_err();
    assert_eq!(
        err.mistake().unwrap().message(),
        "the filter has 56 bytes, and at most 40 are allowed"
    );
}
