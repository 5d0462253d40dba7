//! The database of a command: `--database`, `NEPHELINE_DATABASE`, or the demo in memory.

use anyhow::{Result, bail};
use clap::Args;
use nepheline::blocking::Database;

#[derive(Debug, Args)]
pub(crate) struct DatabaseOptions {
    /// The database. Without it, and without the environment variable NEPHELINE_DATABASE, the demo data in memory is
    /// used.
    // The variable is read later than the other arguments, because the parser would print the URL, password and all.
    #[arg(long, value_name = "URL")]
    database: Option<String>,
}

/// The answer to a command that would write into the demo data in memory.
const NOWHERE: &str = "there is no database that keeps the rows: name one, such as --database 'sqlite:core.db?mode=rwc'";

const VARIABLE: &str = "NEPHELINE_DATABASE";

impl DatabaseOptions {
    /// Opens the database.
    pub(crate) fn open(&self) -> Result<Database> {
        match self.url() {
            Some(url) => Ok(Database::open(&url)?),
            None => nepheline_coreshed::in_memory(),
        }
    }

    /// Opens the database, which must last longer than the command.
    pub(crate) fn open_lasting(&self) -> Result<Database> {
        match self.url() {
            Some(url) => Ok(Database::open(&url)?),
            None => bail!("{NOWHERE}"),
        }
    }

    /// Returns the URL of the database, if one was given.
    fn url(&self) -> Option<String> {
        let from_environment = || std::env::var(VARIABLE).ok().filter(|url| !url.is_empty());
        self.database.clone().or_else(from_environment)
    }
}
