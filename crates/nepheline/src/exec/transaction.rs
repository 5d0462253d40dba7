//! Transactions: they are committed or rolled back, and rolled back if they are dropped. Written once for
//! every engine, and for async and blocking handles.

use std::borrow::Cow;
use std::sync::{Mutex as SyncMutex, MutexGuard as SyncMutexGuard, PoisonError};

use nepheline_core::internal::{PolicySlot, Statement};
use nepheline_core::{Dialect, Error, ErrorKind, Operation};
use smallvec::SmallVec;
use tokio::sync::{Mutex, MutexGuard};

use super::ask::Ask;
use super::levels::{AfterCommit, Before, EndReason, Levels, Owner, Streamed, ends_every_level, is_fatal};
use super::limit::CallLimit;
use super::line::{Line, StreamingWire, Wire};
use super::run;
use super::sink::{Gathering, Nothing, Sink};
use super::together::{self, Together};
use crate::access::setting::Setting;
use crate::observe::interceptor::Running;

/// The isolation level of a transaction.
///
/// It has only levels that mean the same on every engine: REPEATABLE READ detects a lost update on
/// PostgreSQL, and not on MariaDB.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
#[non_exhaustive]
pub enum Isolation {
    /// Each statement sees what was committed before it began. SQLite guarantees more.
    #[default]
    ReadCommitted,
    /// The result is as if the transactions had run one after another.
    Serializable,
}

/// The options of a transaction.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[must_use = "options do nothing until they are passed to `transaction_with`"]
pub struct TransactionOptions {
    pub(crate) isolation: Isolation,
    pub(crate) read_only: bool,
}

impl Default for TransactionOptions {
    fn default() -> Self {
        TransactionOptions::new()
    }
}

impl TransactionOptions {
    /// Returns the default options: READ COMMITTED, for reading and writing.
    pub fn new() -> TransactionOptions {
        TransactionOptions { isolation: Isolation::ReadCommitted, read_only: false }
    }

    /// Sets the isolation level.
    pub fn isolation(mut self, isolation: Isolation) -> TransactionOptions {
        self.isolation = isolation;
        self
    }

    /// Makes the database refuse every write.
    pub fn read_only(mut self) -> TransactionOptions {
        self.read_only = true;
        self
    }
}

/// The texts that begin a transaction, in order.
pub(crate) type BeginTexts = SmallVec<[Cow<'static, str>; 2]>;

/// A holder of a connection for the time of a transaction.
pub(crate) trait Hold {
    type Wire: Wire;

    fn line(&mut self) -> &mut Line<Self::Wire>;
}

/// The way in which the outermost transaction begins and ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Root {
    Transaction(TransactionOptions),
    /// A savepoint, in a transaction that the program began on a connection of its own.
    Savepoint,
}

impl Root {
    /// The number of the outermost level.
    pub(crate) const LEVEL: u32 = 0;
}

pub(crate) const ROOT_SAVEPOINT: &str = "nepheline_write";

/// A transaction in progress, with those inside it.
pub(crate) struct Work<H: Hold> {
    /// Removed at the end, so that nothing can run after it.
    held: Mutex<Option<H>>,
    levels: SyncMutex<Levels>,
    pub(crate) setting: Setting,
    pub(crate) dialect: Dialect,
    root: Root,
}

/// The connection, for one statement. Dropping it before the statement is done ends the transaction.
struct Turn<'w, H: Hold> {
    work: &'w Work<H>,
    held: MutexGuard<'w, Option<H>>,
    level: u32,
    /// The running statement, which counts as given up if this is dropped.
    runs: Option<EndReason>,
}

impl<H: Hold> Drop for Turn<'_, H> {
    fn drop(&mut self) {
        if let Some(runs) = self.runs.take() {
            self.work.levels().fail(self.level, runs);
        }
        // A task that ended the transaction meanwhile could not take the connection.
        if self.work.levels().has_ended() {
            drop(self.held.take());
        }
    }
}

impl<H: Hold> Work<H> {
    /// Begins a transaction.
    pub(crate) async fn begin(
        mut held: H,
        setting: Setting,
        root: Root,
        owner: Owner,
    ) -> Result<Work<H>, Error> {
        let mut levels = Levels::default();
        let level = levels.open(owner);
        let dialect = held.line().wire.dialect();
        let held = Mutex::new(Some(held));
        let work = Work { held, levels: levels.into(), setting, dialect, root };
        {
            let mut turn = work.turn(level).await?;
            match root {
                Root::Transaction(options) => {
                    let line = turn.line()?;
                    // Behind a pooler the begin texts set the limit.
                    if !line.is_ready() {
                        Box::pin(line.prepare()).await?;
                    }
                    let texts = line.wire.begin_texts(options);
                    // It counts as one command, however many statements it takes on this engine.
                    let running = match &*texts {
                        [text] => work.setting.begin_command(dialect, text, Operation::Begin)?,
                        texts => {
                            let text = texts.join("; ");
                            work.setting.begin_command(dialect, &text, Operation::Begin)?
                        }
                    };
                    let mut begun = Ok(());
                    for text in &texts {
                        begun = line.command(text).await.map_err(|err| err.in_sql(text));
                        if begun.is_err() {
                            break;
                        }
                        line.set_in_transaction(true);
                    }
                    running.end(begun, |()| 0)?;
                }
                Root::Savepoint => {
                    let (line, text) = (turn.line()?, format!("SAVEPOINT {ROOT_SAVEPOINT}"));
                    command(line, &work.setting, &text, Operation::Savepoint).await?;
                    line.set_in_transaction(true);
                }
            }
            let line = turn.line()?;
            for mut statement in work.setting.session_statements(dialect)? {
                let mut ignored = Gathering::<Nothing, Vec<Nothing>>::default();
                run::on(line, &work.setting, &mut statement, &mut ignored, false).await?;
            }
        }
        Ok(work)
    }

    /// Adds work that runs after the commit, and is dropped without one.
    pub(crate) fn after_commit(&self, level: u32, work: AfterCommit) {
        self.levels().push_after_commit(level, work);
    }

    fn levels(&self) -> SyncMutexGuard<'_, Levels> {
        self.levels.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns whether the transaction conflicted with another.
    pub(crate) fn met_conflict(&self) -> bool {
        self.levels().conflict
    }

    /// Checks that a statement may run, and rolls back inner transactions that were left open.
    #[cfg(feature = "sqlite")]
    pub(crate) async fn check(&self, level: u32) -> Result<(), Error> {
        self.turn(level).await.map(drop)
    }

    /// Returns why the transaction accepts no more statements, if it does not.
    pub(crate) fn end_reason(&self, level: u32) -> Option<EndReason> {
        self.levels().end_reason(level)
    }

    /// Waits for the connection, which is nearly always free.
    async fn held(&self) -> MutexGuard<'_, Option<H>> {
        match self.held.try_lock() {
            Ok(held) => held,
            Err(_) => self.held.lock().await,
        }
    }

    /// Waits for the connection, and rolls back inner transactions that were left open.
    async fn turn(&self, level: u32) -> Result<Turn<'_, H>, Error> {
        // Refused at once, without waiting for a running statement.
        self.levels().before(level)?;
        let mut turn = Turn { work: self, held: self.held().await, level, runs: None };
        loop {
            let before = self.levels().before(level)?;
            match before {
                Before::Run => return Ok(turn),
                Before::Undo(savepoint) => turn.undo(&savepoint).await?,
                Before::FinishStream => turn.finish_stream().await?,
            }
        }
    }

    /// Runs a statement.
    pub(crate) async fn fetch(
        &self,
        level: u32,
        ask: &dyn Ask,
        sink: &mut dyn Sink,
        call: Option<CallLimit>,
    ) -> Result<(), Error> {
        let kept = PolicySlot::default();
        let context = self.setting.context(self.dialect).keeping(&kept);
        let mut statement = ask.statement(context)?;
        let mut turn = self.turn(level).await?;
        turn.runs = Some(EndReason::given_up(&statement));
        let line = turn.line_within(call)?;
        let ran = run::on(line, &self.setting, &mut statement, sink, ask.counts()).await;
        let ended = line.wire.has_ended_transaction();
        turn.runs = None;
        self.note(level, &statement, &ran, ended);
        ran
    }

    /// Runs independent reads, sent together where the driver can.
    pub(crate) async fn fetch_together(
        &self,
        level: u32,
        mut reads: Vec<Together<'_>>,
        call: Option<CallLimit>,
    ) -> Result<(), Error> {
        let slots: Vec<PolicySlot> = reads.iter().map(|_| PolicySlot::default()).collect();
        let sent = together::compiled(&mut reads, self.setting.context(self.dialect), &slots)?;
        let mut turn = self.turn(level).await?;
        turn.runs = Some(EndReason::of("reads that were sent together were dropped"));
        let ran = run::together(turn.line_within(call)?, &self.setting, sent).await;
        turn.runs = None;
        if let Err(err) = &ran
            && is_fatal(err.kind())
        {
            self.levels().fail(level, EndReason::write(err));
        }
        ran
    }

    /// Records the effect of a statement's outcome on the transaction.
    fn note(&self, level: u32, statement: &Statement<'_>, ran: &Result<(), Error>, ended: bool) {
        let failed = |kind: ErrorKind| EndReason::statement(statement, "failed").with(kind);
        match ran {
            Err(err) if ended => self.levels().fail_all(failed(err.kind())),
            Err(err) if is_fatal(err.kind()) => {
                let mut levels = self.levels();
                // A write of several statements records its effect at its end.
                if !levels.is_of_library(level) || ends_every_level(err.kind()) {
                    levels.fail(level, failed(err.kind()));
                }
            }
            Ok(()) if ended => {
                self.levels()
                    .fail_all(EndReason::statement(statement, "ended the transaction by itself"));
            }
            _ => {}
        }
    }

    /// Records that a write of several statements has failed: like a single statement, it ends the
    /// transaction that the program opened.
    pub(crate) fn note_write(&self, level: u32, err: &Error) {
        if is_fatal(err.kind()) {
            self.levels().fail(level, EndReason::write(err));
        }
    }

    /// Opens a transaction inside this one (a savepoint).
    pub(crate) async fn open(&self, level: u32, owner: Owner) -> Result<u32, Error> {
        let mut turn = self.turn(level).await?;
        turn.runs = Some(EndReason::of("a call was dropped while it set a savepoint"));
        let inner = self.levels().open(owner);
        let name = self.levels().savepoint(inner).unwrap_or_default();
        let set = match turn.line() {
            Ok(line) => {
                let text = format!("SAVEPOINT {name}");
                command(line, &self.setting, &text, Operation::Savepoint).await
            }
            Err(err) => Err(err),
        };
        turn.runs = None;
        match set {
            Ok(()) => Ok(inner),
            Err(err) => {
                let mut levels = self.levels();
                levels.close(inner);
                if is_fatal(err.kind()) {
                    levels.fail(level, EndReason::of("a savepoint could not be set").with(err.kind()));
                }
                Err(err)
            }
        }
    }

    /// Records that the opener of an inner transaction was dropped. For a write of several statements, that
    /// counts as a statement that was given up.
    pub(crate) fn abandon(&self, level: u32) {
        let mut levels = self.levels();
        if levels.is_of_library(level) {
            levels.fail(level, EndReason::of("a write was dropped before it was done"));
        }
        levels.abandon(level);
    }

    /// Ends an inner transaction: keeps or rolls back its changes. Returns an error if it was rolled back
    /// although it should be kept.
    pub(crate) async fn close(&self, level: u32, keep: bool) -> Result<(), Error> {
        // Another task may still run a statement, which may fail, so it ends first.
        let mut turn = Turn { work: self, held: self.held().await, level, runs: None };
        let end_reason = self.levels().end_reason(level);
        let keep = keep && end_reason.is_none();
        let name = self.levels().savepoint(level);
        let over_outside = self.levels().ends_with_outer(level);
        let Some(name) = name.filter(|_| !over_outside) else {
            // The changes are rolled back with the transaction around it, or were already.
            self.levels().close(level);
            return end_reason.map_or(Ok(()), |why| Err(why.error()));
        };
        if self.levels().streamed == Streamed::Dropped {
            turn.finish_stream().await?;
        }
        turn.runs = Some(EndReason::of("an inner transaction was dropped while it ended"));
        let line = turn.line()?;
        let ended = match keep {
            true => self.keep(line, &name).await,
            false => undo(line, &self.setting, &name).await,
        };
        turn.runs = None;
        let mut levels = self.levels();
        match keep && ended.is_ok() {
            true => levels.keep(level),
            false => levels.close(level),
        }
        if let Err(err) = ended {
            // The inner transaction can no longer be rolled back alone.
            levels.fail_all(EndReason::of("an inner transaction could not be ended").with(err.kind()));
            return Err(err);
        }
        end_reason.map_or(Ok(()), |why| Err(why.error()))
    }

    async fn keep(&self, line: &mut Line<H::Wire>, savepoint: &str) -> Result<(), Error> {
        self.undo_abandoned(line).await?;
        let text = format!("RELEASE SAVEPOINT {savepoint}");
        command(line, &self.setting, &text, Operation::ReleaseSavepoint).await
    }

    /// Rolls back inner transactions that were left open, before a commit.
    async fn undo_abandoned(&self, line: &mut Line<H::Wire>) -> Result<(), Error> {
        let abandoned = self.levels().abandoned_savepoint();
        match abandoned {
            Some(savepoint) => undo(line, &self.setting, &savepoint).await,
            None => Ok(()),
        }
    }

    /// Commits or rolls back all of it, and releases the connection. Returns an error if it was rolled back
    /// although it should be committed.
    pub(crate) async fn end(&self, commit: bool) -> Result<(), Error> {
        // Another task may still run a statement, which may fail, so it ends first.
        let mut held = self.held().await;
        let Some(mut holder) = held.take() else { return Err(over()) };
        let (end_reason, waited) = {
            let mut levels = self.levels();
            levels.end();
            (levels.outermost_end_reason(), levels.take_after_commit())
        };
        let line = holder.line();
        line.begin_call(self.setting.begin_call());
        let mut ending = end_reason.map(|why| why.error());
        if commit && ending.is_none() {
            match self.commit(line).await {
                Ok(()) => {
                    let restored = self.after(line).await;
                    // The program's work may need the connection.
                    drop(holder);
                    if !waited.is_empty() {
                        waited.into_iter().for_each(|(_, work)| work());
                    }
                    return restored;
                }
                Err(err) => ending = Some(err),
            }
        }
        if let Some(err) = &ending
            && err.kind() == ErrorKind::Conflict
        {
            self.levels().conflict = true;
        }
        // If it fails, the connection is closed, or rolled back when it is returned.
        let undone = self.roll_back(line).await;
        let restored = if undone.is_ok() { self.after(line).await } else { undone };
        match ending {
            Some(err) => Err(err),
            None => restored,
        }
    }

    async fn commit(&self, line: &mut Line<H::Wire>) -> Result<(), Error> {
        // The rest of a stream is read, because cancelling it would roll the transaction back.
        line.finish_stream().await?;
        self.undo_abandoned(line).await?;
        if self.root == Root::Savepoint {
            let text = format!("RELEASE SAVEPOINT {ROOT_SAVEPOINT}");
            command(line, &self.setting, &text, Operation::ReleaseSavepoint).await?;
            line.set_in_transaction(false);
            return Ok(());
        }
        let text = line.wire.commit_text();
        let committed = command(line, &self.setting, text, Operation::Commit).await;
        match committed {
            Ok(()) => {
                line.set_in_transaction(false);
                Ok(())
            }
            Err(err) if err.kind() == ErrorKind::ConnectionLost || line.is_unanswered() => {
                Err(err.resolution_unknown())
            }
            Err(err) => Err(err),
        }
    }

    async fn roll_back(&self, line: &mut Line<H::Wire>) -> Result<(), Error> {
        if line.is_unfit() {
            return Ok(());
        }
        line.settle().await?;
        if !line.wire.has_ended_transaction() {
            match self.root {
                Root::Savepoint => undo(line, &self.setting, ROOT_SAVEPOINT).await?,
                Root::Transaction(_) => {
                    command(line, &self.setting, "ROLLBACK", Operation::Rollback).await?;
                }
            }
        }
        line.set_in_transaction(false);
        Ok(())
    }

    async fn after(&self, line: &mut Line<H::Wire>) -> Result<(), Error> {
        if let Root::Transaction(options) = self.root
            && !line.is_unfit()
        {
            for text in line.wire.end_texts(options) {
                line.command(text).await?;
            }
        }
        Ok(())
    }

    /// Records that its opener was dropped. The connection is released now, or when the running statement has
    /// ended.
    pub(crate) fn let_go(&self) {
        self.levels().end();
        if let Ok(mut held) = self.held.try_lock() {
            drop(held.take());
        }
    }
}

impl<H: Hold<Wire: StreamingWire>> Work<H> {
    /// Opens a stream. While it is read, nothing else runs.
    pub(crate) async fn open_stream(
        &self,
        level: u32,
        statement: &mut Statement<'_>,
        counts: bool,
        call: Option<CallLimit>,
    ) -> Result<(StreamInside<'_, H>, Running), Error> {
        let mut turn = self.turn(level).await?;
        let running = self.setting.begin(self.dialect, statement, counts)?;
        if !running.has_answer() {
            turn.runs = Some(EndReason::given_up(statement));
            let line = turn.line_within(call)?;
            let opened = line.open(statement).await;
            turn.runs = None;
            self.note(level, statement, &opened, false);
            opened.map_err(|err| statement.context(err))?;
            self.levels().streamed = Streamed::Open;
        }
        Ok((StreamInside { work: self, level }, running))
    }
}

/// A stream inside a transaction. After an early drop, the next statement first reads the rest, because
/// cancelling it would roll the transaction back.
pub(crate) struct StreamInside<'w, H: Hold> {
    work: &'w Work<H>,
    level: u32,
}

impl<H: Hold<Wire: StreamingWire>> StreamInside<'_, H> {
    pub(crate) async fn next(
        &mut self,
        statement: &Statement<'_>,
        sink: &mut dyn Sink,
        most: usize,
    ) -> Result<bool, Error> {
        let mut held = self.work.held().await;
        let line = held.as_mut().ok_or_else(over)?.line();
        let more = line.next(statement, sink, most).await;
        let ended = line.wire.has_ended_transaction();
        if !matches!(more, Ok(true)) {
            self.work.levels().streamed = Streamed::No;
        }
        match more {
            Ok(more) => Ok(more),
            Err(err) => {
                let failed = Err(err);
                self.work.note(self.level, statement, &failed, ended);
                failed.map(|()| false)
            }
        }
    }
}

impl<H: Hold> Drop for StreamInside<'_, H> {
    fn drop(&mut self) {
        let mut levels = self.work.levels();
        if levels.streamed == Streamed::Open {
            levels.streamed = Streamed::Dropped;
        }
    }
}

impl<H: Hold> Turn<'_, H> {
    /// Returns the connection, for a call that begins now.
    fn line(&mut self) -> Result<&mut Line<H::Wire>, Error> {
        self.line_within(self.work.setting.begin_call())
    }

    /// Returns the connection, for a call that has begun.
    fn line_within(&mut self, call: Option<CallLimit>) -> Result<&mut Line<H::Wire>, Error> {
        let line = self.held.as_mut().ok_or_else(over)?.line();
        line.begin_call(call);
        Ok(line)
    }

    /// Rolls back inner transactions that were left open.
    async fn undo(&mut self, savepoint: &str) -> Result<(), Error> {
        let work = self.work;
        self.runs = Some(EndReason::of("an inner transaction was dropped while it was rolled back"));
        let undone = undo(self.line()?, &work.setting, savepoint).await;
        self.runs = None;
        let mut levels = work.levels();
        match undone {
            Ok(()) => {
                levels.close_abandoned();
                Ok(())
            }
            Err(err) => {
                levels.fail_all(EndReason::of("an inner transaction could not be rolled back").with(err.kind()));
                Err(err)
            }
        }
    }

    async fn finish_stream(&mut self) -> Result<(), Error> {
        let work = self.work;
        self.runs = Some(EndReason::of("a call was dropped while it read a stream to its end"));
        let finished = self.line()?.finish_stream().await;
        self.runs = None;
        let mut levels = work.levels();
        levels.streamed = Streamed::No;
        if let Err(err) = &finished {
            levels.fail(self.level, EndReason::of("a stream of it failed").with(err.kind()));
        }
        finished
    }
}

/// Runs a command of the library, which the interceptors see.
async fn command<W: Wire>(
    line: &mut Line<W>,
    setting: &Setting,
    text: &str,
    operation: Operation,
) -> Result<(), Error> {
    let running = setting.begin_command(line.wire.dialect(), text, operation)?;
    let ran = line.command(text).await;
    running.end(ran, |()| 0).map_err(|err| err.in_sql(text))
}

async fn undo<W: Wire>(line: &mut Line<W>, setting: &Setting, savepoint: &str) -> Result<(), Error> {
    let text = format!("ROLLBACK TO SAVEPOINT {savepoint}");
    command(line, setting, &text, Operation::RollbackToSavepoint).await?;
    let text = format!("RELEASE SAVEPOINT {savepoint}");
    command(line, setting, &text, Operation::ReleaseSavepoint).await
}

fn over() -> Error {
    Error::transaction_ended("it was committed or rolled back")
}
