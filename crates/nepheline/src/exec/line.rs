//! A connection and what is under way on it.
//!
//! The state says whether the wire is in step with the program. Whatever is dropped in the middle leaves the state
//! where it was, and from there only [`Line::settle`] leads back: nothing else runs before it.

use std::time::Duration;

use nepheline_core::internal::Statement;
use nepheline_core::{Dialect, Error, ErrorKind};

use super::access::{Fut, Mode};
use super::limit::{CallLimit, MARGIN, bounded};
use super::sink::Sink;
use crate::exec::transaction::{BeginTexts, TransactionOptions};

/// A connection as execution sees it. Each engine has one; the futures of blocking SQLite are ready at once.
pub(crate) trait Wire {
    type Mode: Mode;

    /// True if each of its calls ends by itself at the time limit, so that nobody has to wait beside it.
    const STOPS_ITSELF: bool = false;

    fn dialect(&self) -> Dialect;

    /// The statements that have to run before one. A row of theirs that is FALSE refuses it.
    fn before(&self, _statement: &Statement<'_>) -> Vec<Statement<'static>> {
        Vec::new()
    }

    /// Runs a statement to its end and gives its rows to `sink`. `alone` tells that no transaction is open.
    fn run<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        alone: bool,
    ) -> Fut<'f, Self::Mode, Result<(), Error>>;

    /// Runs text of our own that has neither binds nor rows.
    fn command<'f>(&'f mut self, text: &'f str) -> Fut<'f, Self::Mode, Result<(), Error>>;

    /// Stops each further call after so long, or never; for wires that stop themselves.
    fn stop_after(&mut self, _longest: Option<Duration>) {}

    /// Has the database stop each further statement after so long, or never.
    fn limit(&mut self, longest: Option<Duration>) -> Fut<'_, Self::Mode, Result<(), Error>>;

    /// Brings the wire back in step after what ran was given up: stops it at the server, and waits for its end.
    fn recover(&mut self) -> Fut<'_, Self::Mode, Result<(), Error>>;

    /// Returns whether the engine has ended the transaction by itself, as far as it tells.
    fn has_ended_transaction(&self) -> bool;

    /// Reads what is left of a stream, and keeps nothing of it.
    fn finish_stream(&mut self) -> Fut<'_, Self::Mode, Result<(), Error>>;

    /// The statements that begin a transaction.
    fn begin_texts(&self, options: TransactionOptions) -> BeginTexts;

    /// The text that commits a transaction, and fails if there is nothing to commit.
    fn commit_text(&self) -> &'static str {
        "COMMIT"
    }

    /// The statements after the end of a transaction that leave the connection as it was.
    fn end_texts(&self, _options: TransactionOptions) -> &'static [&'static str] {
        &[]
    }
}

/// The work under way on a connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    /// Nothing: the wire is in step.
    AtRest,
    /// Something was sent whose answer has not been read to its end.
    Running,
    /// Rows of a stream are still to come.
    Streaming,
    /// No answer came in time. The connection is of no more use, but the database may still be at work.
    Unanswered,
    /// The connection is of no more use.
    Unfit,
}

/// Waits for the answer as long as patience lasts, if that has an end. In its caller, since most have none.
macro_rules! within {
    ($patience:expr, $answer:expr) => {
        match $patience {
            None => Some($answer.await),
            Some(longest) => bounded(longest, $answer).await,
        }
    };
}

/// A connection with its state.
pub(crate) struct Line<W> {
    pub(crate) wire: W,
    state: State,
    /// True if a transaction was begun on it and not ended yet.
    in_transaction: bool,
    /// True if something on it was ever cancelled. A cancel may arrive late, so that the connection is closed
    /// instead of lent again.
    cancelled: bool,
    /// True if hand-written text may have changed settings of the session.
    altered: bool,
    /// The time limit of the call that uses it.
    call: Option<CallLimit>,
    /// The longest that a statement may run where its call has no time limit.
    usual_limit: Option<Duration>,
    /// The limit that the database was told last.
    told_limit: Option<Duration>,
}

impl<W> Line<W> {
    /// Takes a wire whose database stops each statement after `usual_limit`, if that is set.
    pub(crate) fn new(wire: W, usual_limit: Option<Duration>) -> Line<W> {
        Line {
            wire,
            state: State::AtRest,
            in_transaction: false,
            cancelled: false,
            altered: false,
            call: None,
            usual_limit,
            told_limit: usual_limit,
        }
    }

    /// Returns whether settings of the session may have been changed.
    pub(crate) fn is_altered(&self) -> bool {
        self.altered
    }

    /// Takes note that the settings of the session are again those of a new connection, but for the time limit.
    pub(crate) fn is_reset(&mut self) {
        self.altered = false;
    }

    /// Puts what follows under the time limit of a call, or under the usual one.
    pub(crate) fn begin_call(&mut self, call: Option<CallLimit>) {
        self.call = call;
    }

    fn statement_limit(&self) -> Option<Duration> {
        self.call.map(|call| call.longest).or(self.usual_limit)
    }

    /// Returns whether it can be lent to somebody else as it is.
    pub(crate) fn is_at_rest(&self) -> bool {
        self.state == State::AtRest && !self.in_transaction && !self.cancelled
    }

    /// Returns whether nothing can run on it any more.
    pub(crate) fn is_unfit(&self) -> bool {
        matches!(self.state, State::Unfit | State::Unanswered)
    }

    /// Returns whether the connection itself is gone, so that there is nothing to stop.
    pub(crate) fn is_lost(&self) -> bool {
        self.state == State::Unfit
    }

    /// Returns whether the database may still be at work on a statement.
    pub(crate) fn is_interrupted(&self) -> bool {
        matches!(self.state, State::Running | State::Streaming | State::Unanswered)
    }

    /// Returns whether an answer did not come in time.
    pub(crate) fn is_unanswered(&self) -> bool {
        self.state == State::Unanswered
    }

    #[cfg(feature = "sqlite")]
    pub(crate) fn is_in_transaction(&self) -> bool {
        self.in_transaction
    }

    pub(crate) fn set_in_transaction(&mut self, in_transaction: bool) {
        self.in_transaction = in_transaction;
    }

    /// Takes note that everything on it was stopped and undone, so that it can be lent again.
    pub(crate) fn is_salvaged(&mut self) {
        self.state = State::AtRest;
        self.in_transaction = false;
    }

    /// Takes note of an outcome, which is missing if it did not come in time.
    fn arrived<T>(&mut self, result: Option<Result<T, Error>>, then: State) -> Result<T, Error> {
        let Some(result) = result else {
            self.state = State::Unanswered;
            return Err(Error::unanswered(self.statement_limit().unwrap_or_default()));
        };
        self.state = match &result {
            Err(err) if err.kind() == ErrorKind::ConnectionLost => State::Unfit,
            Err(_) => State::AtRest,
            Ok(_) => then,
        };
        result
    }
}

impl<W: Wire> Line<W> {
    /// Makes sure that the wire is in step.
    pub(crate) async fn settle(&mut self) -> Result<(), Error> {
        match self.state {
            State::AtRest => return Ok(()),
            State::Unfit | State::Unanswered => return Err(lost()),
            State::Running | State::Streaming => {}
        }
        self.cancelled = true;
        let recovered = self.wire.recover().await;
        self.state = match recovered {
            Ok(()) => State::AtRest,
            Err(_) => State::Unfit,
        };
        recovered
    }

    /// Returns whether the wire is in step and its database knows the time limit. Within a transaction that is the one
    /// which it began with: PostgreSQL would take another back with a rollback ("SET").
    #[inline]
    pub(crate) fn is_ready(&self) -> bool {
        let is_told = W::STOPS_ITSELF || self.told_limit == self.statement_limit();
        self.state == State::AtRest && (is_told || self.in_transaction)
    }

    /// Brings the wire in step, and tells its database the time limit.
    #[cold]
    pub(crate) async fn prepare(&mut self) -> Result<(), Error> {
        self.settle().await?;
        match self.is_ready() {
            true => Ok(()),
            false => self.tell_limit().await,
        }
    }

    async fn tell_limit(&mut self) -> Result<(), Error> {
        let limit = self.statement_limit();
        let patience = self.begin()?;
        let told = within!(patience, self.wire.limit(limit));
        self.arrived(told, State::AtRest)?;
        self.told_limit = limit;
        Ok(())
    }

    /// Takes note that something is sent now, and returns how long to wait for its answer.
    #[inline]
    fn begin(&mut self) -> Result<Option<Duration>, Error> {
        let left = match &self.call {
            Some(call) => Some(call.remaining()?),
            None => self.usual_limit,
        };
        self.state = State::Running;
        if W::STOPS_ITSELF {
            self.wire.stop_after(left);
            return Ok(None);
        }
        Ok(left.map(|left| left + MARGIN))
    }

    pub(crate) async fn run(
        &mut self,
        statement: &Statement<'_>,
        sink: &mut dyn Sink,
    ) -> Result<(), Error> {
        if !self.is_ready() {
            Box::pin(self.prepare()).await?;
        }
        let patience = self.begin()?;
        self.altered |= statement.may_alter_session();
        let alone = !self.in_transaction;
        let result = within!(patience, self.wire.run(statement, sink, alone));
        self.arrived(result, State::AtRest)
    }

    pub(crate) async fn command(&mut self, text: &str) -> Result<(), Error> {
        if !self.is_ready() {
            Box::pin(self.prepare()).await?;
        }
        let patience = self.begin()?;
        let result = within!(patience, self.wire.command(text));
        self.arrived(result, State::AtRest)
    }

    /// Ends a stream that was dropped within a transaction, where cancelling it would undo the transaction.
    pub(crate) async fn finish_stream(&mut self) -> Result<(), Error> {
        if self.state != State::Streaming {
            return self.settle().await;
        }
        let patience = self.begin()?;
        let result = within!(patience, self.wire.finish_stream());
        self.arrived(result, State::AtRest)
    }
}

/// A wire that can also read rows over time.
pub(crate) trait StreamingWire: Wire {
    /// Sends a statement; its rows are still to come. `alone` is as for [`run`](Wire::run).
    fn open<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        alone: bool,
    ) -> Fut<'f, Self::Mode, Result<(), Error>>;

    /// Gives the rows that are there to `sink`, or waits for some, up to `most`; returns whether more may come.
    fn next<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        most: usize,
    ) -> Fut<'f, Self::Mode, Result<bool, Error>>;
}

impl<W: StreamingWire> Line<W> {
    pub(crate) async fn open(&mut self, statement: &Statement<'_>) -> Result<(), Error> {
        if !self.is_ready() {
            Box::pin(self.prepare()).await?;
        }
        let patience = self.begin()?;
        self.altered |= statement.may_alter_session();
        let alone = !self.in_transaction;
        let result = within!(patience, self.wire.open(statement, alone));
        self.arrived(result, State::Streaming)
    }

    pub(crate) async fn next(
        &mut self,
        statement: &Statement<'_>,
        sink: &mut dyn Sink,
        most: usize,
    ) -> Result<bool, Error> {
        // The program may take its time between two rows, so that each wait is limited and not all of them together.
        let patience = self.statement_limit().map(|longest| longest + MARGIN);
        let result = within!(patience, self.wire.next(statement, sink, most));
        let then = match result {
            Some(Ok(true)) => State::Streaming,
            _ => State::AtRest,
        };
        self.arrived(result, then)
    }
}

fn lost() -> Error {
    Error::of_driver(ErrorKind::ConnectionLost, "it was given up after an earlier failure")
}
