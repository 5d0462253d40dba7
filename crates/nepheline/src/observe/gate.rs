//! Gates: code around every statement, that sees it, and may refuse it or answer for the database.

use std::fmt;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use nepheline_core::internal::Statement;
use nepheline_core::{BindValue, Dialect, Error, Operation, Origin};

use crate::exec::answer::Answer;
use crate::exec::sink::Sink;

/// Code around every statement of a handle; give it to one with `through`.
///
/// Gates are passed in the order in which they were given, and afterwards in the opposite order. They run
/// on the thread that asks: whoever asked waits for a slow one, though what it takes is no part of the statement's
/// own time and timeout. A panic goes to whoever asked, as if the work had panicked: within a transaction that undoes
/// it, and the other gates are told the end. Statements that begin and end transactions and set savepoints pass gates
/// too, as [`Operation::Begin`] and its like: to refuse one that commits undoes the transaction. What undoes a
/// transaction that was dropped or panicked passes none, since there is nobody left to wait for a gate.
///
/// ```
/// use nepheline::blocking::Database;
/// use nepheline::prelude::*;
/// use nepheline::{Gate, Operation, Passing, Verdict};
/// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64 }
/// /// Lets nothing be written.
/// struct ReadOnly;
///
/// impl Gate for ReadOnly {
///     fn before(&self, passing: &Passing) -> Verdict {
///         match passing.operation() {
///             Operation::Read => Verdict::Pass,
///             _ => Verdict::Refuse("nothing is written tonight".into()),
///         }
///     }
/// }
///
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// # let connection = rusqlite::Connection::open_in_memory()?;
/// # connection.execute_batch("CREATE TABLE lab (id INTEGER PRIMARY KEY)")?;
/// # let db = Database::over(connection)?;
/// let db = db.through(ReadOnly);
/// assert_eq!(db.count(&Lab::rows())?, 0);
/// let refused = db.write(&Lab::row(1).delete()).unwrap_err();
/// assert_eq!(refused.kind(), ErrorKind::Refused);
/// # Ok(())
/// # }
/// ```
pub trait Gate: Send + Sync + 'static {
    /// Before a statement is sent: says what becomes of it.
    fn before(&self, _passing: &Passing) -> Verdict {
        Verdict::Pass
    }

    /// After it has come to its end, failed, or was given up, for each statement that this gate has seen before:
    /// also for one that a later gate refused or answered.
    fn after(&self, _passing: &Passing, _passed: &Passed<'_>) {}
}

/// What a gate decides of a statement.
#[derive(Debug)]
#[non_exhaustive]
pub enum Verdict {
    /// It goes on to the next gate, and at last to the database.
    Pass,
    /// It is not sent; whoever asked gets an error of the kind [`Refused`](crate::ErrorKind::Refused), for this
    /// reason.
    Refuse(String),
    /// It is not sent; these are the rows, of as many values as the statement selects.
    Answer(Vec<Vec<BindValue>>),
    /// It is not sent; so many rows count as written.
    AnswerWritten(u64),
}

/// A statement on its way to the database.
#[derive(Debug, Clone)]
pub struct Passing {
    number: u64,
    dialect: Dialect,
    operation: Operation,
    tables: Vec<&'static str>,
    sql: Box<str>,
    binds: Vec<BindValue>,
    origin: Origin,
    in_transaction: bool,
    /// True if budgets count it.
    counts: bool,
}

/// What the next statement is numbered that gates see.
static NEXT: AtomicU64 = AtomicU64::new(1);

impl Passing {
    /// A number that no other statement of this process has, to find again before and after what a gate
    /// keeps of it.
    pub fn number(&self) -> u64 {
        self.number
    }

    /// The dialect of the database.
    pub fn dialect(&self) -> Dialect {
        self.dialect
    }

    /// What it does.
    pub fn operation(&self) -> Operation {
        self.operation
    }

    /// The tables that it reads or writes, each once, the one that it is of first.
    pub fn tables(&self) -> &[&'static str] {
        &self.tables
    }

    /// Its text, which holds no values.
    pub fn sql(&self) -> &str {
        &self.sql
    }

    /// The values. They may be secrets: keep them out of logs.
    pub fn binds(&self) -> &[BindValue] {
        &self.binds
    }

    /// The line of the program that began it.
    pub fn origin(&self) -> Origin {
        self.origin
    }

    /// Returns whether it runs in a transaction that our handle began.
    pub fn in_transaction(&self) -> bool {
        self.in_transaction
    }
}

/// How a statement ended.
#[derive(Debug)]
pub struct Passed<'a> {
    rows: u64,
    took: Duration,
    completed: bool,
    error: Option<&'a Error>,
}

impl Passed<'_> {
    /// Returns how many rows arrived, or were written.
    pub fn rows(&self) -> u64 {
        self.rows
    }

    /// How long it took from the moment it was sent until its last row had arrived, without the wait for a
    /// connection.
    pub fn took(&self) -> Duration {
        self.took
    }

    /// Returns whether it came to its end: it did not if it failed, or if nobody waited for it any more.
    pub fn completed(&self) -> bool {
        self.completed
    }

    /// How it failed, if it did.
    pub fn error(&self) -> Option<&Error> {
        self.error
    }
}

/// The gates of a handle, in their order.
#[derive(Clone, Default)]
pub(crate) struct Gates {
    gates: Option<Arc<Vec<Arc<dyn Gate>>>>,
}

impl fmt::Debug for Gates {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let count = self.gates.as_ref().map_or(0, |gates| gates.len());
        write!(f, "Gates({count})")
    }
}

impl Gates {
    pub(crate) fn with(&self, gate: Arc<dyn Gate>) -> Gates {
        let mut gates = self.gates.as_deref().cloned().unwrap_or_default();
        gates.push(gate);
        Gates { gates: Some(Arc::new(gates)) }
    }

    /// To be called when a statement is sent; free where there is no gate.
    #[inline]
    pub(crate) fn begin(
        &self,
        dialect: Dialect,
        statement: &Statement<'_>,
        in_transaction: bool,
        counts: bool,
    ) -> Result<Running, Error> {
        match &self.gates {
            None => Ok(Running(None)),
            Some(gates) => Gates::pass(gates, dialect, statement, in_transaction, counts),
        }
    }

    pub(crate) fn are_there(&self) -> bool {
        self.gates.is_some()
    }

    fn pass(
        gates: &Arc<Vec<Arc<dyn Gate>>>,
        dialect: Dialect,
        statement: &Statement<'_>,
        in_transaction: bool,
        counts: bool,
    ) -> Result<Running, Error> {
        let passing = Passing {
            number: NEXT.fetch_add(1, Ordering::Relaxed),
            dialect,
            operation: statement.operation(),
            tables: statement.tables().to_vec(),
            sql: statement.text().into(),
            binds: statement.binds().map(|bind| bind.to_value()).collect(),
            origin: statement.origin(),
            in_transaction,
            counts,
        };
        let mut noted = Noted {
            gates: gates.clone(),
            seen: 0,
            passing,
            answer: None,
            began: Instant::now(),
            rows: 0,
            completed: false,
        };
        for gate in gates.iter() {
            let verdict = gate.before(&noted.passing);
            noted.seen += 1;
            match verdict {
                Verdict::Pass => continue,
                Verdict::Refuse(reason) => {
                    let err = Error::refused_by_gate(&reason).asked_at(noted.passing.origin);
                    noted.tell(Some(&err));
                    return Err(err);
                }
                Verdict::Answer(rows) => noted.answer = Some(Answer { rows, written: 0 }),
                Verdict::AnswerWritten(written) => {
                    noted.answer = Some(Answer { rows: Vec::new(), written });
                }
            }
            break;
        }
        // What the gates took is not of the statement.
        noted.began = Instant::now();
        Ok(Running(Some(Box::new(noted))))
    }
}

/// A statement that runs. Dropped, it has ended as it is then.
pub(crate) struct Running(Option<Box<Noted>>);

struct Noted {
    gates: Arc<Vec<Arc<dyn Gate>>>,
    /// How many of them have seen it, and are still to be told its end.
    seen: usize,
    passing: Passing,
    answer: Option<Answer>,
    began: Instant,
    rows: u64,
    completed: bool,
}

impl Noted {
    fn tell(&mut self, error: Option<&Error>) {
        let Noted { ref gates, ref passing, began, rows, completed, .. } = *self;
        let passed = Passed { rows, took: began.elapsed(), completed, error };
        while let Some(last) = self.seen.checked_sub(1) {
            // Before it is told, so that one that panics is not told again.
            self.seen = last;
            if let Some(gate) = gates.get(last) {
                gate.after(passing, &passed);
            }
        }
    }
}

impl Drop for Noted {
    fn drop(&mut self) {
        if !thread::panicking() {
            return self.tell(None);
        }
        // A gate panicked, or what the rows are read into. The others are told all the same, and if one of them
        // panics too, that must not end the process.
        while self.seen > 0 {
            let _ = catch_unwind(AssertUnwindSafe(|| self.tell(None)));
        }
    }
}

impl Running {
    /// What a gate answers in place of the database, if one does.
    pub(crate) fn answer(&mut self) -> Option<Answer> {
        self.0.as_mut()?.answer.take()
    }

    /// A statement that no gate sees.
    pub(crate) fn unseen() -> Running {
        Running(None)
    }

    /// Returns whether a gate answers in place of the database.
    pub(crate) fn has_answer(&self) -> bool {
        self.0
            .as_ref()
            .is_some_and(|noted| noted.answer.is_some())
    }

    /// Some rows of a stream have arrived, perhaps the last, or an error.
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

    /// The whole result has arrived, or an error.
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

/// Lets so many verbs and companions pass, and refuses the next, naming those that went before. What one of them takes
/// several statements for counts once, so that the number is the same on every engine.
pub(crate) struct Budget {
    most: usize,
    passed: Mutex<Vec<Origin>>,
}

impl Budget {
    pub(crate) fn of(most: usize) -> Budget {
        Budget { most, passed: Mutex::default() }
    }
}

impl Gate for Budget {
    fn before(&self, passing: &Passing) -> Verdict {
        let mut passed = self.passed.lock().unwrap_or_else(PoisonError::into_inner);
        if !passing.counts {
            return Verdict::Pass;
        }
        if passed.len() < self.most {
            passed.push(passing.origin);
            return Verdict::Pass;
        }
        let before: Vec<String> = passed.iter().map(ToString::to_string).collect();
        Verdict::Refuse(format!(
            "the budget of {} reads and writes is used up: by {}; read what belongs together in one, with `alongside` \
             or `one_of`",
            self.most,
            before.join(", ")
        ))
    }
}
