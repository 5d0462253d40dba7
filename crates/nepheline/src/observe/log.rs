//! A log of statements, for tests and for people.

use std::fmt;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use nepheline_core::{ErrorKind, Origin};

use super::interceptor::{Interceptor, StatementOutcome, StatementInfo};

/// A log of the statements that handles run, in the order in which they ended.
///
/// A handle writes to it after `logging_to`; clones of a log are the same log. Statements that begin and end
/// a transaction or set its savepoints are not logged.
///
/// ```
/// use nepheline::StatementLog;
/// use nepheline::blocking::Database;
/// use nepheline::prelude::*;
/// # #[derive(Debug, Clone, Table)] #[nepheline(children(specimens: Specimen by borehole_id))] struct Borehole { #[nepheline(key)] id: i64 }
/// # #[derive(Debug, Clone, Table)] struct Specimen { #[nepheline(key)] id: i64, #[nepheline(references = Borehole)] borehole_id: i64 }
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// # let connection = rusqlite::Connection::open_in_memory()?;
/// # connection.execute_batch(
/// #     "CREATE TABLE borehole (id INTEGER PRIMARY KEY); CREATE TABLE specimen (id INTEGER PRIMARY KEY, borehole_id INTEGER);
/// #      INSERT INTO borehole VALUES (1), (2); INSERT INTO specimen VALUES (7, 1), (8, 2), (9, 2);",
/// # )?;
/// # let db = Database::over(connection)?;
/// let log = StatementLog::new();
/// let db = db.logging_to(&log);
///
/// let mark = log.mark();
/// db.read(&Borehole::rows().alongside(|b| b.specimens()))?;
/// let ran = log.since(mark);
/// assert_eq!(ran.len(), 2, "this page costs two statements");
/// assert_eq!(ran[1].rows(), 3);
/// println!("{}", ran[1]); // 3 rows in 0.1 ms @ src/pages.rs:12: SELECT ..
/// # Ok(())
/// # }
/// ```
#[derive(Debug, Clone, Default)]
pub struct StatementLog {
    ran: Arc<Mutex<Vec<LoggedStatement>>>,
}

/// A position in a [`StatementLog`]; see [`StatementLog::mark`].
#[derive(Debug, Clone, Copy)]
pub struct LogMark(usize);

impl StatementLog {
    /// Returns an empty log.
    pub fn new() -> StatementLog {
        StatementLog::default()
    }

    /// Returns the number of statements so far.
    pub fn len(&self) -> usize {
        self.lock().len()
    }

    /// Returns whether no statement has run so far.
    pub fn is_empty(&self) -> bool {
        self.lock().is_empty()
    }

    /// Returns the current position of the log, for a later call of [`since`](Self::since).
    pub fn mark(&self) -> LogMark {
        LogMark(self.len())
    }

    /// Returns the statements since a position of this log.
    pub fn since(&self, mark: LogMark) -> Vec<LoggedStatement> {
        self.lock().get(mark.0..).unwrap_or_default().to_vec()
    }

    /// Returns all statements.
    pub fn all(&self) -> Vec<LoggedStatement> {
        self.since(LogMark(0))
    }

    fn lock(&self) -> MutexGuard<'_, Vec<LoggedStatement>> {
        self.ran.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A statement that ran.
#[derive(Debug, Clone)]
pub struct LoggedStatement {
    sql: Box<str>,
    origin: Origin,
    rows: u64,
    took: Duration,
    completed: bool,
}

impl LoggedStatement {
    /// Returns its text, which contains no values.
    pub fn sql(&self) -> &str {
        &self.sql
    }

    /// Returns the line of the program that began the query.
    pub fn origin(&self) -> Origin {
        self.origin
    }

    /// Returns the number of rows that arrived.
    pub fn rows(&self) -> u64 {
        self.rows
    }

    /// Returns the time from sending the statement to its last row, without the wait for a connection.
    pub fn took(&self) -> Duration {
        self.took
    }

    /// Returns whether it completed. It did not if it failed, or if the caller gave up on it.
    pub fn completed(&self) -> bool {
        self.completed
    }
}

impl fmt::Display for LoggedStatement {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let rows = if self.rows == 1 { "row" } else { "rows" };
        let end = if self.completed { "" } else { ", not completed" };
        let milliseconds = self.took.as_secs_f64() * 1e3;
        write!(
            f,
            "{} {rows} in {milliseconds:.1} ms{end} @ {}: {}",
            self.rows, self.origin, self.sql
        )
    }
}

impl Interceptor for StatementLog {
    fn after(&self, info: &StatementInfo, outcome: &StatementOutcome<'_>) {
        if info.operation().is_of_transaction() {
            return;
        }
        // A statement that a later interceptor refused did not run.
        if outcome.error().is_some_and(|err| err.kind() == ErrorKind::Refused) {
            return;
        }
        self.lock().push(LoggedStatement {
            sql: info.sql().into(),
            origin: info.origin(),
            rows: outcome.rows(),
            took: outcome.took(),
            completed: outcome.completed(),
        });
    }
}
