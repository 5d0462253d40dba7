//! Interceptors: code around every statement, which sees it and may refuse or answer it.

use std::any::Any;
use std::fmt;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use nepheline_core::internal::Statement;
use nepheline_core::{BindValue, Carried, Dialect, Error, Operation, Origin};

use super::added::{AddedWrite, CompletedWrite};

use crate::exec::answer::Answer;
use crate::exec::sink::Sink;

/// Code around every statement of a handle; added with `intercepted_by`.
///
/// Interceptors run before a statement in the order in which they were added, and after it in the opposite
/// order. They run on the calling thread, so a slow one delays its caller; its time does not count towards
/// the statement's time or timeout. A panic propagates to the caller as if the work had panicked: inside a
/// transaction it rolls back, and the other interceptors still see the end. Statements that begin and end
/// transactions and set savepoints pass interceptors too, as [`Operation::Begin`] and the like; refusing a
/// COMMIT rolls the transaction back. The rollback of a dropped or panicked transaction passes no
/// interceptor, because no caller waits for it.
///
/// ```
/// use nepheline::blocking::Database;
/// use nepheline::prelude::*;
/// use nepheline::{Interceptor, Operation, StatementInfo, Decision};
/// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64 }
/// /// Lets nothing be written.
/// struct ReadOnly;
///
/// impl Interceptor for ReadOnly {
///     fn before(&self, info: &StatementInfo) -> Decision {
///         match info.operation() {
///             Operation::Read => Decision::Pass,
///             _ => Decision::Refuse("nothing is written tonight".into()),
///         }
///     }
/// }
///
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// # let connection = rusqlite::Connection::open_in_memory()?;
/// # connection.execute_batch("CREATE TABLE lab (id INTEGER PRIMARY KEY)")?;
/// # let db = Database::over(connection)?;
/// let db = db.intercepted_by(ReadOnly);
/// assert_eq!(db.count(&Lab::rows())?, 0);
/// let refused = db.write(&Lab::row(1).delete()).unwrap_err();
/// assert_eq!(refused.kind(), ErrorKind::Refused);
/// # Ok(())
/// # }
/// ```
pub trait Interceptor: Send + Sync + 'static {
    /// Runs before a statement is sent, and decides what happens to it.
    fn before(&self, _passing: &StatementInfo) -> Decision {
        Decision::Pass
    }

    /// Runs after a statement has completed, failed or was given up, for each statement that
    /// [`before`](Self::before) saw: also one that a later interceptor refused or answered.
    fn after(&self, _passing: &StatementInfo, _passed: &StatementOutcome<'_>) {}

    /// Tells whether [`added_writes`](Self::added_writes) may return any. A write outside a transaction then gets one.
    fn adds_writes(&self) -> bool {
        false
    }

    /// Returns writes that run right after a write of the program, in the same transaction and under the same
    /// policies: an audit trail, an outbox. They are committed and rolled back together with it. If one of them
    /// fails, all of it is undone, and the caller gets its error. Writes are added to those of the program only,
    /// not to added ones, and budgets do not count them. A `session` over a connection of the program, whose
    /// transactions the library does not know, refuses writes to which others are added.
    ///
    /// ```
    /// use nepheline::blocking::Database;
    /// use nepheline::prelude::*;
    /// use nepheline::{AddedWrite, CompletedWrite, Interceptor};
    /// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64, name: String }
    /// #[derive(Debug, Table)]
    /// struct AuditEntry {
    ///     #[nepheline(key, generated)]
    ///     id: i64,
    ///     entity: String,
    ///     changed: i64,
    /// }
    ///
    /// struct Audit;
    ///
    /// impl Interceptor for Audit {
    ///     fn adds_writes(&self) -> bool {
    ///         true
    ///     }
    ///
    ///     fn added_writes(&self, write: &CompletedWrite<'_>) -> Vec<AddedWrite> {
    ///         let (entity, changed) = (write.table().to_owned(), write.rows() as i64);
    ///         vec![AuditEntry::insert(AuditEntryToInsert { entity, changed }).into()]
    ///     }
    /// }
    ///
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// # let connection = rusqlite::Connection::open_in_memory()?;
    /// # connection.execute_batch(
    /// #     "CREATE TABLE lab (id INTEGER PRIMARY KEY, name TEXT);
    /// #      CREATE TABLE audit_entry (id INTEGER PRIMARY KEY, entity TEXT, changed INTEGER)",
    /// # )?;
    /// # let db = Database::over(connection)?;
    /// let db = db.intercepted_by(Audit);
    /// db.write(&Lab::insert(LabToInsert { id: 1, name: "Ostra Assays".into() }))?;
    /// assert_eq!(db.read_one(&AuditEntry::rows())?.entity, "lab");
    /// # Ok(())
    /// # }
    /// ```
    fn added_writes(&self, _write: &CompletedWrite<'_>) -> Vec<AddedWrite> {
        Vec::new()
    }
}

/// The decision of an interceptor about a statement.
#[derive(Debug)]
#[non_exhaustive]
pub enum Decision {
    /// The statement goes on to the next interceptor, and finally to the database.
    Pass,
    /// The statement is not sent. The caller gets an error of kind [`Refused`](crate::ErrorKind::Refused)
    /// with this reason.
    Refuse(String),
    /// The statement is not sent. These are its rows, each with as many values as the statement selects.
    Answer(Vec<Vec<BindValue>>),
    /// The statement is not sent. This number of rows counts as written.
    AnswerWritten(u64),
}

/// A statement that is about to be sent.
#[derive(Debug, Clone)]
pub struct StatementInfo {
    number: u64,
    dialect: Dialect,
    operation: Operation,
    tables: Vec<&'static str>,
    sql: Box<str>,
    binds: Vec<BindValue>,
    origin: Origin,
    in_transaction: bool,
    carried: Carried,
    /// True if budgets count it.
    counts: bool,
}

/// The number of the next statement that interceptors see.
static NEXT: AtomicU64 = AtomicU64::new(1);

impl StatementInfo {
    /// Returns a number that no other statement of this process has, to connect `before` and `after`.
    pub fn number(&self) -> u64 {
        self.number
    }

    /// Returns the dialect of the database.
    pub fn dialect(&self) -> Dialect {
        self.dialect
    }

    /// Returns the operation.
    pub fn operation(&self) -> Operation {
        self.operation
    }

    /// Returns the tables that it reads or writes, each once, its own table first.
    pub fn tables(&self) -> &[&'static str] {
        &self.tables
    }

    /// Returns its text, which contains no values.
    pub fn sql(&self) -> &str {
        &self.sql
    }

    /// Returns the values. They may be secrets: keep them out of logs.
    pub fn binds(&self) -> &[BindValue] {
        &self.binds
    }

    /// Returns the line of the program that began it.
    pub fn origin(&self) -> Origin {
        self.origin
    }

    /// Returns whether it runs in a transaction that the handle began.
    pub fn in_transaction(&self) -> bool {
        self.in_transaction
    }

    /// Returns the carried value of this type, if the handle carries one: the user, the tenant.
    pub fn carried<V: Any>(&self) -> Option<&V> {
        self.carried.get()
    }
}

/// The outcome of a statement.
#[derive(Debug)]
pub struct StatementOutcome<'a> {
    rows: u64,
    took: Duration,
    completed: bool,
    error: Option<&'a Error>,
}

impl StatementOutcome<'_> {
    /// Returns the number of rows that arrived or were written.
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

    /// Returns the error, if it failed.
    pub fn error(&self) -> Option<&Error> {
        self.error
    }
}

/// The interceptors of a handle, in order.
#[derive(Clone, Default)]
pub(crate) struct Interceptors {
    interceptors: Option<Arc<Vec<Arc<dyn Interceptor>>>>,
}

impl fmt::Debug for Interceptors {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let count = self.interceptors.as_ref().map_or(0, |interceptors| interceptors.len());
        write!(f, "Interceptors({count})")
    }
}

impl Interceptors {
    pub(crate) fn with(&self, interceptor: Arc<dyn Interceptor>) -> Interceptors {
        let mut interceptors = self.interceptors.as_deref().cloned().unwrap_or_default();
        interceptors.push(interceptor);
        Interceptors { interceptors: Some(Arc::new(interceptors)) }
    }

    /// Begins a statement that is sent. It costs nothing without interceptors.
    #[inline]
    pub(crate) fn begin(
        &self,
        dialect: Dialect,
        statement: &Statement<'_>,
        (carried, in_transaction): (&Carried, bool),
        counts: bool,
    ) -> Result<Running, Error> {
        match &self.interceptors {
            None => Ok(Running(None)),
            Some(interceptors) => {
                Interceptors::pass(interceptors, dialect, statement, (carried, in_transaction), counts)
            }
        }
    }

    /// Returns whether one of them may add writes.
    pub(crate) fn add_writes(&self) -> bool {
        let mut interceptors = self.interceptors.iter().flat_map(|all| all.iter());
        interceptors.any(|interceptor| interceptor.adds_writes())
    }

    /// Returns the writes that they add to one, in their order.
    pub(crate) fn added_writes(&self, write: &CompletedWrite<'_>) -> Vec<AddedWrite> {
        let interceptors = self.interceptors.iter().flat_map(|all| all.iter());
        interceptors.flat_map(|interceptor| interceptor.added_writes(write)).collect()
    }

    pub(crate) fn are_there(&self) -> bool {
        self.interceptors.is_some()
    }

    fn pass(
        interceptors: &Arc<Vec<Arc<dyn Interceptor>>>,
        dialect: Dialect,
        statement: &Statement<'_>,
        (carried, in_transaction): (&Carried, bool),
        counts: bool,
    ) -> Result<Running, Error> {
        let info = StatementInfo {
            number: NEXT.fetch_add(1, Ordering::Relaxed),
            dialect,
            operation: statement.operation(),
            tables: statement.tables().to_vec(),
            sql: statement.text().into(),
            binds: statement.binds().map(|bind| bind.to_value()).collect(),
            origin: statement.origin(),
            in_transaction,
            carried: carried.clone(),
            counts,
        };
        let mut noted = Noted {
            interceptors: interceptors.clone(),
            seen: 0,
            info,
            answer: None,
            began: Instant::now(),
            rows: 0,
            completed: false,
        };
        for interceptor in interceptors.iter() {
            let verdict = interceptor.before(&noted.info);
            noted.seen += 1;
            match verdict {
                Decision::Pass => continue,
                Decision::Refuse(reason) => {
                    let err = Error::refused_by_interceptor(&reason).asked_at(noted.info.origin);
                    noted.tell(Some(&err));
                    return Err(err);
                }
                Decision::Answer(rows) => noted.answer = Some(Answer { rows, written: 0 }),
                Decision::AnswerWritten(written) => {
                    noted.answer = Some(Answer { rows: Vec::new(), written });
                }
            }
            break;
        }
        // The time of the interceptors is not part of the statement's.
        noted.began = Instant::now();
        Ok(Running(Some(Box::new(noted))))
    }
}

/// A running statement. Dropping it ends it in its current state.
pub(crate) struct Running(Option<Box<Noted>>);

struct Noted {
    interceptors: Arc<Vec<Arc<dyn Interceptor>>>,
    /// The number of interceptors that have seen it and must still see its end.
    seen: usize,
    info: StatementInfo,
    answer: Option<Answer>,
    began: Instant,
    rows: u64,
    completed: bool,
}

impl Noted {
    fn tell(&mut self, error: Option<&Error>) {
        let Noted { ref interceptors, ref info, began, rows, completed, .. } = *self;
        let outcome = StatementOutcome { rows, took: began.elapsed(), completed, error };
        while let Some(last) = self.seen.checked_sub(1) {
            // Set before the call, so that an interceptor that panics is not called again.
            self.seen = last;
            if let Some(interceptor) = interceptors.get(last) {
                interceptor.after(info, &outcome);
            }
        }
    }
}

impl Drop for Noted {
    fn drop(&mut self) {
        if !thread::panicking() {
            return self.tell(None);
        }
        // An interceptor or the reading of a row panicked. The other interceptors still see the end, and a
        // second panic must not abort the process.
        while self.seen > 0 {
            let _ = catch_unwind(AssertUnwindSafe(|| self.tell(None)));
        }
    }
}

impl Running {
    /// Returns the answer of an interceptor, if one gave it.
    pub(crate) fn answer(&mut self) -> Option<Answer> {
        self.0.as_mut()?.answer.take()
    }

    /// Returns a statement that no interceptor sees.
    pub(crate) fn unseen() -> Running {
        Running(None)
    }

    /// Returns whether an interceptor answers in place of the database.
    pub(crate) fn has_answer(&self) -> bool {
        self.0
            .as_ref()
            .is_some_and(|noted| noted.answer.is_some())
    }

    /// Records that rows of a stream have arrived, perhaps the last ones, or an error.
    pub(crate) fn arrived(
        &mut self,
        statement: &Statement<'_>,
        sink: &mut dyn Sink,
        more: Result<bool, Error>,
    ) -> Result<bool, Error> {
        let more = match sink.take_misfit() {
            Some(misfit) => Err(misfit),
            None => more,
        };
        if let Some(noted) = &mut self.0 {
            noted.rows += sink.seen();
        }
        if matches!(more, Ok(true)) {
            return more;
        }
        if let Some(mut noted) = self.0.take() {
            noted.completed = more.is_ok();
            noted.tell(more.as_ref().err());
        }
        more.map_err(|err| statement.context(err))
    }

    /// Records that the whole result has arrived, or an error.
    #[inline]
    pub(crate) fn end<G>(
        mut self,
        result: Result<G, Error>,
        rows: impl FnOnce(&G) -> u64,
    ) -> Result<G, Error> {
        if let Some(mut noted) = self.0.take() {
            if let Ok(gathered) = &result {
                noted.rows = rows(gathered);
                noted.completed = true;
            }
            noted.tell(result.as_ref().err());
        }
        result
    }
}

/// A budget: passes a number of verbs and companions and refuses the next, naming those before. The several
/// statements of one verb count once, so that the number is the same on every engine.
pub(crate) struct Budget {
    most: usize,
    outcome: Mutex<Vec<Origin>>,
}

impl Budget {
    pub(crate) fn of(most: usize) -> Budget {
        Budget { most, outcome: Mutex::default() }
    }
}

impl Interceptor for Budget {
    fn before(&self, info: &StatementInfo) -> Decision {
        let mut outcome = self.outcome.lock().unwrap_or_else(PoisonError::into_inner);
        if !info.counts {
            return Decision::Pass;
        }
        if outcome.len() < self.most {
            outcome.push(info.origin);
            return Decision::Pass;
        }
        let before: Vec<String> = outcome.iter().map(ToString::to_string).collect();
        Decision::Refuse(format!(
            "the budget of {} reads and writes is used up: by {}; read what belongs together in one, with `alongside` \
             or `one_of`",
            self.most,
            before.join(", ")
        ))
    }
}
