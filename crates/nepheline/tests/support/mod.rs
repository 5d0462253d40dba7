//! The engines that tests run on: SQLite always, a server where its URL is given.
//!
//! | variable | names |
//! |---|---|
//! | `NEPHELINE_TEST_POSTGRES` | a PostgreSQL database that tests may do with what they like |
//! | `NEPHELINE_TEST_MARIADB` | the same of MariaDB or MySQL |
//! | `NEPHELINE_TEST_SERVERS` | `required`: without both of them a test fails instead of leaving them out |

#![allow(dead_code, reason = "no test file needs all of it")]

pub(crate) mod chapter;
#[cfg(unix)]
pub(crate) mod own_server;
pub(crate) mod shed;

use std::io::Write;
use std::sync::{Mutex, OnceLock};

use nepheline::blocking::Database;
use nepheline::prelude::*;

/// An engine under test.
#[derive(Debug, Clone)]
pub(crate) struct Engine {
    pub(crate) name: &'static str,
    pub(crate) url: String,
}

const SERVERS: [(&str, &str); 2] =
    [("PostgreSQL", "NEPHELINE_TEST_POSTGRES"), ("MariaDB", "NEPHELINE_TEST_MARIADB")];

/// Every engine there is.
pub(crate) fn engines() -> Vec<Engine> {
    engines_with("test")
}

/// Every engine there is, with a SQLite file of that name: tests that lock a file need one of their own.
pub(crate) fn engines_with(file: &str) -> Vec<Engine> {
    let mut engines = vec![sqlite(file)];
    engines.extend(servers());
    engines
}

/// Every engine there is, each with a handle of a database that holds the core shed.
pub(crate) fn demos() -> Vec<(Engine, Database)> {
    let engines = engines().into_iter();
    engines
        .map(|engine| {
            let db = engine.demo();
            (engine, db)
        })
        .collect()
}

/// The servers that are there. What is left out is said, past the test runner's capture.
pub(crate) fn servers() -> Vec<Engine> {
    static TOLD: OnceLock<()> = OnceLock::new();
    let (mut there, mut missing) = (Vec::new(), Vec::new());
    for (name, variable) in SERVERS {
        match std::env::var(variable) {
            Ok(url) => there.push(Engine { name, url }),
            Err(_) => {
                missing.push(format!("{name} (set {variable} to the URL of a test database)"))
            }
        }
    }
    if !missing.is_empty() {
        let missing = missing.join(", ");
        let required = std::env::var("NEPHELINE_TEST_SERVERS").is_ok_and(|v| v == "required");
        assert!(!required, "servers are required, and these are not there: {missing}");
        TOLD.get_or_init(|| {
            let _ = writeln!(std::io::stderr(), "LEFT OUT: the tests on {missing}");
        });
    }
    there
}

pub(crate) fn server(name: &str) -> Option<Engine> {
    servers().into_iter().find(|engine| engine.name == name)
}

fn sqlite(file: &str) -> Engine {
    // One file for the process, so that every connection sees the same.
    static FOLDER: OnceLock<tempfile::TempDir> = OnceLock::new();
    let folder = FOLDER.get_or_init(|| tempfile::tempdir().unwrap());
    let path = folder.path().join(format!("{file}.db"));
    let url = format!("sqlite:{}?mode=rwc", path.display());
    Engine { name: "SQLite", url }
}

impl Engine {
    pub(crate) fn open(&self) -> Database {
        Database::open(&self.url).unwrap()
    }

    pub(crate) async fn open_async(&self) -> nepheline::Database {
        nepheline::Database::open(&self.url).await.unwrap()
    }

    /// A handle of a database that holds the core shed.
    pub(crate) fn demo(&self) -> Database {
        // Loading is for one thread at a time.
        static LOADING: Mutex<()> = Mutex::new(());
        let _alone = LOADING.lock().unwrap();
        let db = self.open();
        nepheline_coreshed::load(&db).unwrap();
        db
    }

    pub(crate) fn dialect(&self) -> Dialect {
        match self.name {
            "SQLite" => Dialect::Sqlite,
            "PostgreSQL" => Dialect::Postgres,
            _ => Dialect::MariaDb,
        }
    }

    /// The one of three texts that is for this engine.
    pub(crate) fn pick<'t>(&self, sqlite: &'t str, postgres: &'t str, mariadb: &'t str) -> &'t str {
        match self.name {
            "SQLite" => sqlite,
            "PostgreSQL" => postgres,
            _ => mariadb,
        }
    }

    /// The URL with another parameter.
    pub(crate) fn with(&self, parameter: &str) -> String {
        let mark = if self.url.contains('?') { '&' } else { '?' };
        format!("{}{mark}{parameter}", self.url)
    }
}

/// Compares a page with the one in `docs`. `UPDATE_EXPECT=1` writes it anew.
pub(crate) fn check_page(name: &str, page: &str) {
    expect_test::expect_file![format!("../../../../docs/{name}")].assert_eq(page);
}
