//! Orders by a collation, and pages of them.

use nepheline::blocking::RunsQueries;
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;
use nepheline::{Collation, Cursor};

use crate::support::engines;

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "totals_find")]
struct Find {
    #[nepheline(key)]
    id: i64,
    name: Option<String>,
}

const GERMAN: Collation = Collation::named("de-x-icu")
    .mariadb("utf8mb4_german2_ci")
    .sqlite("NOCASE");

#[test]
fn an_order_that_people_read_has_pages_on_each_engine() {
    let names = ["Zinn", "amber", "Ähre", "apfel", "Apfel", "zeta", "Öl"];
    for engine in engines() {
        let db = engine.open();
        let text = engine.pick("TEXT", "text", "VARCHAR(40) CHARACTER SET utf8mb4");
        db.run_text("DROP TABLE IF EXISTS totals_find", vec![])
            .unwrap();
        db.run_text(
            &format!("CREATE TABLE totals_find (id BIGINT PRIMARY KEY, name {text})"),
            vec![],
        )
        .unwrap();
        let rows = names
            .iter()
            .map(|name| Some((*name).to_owned()))
            .chain([None]);
        let rows = rows.zip(1..).map(|(name, id)| FindToInsert { id, name });
        db.write(&Find::insert_all(rows)).unwrap();

        let ascending = Find::rows().order_by(|f| (f.name.collate(GERMAN).asc(), f.id.asc()));
        let found: Vec<Option<String>> = db
            .read(&ascending)
            .unwrap()
            .into_iter()
            .map(|find| find.name)
            .collect();
        let found: Vec<&str> = found
            .iter()
            .map(|name| name.as_deref().unwrap_or("-"))
            .collect();
        // SQLite's own collation knows the case of ASCII letters only.
        assert_eq!(
            found.join(" "),
            engine.pick(
                "amber apfel Apfel zeta Zinn Ähre Öl -",
                "Ähre amber apfel Apfel Öl zeta Zinn -",
                "Ähre amber apfel Apfel Öl zeta Zinn -",
            ),
            "on {}",
            engine.name
        );

        let descending =
            Find::rows().order_by(|f| (f.name.collate(GERMAN).desc().nulls_first(), f.id.desc()));
        for query in [ascending, descending] {
            let whole = db.read(&query).unwrap();
            let (mut paged, mut after) = (Vec::new(), None::<Cursor>);
            loop {
                let page = db.read_after(&query, after.as_ref(), 2).unwrap();
                after = page.after().cloned();
                paged.extend(page.into_rows());
                if after.is_none() {
                    break;
                }
            }
            assert_eq!(paged, whole, "on {}", engine.name);
        }
        db.run_text("DROP TABLE totals_find", vec![]).unwrap();
    }
}
