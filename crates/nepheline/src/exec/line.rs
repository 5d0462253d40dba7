//! A connection, and the work in progress on it.
//!
//! The state tells whether the wire is in step with the program. A future that is dropped midway leaves the
//! state as it was, and only [`Line::settle`] brings it back in step: nothing else runs before it.

use std::time::Duration;

use nepheline_core::internal::Statement;
use nepheline_core::{Dialect, Error, ErrorKind};

use super::access::{Fut, Mode};
use super::limit::{CallLimit, MARGIN, bounded};
use super::sink::Sink;
use crate::exec::transaction::{BeginTexts, TransactionOptions};

/// A connection as execution sees it. Each engine implements it; the futures of blocking SQLite are ready at
/// once.
pub(crate) trait Wire {
    type Mode: Mode;

    /// True if each call stops by itself at the time limit, so that no timer is needed beside it.
    const STOPS_ITSELF: bool = false;

    fn dialect(&self) -> Dialect;

    /// Returns the statements that must run before this one. A row of theirs that is FALSE refuses it.
    fn before(&self, _statement: &Statement<'_>) -> Vec<Statement<'static>> {
        Vec::new()
    }

    /// Runs a statement to its end, and passes its rows to `sink`. `alone` is true if no transaction is open.
    fn run<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        alone: bool,
    ) -> Fut<'f, Self::Mode, Result<(), Error>>;

    /// Sends statements whose answers are read one after the other by [`run_sent`](Self::run_sent), if the driver can.
    fn send_ahead<'f, 's: 'f>(
        &'f mut self,
        statements: &'f [&'f Statement<'s>],
        alone: bool,
    ) -> Fut<'f, Self::Mode, Result<(), Error>>;

    /// Reads the answer of the next statement that was sent ahead, or runs it now.
    fn run_sent<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        alone: bool,
    ) -> Fut<'f, Self::Mode, Result<(), Error>> {
        self.run(statement, sink, alone)
    }

    /// Runs SQL of the library without binds or rows.
    fn command<'f>(&'f mut self, text: &'f str) -> Fut<'f, Self::Mode, Result<(), Error>>;

    /// Limits each further call to this time, or removes the limit; for wires that stop themselves.
    fn stop_after(&mut self, _longest: Option<Duration>) {}

    /// Sets the database's time limit for further statements, or removes it.
    fn limit(&mut self, longest: Option<Duration>) -> Fut<'_, Self::Mode, Result<(), Error>>;

    /// Brings the wire back in step after a dropped call: stops the statement at the server, and waits for
    /// its end.
    fn recover(&mut self) -> Fut<'_, Self::Mode, Result<(), Error>>;

    /// Returns whether the engine has ended the transaction by itself, if it reports that.
    fn has_ended_transaction(&self) -> bool;

    /// Reads the rest of a stream and discards it.
    fn finish_stream(&mut self) -> Fut<'_, Self::Mode, Result<(), Error>>;

    /// Returns the statements that begin a transaction.
    fn begin_texts(&self, options: TransactionOptions) -> BeginTexts;

    /// Returns the text that commits a transaction, and fails if there is none.
    fn commit_text(&self) -> &'static str {
        "COMMIT"
    }

    /// Returns the statements after the end of a transaction that restore the connection's settings.
    fn end_texts(&self, _options: TransactionOptions) -> &'static [&'static str] {
        &[]
    }
}

/// The work in progress on a connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    /// None: the wire is in step.
    AtRest,
    /// A statement was sent, and its answer has not been read to the end.
    Running,
    /// Rows of a stream are still to come.
    Streaming,
    /// No answer arrived in time. The connection cannot be used again, but the database may still be working.
    Unanswered,
    /// The connection cannot be used again.
    Unfit,
}

/// Waits for an answer up to the time limit, if there is one. Inlined, because most calls have none.
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
    /// True if a transaction was begun on it and has not ended.
    in_transaction: bool,
    /// True if a statement on it was ever cancelled. A cancel request may arrive late, so the connection is
    /// closed instead of reused.
    cancelled: bool,
    /// True if hand-written text may have changed session settings.
    altered: bool,
    /// The time limit of the call that uses it.
    call: Option<CallLimit>,
    /// The time limit of a statement whose call has none.
    usual_limit: Option<Duration>,
    /// The time limit that the database was last given.
    told_limit: Option<Duration>,
}

impl<W> Line<W> {
    /// Returns the line over a wire whose database stops each statement after `usual_limit`, if it is set.
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

    /// Returns whether session settings may have changed.
    pub(crate) fn is_altered(&self) -> bool {
        self.altered
    }

    /// Records that the session settings are those of a new connection again, except for the time limit.
    pub(crate) fn is_reset(&mut self) {
        self.altered = false;
    }

    /// Sets the time limit of the following statements: that of a call, or the usual one.
    pub(crate) fn begin_call(&mut self, call: Option<CallLimit>) {
        self.call = call;
    }

    fn statement_limit(&self) -> Option<Duration> {
        self.call.map(|call| call.longest).or(self.usual_limit)
    }

    /// Returns whether it can be lent again as it is.
    pub(crate) fn is_at_rest(&self) -> bool {
        self.state == State::AtRest && !self.in_transaction && !self.cancelled
    }

    /// Returns whether nothing more can run on it.
    pub(crate) fn is_unfit(&self) -> bool {
        matches!(self.state, State::Unfit | State::Unanswered)
    }

    /// Returns whether the connection itself is gone, so that there is nothing to stop.
    pub(crate) fn is_lost(&self) -> bool {
        self.state == State::Unfit
    }

    /// Returns whether the database may still be working on a statement.
    pub(crate) fn is_interrupted(&self) -> bool {
        matches!(self.state, State::Running | State::Streaming | State::Unanswered)
    }

    /// Returns whether an answer did not arrive in time.
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

    /// Records that everything on it was stopped and rolled back, so that it can be lent again.
    pub(crate) fn is_salvaged(&mut self) {
        self.state = State::AtRest;
        self.in_transaction = false;
    }

    /// Records an outcome; `None` if it did not arrive in time.
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
    /// Brings the wire in step.
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

    /// Returns whether the wire is in step and its database has the time limit. Inside a transaction that is
    /// the limit at its begin, because PostgreSQL would revert a later one on rollback ("SET").
    #[inline]
    pub(crate) fn is_ready(&self) -> bool {
        let is_told = W::STOPS_ITSELF || self.told_limit == self.statement_limit();
        self.state == State::AtRest && (is_told || self.in_transaction)
    }

    /// Brings the wire in step, and sets the database's time limit.
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

    /// Records that a statement is sent now, and returns how long to wait for its answer.
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

    /// Sends statements ahead, see [`Wire::send_ahead`].
    pub(crate) async fn send_ahead(&mut self, statements: &[&Statement<'_>]) -> Result<(), Error> {
        if !self.is_ready() {
            Box::pin(self.prepare()).await?;
        }
        let patience = self.begin()?;
        self.altered |= statements.iter().any(|statement| statement.may_alter_session());
        let alone = !self.in_transaction;
        let sent = within!(patience, self.wire.send_ahead(statements, alone));
        self.arrived(sent, State::AtRest)
    }

    pub(crate) async fn run_sent(
        &mut self,
        statement: &Statement<'_>,
        sink: &mut dyn Sink,
    ) -> Result<(), Error> {
        if !self.is_ready() {
            Box::pin(self.prepare()).await?;
        }
        let patience = self.begin()?;
        let alone = !self.in_transaction;
        let result = within!(patience, self.wire.run_sent(statement, sink, alone));
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

    /// Reads the rest of a stream that was dropped inside a transaction, where cancelling it would roll the
    /// transaction back.
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
    /// Sends a statement whose rows are read later. `alone` is as for [`run`](Wire::run).
    fn open<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        alone: bool,
    ) -> Fut<'f, Self::Mode, Result<(), Error>>;

    /// Passes the available rows to `sink`, or waits for some, up to `most`; returns whether more may come.
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
        // The program may pause between two rows, so each wait is limited instead of all of them together.
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
    Error::of_driver(ErrorKind::ConnectionLost, "it was closed after an earlier failure")
}
