//! The transactions that are open on one connection, one inside the other, and what became of each.

use std::fmt::Write;

use nepheline_core::internal::Statement;
use nepheline_core::{Error, ErrorKind};
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
    doom: Option<String>,
    /// Whether whoever opened it is gone without ending it.
    abandoned: bool,
}

/// Whether a stream is read within the transaction.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) enum Streamed {
    #[default]
    No,
    Open,
    /// Dropped with rows still to come.
    Dropped,
}

/// All that are open, the outermost first.
#[derive(Debug, Default)]
pub(crate) struct Levels {
    stack: SmallVec<[Level; 4]>,
    next: u32,
    ended: Option<&'static str>,
    /// Whether another transaction was in the way, so that this one can be begun again.
    pub(crate) conflict: bool,
    pub(crate) streamed: Streamed,
}

/// What is there to do before a statement of a transaction may run.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Before {
    /// Nothing.
    Run,
    /// Undo an inner transaction that was left open, by its savepoint.
    Undo(String),
    /// Read the rest of a stream that was dropped.
    FinishStream,
}

const ENDED: &str = "it was committed or undone";

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

    /// Whether a statement of this transaction may run, and what has to be done before it.
    pub(crate) fn before(&self, id: u32) -> Result<Before, Error> {
        if let Some(why) = self.ended {
            return Err(Error::transaction_over(why));
        }
        let position = self
            .position(id)
            .ok_or_else(|| Error::transaction_over(ENDED))?;
        let (below, inner) = self.stack.split_at(position + 1);
        if let Some(doom) = below.iter().find_map(|level| level.doom.as_deref()) {
            return Err(Error::transaction_over(doom));
        }
        if below.iter().any(|level| level.abandoned) {
            return Err(Error::transaction_over("whoever began it is gone"));
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
    pub(crate) fn doom(&self, id: u32) -> Option<String> {
        if let Some(why) = self.ended {
            return Some(why.to_owned());
        }
        let position = self.position(id)?;
        let mut levels = self.stack.iter().take(position + 1);
        levels.find_map(|level| level.doom.clone())
    }

    /// Takes note of a statement that failed or was given up: the innermost transaction is undone that the program
    /// opened. A conflict, a lost connection, and an engine that undid everything end all of them.
    pub(crate) fn fail(&mut self, id: u32, kind: Option<ErrorKind>, why: String) {
        let all = kind.is_some_and(ends_every_level);
        self.conflict |= kind == Some(ErrorKind::Conflict);
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

    /// Whether a transaction will be undone with one outside of it.
    pub(crate) fn is_doomed_outside(&self, id: u32) -> bool {
        let mut outside = self.stack.iter().take_while(|level| level.id != id);
        self.ended.is_some() || outside.any(|level| level.doom.is_some())
    }

    /// Why all of it is undone, if it is.
    pub(crate) fn outermost_doom(&self) -> Option<String> {
        self.stack.first()?.doom.clone()
    }

    /// The savepoint of the outermost transaction that was left open.
    pub(crate) fn abandoned_savepoint(&self) -> Option<String> {
        let position = self.stack.iter().position(|level| level.abandoned);
        position.filter(|position| *position > 0).map(savepoint_at)
    }

    pub(crate) fn fail_all(&mut self, why: String) {
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

    /// Takes note that a transaction has ended, and those inside of it.
    pub(crate) fn close(&mut self, id: u32) {
        if let Some(position) = self.position(id) {
            self.stack.truncate(position);
        }
    }

    /// Takes note that abandoned transactions have been undone.
    pub(crate) fn close_abandoned(&mut self) {
        self.stack.retain(|level| !level.abandoned);
    }

    pub(crate) fn end(&mut self) {
        self.ended.get_or_insert(ENDED);
    }

    pub(crate) fn has_ended(&self) -> bool {
        self.ended.is_some()
    }
}

fn savepoint_at(depth: usize) -> String {
    format!("nepheline_{depth}")
}

/// Whether an error of this kind undoes the transaction that it happens in: what the database refused, and what was
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

/// Whether an error of this kind leaves nothing of a transaction, whatever savepoints it has.
pub(crate) fn ends_every_level(kind: ErrorKind) -> bool {
    matches!(kind, ErrorKind::Conflict | ErrorKind::ConnectionLost)
}

/// Says which write failed.
pub(crate) fn reason_of(err: &Error) -> String {
    let origin = err.origin().map(|origin| format!(" at {origin}"));
    let origin = origin.unwrap_or_default();
    format!("a write{origin} failed ({:?}), so that it is undone", err.kind())
}

/// Says which statement failed.
pub(crate) fn reason(statement: &Statement<'_>, outcome: &str) -> String {
    const SHOWN: usize = 200;
    let text = statement.text();
    let mut shown: String = text.chars().take(SHOWN).collect();
    if shown.len() < text.len() {
        shown.push_str("..");
    }
    let mut reason = format!("`{shown}` {outcome}");
    // Writing into a `String` cannot fail.
    let _ = write!(reason, ", asked for at {}, so that it is undone", statement.origin());
    reason
}
