//! Drafted Rust compiles and agrees with its database, also after somebody has edited it and the schema has changed.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod made;

use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::{env, fs};

use nepheline::Script;
use nepheline::blocking::{Database, RunsQueries};
use nepheline_live::blocking::LiveDatabase;
use nepheline_live::{Catalog, CatalogTable, DraftOptions, compare_files, draft, draft_folder};

/// An engine with a messy schema: odd, clashing and reserved names, composite and circular references, every type, a view, and a
/// table without a key.
struct Engine {
    name: &'static str,
    url: String,
    schema: &'static str,
    /// Changes of the schema: a column comes, one changes its type, one may be NULL now, and one goes.
    change: &'static str,
    drop: &'static str,
}

const SQLITE: [&str; 3] = [
    r#"
    CREATE TABLE "draft type" (id INTEGER PRIMARY KEY, "self" TEXT NOT NULL, "type" TEXT, "camelCase" REAL NOT NULL,
        "with ""quotes""" TEXT, "1st" INTEGER, camel_case INTEGER, made DATE, at DATETIME, ok BOOLEAN NOT NULL, raw BLOB,
        price TEXT, seen TEXT DEFAULT 'never', twice INTEGER GENERATED ALWAYS AS (id * 2) VIRTUAL);
    CREATE TABLE draft_query (room INTEGER NOT NULL, "row" INTEGER NOT NULL, owner_id INTEGER REFERENCES draft_owner,
        PRIMARY KEY (room, "row"));
    CREATE TABLE draft_owner (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, home_room INTEGER, home_row INTEGER,
        boss INTEGER REFERENCES draft_owner, "Type_id" INTEGER REFERENCES "draft type", by_name TEXT REFERENCES draft_owner (name),
        FOREIGN KEY (home_room, home_row) REFERENCES draft_query, UNIQUE (name, boss));
    CREATE TABLE draft_badge (owner_id INTEGER PRIMARY KEY REFERENCES draft_owner, text TEXT NOT NULL);
    CREATE TABLE draft_owner_type (owner_id INTEGER NOT NULL REFERENCES draft_owner, type_id INTEGER NOT NULL
        REFERENCES "draft type", PRIMARY KEY (owner_id, type_id));
    CREATE TABLE draft_log (line TEXT NOT NULL, rows INTEGER);
    CREATE VIEW draft_names AS SELECT name FROM draft_owner;
    "#,
    r#"ALTER TABLE draft_badge ADD COLUMN colour TEXT; ALTER TABLE draft_badge DROP COLUMN text;
       ALTER TABLE draft_badge ADD COLUMN text INTEGER; ALTER TABLE draft_log DROP COLUMN rows;
       CREATE TABLE draft_new (id INTEGER PRIMARY KEY, badge_id INTEGER REFERENCES draft_badge);"#,
    "",
];

const POSTGRES: [&str; 3] = [
    r#"
    CREATE TYPE "draft State" AS ENUM ('new', 'in use', '2nd hand', 'In Use');
    CREATE TABLE "draft type" (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, "self" text COLLATE "C" NOT NULL, "type" varchar(9),
        "camelCase" real NOT NULL, "with ""quotes""" text, "1st" integer, camel_case smallint, made date, at timestamp, seen timestamptz,
        ok boolean NOT NULL, raw bytea, price numeric(12, 2), code uuid, notes jsonb, tags text[], counts int4[] NOT NULL, host inet,
        lasts interval, valid daterange, "when" time, state "draft State" NOT NULL, point point, twice bigint GENERATED ALWAYS AS (camel_case * 2) STORED);
    CREATE TABLE draft_owner (id bigserial PRIMARY KEY, name text NOT NULL UNIQUE, home_room integer, home_row integer,
        boss bigint REFERENCES draft_owner, "Type_id" bigint REFERENCES "draft type", by_name text REFERENCES draft_owner (name),
        UNIQUE (name, boss));
    CREATE TABLE draft_query (room integer NOT NULL, "row" integer NOT NULL, owner_id bigint REFERENCES draft_owner,
        PRIMARY KEY (room, "row"));
    ALTER TABLE draft_owner ADD FOREIGN KEY (home_room, home_row) REFERENCES draft_query;
    CREATE TABLE draft_badge (owner_id bigint PRIMARY KEY REFERENCES draft_owner, text text NOT NULL);
    CREATE TABLE draft_owner_type (owner_id bigint REFERENCES draft_owner, type_id bigint REFERENCES "draft type", PRIMARY KEY (owner_id, type_id));
    CREATE TABLE draft_log (line text NOT NULL, rows integer);
    CREATE VIEW draft_names AS SELECT name FROM draft_owner;
    COMMENT ON TABLE draft_badge IS 'Worn by an owner'; COMMENT ON COLUMN draft_badge.text IS E'Printed\non it';
    "#,
    r#"ALTER TYPE "draft State" ADD VALUE 'lent' AFTER 'new'; ALTER TABLE draft_badge ADD COLUMN colour text; ALTER TABLE draft_badge ALTER COLUMN text DROP NOT NULL;
       ALTER TABLE draft_badge ALTER COLUMN text TYPE bigint USING 1; ALTER TABLE draft_log DROP COLUMN rows;
       CREATE TABLE draft_new (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, badge_id bigint REFERENCES draft_badge);"#,
    r#"DROP VIEW IF EXISTS draft_names; DROP TABLE IF EXISTS draft_new, draft_log, draft_owner_type, draft_badge, draft_query, draft_owner,
       "draft type" CASCADE; DROP TYPE IF EXISTS "draft State""#,
];

const MARIADB: [&str; 3] = [
    r#"
    CREATE TABLE `draft type` (id BIGINT AUTO_INCREMENT PRIMARY KEY, `self` VARCHAR(40) COLLATE utf8mb4_nopad_bin NOT NULL, `type` VARCHAR(9),
        `camelCase` FLOAT NOT NULL, `with "quotes"` TEXT, `1st` INT, camel_case SMALLINT, made DATE, at DATETIME(6), seen TIMESTAMP(6) NULL,
        ok BOOLEAN NOT NULL, raw BLOB, price DECIMAL(12, 2), code UUID, tiny TINYINT UNSIGNED, big INT UNSIGNED, `when` TIME(6),
        state ENUM('new', 'in use', '2nd hand') NOT NULL, place POINT, twice BIGINT AS (camel_case * 2) STORED) CHARACTER SET utf8mb4;
    CREATE TABLE draft_owner (id BIGINT AUTO_INCREMENT PRIMARY KEY, name VARCHAR(90) NOT NULL UNIQUE, home_room INT, home_row INT,
        boss BIGINT, `Type_id` BIGINT, by_name VARCHAR(90), UNIQUE (name, boss), FOREIGN KEY (boss) REFERENCES draft_owner (id),
        FOREIGN KEY (`Type_id`) REFERENCES `draft type` (id), FOREIGN KEY (by_name) REFERENCES draft_owner (name)) CHARACTER SET utf8mb4;
    CREATE TABLE draft_query (room INT NOT NULL, `row` INT NOT NULL, owner_id BIGINT, PRIMARY KEY (room, `row`),
        FOREIGN KEY (owner_id) REFERENCES draft_owner (id));
    ALTER TABLE draft_owner ADD CONSTRAINT draft_home FOREIGN KEY (home_room, home_row) REFERENCES draft_query (room, `row`);
    CREATE TABLE draft_badge (owner_id BIGINT PRIMARY KEY, text VARCHAR(40) NOT NULL COMMENT 'Printed on it',
        FOREIGN KEY (owner_id) REFERENCES draft_owner (id)) COMMENT 'Worn by an owner';
    CREATE TABLE draft_owner_type (owner_id BIGINT, type_id BIGINT, PRIMARY KEY (owner_id, type_id),
        FOREIGN KEY (owner_id) REFERENCES draft_owner (id), FOREIGN KEY (type_id) REFERENCES `draft type` (id));
    CREATE TABLE draft_log (line VARCHAR(90) NOT NULL, `rows` INT);
    CREATE VIEW draft_names AS SELECT name FROM draft_owner;
    "#,
    r#"ALTER TABLE `draft type` MODIFY state ENUM('spare', 'new', 'in use', 'lent', '2nd hand', 'sold') NOT NULL;
       ALTER TABLE draft_badge ADD COLUMN colour VARCHAR(9), MODIFY text BIGINT; ALTER TABLE draft_log DROP COLUMN `rows`;
       CREATE TABLE draft_new (id BIGINT AUTO_INCREMENT PRIMARY KEY, badge_id BIGINT, FOREIGN KEY (badge_id) REFERENCES draft_badge (owner_id));"#,
    r#"DROP VIEW IF EXISTS draft_names; ALTER TABLE IF EXISTS draft_owner DROP FOREIGN KEY IF EXISTS draft_home; DROP TABLE IF EXISTS draft_new, draft_log, draft_owner_type, draft_badge,
       draft_query, draft_owner, `draft type`"#,
];

/// The folder of the files that a run makes.
fn folder() -> PathBuf {
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join("draft_cycle");
    fs::create_dir_all(&folder).unwrap();
    folder
}

fn engines() -> Vec<Engine> {
    let file = folder().join("draft.db");
    let _ = fs::remove_file(&file);
    let mut engines = vec![Engine {
        name: "sqlite",
        url: format!("sqlite:{}?mode=rwc", file.display()),
        schema: SQLITE[0],
        change: SQLITE[1],
        drop: SQLITE[2],
    }];
    let servers = [
        ("postgres", "NEPHELINE_TEST_POSTGRES", POSTGRES),
        ("mariadb", "NEPHELINE_TEST_MARIADB", MARIADB),
    ];
    for (name, variable, [schema, change, drop]) in servers {
        match env::var(variable) {
            Ok(url) => engines.push(Engine { name, url, schema, change, drop }),
            Err(_) => assert!(
                env::var("NEPHELINE_TEST_SERVERS").is_err(),
                "{variable} has to name a test database"
            ),
        }
    }
    engines
}

fn run(db: &Database, text: &str) {
    if !text.is_empty() {
        db.run_script(&Script::trusting_text_made_at_run_time(text))
            .unwrap();
    }
}

/// Returns the tables of this test, because other tests use the same database.
fn own(catalog: &Catalog) -> Vec<&CatalogTable> {
    catalog
        .tables
        .iter()
        .filter(|table| table.name.starts_with("draft"))
        .collect()
}

/// Returns what somebody makes of a draft: a type of their own, a comment, a method, another order and spaces.
fn edited(draft: &str) -> String {
    let draft = draft.replace("    New,\n", "    New, // as bought\n");
    let badge = draft.find("pub struct DraftBadge").unwrap();
    let (before, after) = draft.split_at(badge);
    let after = after.replacen(
        "    pub owner_id: i64,\n",
        "    pub owner_id:   i64, // whoever wears it\n",
        1,
    );
    format!(
        "{before}{after}\nimpl DraftBadge {{\n    /// Somebody wrote this.\n    pub fn is_worn(&self) -> bool {{ self.owner_id > 0 }}\n}}\n"
    )
}

/// Adds a draft to a program, as a module.
fn add_module(program: &mut String, name: &str, draft: &str) {
    let lines = draft.lines().filter(|line| !line.starts_with("//!"));
    let inner = lines.fold(String::new(), |all, line| all + line + "\n");
    let _ = writeln!(program, "mod {name} {{\n{inner}\n}}");
}

/// Returns a program that verifies drafts.
fn program(drafts: &[(Engine, String)]) -> String {
    let mut text = String::from("#![allow(dead_code)]\n");
    for (engine, draft) in drafts {
        add_module(&mut text, engine.name, draft);
    }
    text.push_str("fn main() {\n    use nepheline_live::blocking::LiveDatabase;\n");
    for (engine, draft) in drafts {
        let structs = draft
            .lines()
            .filter_map(|line| line.strip_prefix("pub struct ")?.strip_suffix(" {"));
        let expected: String = structs
            .map(|name| format!(".table::<{}::{name}>()", engine.name))
            .collect();
        let _ = writeln!(
            text,
            "    let db = nepheline::blocking::Database::open({:?}).unwrap();\n    \
             let expected = nepheline_live::Expected::new(){expected};\n    \
             let found = db.verify(&expected).unwrap();\n    \
             assert!(found.is_empty(), \"{}: {{found}}\");",
            engine.url, engine.name,
        );
    }
    text.push_str("}\n");
    text
}

#[test]
fn drafts_agree_with_the_database_and_keep_what_people_wrote() {
    let _alone = alone();
    cycle();
}

/// Returns how many schemas chance makes.
fn made_seeds(usual: u64) -> u64 {
    env::var("NEPHELINE_DRAFT_SEEDS").map_or(usual, |seeds| seeds.parse().unwrap())
}

/// Schemas that chance makes are drafted, changed, and drafted again. `NEPHELINE_DRAFT_SEEDS` says how many.
#[test]
fn drafts_of_made_schemas_agree_with_the_database() {
    let _alone = alone();
    made_cycle(made_seeds(3));
}

/// The long form compiles what was drafted, and compares the compiled structs with each database.
#[test]
#[ignore = "compiles a program"]
fn drafts_compile_and_agree_with_the_database() {
    let path = folder().join("program.rs");
    let _alone = alone();
    let made = made_cycle(made_seeds(4));
    let mut text = program(&cycle());
    for (name, draft) in made {
        add_module(&mut text, &name, &draft);
    }
    // The same into a folder of files.
    let db = nepheline_coreshed::in_memory().unwrap();
    let catalog = db.catalog().unwrap();
    let tables: Vec<&CatalogTable> = catalog.tables.iter().collect();
    let drafted = draft_folder(db.dialect(), &tables, &[], &DraftOptions::default()).unwrap();
    let shed = folder().join("shed");
    fs::create_dir_all(&shed).unwrap();
    for (name, text) in &drafted.files {
        fs::write(shed.join(name), text).unwrap();
    }
    let _ = write!(text, "#[path = {:?}]\nmod shed;\n", shed.join("mod.rs"));
    let again =
        draft_folder(db.dialect(), &tables, &drafted.files, &DraftOptions::default()).unwrap();
    assert!(again.files.is_empty() && again.changes.is_empty(), "{again:?}");
    fs::write(&path, text).unwrap();
    trybuild::TestCases::new().pass(&path);
}

/// Keeps the tests apart, because they share the databases.
fn alone() -> MutexGuard<'static, ()> {
    static ALONE: Mutex<()> = Mutex::new(());
    ALONE.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Drafts made schemas on every engine before and after a change; returns the last drafts with the URL of their engine.
fn made_cycle(seeds: u64) -> Vec<(String, String)> {
    let removing = DraftOptions { remove_fields: true, schema: None };
    let mut drafts = Vec::new();
    for engine in engines() {
        let db = Database::open(&engine.url).unwrap();
        run(&db, engine.drop);
        for seed in 0..seeds {
            let made = made::make(engine.name, seed);
            let at = format!("{} with the seed {seed}:\n{}", engine.name, made.schema);
            run(&db, &made.drop);
            run(&db, &made.schema);
            let mut text = None;
            for change in ["", &made.change] {
                run(&db, change);
                let catalog = db.catalog().unwrap();
                let drafted =
                    draft(db.dialect(), &own(&catalog), text.as_deref(), &removing).unwrap();
                let found = compare_files(db.dialect(), &catalog, &[&drafted.text]).unwrap();
                assert!(found.is_empty(), "{at}{change}\n{found}\n{}", drafted.text);
                let again =
                    draft(db.dialect(), &own(&catalog), Some(&drafted.text), &removing).unwrap();
                assert_eq!(again.text, drafted.text, "{at}{change}");
                text = Some(drafted.text);
            }
            drafts.extend(text.map(|text| (format!("{}_{seed}", engine.name), text)));
            run(&db, &made.drop);
        }
    }
    drafts
}

/// Drafts on every engine, edits the draft, changes the schema, and drafts again; returns the last drafts.
fn cycle() -> Vec<(Engine, String)> {
    let kept_fields = DraftOptions::default();
    let mut drafts = Vec::new();
    let mut told = String::new();
    for engine in engines() {
        let db = Database::open(&engine.url).unwrap();
        run(&db, engine.drop);
        run(&db, engine.schema);
        let catalog = db.catalog().unwrap();
        let first = draft(db.dialect(), &own(&catalog), None, &kept_fields).unwrap();
        let again = draft(db.dialect(), &own(&catalog), Some(&first.text), &kept_fields).unwrap();
        assert_eq!(again.text, first.text, "{}", engine.name);
        assert!(again.changes.is_empty() && again.gone.is_empty(), "{again:?}");
        let found = compare_files(db.dialect(), &catalog, &[&first.text]).unwrap();
        assert!(found.is_empty(), "{}: {found}", engine.name);
        insta::assert_snapshot!(format!("draft of {}", engine.name), first.text);
        let turned = first
            .text
            .replace("by (home_room, home_row)", "by (home_row, home_room)");
        let found = compare_files(db.dialect(), &catalog, &[&turned]).unwrap();
        assert_eq!(found.len(), 1, "the columns of a reference are in order: {found}");

        // Somebody edits it, and the schema changes.
        let edited = edited(&first.text);
        let kept = draft(db.dialect(), &own(&catalog), Some(&edited), &kept_fields).unwrap();
        assert_eq!(kept.text, edited, "{}", engine.name);
        run(&db, engine.change);
        let catalog = db.catalog().unwrap();
        let drift = compare_files(db.dialect(), &catalog, &[&edited]).unwrap();
        assert!(!drift.is_empty());
        let changed = draft(db.dialect(), &own(&catalog), Some(&edited), &kept_fields).unwrap();
        assert!(
            changed
                .text
                .contains("    pub owner_id:   i64, // whoever wears it\n")
        );
        assert!(
            changed
                .text
                .contains("pub fn is_worn(&self) -> bool { self.owner_id > 0 }")
        );
        if engine.name == "postgres" {
            assert!(
                changed.text.contains("    New, // as bought\n    Lent,\n"),
                "{}",
                changed.text
            );
        }
        let removed = draft(
            db.dialect(),
            &own(&catalog),
            Some(&changed.text),
            &DraftOptions { remove_fields: true, schema: None },
        )
        .unwrap();
        let _ = writeln!(
            told,
            "-- {}\n{drift}\nchanged: {:#?}\ngone: {:#?}\nthen: {:#?}\n",
            engine.name, changed.changes, changed.gone, removed.changes,
        );
        let found = compare_files(db.dialect(), &catalog, &[&removed.text]).unwrap();
        assert!(found.is_empty(), "{}: {found}", engine.name);
        drafts.push((engine, removed.text));
    }
    insta::assert_snapshot!("changes", told);
    drafts
}
