//! The engines: how each connects, sets a session up, runs statements, and stops them. All that differs between them
//! is in their folders; what they have in common is asked of them through the traits of this file.

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

/// The longest that stopping a statement or undoing a transaction may take where nobody waits for it.
pub(crate) const STOPPING: Duration = Duration::from_secs(5);

/// The silence of a server after which the system asks whether it is still there.
#[cfg(any(feature = "postgres", feature = "mysql"))]
pub(crate) const KEEPALIVE_IDLE: Duration = Duration::from_secs(30);
/// The time between two such questions without an answer, and their number.
#[cfg(feature = "postgres")]
pub(crate) const KEEPALIVE_INTERVAL: Duration = Duration::from_secs(10);
#[cfg(feature = "postgres")]
pub(crate) const KEEPALIVE_RETRIES: u32 = 3;

/// Opens connections of one database.
pub(crate) trait Connect: Send + Sync + 'static {
    /// Opens a connection and sets its session up.
    fn connect(&self) -> BoxFuture<'_, Result<BoxWire, Error>>;

    /// Takes a function that closes the idle connections of the pool, for the case that they use up what the server
    /// limits in all.
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

    /// See [`Wire::run`]. Where it is dropped before its end, [`recover`](Self::recover) brings the wire in step.
    fn run<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        alone: bool,
    ) -> BoxFuture<'f, Result<(), Error>>;

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

    /// Stops what runs, without waiting for its end: the caller may be a destructor.
    fn stop(&mut self) {}

    /// Stops what runs, and waits for its end, but not for ever.
    fn recover(&mut self) -> BoxFuture<'_, Result<(), Error>>;

    /// Brings a connection to rest that was given up in the middle of something, which is told by `interrupted`, or
    /// with a transaction open; returns whether it can be lent again. Otherwise it is closed.
    fn salvage(&mut self, interrupted: bool) -> BoxFuture<'_, bool>;

    /// Returns whether the connection is known to be closed, without asking the server.
    fn is_closed(&self) -> bool {
        false
    }

    /// Asks the database whether the connection still works. It may wait for ever.
    fn check(&mut self) -> BoxFuture<'_, bool>;

    /// Brings the session's settings back to those of a new connection, after hand-written text may have changed them. The
    /// time limit stays the one of the last [`limit`](Self::limit).
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
