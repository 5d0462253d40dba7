//! The open transactions of one connection, nested by savepoints, and the state of each.

use std::fmt;

use nepheline_core::internal::Statement;
use nepheline_core::{Error, ErrorKind, Operation, Origin};
use smallvec::SmallVec;

/// The opener of a transaction.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Owner {
    /// The program: a failed statement rolls the transaction back.
    Program,
    /// A write of the library with several statements, which decides for itself.
    Library,
}

/// A transaction, or a savepoint inside one.
#[derive(Debug)]
struct Level {
    id: u32,
    owner: Owner,
    /// The reason why it accepts no more statements and will be rolled back.
    end_reason: Option<EndReason>,
    /// True if its opener was dropped without ending it.
    abandoned: bool,
}

/// The state of a stream inside the transaction.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) enum Streamed {
    #[default]
    No,
    Open,
    /// Dropped with rows still to come.
    Dropped,
}

/// Work of the program that waits for a commit.
pub(crate) type AfterCommit = Box<dyn FnOnce() + Send>;

/// The open transactions, the outermost first.
#[derive(Default)]
pub(crate) struct Levels {
    stack: SmallVec<[Level; 4]>,
    /// The work that waits for the commit, each with the level that must be kept for it.
    after_commit: Vec<(u32, AfterCommit)>,
    next: u32,
    ended: bool,
    /// True if another transaction was in conflict, so that this one can be run again.
    pub(crate) conflict: bool,
    pub(crate) streamed: Streamed,
}

/// The step that must precede a statement of a transaction.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Before {
    /// No step.
    Run,
    /// Roll back an inner transaction that was left open, to this savepoint.
    Undo(String),
    /// Read the rest of a stream that was dropped.
    FinishStream,
}

impl Levels {
    /// Opens a transaction inside the innermost one, or the outermost.
    pub(crate) fn open(&mut self, owner: Owner) -> u32 {
        let id = self.next;
        self.next += 1;
        self.stack
            .push(Level { id, owner, end_reason: None, abandoned: false });
        id
    }

    fn position(&self, id: u32) -> Option<usize> {
        self.stack.iter().position(|level| level.id == id)
    }

    /// Returns the step that must precede a statement of this transaction, if the statement may run.
    pub(crate) fn before(&self, id: u32) -> Result<Before, Error> {
        if self.ended {
            return Err(EndReason::ENDED.error());
        }
        let position = self.position(id).ok_or_else(|| EndReason::ENDED.error())?;
        let (below, inner) = self.stack.split_at(position + 1);
        if let Some(end_reason) = below.iter().find_map(|level| level.end_reason) {
            return Err(end_reason.error());
        }
        if below.iter().any(|level| level.abandoned) {
            return Err(EndReason::of("the future that began it was dropped").error());
        }
        if inner.iter().any(|level| !level.abandoned) {
            return Err(Error::transaction_busy("an inner transaction"));
        }
        match self.streamed {
            Streamed::Open => return Err(Error::transaction_busy("a stream")),
            Streamed::Dropped => return Ok(Before::FinishStream),
            Streamed::No => {}
        }
        Ok(match inner.is_empty() {
            true => Before::Run,
            false => Before::Undo(savepoint_at(position + 1)),
        })
    }

    /// Returns why the transaction will be rolled back, if it will.
    pub(crate) fn end_reason(&self, id: u32) -> Option<EndReason> {
        if self.ended {
            return Some(EndReason::ENDED);
        }
        let position = self.position(id)?;
        let mut levels = self.stack.iter().take(position + 1);
        levels.find_map(|level| level.end_reason)
    }

    /// Records a statement that failed or was given up: the innermost transaction that the program opened
    /// will be rolled back. A conflict, a lost connection, and an engine that rolled back everything end all
    /// of them.
    pub(crate) fn fail(&mut self, id: u32, why: EndReason) {
        let all = why.kind.is_some_and(ends_every_level);
        self.conflict |= why.kind == Some(ErrorKind::Conflict);
        match self.position(id) {
            Some(position) if !all => {
                let own = self.stack.iter_mut().take(position + 1).rev();
                let mut own = own.skip_while(|level| level.owner == Owner::Library);
                if let Some(level) = own.next() {
                    level.end_reason.get_or_insert(why);
                }
            }
            _ => self.fail_all(why),
        }
    }

    pub(crate) fn is_of_library(&self, id: u32) -> bool {
        let mut levels = self.stack.iter();
        levels.any(|level| level.id == id && level.owner == Owner::Library)
    }

    /// Returns whether a transaction will be rolled back together with one around it.
    pub(crate) fn ends_with_outer(&self, id: u32) -> bool {
        let mut outside = self.stack.iter().take_while(|level| level.id != id);
        self.ended || outside.any(|level| level.end_reason.is_some())
    }

    /// Returns why all of it will be rolled back, if it will.
    pub(crate) fn outermost_end_reason(&self) -> Option<EndReason> {
        self.stack.first()?.end_reason
    }

    /// Returns the savepoint of the outermost transaction that was left open.
    pub(crate) fn abandoned_savepoint(&self) -> Option<String> {
        let position = self.stack.iter().position(|level| level.abandoned);
        position.filter(|position| *position > 0).map(savepoint_at)
    }

    pub(crate) fn fail_all(&mut self, why: EndReason) {
        if let Some(outermost) = self.stack.first_mut() {
            outermost.end_reason.get_or_insert(why);
        }
    }

    /// Records that the opener of a transaction was dropped: it is rolled back before anything else runs.
    pub(crate) fn abandon(&mut self, id: u32) {
        if let Some(position) = self.position(id) {
            for level in self.stack.iter_mut().skip(position) {
                level.abandoned = true;
            }
        }
    }

    /// Returns the savepoint of a transaction inside another.
    pub(crate) fn savepoint(&self, id: u32) -> Option<String> {
        self.position(id).map(savepoint_at)
    }

    /// Records that a transaction, with those inside it, was rolled back.
    pub(crate) fn close(&mut self, id: u32) {
        if let Some(position) = self.position(id) {
            self.stack.truncate(position);
            self.forget_undone();
        }
    }

    /// Records that a transaction inside another was kept.
    pub(crate) fn keep(&mut self, id: u32) {
        let outside = self.position(id).and_then(|position| position.checked_sub(1));
        if let Some(outside) = outside.and_then(|position| self.stack.get(position)) {
            let kept = self.after_commit.iter_mut().filter(|(level, _)| *level == id);
            kept.for_each(|(level, _)| *level = outside.id);
        }
        self.close(id);
    }

    /// Records that abandoned transactions were rolled back.
    pub(crate) fn close_abandoned(&mut self) {
        self.stack.retain(|level| !level.abandoned);
        self.forget_undone();
    }

    /// Drops the work that waited for the commit of a transaction that was rolled back.
    fn forget_undone(&mut self) {
        let stack = &self.stack;
        self.after_commit.retain(|(id, _)| stack.iter().any(|level| level.id == *id));
    }

    /// Adds work that waits for the commit of a transaction.
    pub(crate) fn push_after_commit(&mut self, id: u32, work: AfterCommit) {
        if !self.ended && self.position(id).is_some() {
            self.after_commit.push((id, work));
        }
    }

    /// Returns the work that waited for the commit, in the order in which it was added.
    pub(crate) fn take_after_commit(&mut self) -> Vec<(u32, AfterCommit)> {
        std::mem::take(&mut self.after_commit)
    }

    pub(crate) fn end(&mut self) {
        self.ended = true;
    }

    pub(crate) fn has_ended(&self) -> bool {
        self.ended
    }
}

fn savepoint_at(depth: usize) -> String {
    format!("nepheline_{depth}")
}

/// Returns whether an error of this kind rolls back its transaction: refusals of the database, and statements
/// that were cut off. Refusals before sending, and rows that are not as expected, do not.
pub(crate) fn is_fatal(kind: ErrorKind) -> bool {
    matches!(
        kind,
        ErrorKind::Database
            | ErrorKind::Locked
            | ErrorKind::StatementTimeout
            | ErrorKind::Conflict
            | ErrorKind::ConnectionLost
            | ErrorKind::UniqueViolation
            | ErrorKind::ForeignKeyViolation
            | ErrorKind::ParentNotFound
            | ErrorKind::StillReferenced
            | ErrorKind::PolicyViolation
            | ErrorKind::CheckViolation
            | ErrorKind::NotNullViolation
            | ErrorKind::TransactionEnded
            | ErrorKind::TransactionResolutionUnknown
    )
}

/// Returns whether an error of this kind ends the whole transaction, whatever savepoints it has.
pub(crate) fn ends_every_level(kind: ErrorKind) -> bool {
    matches!(kind, ErrorKind::Conflict | ErrorKind::ConnectionLost)
}

/// The reason why a transaction is rolled back. It is small, because each statement creates one in case it is
/// given up.
#[derive(Debug, Clone, Copy)]
pub(crate) struct EndReason {
    what: What,
    outcome: &'static str,
    pub(crate) kind: Option<ErrorKind>,
}

#[derive(Debug, Clone, Copy)]
enum What {
    /// A statement: its operation, its table, and the line that asked for it.
    Statement(Operation, Option<&'static str>, Origin),
    /// A write of several statements.
    Write(Option<Origin>),
    /// A command of the library.
    Own,
}

impl EndReason {
    const ENDED: EndReason = EndReason::of("it was committed or rolled back");

    pub(crate) const fn of(outcome: &'static str) -> EndReason {
        EndReason { what: What::Own, outcome, kind: None }
    }

    /// Returns the reason for a running statement, in case it is given up.
    pub(crate) fn given_up(statement: &Statement<'_>) -> EndReason {
        EndReason::statement(statement, "was dropped before its answer arrived")
    }

    pub(crate) fn statement(statement: &Statement<'_>, outcome: &'static str) -> EndReason {
        let table = statement.tables().first().copied();
        let what = What::Statement(statement.operation(), table, statement.origin());
        EndReason { what, outcome, kind: None }
    }

    pub(crate) fn write(err: &Error) -> EndReason {
        EndReason { what: What::Write(err.origin()), outcome: "failed", kind: Some(err.kind()) }
    }

    pub(crate) fn with(self, kind: ErrorKind) -> EndReason {
        EndReason { kind: Some(kind), ..self }
    }

    #[cold]
    pub(crate) fn error(&self) -> Error {
        Error::transaction_ended(&self.to_string())
    }
}

impl fmt::Display for EndReason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let EndReason { what, outcome, kind } = self;
        match what {
            What::Statement(operation, Some(table), _) => {
                write!(f, "the {operation} of `{table}` {outcome}")?;
            }
            What::Statement(_, None, _) => write!(f, "a statement {outcome}")?,
            What::Write(_) => write!(f, "a write {outcome}")?,
            What::Own => return f.write_str(outcome),
        }
        if let Some(kind) = kind {
            write!(f, " with {kind:?}")?;
        }
        if let What::Statement(_, _, origin) | What::Write(Some(origin)) = what {
            write!(f, ", asked for at {origin}")?;
        }
        f.write_str("; it is rolled back")
    }
}
