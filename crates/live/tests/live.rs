//! The catalog of each engine, and the differences between structs and tables.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::sync::{Mutex, MutexGuard, PoisonError};

use nepheline::blocking::{Database, RunsQueries};
use nepheline::prelude::*;
use nepheline::{Script, script, statement};
use nepheline_coreshed as shed;
use nepheline_live::blocking::LiveDatabase;
use nepheline_live::{Catalog, DifferenceKind, Expected, Subject};
use support::databases;

/// Keeps the tests apart, because they share their tables.
fn alone() -> MutexGuard<'static, ()> {
    static ALONE: Mutex<()> = Mutex::new(());
    ALONE.lock().unwrap_or_else(PoisonError::into_inner)
}

fn run(db: &Database, text: &str) {
    db.run_script(&Script::trusting_text_made_at_run_time(text))
        .unwrap();
}

fn pick<'t>(db: &Database, [sqlite, postgres, mariadb]: [&'t str; 3]) -> &'t str {
    match db.dialect() {
        Dialect::Sqlite => sqlite,
        Dialect::Postgres => postgres,
        _ => mariadb,
    }
}

/// Returns the tables of this test, because other tests use the same database.
fn own(mut catalog: Catalog) -> Catalog {
    catalog
        .tables
        .retain(|table| table.name.starts_with("live_"));
    catalog.enums.retain(|of| of.name.starts_with("live_"));
    catalog
        .routines
        .retain(|routine| routine.name.starts_with("live_"));
    let masked = |schema: &mut Option<String>| {
        *schema = schema.take().map(|_| "(of the session)".to_owned())
    };
    catalog
        .enums
        .iter_mut()
        .for_each(|of| masked(&mut of.schema));
    catalog
        .routines
        .iter_mut()
        .for_each(|routine| masked(&mut routine.schema));
    for table in &mut catalog.tables {
        masked(&mut table.schema);
        table.estimated_rows = None;
        for reference in &mut table.references {
            reference.target_schema = None;
        }
    }
    catalog
}

const SCHEMAS: [&str; 3] = [
    r#"
    CREATE TABLE live_shelf (room INTEGER NOT NULL, "row no" INTEGER NOT NULL, PRIMARY KEY (room, "row no"));
    CREATE TABLE live_tray (
        id INTEGER PRIMARY KEY, code TEXT COLLATE NOCASE NOT NULL, room INTEGER NOT NULL, row_no INTEGER NOT NULL,
        weight NUMERIC CHECK (weight > 0), note TEXT DEFAULT 'none', double_id INTEGER GENERATED ALWAYS AS (id * 2) VIRTUAL, made_on DATE,
        UNIQUE (code, room), FOREIGN KEY (room, row_no) REFERENCES live_shelf ON DELETE CASCADE);
    CREATE UNIQUE INDEX live_one_note ON live_tray (note) WHERE note <> 'none';
    CREATE INDEX live_by_weight ON live_tray (weight, lower(code));
    CREATE VIEW live_heavy AS SELECT id, code FROM live_tray WHERE weight > 10;
    "#,
    r#"
    CREATE TYPE live_state AS ENUM ('whole', 'split', 'lost');
    CREATE DOMAIN live_code AS varchar(12) CHECK (VALUE <> '');
    CREATE TABLE live_shelf (room integer NOT NULL, "row no" integer NOT NULL, PRIMARY KEY (room, "row no"));
    CREATE TABLE live_tray (
        id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, code live_code COLLATE "C" NOT NULL, room integer NOT NULL,
        row_no integer NOT NULL, weight numeric(8, 2) CHECK (weight > 0), note text DEFAULT 'none',
        double_id bigint GENERATED ALWAYS AS (room * 2) STORED, made_on date, state live_state NOT NULL, tags text[],
        CONSTRAINT live_code_room UNIQUE (code, room),
        CONSTRAINT live_on_shelf FOREIGN KEY (room, row_no) REFERENCES live_shelf ON DELETE CASCADE);
    COMMENT ON TABLE live_tray IS 'A box of cores'; COMMENT ON COLUMN live_tray.code IS 'Printed on it';
    CREATE UNIQUE INDEX live_one_note ON live_tray (note) WHERE note <> 'none';
    CREATE INDEX live_by_weight ON live_tray (weight, lower(code));
    CREATE VIEW live_heavy AS SELECT id, code FROM live_tray WHERE weight > 10;
    CREATE FUNCTION live_weight(tray bigint, unit text DEFAULT 'kg') RETURNS numeric LANGUAGE sql AS 'SELECT 1.0';
    "#,
    r#"
    CREATE TABLE live_shelf (room INT NOT NULL, `row no` INT NOT NULL, PRIMARY KEY (room, `row no`));
    CREATE TABLE live_tray (
        id BIGINT AUTO_INCREMENT PRIMARY KEY, code VARCHAR(12) COLLATE utf8mb4_nopad_bin NOT NULL COMMENT 'Printed on it',
        room INT NOT NULL, row_no INT NOT NULL, weight DECIMAL(8, 2), note VARCHAR(40) DEFAULT 'none',
        double_id BIGINT AS (room * 2) STORED, made_on DATE, state ENUM('whole', 'split', 'it''s lost') NOT NULL, seats INT UNSIGNED,
        CONSTRAINT live_heavier CHECK (weight > 0), CONSTRAINT live_code_room UNIQUE (code, room),
        CONSTRAINT live_on_shelf FOREIGN KEY (room, row_no) REFERENCES live_shelf (room, `row no`) ON DELETE CASCADE)
        COMMENT 'A box of cores' CHARACTER SET utf8mb4;
    CREATE INDEX live_by_weight ON live_tray (weight, code);
    CREATE VIEW live_heavy AS SELECT id, code FROM live_tray WHERE weight > 10;
    CREATE FUNCTION live_weight(tray BIGINT, unit VARCHAR(9)) RETURNS DECIMAL(8, 2) DETERMINISTIC RETURN 1.0;
    "#,
];

const DROPS: [&str; 3] = [
    "DROP VIEW IF EXISTS live_heavy; DROP TABLE IF EXISTS live_tray; DROP TABLE IF EXISTS live_shelf",
    "DROP VIEW IF EXISTS live_heavy; DROP TABLE IF EXISTS live_tray; DROP TABLE IF EXISTS live_shelf; \
     DROP TYPE IF EXISTS live_state; DROP DOMAIN IF EXISTS live_code; DROP FUNCTION IF EXISTS live_weight(bigint, text)",
    "DROP VIEW IF EXISTS live_heavy; DROP TABLE IF EXISTS live_tray; DROP TABLE IF EXISTS live_shelf; \
     DROP FUNCTION IF EXISTS live_weight",
];

#[test]
fn the_catalog_of_each_engine() {
    let _alone = alone();
    for db in databases() {
        run(&db, pick(&db, DROPS));
        run(&db, pick(&db, SCHEMAS));
        let catalog = own(db.catalog().unwrap());
        insta::assert_json_snapshot!(format!("catalog of {}", db.dialect()), catalog);
        run(&db, pick(&db, DROPS));
    }
}

#[test]
fn the_structs_of_the_shed_agree_with_its_tables_on_every_engine() {
    let expected = Expected::new()
        .table::<shed::Agency>()
        .table::<shed::Site>()
        .table::<shed::Borehole>()
        .table::<shed::Collar>()
        .table::<shed::Analyst>()
        .table::<shed::Specimen>()
        .table::<shed::Lab>()
        .table::<shed::Assay>()
        .table::<shed::Hazard>()
        .table::<shed::SpecimenHazard>()
        .table::<shed::Invoice>()
        .table::<shed::InvoiceLine>();
    for db in databases() {
        shed::load(&db).unwrap();
        let found = db.verify(&expected).unwrap();
        assert!(found.is_empty(), "{}: {found}", db.dialect());
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Storable)]
#[nepheline(database_type = "live_state")]
enum State {
    Split,
    Whole,
    Broken,
}

#[derive(Debug, Table)]
#[nepheline(table = "live_shelf")]
struct Shelf {
    #[nepheline(key)]
    room: i32,
}

#[derive(Debug, Table)]
#[nepheline(table = "live_tray", unique(code, made_on))]
struct Tray {
    #[nepheline(key, generated)]
    id: i32,
    #[nepheline(unique, by_code_point)]
    code: Option<String>,
    #[nepheline(references = Shelf, called = shelf)]
    room: i32,
    weight: f64,
    note: Option<i64>,
    double_id: Option<i64>,
    made_on: Option<Date>,
    state: State,
    labell: Option<String>,
}

#[derive(Debug, Table)]
#[nepheline(table = "live_nowhere")]
struct Nowhere {
    #[nepheline(key)]
    id: i64,
}

#[test]
fn each_difference_is_told_with_its_way_out() {
    let _alone = alone();
    let mut told = Vec::new();
    for db in databases() {
        run(&db, pick(&db, DROPS));
        run(&db, pick(&db, SCHEMAS));
        let expected = Expected::new()
            .table::<Tray>()
            .table::<Shelf>()
            .table::<Nowhere>();
        let found = db.verify(&expected).unwrap();
        told.push(format!("-- {}\n{}", db.dialect(), found.clone().into_result().unwrap_err()));
        run(&db, pick(&db, DROPS));
    }
    insta::assert_snapshot!(told.join("\n\n"));
}

#[tokio::test]
async fn async_handles_have_the_same_methods() {
    use nepheline::RunsQueries as _;
    use nepheline_live::LiveDatabase as _;

    let db = nepheline::Database::open("sqlite::memory:").await.unwrap();
    assert!(db.catalog().await.unwrap().tables.is_empty());
    let found = db.verify_table::<Nowhere>().await.unwrap();
    assert_eq!(found[0].kind, DifferenceKind::MissingTable);
    db.run_script(&script!("CREATE TABLE live_nowhere (id INTEGER PRIMARY KEY)"))
        .await
        .unwrap();
    assert!(db.verify_table::<Nowhere>().await.unwrap().is_empty());
    // A statement that was prepared before does not hide that the table is gone.
    let query = Nowhere::rows();
    assert!(db.verify_query(&query).await.unwrap().is_empty());
    assert_eq!(db.describe(&query).await.unwrap().columns[0].name, "id");
    db.run_script(&script!("DROP TABLE live_nowhere"))
        .await
        .unwrap();
    let found = db.verify_query(&query).await.unwrap();
    assert_eq!(found[0].kind, DifferenceKind::RefusedQuery, "{found}");
}

#[derive(Debug, RowShape)]
struct OnTray {
    weight: Decimal,
    made_on: Date,
    note: Option<String>,
    id: String,
}

/// Returns queries of all kinds over the shed, whose rows fit.
fn fitting() -> Expected {
    use shed::{Assay, InvoiceLine, Lab, Specimen};
    Expected::new()
        .query("rows", Specimen::rows())
        .query("rows of all types", Assay::rows().order_by(|a| a.due_on.asc()))
        .query(
            "money",
            InvoiceLine::rows()
                .select(|l| (l.quantity * l.unit_price, l.tax_rate + dec!(1), l.service)),
        )
        .query(
            "totals of money",
            InvoiceLine::rows()
                .select(|l| (sum(l.unit_price), avg_decimal(l.quantity, 2), count())),
        )
        .query(
            "totals",
            Assay::rows().select(|a| (count(), avg(a.ppm), max(a.reported_on), sum(a.lab_id))),
        )
        .query(
            "a parent's value",
            Specimen::rows().select(|s| (s.label, s.analyst().map(|a| a.name), s.top_m.lt(3.0))),
        )
        .query(
            "a window",
            Specimen::rows()
                .select(|s| (s.rock, rank().over(|w| w.order_by(s.top_m.desc())), s.id + 1)),
        )
        .query("with companions", Lab::rows().alongside(|l| l.assays()))
        .query(
            "a statement",
            statement!("SELECT label, id FROM specimen").rows_as::<(String, i64)>(),
        )
        .query(
            "its structs",
            statement!("SELECT {columns of Specimen as s} FROM specimen AS s")
                .rows_as::<Specimen>(),
        )
}

/// Lets the server estimate the sizes of the tables of the shed.
fn analyze(db: &Database) {
    let text = pick(
        db,
        ["", "ANALYZE assay; ANALYZE specimen; ANALYZE lab", "ANALYZE TABLE assay, specimen, lab"],
    );
    if !text.is_empty() {
        run(db, text);
    }
}

#[test]
fn queries_are_verified_without_being_run() {
    let _alone = alone();
    let mut told = Vec::new();
    for db in databases() {
        shed::load(&db).unwrap();
        let assays = db
            .read_one(&shed::Assay::rows().select(|_| count()))
            .unwrap();
        let found = db.verify(&fitting()).unwrap();
        assert!(found.is_empty(), "{}: {found}", db.dialect());
        analyze(&db);
        let slow = Expected::new()
            .telling_scans_over(500)
            .query("all assays", shed::Assay::rows().filter(|a| a.ppm.gt(1.0)))
            .query(
                "by hand",
                statement!("SELECT element FROM assay WHERE ppm > 1").rows_as::<String>(),
            )
            .query("one assay", shed::Assay::row(3))
            .query("a small table", shed::Lab::rows().filter(|l| l.country.eq("DE")))
            .query(
                "parents",
                shed::Specimen::rows().filter(|s| s.parent().is_some_and(|p| p.top_m.gt(0.5))),
            );
        let scans = db.verify(&slow).unwrap();
        let subjects: Vec<&Subject> = scans.iter().map(|scan| &scan.subject).collect();
        let wanted = ["all assays", "by hand", "parents"].map(|name| Subject::Query(name.into()));
        assert_eq!(subjects, wanted.iter().collect::<Vec<_>>(), "{}", db.dialect());
        assert!(
            scans[0]
                .to_string()
                .contains(" rows of `assay`; add an index"),
            "{scans}"
        );
        run(&db, pick(&db, DROPS));
        run(&db, pick(&db, SCHEMAS));
        let (tray, letter) = (7, "n");
        let expected = Expected::new()
            .query(
                "trays",
                statement!("SELECT note, made_on, id, weight FROM live_tray").rows_as::<OnTray>(),
            )
            .query(
                "one column less",
                statement!("SELECT note, id, weight FROM live_tray").rows_as::<OnTray>(),
            )
            .query("no such column", Tray::rows().select(|t| (t.id, t.note, t.labell)))
            .query(
                "a delete",
                statement!("DELETE FROM assay WHERE id > {tray} RETURNING element, reported_on")
                    .rows_as::<(String, Date)>(),
            );
        let found = db.verify(&expected).unwrap().into_result().unwrap_err();
        let deep = statement!(
            "SELECT code, weight, room + 1 AS next FROM live_tray WHERE room = {tray} AND note > {letter}"
        );
        let described = db
            .describe(&deep.rows_as::<(String, Option<Decimal>, i64)>())
            .unwrap();
        let described = serde_json::to_string_pretty(&described).unwrap();
        // The lines of this file change.
        let found = found.to_string();
        let found: Vec<&str> = found
            .lines()
            .filter_map(|line| line.split("; asked for at").next())
            .collect();
        told.push(format!("-- {}\n{}\n{described}", db.dialect(), found.join("\n")));
        let left = db
            .read_one(&shed::Assay::rows().select(|_| count()))
            .unwrap();
        assert_eq!(left, assays, "the DELETE did not run");
        run(&db, pick(&db, DROPS));
    }
    insta::assert_snapshot!(told.join("\n\n"));
}
