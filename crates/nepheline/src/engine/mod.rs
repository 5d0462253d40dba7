//! The engines: how each connects, sets up a session, runs statements, and stops them. Each engine's folder
//! has what differs; the traits of this file are what they share.

pub(crate) mod caretaker;
pub(crate) mod metrics;
pub(crate) mod pool;

#[cfg(feature = "mysql")]
pub(crate) mod mysql;
#[cfg(feature = "postgres")]
pub(crate) mod postgres;
#[cfg(feature = "sqlite")]
pub(crate) mod sqlite;
#[cfg(feature = "tls")]
pub(crate) mod tls;

use std::time::Duration;

use futures_util::future::BoxFuture;
use nepheline_core::internal::Statement;
use nepheline_core::{Dialect, Error};

use crate::exec::access::Async;
use crate::exec::line::{StreamingWire, Wire};
use crate::exec::sink::Sink;
use crate::exec::transaction::{BeginTexts, TransactionOptions};

/// The longest time for stopping a statement or rolling back a transaction that no caller waits for.
pub(crate) const STOPPING: Duration = Duration::from_secs(5);

/// The idle time after which the system sends keepalive probes.
#[cfg(any(feature = "postgres", feature = "mysql"))]
pub(crate) const KEEPALIVE_IDLE: Duration = Duration::from_secs(30);
/// The interval of unanswered probes, and their number.
#[cfg(feature = "postgres")]
pub(crate) const KEEPALIVE_INTERVAL: Duration = Duration::from_secs(10);
#[cfg(feature = "postgres")]
pub(crate) const KEEPALIVE_RETRIES: u32 = 3;

/// Opens connections of one database.
pub(crate) trait Connect: Send + Sync + 'static {
    /// Opens a connection and sets up its session.
    fn connect(&self) -> BoxFuture<'_, Result<BoxWire, Error>>;

    /// Sets a function that closes the idle connections of the pool, for the case that they use up a limit of
    /// the server.
    fn relieved_by(&self, _close_idle: CloseIdle) {}
}

/// Closes the idle connections of a pool.
pub(crate) type CloseIdle = Box<dyn Fn() + Send + Sync>;

/// A connection of an async engine.
pub(crate) trait AsyncWire: Send {
    fn dialect(&self) -> Dialect;

    /// See [`Wire::before`].
    fn before(&self, _statement: &Statement<'_>) -> Vec<Statement<'static>> {
        Vec::new()
    }

    /// See [`Wire::run`]. If it is dropped before its end, [`recover`](Self::recover) brings the wire in
    /// step.
    fn run<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        alone: bool,
    ) -> BoxFuture<'f, Result<(), Error>>;

    /// See [`Wire::send_ahead`].
    fn send_ahead<'f, 's: 'f>(
        &'f mut self,
        _statements: &'f [&'f Statement<'s>],
        _alone: bool,
    ) -> BoxFuture<'f, Result<(), Error>> {
        Box::pin(std::future::ready(Ok(())))
    }

    /// See [`Wire::run_sent`].
    fn run_sent<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        alone: bool,
    ) -> BoxFuture<'f, Result<(), Error>> {
        self.run(statement, sink, alone)
    }

    fn command<'f>(&'f mut self, text: &'f str) -> BoxFuture<'f, Result<(), Error>>;

    fn open<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        alone: bool,
    ) -> BoxFuture<'f, Result<(), Error>>;

    fn next<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        most: usize,
    ) -> BoxFuture<'f, Result<bool, Error>>;

    fn finish_stream(&mut self) -> BoxFuture<'_, Result<(), Error>>;

    /// See [`Wire::limit`].
    fn limit(&mut self, longest: Option<Duration>) -> BoxFuture<'_, Result<(), Error>>;

    /// Stops the running statement without waiting for its end: the caller may be a destructor.
    fn stop(&mut self) {}

    /// Stops the running statement, and waits a limited time for its end.
    fn recover(&mut self) -> BoxFuture<'_, Result<(), Error>>;

    /// Cleans up a connection after a dropped call (`interrupted`), or with an open transaction; returns
    /// whether it can be lent again. Otherwise it is closed.
    fn salvage(&mut self, interrupted: bool) -> BoxFuture<'_, bool>;

    /// Returns whether the connection is known to be closed, without asking the server.
    fn is_closed(&self) -> bool {
        false
    }

    /// Checks with the database whether the connection still works. It may wait for ever.
    fn check(&mut self) -> BoxFuture<'_, bool>;

    /// Restores the session settings of a new connection, after hand-written text may have changed them. The
    /// time limit of the last [`limit`](Self::limit) is kept.
    fn reset(&mut self) -> BoxFuture<'_, Result<(), Error>>;

    fn has_ended_transaction(&self) -> bool {
        false
    }

    fn begin_texts(&self, options: TransactionOptions) -> BeginTexts;

    fn commit_text(&self) -> &'static str {
        "COMMIT"
    }

    fn end_texts(&self, _options: TransactionOptions) -> &'static [&'static str] {
        &[]
    }
}

pub(crate) type BoxWire = Box<dyn AsyncWire>;

impl<W: AsyncWire + ?Sized> Wire for Box<W> {
    type Mode = Async;

    fn dialect(&self) -> Dialect {
        (**self).dialect()
    }

    fn before(&self, statement: &Statement<'_>) -> Vec<Statement<'static>> {
        (**self).before(statement)
    }

    fn run<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        alone: bool,
    ) -> BoxFuture<'f, Result<(), Error>> {
        (**self).run(statement, sink, alone)
    }

    fn send_ahead<'f, 's: 'f>(
        &'f mut self,
        statements: &'f [&'f Statement<'s>],
        alone: bool,
    ) -> BoxFuture<'f, Result<(), Error>> {
        (**self).send_ahead(statements, alone)
    }

    fn run_sent<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        alone: bool,
    ) -> BoxFuture<'f, Result<(), Error>> {
        (**self).run_sent(statement, sink, alone)
    }

    fn command<'f>(&'f mut self, text: &'f str) -> BoxFuture<'f, Result<(), Error>> {
        (**self).command(text)
    }

    fn limit(&mut self, longest: Option<Duration>) -> BoxFuture<'_, Result<(), Error>> {
        (**self).limit(longest)
    }

    fn recover(&mut self) -> BoxFuture<'_, Result<(), Error>> {
        (**self).recover()
    }

    fn finish_stream(&mut self) -> BoxFuture<'_, Result<(), Error>> {
        (**self).finish_stream()
    }

    fn has_ended_transaction(&self) -> bool {
        (**self).has_ended_transaction()
    }

    fn begin_texts(&self, options: TransactionOptions) -> BeginTexts {
        (**self).begin_texts(options)
    }

    fn commit_text(&self) -> &'static str {
        (**self).commit_text()
    }

    fn end_texts(&self, options: TransactionOptions) -> &'static [&'static str] {
        (**self).end_texts(options)
    }
}

impl<W: AsyncWire + ?Sized> StreamingWire for Box<W> {
    fn open<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        alone: bool,
    ) -> BoxFuture<'f, Result<(), Error>> {
        (**self).open(statement, alone)
    }

    fn next<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        most: usize,
    ) -> BoxFuture<'f, Result<bool, Error>> {
        (**self).next(statement, sink, most)
    }
}
