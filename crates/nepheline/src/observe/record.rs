//! What ran: a record of statements, for tests and for eyes.

use std::fmt;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use nepheline_core::{ErrorKind, Origin};

use super::gate::{Gate, Passed, Passing};

/// A record of the statements that handles run, in the order in which they ended.
///
/// Give it to a handle with `recording_to`; clones of a record are the same record. Statements that
/// begin and end a transaction or set its savepoints are not among them.
///
/// ```
/// use nepheline::Record;
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
/// let record = Record::new();
/// let db = db.recording_to(&record);
///
/// let mark = record.mark();
/// db.read(&Borehole::rows().alongside(|b| b.specimens()))?;
/// let ran = record.since(mark);
/// assert_eq!(ran.len(), 2, "this page costs two statements");
/// assert_eq!(ran[1].rows(), 3);
/// println!("{}", ran[1]); // 3 rows in 0.1 ms @ src/pages.rs:12: SELECT ..
/// # Ok(())
/// # }
/// ```
#[derive(Debug, Clone, Default)]
pub struct Record {
    ran: Arc<Mutex<Vec<Ran>>>,
}

/// A place in a [`Record`]; see [`Record::mark`].
#[derive(Debug, Clone, Copy)]
pub struct RecordMark(usize);

impl Record {
    /// An empty record.
    pub fn new() -> Record {
        Record::default()
    }

    /// Returns how many statements ran so far.
    pub fn len(&self) -> usize {
        self.lock().len()
    }

    /// Returns whether nothing ran so far.
    pub fn is_empty(&self) -> bool {
        self.lock().is_empty()
    }

    /// The place that the record is at now, to ask later what ran [`since`](Self::since).
    pub fn mark(&self) -> RecordMark {
        RecordMark(self.len())
    }

    /// What ran since a mark of this record.
    pub fn since(&self, mark: RecordMark) -> Vec<Ran> {
        self.lock().get(mark.0..).unwrap_or_default().to_vec()
    }

    /// All that ran.
    pub fn all(&self) -> Vec<Ran> {
        self.since(RecordMark(0))
    }

    fn lock(&self) -> MutexGuard<'_, Vec<Ran>> {
        self.ran.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A statement that ran.
#[derive(Debug, Clone)]
pub struct Ran {
    sql: Box<str>,
    origin: Origin,
    rows: u64,
    took: Duration,
    completed: bool,
}

impl Ran {
    /// Its text, which holds no values.
    pub fn sql(&self) -> &str {
        &self.sql
    }

    /// The line of the program that began the query.
    pub fn origin(&self) -> Origin {
        self.origin
    }

    /// Returns how many rows arrived.
    pub fn rows(&self) -> u64 {
        self.rows
    }

    /// How long it took from the moment it was sent until its last row had arrived, without the wait
    /// for a connection.
    pub fn took(&self) -> Duration {
        self.took
    }

    /// Returns whether it came to its end: it did not if it failed, or if nobody waited for it any more.
    pub fn completed(&self) -> bool {
        self.completed
    }
}

impl fmt::Display for Ran {
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

impl Gate for Record {
    fn after(&self, passing: &Passing, passed: &Passed<'_>) {
        if passing.operation().is_of_transaction() {
            return;
        }
        // What a later gate refused did not run.
        if passed.error().is_some_and(|err| err.kind() == ErrorKind::Refused) {
            return;
        }
        self.lock().push(Ran {
            sql: passing.sql().into(),
            origin: passing.origin(),
            rows: passed.rows(),
            took: passed.took(),
            completed: passed.completed(),
        });
    }
}
