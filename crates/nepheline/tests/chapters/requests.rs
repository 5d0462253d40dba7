//! The chapter on filters, sorts, properties and totals that arrive with requests.

use std::fmt::Write as _;

use nepheline::blocking::RunsQueries as _;
use nepheline::cql2::property;
use nepheline::prelude::*;
use nepheline::{NamedRows, Offer, Readable, Sql};
use nepheline_coreshed::{Specimen, offers};

use crate::support::chapter::Chapter;
use crate::support::shed::sheds;

fn offer() -> Offer<Specimen> {
    offers::specimens(date(2026, 6, 15)).unwrap()
}

/// Adds a request, its SQL on PostgreSQL, and its rows, which all engines return alike.
fn asked<Q>(chapter: &mut Chapter, what: &str, request: &[(&str, &str)], query: &Q, sql: Sql)
where
    Q: Readable<Row: serde::Serialize>,
{
    let mut text = format!("\n{what}\n\n```text\n");
    for (parameter, value) in request {
        writeln!(text, "{parameter}={value}").unwrap();
    }
    text.push_str("```\n");
    chapter.append(&text);
    chapter.sql(&[sql]);
    let mut agreed: Option<String> = None;
    for (engine, db) in sheds() {
        let rows = db.read(query).unwrap();
        let shown: Vec<String> = rows
            .iter()
            .map(|row| serde_json::to_string(row).unwrap())
            .collect();
        let shown = shown.join("\n");
        match &agreed {
            Some(agreed) if *agreed != shown => {
                chapter.fault(format!("{what} On {}: {shown}, not {agreed}", engine.name));
            }
            _ => agreed = Some(shown),
        }
    }
    chapter.append(&format!("```json\n{}\n```\n", agreed.unwrap()));
}

/// Adds a filter, with the labels of the first specimens that pass.
fn filtered(chapter: &mut Chapter, what: &str, text: &str) {
    let (offer, sort) = (offer(), "-depth,label");
    let query = Specimen::rows()
        .filter(offer.cql2_text(text).unwrap().scope())
        .order_by(offer.sort_by(sort).unwrap().orders());
    let query = offer
        .properties("label,depth")
        .unwrap()
        .rows_of(query)
        .limit(2);
    let request =
        [("filter", text), ("sortby", sort), ("properties", "label,depth"), ("limit", "2")];
    let sql = query.sql(Dialect::Postgres).unwrap();
    asked(chapter, what, &request, &query, sql);
}

fn totalled<T: nepheline::Tables, L: nepheline::Level>(
    chapter: &mut Chapter,
    what: &str,
    request: &[(&str, &str)],
    query: &NamedRows<T, L>,
) {
    let sql = query.sql(Dialect::Postgres).unwrap();
    asked(chapter, what, request, query, sql);
}

#[test]
fn requests() {
    let mut chapter = Chapter::new(
        "",
        r#"
# Filters, sorts and fields of requests

Your lists, reports and admin pages take filters from users: a query string, a JSON body, a saved search. An `Offer` names what they
may use. Each name has a closure, so that a name is a column, a column of a parent, a computed or counted value, a condition, or
child rows with names of their own. Everything else cannot be named, values are binds, and policies hold as everywhere. A test
writes this page and runs each request on SQLite, PostgreSQL and MariaDB.

```rust
pub fn specimens(today: Date) -> Result<Offer<Specimen>, Error> {
    Offer::of::<Specimen>()
        .value(Offered::name("label").described("the text on the label"), |s| s.label)
        .value("rock", |s| s.rock)
        .value("depth", |s| s.top_m)
        .value("taken", |s| s.taken_on)
        .value("withdrawn", |s| s.withdrawn_at)
        .value("region", |s| s.borehole().site().region)
        .value("results", |s| s.assays().count())
        .value("overdue", move |s| s.assays().any(scopes::overdue(today)))
        .children("assays", |s| s.assays(), &assays()?)
        .function("length", |(text,): (Expr<Option<String>>,)| text.length())
        .build()
}

// In a handler. A mistake of the request is an error of kind InvalidRequest, with its place.
let filter = offer.cql2_text(&request.filter)?;
let sort = offer.sort_by(&request.sortby)?;
let specimens = Specimen::rows().filter(filter.scope()).order_by(sort.orders());
let page = db.read_page(&offer.properties(&request.properties)?.rows_of(specimens), paging)?;
```

Build an offer once, in a `LazyLock` or the state of the service. `Offered::name("label")` has settings: a description, the allowed
uses (`only([OfferedUse::Equal, OfferedUse::In])`), no sorting (`unsorted()`). `cargo run -p nepheline --all-features --example service`
answers such requests over HTTP, and `--example triples` reads a field, an operator and a value from JSON.
"#,
    );

    chapter.section("Filters");
    filtered(
        &mut chapter,
        "A value of the row, and one of a parent:",
        "depth > 100 AND region LIKE 'Upper%'",
    );
    filtered(
        &mut chapter,
        "A condition that the program has named, compared with a boolean, and a test for NULL:",
        "withdrawn IS NULL AND overdue = TRUE",
    );
    filtered(
        &mut chapter,
        "Children. The terms that one AND joins are about the same assay:",
        "assays.ppm > 400 AND assays.element = 'Nd'",
    );
    filtered(
        &mut chapter,
        "Dates and intervals. `'..'` is an open end:",
        "T_DURING(taken, INTERVAL('2023-01-01', '..')) AND NOT rock IN ('basalt', 'gneiss')",
    );
    filtered(
        &mut chapter,
        "Arithmetic, a counted value, and text without regard to case:",
        "(depth + 1) / 2 > results * 30 AND CASEI(label) LIKE CASEI('kp-%')",
    );

    chapter.section("Sorts, properties and totals");
    let offer = offer();
    let sort = offer.sort_by("region,-depth").unwrap();
    let query = offer.properties("label,depth,region").unwrap();
    let query = query
        .rows_of(Specimen::rows().order_by(sort.orders()))
        .limit(2);
    totalled(
        &mut chapter,
        "A sort as OGC API writes it, and properties in the order in which they are asked for:",
        &[("sortby", "region,-depth"), ("properties", "label,depth,region"), ("limit", "2")],
        &query,
    );
    let (keys, totals, having, sortby) =
        ("region", "count, max(depth) as deepest", "deepest > 750", "-deepest");
    let query = offer.totals(keys, totals).unwrap();
    let query = query.having(having).unwrap().sort_by(sortby).unwrap();
    totalled(
        &mut chapter,
        "Groups, totals and a condition on them, by `offer.totals(keys, totals)?.having(..)?.sort_by(..)?.rows_of(query)`:",
        &[("keys", keys), ("totals", totals), ("having", having), ("sortby", sortby)],
        &query.rows_of(Specimen::rows()),
    );
    chapter.append(
        r#"
`read_page` and `read_after` take all of these queries, totals included: the group keys complete their order.

A program groups by a key that it chooses at run time in the same way, with its own text: `offer.totals(key, "count")?`. Without
an offer, the columns of one type stand in one `match`:

```rust
Specimen::rows().select(|s| {
    let key: Expr<String> = match by {
        By::Region => s.borehole().site().region.into(),
        By::Borehole => s.borehole().name.into(),
    };
    (per(key), count())
});
```
"#,
    );

    chapter.section("Mistakes");
    chapter.append(
        r#"
`err.mistake()` has the kind, the message, the offset and the length in bytes, and serialises as an object of them.
`mistake.marked()` is the line with a mark below the place. An error names nothing but the text and what is offered.

```text
"#,
    );
    for text in [
        "dept > 100",
        "depth > 'ten' AND overdue = TRUE",
        "depth > 1 AND rock = 'cheese'",
        "taken > DATE('2024-02-30')",
        "depth > 100 AND",
        "overdue",
        "S_INTERSECTS(geom, POINT(1 2))",
    ] {
        writeln_in(&mut chapter, &offer.cql2_text(text).unwrap_err().to_string());
    }
    chapter.append("```\n");

    chapter.section("Saved searches and links");
    let filter = property("depth").between(50, 60) & property("label").like("KP-%");
    let filter = offer.filter_of(filter).unwrap();
    chapter.append(&format!(
        r#"
An `OfferedFilter` serialises as CQL2 JSON and is displayed as CQL2 Text. `offer.cql2_json(..)` reads a saved one back; if the offer
has changed, the error says which name is gone. A filter can be built in Rust too, for a link:

```rust
let filter = offer.filter_of(property("depth").between(50, 60) & property("label").like("KP-%"))?;
```
```text
{filter}
```
```json
{}
```

`offer.json_schema()` describes the parameters and the names as JSON Schema, for the documentation of an API.
"#,
        serde_json::to_string(&filter).unwrap()
    ));
    chapter.append(RULES);
    chapter.finish("requests.md");
}

fn writeln_in(chapter: &mut Chapter, text: &str) {
    chapter.append(&format!("{text}\n\n"));
}

/// The rules, which need no rows.
const RULES: &str = r#"
## What it means

- **NULL.** A comparison with NULL is NULL, as in SQL: the row passes neither the condition nor its opposite. `IS NULL` tests for it.
- **Children.** A term on children holds for a row that has such a child. Terms that one AND joins are about the same child, also
  through an OR or AND inside it; `Offered::name("assays").each_apart()` makes each stand for itself. NOT is outside, and so it is in
  `NOT IN`, `NOT LIKE`, `NOT BETWEEN` and `IS NOT NULL`, which are NOT of a term in the standard: `assays.element NOT IN ('Nd')` holds
  for a row without such an assay. An assay of another element is `assays.element <> 'Nd'`.
- **Numbers.** Whole numbers, decimals and floats compare by value. `/` and `^` give a float, also for whole numbers; `%` and `div`
  need whole numbers. Division by 0 is NULL.
- **Text** compares by code point, `CASEI` letter by letter as `any_case()` does: `ß` is not `ss`.
- **Types.** The texts of enums and the ranges of integers are checked. A time of day and a UUID are written as text. A timestamp
  without a zone is compared with the date and time in UTC. Bytes, JSON, arrays and other types of PostgreSQL can be tested for NULL
  and selected.
- **Order.** NULLs come last in either direction of a sort. Booleans and database enums have no `<`.
- **Rows.** `NamedValues` serialises decimals, dates, times, UUIDs and enums as text, bytes in hexadecimal, JSON as it is.
- **Bounds.** A filter has at most 65,536 bytes and 1,000 names and values (`most_bytes`, `most_terms`), and 64 levels. It is read in
  linear time. A list has at most 4,096 bytes.

## Conformance to CQL2 (OGC 21-065r2)

Supported: Basic CQL2, Advanced Comparison Operators (LIKE, BETWEEN, IN), Case-insensitive Comparison (in part: letter by letter, without full
case folding), Temporal Functions, Property-Property Comparisons, Arithmetic Expressions, Functions (those that an offer lists), CQL2 Text
and CQL2 JSON. BETWEEN also takes dates, timestamps and text. Not supported, and refused by name: spatial functions and values, array functions,
accent-insensitive comparison. A quote inside a text is doubled; a backslash before it is not read as an escape.

```text
boolean      = and { "OR" and }
and          = factor { "AND" factor }
factor       = [ "NOT" ] primary
primary      = predicate | function | "TRUE" | "FALSE" | "(" boolean ")"
predicate    = scalar comparison scalar
             | character [ "NOT" ] "LIKE" pattern
             | scalar [ "NOT" ] "BETWEEN" scalar "AND" scalar
             | scalar [ "NOT" ] "IN" "(" scalar { "," scalar } ")"
             | scalar "IS" [ "NOT" ] "NULL"
             | temporal-function "(" temporal "," temporal ")"
comparison   = "=" | "<>" | "<" | "<=" | ">" | ">="
scalar       = property | text | number | instant | arithmetic | "TRUE" | "FALSE" | function | "CASEI" "(" character ")"
character    = "CASEI" "(" character ")" | property | text | function
pattern      = "CASEI" "(" text ")" | text
arithmetic   = term { ("+" | "-") term }
term         = power { ("*" | "/" | "%" | "div") power }
power        = value [ "^" value ]
value        = [ "-" ] ( "(" arithmetic ")" | number | property | function )
temporal     = instant | "INTERVAL" "(" end "," end ")" | property | function
instant      = "DATE" "(" text ")" | "TIMESTAMP" "(" text ")"
end          = text | property | "'..'"
text         = "'" { any character but "'" | "''" } "'"
property     = identifier | '"' { any character but '"' } '"'
identifier   = (letter | "_" | ":") { letter | digit | "_" | "." | ":" }
function     = identifier "(" [ argument { "," argument } ] ")"
```

Keywords are read in any case. The temporal functions are `T_AFTER`, `T_BEFORE`, `T_CONTAINS`, `T_DISJOINT`, `T_DURING`, `T_EQUALS`,
`T_FINISHEDBY`, `T_FINISHES`, `T_INTERSECTS`, `T_MEETS`, `T_METBY`, `T_OVERLAPPEDBY`, `T_OVERLAPS`, `T_STARTEDBY` and `T_STARTS`.
"#;
