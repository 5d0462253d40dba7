//! Queries over tables that are only known at run time, against typed queries over the same rows.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use nepheline::blocking::{Database, RunsQueries};
use nepheline::prelude::*;
use nepheline::{NamedValues, Paging, Script};
use nepheline_coreshed::guarded::AgencyId;
use nepheline_coreshed::{Borehole, Specimen, load};
use nepheline_live::LiveTables;
use nepheline_live::blocking::LiveDatabase;
use support::databases;

/// A database of each engine with the demo, and its tables.
fn demos() -> Vec<(Database, LiveTables)> {
    let loaded = databases().into_iter().map(|db| {
        load(&db).unwrap();
        let tables = LiveTables::of(&db.catalog().unwrap(), db.dialect());
        (db, tables)
    });
    loaded.collect()
}

/// Returns the values of rows as text, with commas between.
fn shown(rows: &[NamedValues]) -> Vec<String> {
    let line = |row: &NamedValues| {
        let values = row
            .iter()
            .map(|(name, _)| row.json(name).unwrap().to_string());
        values.collect::<Vec<_>>().join(",")
    };
    rows.iter().map(line).collect()
}

#[test]
fn columns_parents_and_children_are_those_of_typed_queries() {
    for (db, tables) in demos() {
        let dialect = db.dialect();
        let query = tables
            .table("specimen")
            .unwrap()
            .filter("top_m > 500 AND borehole.site.region LIKE 'Upper%'")
            .filter("assays.ppm > 400 AND assays.element = 'Nd' AND analyst.name IS NOT NULL")
            .show("label,borehole.site.region,analyst.name,parent.label")
            .sort_by("-top_m,label")
            .rows()
            .unwrap();
        let typed = Specimen::rows()
            .filter(|s| s.top_m.gt(500) & s.borehole().site().region.like("Upper%"))
            .filter(|s| s.assays().any(|a| a.ppm.gt(400) & a.element.eq("Nd")))
            .filter(|s| s.analyst_id.is_not_null())
            .order_by(|s| (s.top_m.desc(), s.label.asc()))
            .select(|s| {
                let analyst = s.analyst().map(|a| a.name);
                (s.label, s.borehole().site().region, analyst, s.parent().map(|p| p.label))
            });
        let typed: Vec<String> = db
            .read(&typed)
            .unwrap()
            .into_iter()
            .map(|(label, region, analyst, parent)| {
                let values = [Some(label), Some(region), analyst, parent];
                values
                    .map(|value| serde_json::to_string(&value).unwrap())
                    .join(",")
            })
            .collect();
        assert!(!typed.is_empty());
        assert_eq!(shown(&db.read(&query).unwrap()), typed, "on {dialect}");

        // Children of children, and the rows that refer to their own table.
        for (filter, count) in [
            ("specimens.assays.element = 'Ce' AND specimens.assays.ppm > 1500", {
                let rich = Borehole::rows().filter(|b| {
                    b.specimens()
                        .any(|s| s.assays().any(|a| a.element.eq("Ce") & a.ppm.gt(1500)))
                });
                db.count(&rich).unwrap()
            }),
            ("NOT specimens.specimens.top_m > 0", {
                let unsplit = Borehole::rows()
                    .filter(|b| b.specimens().filter(|s| s.parts().exists()).not_exists());
                db.count(&unsplit).unwrap()
            }),
        ] {
            let query = tables
                .table("borehole")
                .unwrap()
                .filter(filter)
                .rows()
                .unwrap();
            assert_eq!(db.count(&query).unwrap(), count, "{filter} on {dialect}");
            assert!(count > 0 && count < 40, "{filter}: {count}");
        }
    }
}

#[test]
fn groups_have_totals_pages_and_every_column_a_value() {
    for (db, tables) in demos() {
        let dialect = db.dialect();
        let totals = tables
            .table("specimen")
            .unwrap()
            .totals("rock", "count, max(top_m) as deepest");
        let query = totals
            .having("count > 60")
            .sort_by("-count")
            .rows()
            .unwrap();
        let typed = Specimen::rows()
            .select(|s| (per(s.rock), count(), max(s.top_m)))
            .having(|_| count().gt(60))
            .order_by(|_| count().desc());
        let typed: Vec<String> = db
            .read(&typed)
            .unwrap()
            .into_iter()
            .map(|(rock, count, deepest)| {
                format!("{},{count},{:?}", serde_json::to_value(rock).unwrap(), deepest.unwrap())
            })
            .collect();
        assert_eq!(shown(&db.read(&query).unwrap()), typed, "on {dialect}");

        // Pages of either kind over a query without a struct.
        let all = tables
            .table("lab")
            .unwrap()
            .sort_by("country")
            .rows()
            .unwrap();
        let page = db.read_page(&all, Paging::page_size(2).page(2)).unwrap();
        let first = db.read_after(&all, None, 2).unwrap();
        let second = db.read_after(&all, first.after(), 2).unwrap();
        assert_eq!((page.total_rows(), page.rows().len()), (5, 2), "on {dialect}");
        assert_eq!(second.rows().len(), 2);

        // Each table of the demo can be read as a whole.
        for name in [
            "agency",
            "site",
            "borehole",
            "collar",
            "analyst",
            "specimen",
            "lab",
            "assay",
            "invoice_line",
        ] {
            let rows = db
                .read(&tables.table(name).unwrap().limit(3).rows().unwrap())
                .unwrap();
            assert_eq!(rows.len(), 3, "{name} on {dialect}");
        }
    }
}

#[test]
fn a_database_enum_and_odd_names_are_values_like_others() {
    for (db, _) in demos() {
        let (drops, types) = match db.dialect() {
            Dialect::Postgres => (
                "DROP TABLE IF EXISTS live_bag; DROP TYPE IF EXISTS live_hue",
                "CREATE TYPE live_hue AS ENUM ('red', 'green'); \
                 CREATE TABLE live_bag (id bigint PRIMARY KEY, hue live_hue NOT NULL, tags text[], note jsonb, weight numeric(8, 3))",
            ),
            Dialect::Sqlite => (
                "DROP TABLE IF EXISTS live_bag",
                "CREATE TABLE live_bag (id INTEGER PRIMARY KEY, hue TEXT NOT NULL, tags TEXT, note JSON, weight NUMERIC)",
            ),
            _ => (
                "DROP TABLE IF EXISTS live_bag",
                "CREATE TABLE live_bag (id BIGINT PRIMARY KEY, hue ENUM('red', 'green') NOT NULL, tags TEXT, note JSON, weight DECIMAL(8, 3))",
            ),
        };
        let rows = "INSERT INTO live_bag (id, hue, note, weight) VALUES (1, 'red', '{\"a\": [1]}', 1.250), (2, 'green', NULL, NULL)";
        let run = |text: &str| {
            db.run_script(&Script::trusting_text_made_at_run_time(text))
                .unwrap()
        };
        run(drops);
        run(&format!("{types}; {rows}"));
        let tables = LiveTables::of(&db.catalog().unwrap(), db.dialect());
        let bags = tables.table("live_bag").unwrap();
        let query = bags
            .clone()
            .filter("hue = 'red' AND weight > 1.2 AND tags IS NULL")
            .rows()
            .unwrap();
        let found = db.read(&query).unwrap();
        assert_eq!(found.len(), 1, "on {}", db.dialect());
        // JSON of MariaDB is a text with a check.
        if db.dialect() != Dialect::MariaDb {
            assert_eq!(found[0].json("note").unwrap(), serde_json::json!({"a": [1]}));
        }
        assert_eq!(found[0].json("hue").unwrap(), "red");
        if db.dialect() == Dialect::Postgres {
            let err = bags.filter("hue = 'blue'").rows().unwrap_err();
            assert_eq!(err.mistake().unwrap().message(), "'blue' is not one of 'red', 'green'");
        }
        run(drops);
    }
}

#[test]
fn a_handle_that_requires_policies_refuses_them_unless_they_stand_outside() {
    for (db, tables) in demos() {
        let db = db.policies_required::<AgencyId>().carrying(AgencyId(1));
        let err = db
            .read(&tables.table("site").unwrap().rows().unwrap())
            .unwrap_err();
        assert_eq!(err.kind(), ErrorKind::PoliciesRequired);
        let outside = tables.outside_policies();
        let query = outside
            .table("site")
            .unwrap()
            .filter("boreholes.depth_m > 1")
            .rows()
            .unwrap();
        assert!(!db.read(&query).unwrap().is_empty(), "on {}", db.dialect());
    }
}
