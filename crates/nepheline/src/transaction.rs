//! Transactions: begun, ended in one of two ways, and undone if nobody ends them.

use std::fmt;
use std::sync::atomic::{AtomicU8, Ordering};

use futures_util::stream::{self, BoxStream, StreamExt};
use nepheline_core::internal::Wanted;
use nepheline_core::{Dialect, Error, ErrorKind, Query, RowShape, Table};

use scopeguard::ScopeGuard;

use crate::connection::Connection;
use crate::handle::sealed;
use crate::verbs::Verb;

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
    isolation: Isolation,
    read_only: bool,
    attempts: u64,
}

impl Default for TransactionOptions {
    fn default() -> Self {
        TransactionOptions::new()
    }
}

impl TransactionOptions {
    /// Read committed, reading and writing, one attempt.
    pub fn new() -> TransactionOptions {
        TransactionOptions { isolation: Isolation::ReadCommitted, read_only: false, attempts: 1 }
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

    /// Begins again from the start after a [`Conflict`](ErrorKind::Conflict), this many times in all.
    pub fn attempts(mut self, attempts: u32) -> TransactionOptions {
        self.attempts = u64::from(attempts.max(1));
        self
    }

    pub(crate) fn attempts_allowed(&self) -> u64 {
        self.attempts
    }

    /// The statements that begin such a transaction.
    pub(crate) fn begin(&self, dialect: Dialect) -> &'static [&'static str] {
        use Isolation::{ReadCommitted, Serializable};
        match (dialect, self.isolation, self.read_only) {
            // A lock taken at once is waited for; one taken later would fail at once.
            (Dialect::Sqlite, _, false) => &["BEGIN IMMEDIATE"],
            (Dialect::Sqlite, _, true) => &["BEGIN", "PRAGMA query_only = ON"],
            (Dialect::Postgres, ReadCommitted, false) => &["BEGIN ISOLATION LEVEL READ COMMITTED"],
            (Dialect::Postgres, ReadCommitted, true) => {
                &["BEGIN ISOLATION LEVEL READ COMMITTED READ ONLY"]
            }
            (Dialect::Postgres, Serializable, false) => &["BEGIN ISOLATION LEVEL SERIALIZABLE"],
            (Dialect::Postgres, Serializable, true) => {
                &["BEGIN ISOLATION LEVEL SERIALIZABLE READ ONLY"]
            }
            (_, ReadCommitted, false) => {
                &["SET TRANSACTION ISOLATION LEVEL READ COMMITTED", "START TRANSACTION"]
            }
            (_, ReadCommitted, true) => {
                &["SET TRANSACTION ISOLATION LEVEL READ COMMITTED", "START TRANSACTION READ ONLY"]
            }
            (_, Serializable, false) => {
                &["SET TRANSACTION ISOLATION LEVEL SERIALIZABLE", "START TRANSACTION"]
            }
            (_, Serializable, true) => {
                &["SET TRANSACTION ISOLATION LEVEL SERIALIZABLE", "START TRANSACTION READ ONLY"]
            }
        }
    }

    /// The statements after its end that leave the connection as it was.
    pub(crate) fn after(&self, dialect: Dialect) -> &'static [&'static str] {
        match (dialect, self.read_only) {
            (Dialect::Sqlite, true) => &["PRAGMA query_only = OFF"],
            _ => &[],
        }
    }
}

/// A transaction that is under way: what [`Database::transaction`](crate::Database::transaction)
/// gives its closure. The verbs are those of [`Handle`](crate::Handle).
///
/// After a conflict it takes no more statements. Streams read within it must end before other
/// statements begin.
pub struct Transaction<'c> {
    connection: &'c Connection,
    state: &'c State,
    /// How many transactions this one is inside of.
    depth: u32,
}

/// What became of a transaction; shared with those inside of it.
#[derive(Debug, Default)]
struct State(AtomicU8);

impl State {
    const OPEN: u8 = 0;
    /// The database ended it because of a conflict.
    const CONFLICT: u8 = 1;
    /// Its connection is gone.
    const LOST: u8 = 2;

    fn get(&self) -> u8 {
        self.0.load(Ordering::Relaxed)
    }

    /// Takes note of what an error means for the transaction.
    fn note(&self, err: Error) -> Error {
        match err.kind() {
            ErrorKind::Conflict => self.0.store(State::CONFLICT, Ordering::Relaxed),
            ErrorKind::ConnectionLost => self.0.store(State::LOST, Ordering::Relaxed),
            _ => {}
        }
        err
    }

    fn check(&self) -> Result<(), Error> {
        match self.get() {
            State::OPEN => Ok(()),
            State::CONFLICT => Err(Error::transaction_over("it met a conflict and was undone")),
            _ => Err(Error::transaction_over("its connection was lost, and it was undone")),
        }
    }
}

/// A transaction that was begun. Dropped before its end, it is undone.
pub(crate) struct Begun {
    connection: ScopeGuard<Connection, fn(Connection)>,
    options: TransactionOptions,
    state: State,
}

impl Begun {
    pub(crate) async fn begin(
        connection: Connection,
        options: TransactionOptions,
    ) -> Result<Begun, Error> {
        let abandon: fn(Connection) = Connection::abandon;
        let connection = scopeguard::guard(connection, abandon);
        for begin in options.begin(connection.dialect()) {
            connection.command(begin).await?;
        }
        Ok(Begun { connection, options, state: State::default() })
    }

    pub(crate) fn transaction(&self) -> Transaction<'_> {
        Transaction { connection: &self.connection, state: &self.state, depth: 0 }
    }

    /// Commits or undoes, as the outcome of the work says; says also whether there was a conflict.
    pub(crate) async fn end<T, E: From<Error>>(self, outcome: Result<T, E>) -> (Result<T, E>, bool) {
        let ended = match outcome.is_ok() {
            true => self.commit().await,
            // The failure of the work is what its caller wants to know, so it stays.
            false => self.undo().await,
        };
        let conflict = self.state.get() == State::CONFLICT;
        if ended.is_ok() {
            // Ended in order, so the connection goes back to the pool.
            drop(ScopeGuard::into_inner(self.connection));
        }
        match (outcome, ended) {
            (Ok(_), Err(err)) => (Err(err.into()), conflict),
            (outcome, _) => (outcome, conflict),
        }
    }

    async fn commit(&self) -> Result<(), Error> {
        // What was undone must not be reported as done.
        self.state.check()?;
        self.connection.command("COMMIT").await.map_err(|err| self.state.note(err))?;
        self.restore().await
    }

    async fn undo(&self) -> Result<(), Error> {
        self.connection.command("ROLLBACK").await?;
        self.restore().await
    }

    async fn restore(&self) -> Result<(), Error> {
        for after in self.options.after(self.connection.dialect()) {
            self.connection.command(after).await?;
        }
        Ok(())
    }
}

impl Transaction<'_> {
    /// Runs `work` in a transaction inside of this one: what it did is kept if it returns `Ok`, as
    /// far as this one is committed, and undone if it returns `Err`. In SQL it is a savepoint.
    ///
    /// # Errors
    ///
    /// What `work` returns, and what the database refuses at the beginning or the end.
    pub async fn transaction<T, E>(
        &self,
        mut work: impl AsyncFnMut(&Transaction<'_>) -> Result<T, E>,
    ) -> Result<T, E>
    where
        E: From<Error>,
    {
        let name = savepoint_name(self.depth);
        self.command(&format!("SAVEPOINT {name}")).await?;
        let inner = Transaction { connection: self.connection, state: self.state, depth: self.depth + 1 };
        let outcome = work(&inner).await;
        self.state.check()?;
        if outcome.is_err() {
            self.command(&format!("ROLLBACK TO SAVEPOINT {name}")).await?;
        }
        self.command(&format!("RELEASE SAVEPOINT {name}")).await?;
        outcome
    }

    pub(crate) async fn command(&self, text: &str) -> Result<(), Error> {
        self.state.check()?;
        self.connection.command(text).await.map_err(|err| self.state.note(err))
    }

    /// The same transaction, to hand on.
    pub(crate) fn lent(&self) -> Transaction<'_> {
        Transaction { connection: self.connection, state: self.state, depth: self.depth }
    }
}

/// What the savepoint of a transaction this deep inside of others is called.
pub(crate) fn savepoint_name(depth: u32) -> String {
    format!("nepheline_{}", depth + 1)
}

impl sealed::Handle for Transaction<'_> {
    async fn run<V: Verb>(&self, verb: V) -> Result<V::Output, Error> {
        self.state.check()?;
        self.connection.run(verb).await.map_err(|err| self.state.note(err))
    }

    fn stream<'a, T: Table, R: RowShape + Send + 'static>(
        &'a self,
        query: &'a Query<T, R>,
    ) -> BoxStream<'a, Result<R, Error>> {
        let statement = self.state.check().and_then(|()| query.statement(self.connection.dialect(), Wanted::Rows));
        match statement {
            Ok(statement) => {
                let rows = self.connection.stream(statement);
                Box::pin(rows.map(|row| row.map_err(|err| self.state.note(err))))
            }
            Err(err) => Box::pin(stream::once(std::future::ready(Err(err)))),
        }
    }
}

impl fmt::Debug for Transaction<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let state = ["open", "undone after a conflict", "lost"][usize::from(self.state.get())];
        write!(f, "Transaction({}, depth {}, {state})", self.connection.dialect(), self.depth)
    }
}
