//! The command under test, and the databases that it is run on.

#![allow(dead_code, reason = "each test uses some of it")]
#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

use std::path::Path;
use std::process::Command;

use insta_cmd::get_cargo_bin;
use nepheline::Script;
use nepheline::blocking::{Database, RunsQueries as _};

/// Returns the command with these arguments, on the demo data and without colours.
pub(crate) fn nepheline(arguments: &[&str]) -> Command {
    let mut command = Command::new(get_cargo_bin("nepheline"));
    command
        .args(arguments)
        .env("NO_COLOR", "1")
        .env_remove("NEPHELINE_DATABASE");
    command
}

/// Returns the URL of a database of each engine: a new file in a folder, and the servers that are there. They are required
/// where the environment says so.
pub(crate) fn urls(folder: &Path) -> Vec<String> {
    let mut urls = vec![format!("sqlite:{}?mode=rwc", folder.join("core.db").display())];
    for variable in ["NEPHELINE_TEST_POSTGRES", "NEPHELINE_TEST_MARIADB"] {
        match std::env::var(variable) {
            Ok(url) => urls.push(url),
            Err(_) => {
                let required =
                    std::env::var("NEPHELINE_TEST_SERVERS").is_ok_and(|v| v == "required");
                assert!(!required, "{variable} is not set, and servers are required");
            }
        }
    }
    urls
}

/// A database from which something is dropped before and after a test.
pub(crate) struct Cleared {
    pub(crate) db: Database,
    dropped: &'static [&'static str],
}

impl Cleared {
    /// Opens a database and drops these: `TABLE a`, `VIEW b`.
    pub(crate) fn open(url: &str, dropped: &'static [&'static str]) -> Cleared {
        let cleared = Cleared { db: Database::open(url).unwrap(), dropped };
        cleared.clear();
        cleared
    }

    /// Runs a script.
    pub(crate) fn run(&self, script: &str) {
        let script = Script::trusting_text_made_at_run_time(script);
        self.db.run_script(&script).unwrap();
    }

    fn clear(&self) {
        for what in self.dropped {
            self.run(&format!("DROP {}", what.replacen(' ', " IF EXISTS ", 1)));
        }
    }
}

impl Drop for Cleared {
    fn drop(&mut self) {
        if !std::thread::panicking() {
            self.clear();
        }
    }
}
