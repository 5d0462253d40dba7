//! A connection and what is under way on it.
//!
//! The state says whether the wire is in step with the program. Whatever is dropped in the middle leaves the state
//! where it was, and from there only [`Line::settle`] leads back: nothing else runs before it.

use nepheline_core::internal::Statement;
use nepheline_core::{Dialect, Error, ErrorKind};

use super::access::{Fut, Mode};
use super::sink::Sink;
use crate::exec::transaction::TransactionOptions;

/// A connection as execution sees it. Each engine has one; the futures of blocking SQLite are ready at once.
pub(crate) trait Wire {
    type Mode: Mode;

    fn dialect(&self) -> Dialect;

    /// The statements that have to run before one. A row of theirs that is FALSE refuses it.
    fn before(&self, _statement: &Statement<'_>) -> Vec<Statement<'static>> {
        Vec::new()
    }

    /// Runs a statement to its end and gives its rows to `sink`. `alone` tells that no transaction is open, so that
    /// the statement may be sent twice where the server only asks for that.
    fn run<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        alone: bool,
    ) -> Fut<'f, Self::Mode, Result<(), Error>>;

    /// Runs text of our own that has neither binds nor rows.
    fn command<'f>(&'f mut self, text: &'f str) -> Fut<'f, Self::Mode, Result<(), Error>>;

    /// Brings the wire back in step after what ran was given up: stops it at the server, and waits for its end.
    fn recover(&mut self) -> Fut<'_, Self::Mode, Result<(), Error>>;

    /// Returns whether the engine has ended the transaction by itself, as far as it tells.
    fn has_ended_transaction(&self) -> bool;

    /// Reads what is left of a stream, and keeps nothing of it.
    fn finish_stream(&mut self) -> Fut<'_, Self::Mode, Result<(), Error>>;

    /// The statements that begin a transaction.
    fn begin_texts(&self, options: TransactionOptions) -> &'static [&'static str];

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
    /// The connection is of no more use.
    Unfit,
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
}

impl<W> Line<W> {
    pub(crate) fn new(wire: W) -> Line<W> {
        Line { wire, state: State::AtRest, in_transaction: false, cancelled: false }
    }

    /// Returns whether it can be lent to somebody else as it is.
    pub(crate) fn is_at_rest(&self) -> bool {
        self.state == State::AtRest && !self.in_transaction && !self.cancelled
    }

    pub(crate) fn is_unfit(&self) -> bool {
        self.state == State::Unfit
    }

    /// Returns whether a statement was given up in the middle.
    pub(crate) fn is_interrupted(&self) -> bool {
        matches!(self.state, State::Running | State::Streaming)
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

    fn arrived<T>(&mut self, result: &Result<T, Error>, then: State) {
        self.state = match result {
            Err(err) if err.kind() == ErrorKind::ConnectionLost => State::Unfit,
            Err(_) => State::AtRest,
            Ok(_) => then,
        };
    }
}

impl<W: Wire> Line<W> {
    /// Makes sure that the wire is in step.
    pub(crate) async fn settle(&mut self) -> Result<(), Error> {
        match self.state {
            State::AtRest => return Ok(()),
            State::Unfit => return Err(lost()),
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

    pub(crate) async fn run(
        &mut self,
        statement: &Statement<'_>,
        sink: &mut dyn Sink,
    ) -> Result<(), Error> {
        self.settle().await?;
        self.state = State::Running;
        let result = self.wire.run(statement, sink, !self.in_transaction).await;
        self.arrived(&result, State::AtRest);
        result
    }

    pub(crate) async fn command(&mut self, text: &str) -> Result<(), Error> {
        self.settle().await?;
        self.state = State::Running;
        let result = self.wire.command(text).await;
        self.arrived(&result, State::AtRest);
        result
    }

    /// Ends a stream that was dropped within a transaction, where cancelling it would undo the transaction.
    pub(crate) async fn finish_stream(&mut self) -> Result<(), Error> {
        if self.state != State::Streaming {
            return self.settle().await;
        }
        let result = self.wire.finish_stream().await;
        self.arrived(&result, State::AtRest);
        result
    }
}

/// A wire that can also read rows over time.
pub(crate) trait StreamingWire: Wire {
    /// Sends a statement; its rows are still to come.
    fn open<'f>(&'f mut self, statement: &'f Statement<'_>) -> Fut<'f, Self::Mode, Result<(), Error>>;

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
        self.settle().await?;
        self.state = State::Running;
        let result = self.wire.open(statement).await;
        self.arrived(&result, State::Streaming);
        result
    }

    pub(crate) async fn next(
        &mut self,
        statement: &Statement<'_>,
        sink: &mut dyn Sink,
        most: usize,
    ) -> Result<bool, Error> {
        let result = self.wire.next(statement, sink, most).await;
        let then = match result {
            Ok(true) => State::Streaming,
            _ => State::AtRest,
        };
        self.arrived(&result, then);
        result
    }
}

fn lost() -> Error {
    Error::of_driver(ErrorKind::ConnectionLost, "it was given up after an earlier failure")
}
