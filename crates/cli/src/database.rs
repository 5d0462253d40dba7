//! The database of a command: `--database`, `NEPHELINE_DATABASE`, or the demo in memory.

use anyhow::Result;
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

const VARIABLE: &str = "NEPHELINE_DATABASE";

impl DatabaseOptions {
    /// Opens the database.
    pub(crate) fn open(&self) -> Result<Database> {
        let from_environment = || std::env::var(VARIABLE).ok().filter(|url| !url.is_empty());
        match self.database.clone().or_else(from_environment) {
            Some(url) => Ok(Database::open(&url)?),
            None => nepheline_coreshed::in_memory(),
        }
    }
}
