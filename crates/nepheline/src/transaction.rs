//! Transactions: begun, ended in one of two ways, and undone if nobody ends them.

use std::fmt;
use std::sync::{Arc, OnceLock};

use async_stream::try_stream;
use futures_util::stream::{BoxStream, TryStreamExt};
use nepheline_core::internal::{Asking, Selects, Wanted};
use nepheline_core::{BindValue, Dialect, Error, ErrorKind};
use tokio::sync::{MappedMutexGuard, Mutex, MutexGuard};

use crate::connection::Connection;
use crate::handle::sealed;
use crate::setting::Setting;
use crate::verbs::{Run, Verb};

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
/// Its statements run one after another; a stream read within it must end before another statement
/// can begin. After its end, or a conflict, every verb is an error of kind
/// [`TransactionOver`](ErrorKind::TransactionOver).
pub struct Transaction {
    shared: Arc<Shared>,
    /// How many transactions this one is inside of.
    depth: u32,
}

/// What a transaction shares with those inside of it.
struct Shared {
    /// Taken away at the end, so that nothing can run after it.
    connection: Mutex<Option<Connection>>,
    setting: Setting,
    dialect: Dialect,
    over: OnceLock<Over>,
}

/// Why a transaction takes no more statements.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Over {
    Ended,
    Conflict,
    ConnectionLost,
}

impl Shared {
    /// Takes note of what an error means for the transaction.
    fn note(&self, err: Error) -> Error {
        let over = match err.kind() {
            ErrorKind::Conflict => Over::Conflict,
            ErrorKind::ConnectionLost => Over::ConnectionLost,
            _ => return err,
        };
        // What ended it first stays the reason.
        let _ = self.over.set(over);
        err
    }

    fn check(&self) -> Result<(), Error> {
        Err(Error::transaction_over(match self.over.get() {
            None => return Ok(()),
            Some(Over::Ended) => "it was committed or undone",
            Some(Over::Conflict) => "it met a conflict and was undone",
            Some(Over::ConnectionLost) => "its connection was lost, and it was undone",
        }))
    }

    /// The connection, for one statement.
    async fn connection(&self) -> Result<MappedMutexGuard<'_, Connection>, Error> {
        self.check()?;
        let connection = MutexGuard::try_map(self.connection.lock().await, Option::as_mut);
        connection.map_err(|_| Error::transaction_over("it was committed or undone"))
    }

    async fn command(&self, text: &str) -> Result<(), Error> {
        self.connection().await?.command(text).await.map_err(|err| self.note(err))
    }
}

impl Drop for Shared {
    fn drop(&mut self) {
        // Without an end: undone, so that nothing of it is committed.
        if let Some(connection) = self.connection.get_mut().take() {
            connection.abandon();
        }
    }
}

/// A transaction that was begun. Dropped before its end, it is undone.
pub struct Begun {
    shared: Arc<Shared>,
    options: TransactionOptions,
}

impl fmt::Debug for Begun {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Begun").field(&self.transaction()).finish()
    }
}

/// Until the transaction ends.
const TELL_SESSION: &str = "SELECT set_config($1, $2, true)";

impl Begun {
    pub(crate) async fn begin(
        connection: Connection,
        setting: Setting,
        options: TransactionOptions,
    ) -> Result<Begun, Error> {
        let dialect = connection.dialect();
        let connection = Mutex::new(Some(connection));
        let shared = Arc::new(Shared { connection, setting, dialect, over: OnceLock::new() });
        for begin in options.begin(dialect) {
            shared.command(begin).await?;
        }
        for binds in shared.setting.mirrored(dialect)? {
            let tell = Run(TELL_SESSION, binds.map(|text| BindValue::Text(text.into())).to_vec());
            shared.connection().await?.run(&Setting::default(), tell).await?;
        }
        Ok(Begun { shared, options })
    }

    pub(crate) fn transaction(&self) -> Transaction {
        Transaction { shared: self.shared.clone(), depth: 0 }
    }

    /// Commits or undoes, as the outcome of the work says; says also whether there was a conflict.
    pub(crate) async fn end<T, E: From<Error>>(self, outcome: Result<T, E>) -> (Result<T, E>, bool) {
        let ended = self.end_as(outcome.is_ok()).await;
        let conflict = self.shared.over.get() == Some(&Over::Conflict);
        let _ = self.shared.over.set(Over::Ended);
        match (outcome, ended) {
            (Ok(_), Err(err)) => (Err(err.into()), conflict),
            // The failure of the work is what its caller wants to know, so it stays.
            (outcome, _) => (outcome, conflict),
        }
    }

    async fn end_as(&self, committed: bool) -> Result<(), Error> {
        // What was undone must not be reported as done.
        let fit = self.shared.check();
        let mut held = self.shared.connection.lock().await;
        let Some(connection) = held.as_ref() else { return fit };
        let command = if committed && fit.is_ok() { "COMMIT" } else { "ROLLBACK" };
        if let Err(err) = connection.command(command).await {
            // That it was over before is what matters, and then the rollback may well fail.
            return fit.and(Err(self.shared.note(err)));
        }
        for after in self.options.after(self.shared.dialect) {
            connection.command(after).await?;
        }
        // Ended in order, so the connection goes back to the pool.
        drop(held.take());
        fit
    }
}

impl Drop for Begun {
    fn drop(&mut self) {
        let _ = self.shared.over.set(Over::Ended);
        // Whoever runs a statement just now keeps the connection until that has ended.
        if let Ok(mut held) = self.shared.connection.try_lock()
            && let Some(connection) = held.take()
        {
            connection.abandon();
        }
    }
}

impl Transaction {
    /// Runs `work` in a transaction inside of this one: what it did is kept if it returns `Ok`, as
    /// far as this one is committed, and undone if it returns `Err`. In SQL it is a savepoint.
    ///
    /// # Errors
    ///
    /// What `work` returns, and what the database refuses at the beginning or the end.
    pub async fn transaction<T, E>(
        &self,
        work: impl AsyncFnOnce(Transaction) -> Result<T, E>,
    ) -> Result<T, E>
    where
        E: From<Error>,
    {
        self.begin_savepoint().await?;
        let outcome = work(self.inner()).await;
        self.end_savepoint(outcome).await
    }

    async fn begin_savepoint(&self) -> Result<(), Error> {
        let name = savepoint_name(self.depth);
        self.command(&format!("SAVEPOINT {name}")).await
    }

    async fn end_savepoint<T, E: From<Error>>(&self, outcome: Result<T, E>) -> Result<T, E> {
        let name = savepoint_name(self.depth);
        if outcome.is_err() {
            // After a conflict all is undone already, and the work's own failure says so.
            if self.shared.check().is_err() {
                return outcome;
            }
            self.command(&format!("ROLLBACK TO SAVEPOINT {name}")).await?;
        }
        self.command(&format!("RELEASE SAVEPOINT {name}")).await?;
        outcome
    }

    pub(crate) fn inner(&self) -> Transaction {
        Transaction { shared: self.shared.clone(), depth: self.depth + 1 }
    }

    pub(crate) async fn command(&self, text: &str) -> Result<(), Error> {
        self.shared.command(text).await
    }
}

/// Several statements as one: a transaction, or within one a savepoint.
#[derive(Debug)]
pub enum Together {
    Begun(Begun),
    Savepoint(Transaction),
}

impl Together {
    pub(crate) fn transaction(&self) -> Transaction {
        match self {
            Together::Begun(begun) => begun.transaction(),
            Together::Savepoint(transaction) => transaction.inner(),
        }
    }

    /// Keeps what was done, or undoes it.
    pub(crate) async fn end<T, E: From<Error>>(self, outcome: Result<T, E>) -> Result<T, E> {
        match self {
            Together::Begun(begun) => begun.end(outcome).await.0,
            Together::Savepoint(transaction) => transaction.end_savepoint(outcome).await,
        }
    }
}

/// What the savepoint of a transaction this deep inside of others is called.
pub(crate) fn savepoint_name(depth: u32) -> String {
    format!("nepheline_{}", depth + 1)
}

impl sealed::Handle for Transaction {
    async fn run<V: Verb>(&self, verb: V) -> Result<V::Output, Error> {
        let connection = self.shared.connection().await?;
        let setting = &self.shared.setting;
        connection.run(setting, verb).await.map_err(|err| self.shared.note(err))
    }

    fn stream<'a, Q: Selects + Sync>(
        &'a self,
        query: &'a Q,
    ) -> BoxStream<'a, Result<Q::Read, Error>> {
        Box::pin(try_stream! {
            let connection = self.shared.connection().await?;
            let statement = query.statement(self.asking(), Wanted::Rows)?;
            let mut rows = connection.stream(&self.shared.setting, statement);
            while let Some(row) = rows.try_next().await.map_err(|err| self.shared.note(err))? {
                yield row;
            }
        })
    }

    fn asking(&self) -> Asking<'_> {
        self.shared.setting.asking(self.shared.dialect)
    }

    async fn begin_together(&self) -> Result<Together, Error> {
        self.begin_savepoint().await?;
        Ok(Together::Savepoint(Transaction { shared: self.shared.clone(), depth: self.depth }))
    }

    fn check_beside_stream(&self) -> Result<(), Error> {
        Err(Error::stream_needs_two("a transaction"))
    }
}

impl fmt::Debug for Transaction {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Shared { dialect, over, .. } = &*self.shared;
        f.debug_struct("Transaction")
            .field("dialect", dialect)
            .field("depth", &self.depth)
            .field("over", &over.get())
            .finish()
    }
}
