//! Transactions: begun, ended in one of two ways, and undone if nobody ends them. Written once for every engine, and
//! for async and blocking handles.

use std::borrow::Cow;
use std::sync::{Mutex as SyncMutex, MutexGuard as SyncMutexGuard, PoisonError};

use nepheline_core::internal::{Kept, Statement};
use nepheline_core::{Dialect, Error, ErrorKind, Operation};
use smallvec::SmallVec;
use tokio::sync::{Mutex, MutexGuard};

use super::ask::Ask;
use super::levels::{AfterCommit, Before, Doom, Levels, Owner, Streamed, ends_every_level, is_fatal};
use super::limit::CallLimit;
use super::line::{Line, StreamingWire, Wire};
use super::run;
use super::sink::{Gathering, Nothing, Sink};
use crate::access::setting::Setting;
use crate::observe::gate::Running;

/// How a transaction is shielded from others that run beside it.
///
/// Only what means the same on every engine is offered: "repeatable read" finds a lost update on
/// PostgreSQL and not on MariaDB.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
#[non_exhaustive]
pub enum Isolation {
    /// Each statement sees what was committed before it began. SQLite gives more.
    #[default]
    ReadCommitted,
    /// As if the transactions had run one after another.
    Serializable,
}

/// How a transaction is run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[must_use = "options do nothing until they are given to `transaction_with`"]
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
    /// Read committed, reading and writing.
    pub fn new() -> TransactionOptions {
        TransactionOptions { isolation: Isolation::ReadCommitted, read_only: false }
    }

    /// Sets how the transaction is shielded from others.
    pub fn isolation(mut self, isolation: Isolation) -> TransactionOptions {
        self.isolation = isolation;
        self
    }

    /// Lets the database refuse whatever would write.
    pub fn read_only(mut self) -> TransactionOptions {
        self.read_only = true;
        self
    }
}

/// The texts that begin a transaction, one after the other.
pub(crate) type BeginTexts = SmallVec<[Cow<'static, str>; 2]>;

/// Something that holds a connection for as long as a transaction takes.
pub(crate) trait Hold {
    type Wire: Wire;

    fn line(&mut self) -> &mut Line<Self::Wire>;
}

/// The way in which the outermost transaction is begun and ended.
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

/// A transaction that is under way, with those inside of it.
pub(crate) struct Work<H: Hold> {
    /// Taken away at the end, so that nothing can run after it.
    held: Mutex<Option<H>>,
    levels: SyncMutex<Levels>,
    pub(crate) setting: Setting,
    pub(crate) dialect: Dialect,
    root: Root,
}

/// The connection, for one statement. Dropped before the statement is done, it dooms the transaction.
struct Turn<'w, H: Hold> {
    work: &'w Work<H>,
    held: MutexGuard<'w, Option<H>>,
    level: u32,
    /// The statement that runs, which is given up if this is dropped.
    runs: Option<Doom>,
}

impl<H: Hold> Drop for Turn<'_, H> {
    fn drop(&mut self) {
        if let Some(runs) = self.runs.take() {
            self.work.levels().fail(self.level, runs);
        }
        // Whoever ended the transaction meanwhile could not take the connection.
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
                    // Behind a pooler the texts tell the limit.
                    if !line.is_ready() {
                        Box::pin(line.prepare()).await?;
                    }
                    let texts = line.wire.begin_texts(options);
                    // Told as one, whatever it takes on this engine.
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
            for mut statement in work.setting.mirrored(dialect)? {
                let mut ignored = Gathering::<Nothing, Vec<Nothing>>::default();
                run::on(line, &work.setting, &mut statement, &mut ignored, false).await?;
            }
        }
        Ok(work)
    }

    /// Takes work that is done once the transaction is committed, and dropped if it is not.
    pub(crate) fn after_commit(&self, level: u32, work: AfterCommit) {
        self.levels().push_after_commit(level, work);
    }

    fn levels(&self) -> SyncMutexGuard<'_, Levels> {
        self.levels.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns whether another transaction was in the way.
    pub(crate) fn met_conflict(&self) -> bool {
        self.levels().conflict
    }

    /// Makes sure that a statement may run, and undoes what was left open inside.
    #[cfg(feature = "sqlite")]
    pub(crate) async fn check(&self, level: u32) -> Result<(), Error> {
        self.turn(level).await.map(drop)
    }

    /// Why the transaction takes no more statements, if it does not.
    pub(crate) fn doom(&self, level: u32) -> Option<Doom> {
        self.levels().doom(level)
    }

    /// Waits for the connection, which is free nearly always.
    async fn held(&self) -> MutexGuard<'_, Option<H>> {
        match self.held.try_lock() {
            Ok(held) => held,
            Err(_) => self.held.lock().await,
        }
    }

    /// Waits for the connection, and undoes what was left open inside.
    async fn turn(&self, level: u32) -> Result<Turn<'_, H>, Error> {
        // Refused at once, without waiting for a statement that runs.
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
        let kept = Kept::default();
        let asking = self.setting.asking(self.dialect).keeping(&kept);
        let mut statement = ask.statement(asking)?;
        let mut turn = self.turn(level).await?;
        turn.runs = Some(Doom::given_up(&statement));
        let line = turn.line_within(call)?;
        let ran = run::on(line, &self.setting, &mut statement, sink, ask.counts()).await;
        let ended = line.wire.has_ended_transaction();
        turn.runs = None;
        self.note(level, &statement, &ran, ended);
        ran
    }

    /// Takes note of what the outcome of a statement means for the transaction.
    fn note(&self, level: u32, statement: &Statement<'_>, ran: &Result<(), Error>, ended: bool) {
        let failed = |kind: ErrorKind| Doom::statement(statement, "failed").with(kind);
        match ran {
            Err(err) if ended => self.levels().fail_all(failed(err.kind())),
            Err(err) if is_fatal(err.kind()) => {
                let mut levels = self.levels();
                // A write of several statements tells at its end what became of it.
                if !levels.is_of_library(level) || ends_every_level(err.kind()) {
                    levels.fail(level, failed(err.kind()));
                }
            }
            Ok(()) if ended => {
                self.levels()
                    .fail_all(Doom::statement(statement, "ended the transaction by itself"));
            }
            _ => {}
        }
    }

    /// Takes note of a write of several statements that has failed: like one statement, it undoes the transaction
    /// that the program opened.
    pub(crate) fn note_write(&self, level: u32, err: &Error) {
        if is_fatal(err.kind()) {
            self.levels().fail(level, Doom::write(err));
        }
    }

    /// Opens a transaction inside of this one, which is a savepoint.
    pub(crate) async fn open(&self, level: u32, owner: Owner) -> Result<u32, Error> {
        let mut turn = self.turn(level).await?;
        turn.runs = Some(Doom::of("a savepoint was given up while it was set"));
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
                    levels.fail(level, Doom::of("a savepoint could not be set").with(err.kind()));
                }
                Err(err)
            }
        }
    }

    /// Takes note that whoever opened an inner transaction is gone; for a write of several statements that is a
    /// statement that was given up.
    pub(crate) fn abandon(&self, level: u32) {
        let mut levels = self.levels();
        if levels.is_of_library(level) {
            levels.fail(level, Doom::of("a write was given up before it was done"));
        }
        levels.abandon(level);
    }

    /// Ends an inner transaction: keeps what it did, or undoes it. Returns why it was undone although it was to be
    /// kept.
    pub(crate) async fn close(&self, level: u32, keep: bool) -> Result<(), Error> {
        // First the statement ends that another task may still run: it may fail.
        let mut turn = Turn { work: self, held: self.held().await, level, runs: None };
        let doom = self.levels().doom(level);
        let keep = keep && doom.is_none();
        let name = self.levels().savepoint(level);
        let over_outside = self.levels().is_doomed_outside(level);
        let Some(name) = name.filter(|_| !over_outside) else {
            // All of it is undone with what is outside, or was already.
            self.levels().close(level);
            return doom.map_or(Ok(()), |why| Err(why.error()));
        };
        if self.levels().streamed == Streamed::Dropped {
            turn.finish_stream().await?;
        }
        turn.runs = Some(Doom::of("an inner transaction was given up while it ended"));
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
            // The inner transaction can no longer be undone alone.
            levels.fail_all(Doom::of("an inner transaction could not be ended").with(err.kind()));
            return Err(err);
        }
        doom.map_or(Ok(()), |why| Err(why.error()))
    }

    async fn keep(&self, line: &mut Line<H::Wire>, savepoint: &str) -> Result<(), Error> {
        self.undo_abandoned(line).await?;
        let text = format!("RELEASE SAVEPOINT {savepoint}");
        command(line, &self.setting, &text, Operation::ReleaseSavepoint).await
    }

    /// Undoes what was left open inside of a transaction that is about to be kept.
    async fn undo_abandoned(&self, line: &mut Line<H::Wire>) -> Result<(), Error> {
        let abandoned = self.levels().abandoned_savepoint();
        match abandoned {
            Some(savepoint) => undo(line, &self.setting, &savepoint).await,
            None => Ok(()),
        }
    }

    /// Commits or undoes all of it, and lets go of the connection. Returns why it was undone although it was to be
    /// committed.
    pub(crate) async fn end(&self, commit: bool) -> Result<(), Error> {
        // First the statement ends that another task may still run: it may fail.
        let mut held = self.held().await;
        let Some(mut holder) = held.take() else { return Err(over()) };
        let (doom, waited) = {
            let mut levels = self.levels();
            levels.end();
            (levels.outermost_doom(), levels.take_after_commit())
        };
        let line = holder.line();
        line.begin_call(self.setting.begin_call());
        let mut doomed = doom.map(|why| why.error());
        if commit && doomed.is_none() {
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
                Err(err) => doomed = Some(err),
            }
        }
        if let Some(err) = &doomed
            && err.kind() == ErrorKind::Conflict
        {
            self.levels().conflict = true;
        }
        // If it fails, the connection is closed, or rolled back by whoever takes it in.
        let undone = self.roll_back(line).await;
        let restored = if undone.is_ok() { self.after(line).await } else { undone };
        match doomed {
            Some(err) => Err(err),
            None => restored,
        }
    }

    async fn commit(&self, line: &mut Line<H::Wire>) -> Result<(), Error> {
        // The rest of a stream is read: to cancel it would undo the transaction.
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

    /// Takes note that whoever began it is gone. The connection goes now, or when the statement that runs has ended.
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
            turn.runs = Some(Doom::given_up(statement));
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

/// A stream that is read within a transaction. Dropped early, the rest is read before the next statement, because to
/// cancel it would undo the transaction.
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
    /// The connection, for a call that begins now.
    fn line(&mut self) -> Result<&mut Line<H::Wire>, Error> {
        self.line_within(self.work.setting.begin_call())
    }

    /// The connection, for a call that has begun.
    fn line_within(&mut self, call: Option<CallLimit>) -> Result<&mut Line<H::Wire>, Error> {
        let line = self.held.as_mut().ok_or_else(over)?.line();
        line.begin_call(call);
        Ok(line)
    }

    /// Undoes inner transactions that were left open.
    async fn undo(&mut self, savepoint: &str) -> Result<(), Error> {
        let work = self.work;
        self.runs = Some(Doom::of("an inner transaction was given up while it was undone"));
        let undone = undo(self.line()?, &work.setting, savepoint).await;
        self.runs = None;
        let mut levels = work.levels();
        match undone {
            Ok(()) => {
                levels.close_abandoned();
                Ok(())
            }
            Err(err) => {
                levels.fail_all(Doom::of("an inner transaction could not be undone").with(err.kind()));
                Err(err)
            }
        }
    }

    async fn finish_stream(&mut self) -> Result<(), Error> {
        let work = self.work;
        self.runs = Some(Doom::of("a stream was given up while it was read to its end"));
        let finished = self.line()?.finish_stream().await;
        self.runs = None;
        let mut levels = work.levels();
        levels.streamed = Streamed::No;
        if let Err(err) = &finished {
            levels.fail(self.level, Doom::of("a stream of it failed").with(err.kind()));
        }
        finished
    }
}

/// Runs text of our own, of which the interceptors are told.
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
    Error::transaction_over("it was committed or undone")
}
