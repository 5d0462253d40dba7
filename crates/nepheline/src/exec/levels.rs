//! The transactions that are open on one connection, one inside the other, and what became of each.

use std::fmt;

use nepheline_core::internal::Statement;
use nepheline_core::{Error, ErrorKind, Operation, Origin};
use smallvec::SmallVec;

/// Who opened a transaction.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Owner {
    /// The program: a failed statement in it undoes it.
    Program,
    /// A write of the library that takes several statements, which decides for itself.
    Library,
}

/// A transaction, or one inside of another, which is a savepoint.
#[derive(Debug)]
struct Level {
    id: u32,
    owner: Owner,
    /// Why it takes no more statements and will be undone.
    doom: Option<Doom>,
    /// True if whoever opened it is gone without ending it.
    abandoned: bool,
}

/// Tells whether a stream is read within the transaction.
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

/// All that are open, the outermost first.
#[derive(Default)]
pub(crate) struct Levels {
    stack: SmallVec<[Level; 4]>,
    /// The work that waits for the commit, each with the level that has to be kept for it.
    after_commit: Vec<(u32, AfterCommit)>,
    next: u32,
    ended: bool,
    /// True if another transaction was in the way, so that this one can be begun again.
    pub(crate) conflict: bool,
    pub(crate) streamed: Streamed,
}

/// The step that must come before a statement of a transaction.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Before {
    /// Nothing.
    Run,
    /// Undo an inner transaction that was left open, by its savepoint.
    Undo(String),
    /// Read the rest of a stream that was dropped.
    FinishStream,
}

impl Levels {
    /// Opens a transaction inside of the innermost one, or the outermost.
    pub(crate) fn open(&mut self, owner: Owner) -> u32 {
        let id = self.next;
        self.next += 1;
        self.stack
            .push(Level { id, owner, doom: None, abandoned: false });
        id
    }

    fn position(&self, id: u32) -> Option<usize> {
        self.stack.iter().position(|level| level.id == id)
    }

    /// Returns whether a statement of this transaction may run, and what has to be done before it.
    pub(crate) fn before(&self, id: u32) -> Result<Before, Error> {
        if self.ended {
            return Err(Doom::ENDED.error());
        }
        let position = self.position(id).ok_or_else(|| Doom::ENDED.error())?;
        let (below, inner) = self.stack.split_at(position + 1);
        if let Some(doom) = below.iter().find_map(|level| level.doom) {
            return Err(doom.error());
        }
        if below.iter().any(|level| level.abandoned) {
            return Err(Doom::of("whoever began it is gone").error());
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

    /// Why the transaction is undone, if it is.
    pub(crate) fn doom(&self, id: u32) -> Option<Doom> {
        if self.ended {
            return Some(Doom::ENDED);
        }
        let position = self.position(id)?;
        let mut levels = self.stack.iter().take(position + 1);
        levels.find_map(|level| level.doom)
    }

    /// Takes note of a statement that failed or was given up: the innermost transaction is undone that the program
    /// opened. A conflict, a lost connection, and an engine that undid everything end all of them.
    pub(crate) fn fail(&mut self, id: u32, why: Doom) {
        let all = why.kind.is_some_and(ends_every_level);
        self.conflict |= why.kind == Some(ErrorKind::Conflict);
        match self.position(id) {
            Some(position) if !all => {
                let own = self.stack.iter_mut().take(position + 1).rev();
                let mut own = own.skip_while(|level| level.owner == Owner::Library);
                if let Some(level) = own.next() {
                    level.doom.get_or_insert(why);
                }
            }
            _ => self.fail_all(why),
        }
    }

    pub(crate) fn is_of_library(&self, id: u32) -> bool {
        let mut levels = self.stack.iter();
        levels.any(|level| level.id == id && level.owner == Owner::Library)
    }

    /// Returns whether a transaction will be undone with one outside of it.
    pub(crate) fn is_doomed_outside(&self, id: u32) -> bool {
        let mut outside = self.stack.iter().take_while(|level| level.id != id);
        self.ended || outside.any(|level| level.doom.is_some())
    }

    /// Why all of it is undone, if it is.
    pub(crate) fn outermost_doom(&self) -> Option<Doom> {
        self.stack.first()?.doom
    }

    /// The savepoint of the outermost transaction that was left open.
    pub(crate) fn abandoned_savepoint(&self) -> Option<String> {
        let position = self.stack.iter().position(|level| level.abandoned);
        position.filter(|position| *position > 0).map(savepoint_at)
    }

    pub(crate) fn fail_all(&mut self, why: Doom) {
        if let Some(outermost) = self.stack.first_mut() {
            outermost.doom.get_or_insert(why);
        }
    }

    /// Takes note that whoever opened a transaction is gone: it is undone before anything else runs.
    pub(crate) fn abandon(&mut self, id: u32) {
        if let Some(position) = self.position(id) {
            for level in self.stack.iter_mut().skip(position) {
                level.abandoned = true;
            }
        }
    }

    /// The name of the savepoint of a transaction that is open inside another.
    pub(crate) fn savepoint(&self, id: u32) -> Option<String> {
        self.position(id).map(savepoint_at)
    }

    /// Takes note that a transaction has been undone, and those inside of it.
    pub(crate) fn close(&mut self, id: u32) {
        if let Some(position) = self.position(id) {
            self.stack.truncate(position);
            self.forget_undone();
        }
    }

    /// Takes note that a transaction inside of another has been kept.
    pub(crate) fn keep(&mut self, id: u32) {
        let outside = self.position(id).and_then(|position| position.checked_sub(1));
        if let Some(outside) = outside.and_then(|position| self.stack.get(position)) {
            let kept = self.after_commit.iter_mut().filter(|(level, _)| *level == id);
            kept.for_each(|(level, _)| *level = outside.id);
        }
        self.close(id);
    }

    /// Takes note that abandoned transactions have been undone.
    pub(crate) fn close_abandoned(&mut self) {
        self.stack.retain(|level| !level.abandoned);
        self.forget_undone();
    }

    /// Forgets the work that waits for the commit of something that was undone.
    fn forget_undone(&mut self) {
        let stack = &self.stack;
        self.after_commit.retain(|(id, _)| stack.iter().any(|level| level.id == *id));
    }

    /// Takes work that waits for the commit of a transaction.
    pub(crate) fn push_after_commit(&mut self, id: u32, work: AfterCommit) {
        if !self.ended && self.position(id).is_some() {
            self.after_commit.push((id, work));
        }
    }

    /// Gives the work that waited for the commit, in the order in which it came.
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

/// Returns whether an error of this kind undoes the transaction that it happens in: what the database refused, and what was
/// cut off. Not what the program was refused before anything was sent, nor what was read and is not as expected.
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
            | ErrorKind::CheckViolation
            | ErrorKind::NotNullViolation
            | ErrorKind::TransactionOver
            | ErrorKind::TransactionResolutionUnknown
    )
}

/// Returns whether an error of this kind leaves nothing of a transaction, whatever savepoints it has.
pub(crate) fn ends_every_level(kind: ErrorKind) -> bool {
    matches!(kind, ErrorKind::Conflict | ErrorKind::ConnectionLost)
}

/// The reason why a transaction is undone. It is small, because each statement makes one in case it is given up.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Doom {
    what: What,
    outcome: &'static str,
    pub(crate) kind: Option<ErrorKind>,
}

#[derive(Debug, Clone, Copy)]
enum What {
    /// A statement: what it does, of which table, and who asked for it.
    Statement(Operation, Option<&'static str>, Origin),
    /// A write of several statements.
    Write(Option<Origin>),
    /// Something of our own.
    Own,
}

impl Doom {
    const ENDED: Doom = Doom::of("it was committed or undone");

    pub(crate) const fn of(outcome: &'static str) -> Doom {
        Doom { what: What::Own, outcome, kind: None }
    }

    /// A statement that runs, for the case that it is given up.
    pub(crate) fn given_up(statement: &Statement<'_>) -> Doom {
        Doom::statement(statement, "was given up before its answer came")
    }

    pub(crate) fn statement(statement: &Statement<'_>, outcome: &'static str) -> Doom {
        let table = statement.tables().first().copied();
        let what = What::Statement(statement.operation(), table, statement.origin());
        Doom { what, outcome, kind: None }
    }

    pub(crate) fn write(err: &Error) -> Doom {
        Doom { what: What::Write(err.origin()), outcome: "failed", kind: Some(err.kind()) }
    }

    pub(crate) fn with(self, kind: ErrorKind) -> Doom {
        Doom { kind: Some(kind), ..self }
    }

    #[cold]
    pub(crate) fn error(&self) -> Error {
        Error::transaction_over(&self.to_string())
    }
}

impl fmt::Display for Doom {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Doom { what, outcome, kind } = self;
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
        f.write_str(", so that it is undone")
    }
}
