//! The databases that the tests run on.

use std::env;

use nepheline::blocking::Database;

/// A database of each engine. Without its URL an engine is left out, unless the servers are required.
pub(crate) fn databases() -> Vec<Database> {
    let mut databases = vec![Database::open("sqlite::memory:").unwrap()];
    for variable in ["NEPHELINE_TEST_POSTGRES", "NEPHELINE_TEST_MARIADB"] {
        match env::var(variable) {
            Ok(url) => databases.push(Database::open(&url).unwrap()),
            Err(_) => assert!(
                env::var("NEPHELINE_TEST_SERVERS").is_err(),
                "{variable} has to name a test database"
            ),
        }
    }
    databases
}
