//! The database of a command: `--database`, `NEPHELINE_DATABASE`, or the demo in memory.

use std::fmt;
use std::time::Duration;

use anyhow::{Result, bail};
use clap::Args;
use nepheline::blocking::Database;
use tokio::runtime::Runtime;
use tokio::signal;

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

    /// Opens the database for statements that Ctrl-C stops.
    pub(crate) fn serve(&self) -> Result<Served> {
        // One thread drives the connections, also while the command waits for a line.
        let mut builder = tokio::runtime::Builder::new_multi_thread();
        let runtime = builder.worker_threads(1).enable_all().build()?;
        let database = match self.url() {
            Some(url) => runtime.block_on(nepheline::Database::open(&url))?,
            None => runtime.block_on(nepheline_coreshed::in_memory_for_async())?,
        };
        Ok(Served { runtime, database })
    }

    /// Returns the URL of the database, if one was given.
    fn url(&self) -> Option<String> {
        let from_environment = || std::env::var(VARIABLE).ok().filter(|url| !url.is_empty());
        self.database.clone().or_else(from_environment)
    }
}

/// A database whose running statement Ctrl-C stops.
pub(crate) struct Served {
    runtime: Runtime,
    database: nepheline::Database,
}

impl Served {
    pub(crate) fn database(&self) -> &nepheline::Database {
        &self.database
    }

    /// Waits for a statement. Ctrl-C stops it.
    ///
    /// # Errors
    ///
    /// Those of the statement, and [`Stopped`].
    pub(crate) fn wait<T, E: Into<anyhow::Error>>(
        &self,
        work: impl Future<Output = Result<T, E>>,
    ) -> Result<T> {
        self.runtime.block_on(async {
            tokio::select! {
                biased;
                done = work => done.map_err(Into::into),
                // The library stops what is dropped here in the database too.
                _ = signal::ctrl_c() => Err(Stopped.into()),
            }
        })
    }
}

/// The longest wait for a statement that is stopped, at the end of the command.
const LAST_WAIT: Duration = Duration::from_secs(5);

impl Drop for Served {
    /// Waits for statements that are being stopped: a server would go on with them after the command has ended.
    fn drop(&mut self) {
        let closed = async { tokio::time::timeout(LAST_WAIT, self.database.close()).await };
        // A server that does not answer in time is left alone.
        let _ = self.runtime.block_on(closed);
    }
}

/// The error of a statement that Ctrl-C stopped.
#[derive(Debug)]
pub(crate) struct Stopped;

impl fmt::Display for Stopped {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("stopped")
    }
}

impl std::error::Error for Stopped {}
