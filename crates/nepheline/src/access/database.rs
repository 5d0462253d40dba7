//! The async handle of a database: a pool of connections.

use std::fmt;
use std::future::Future;
use std::sync::Arc;
use std::time::Duration;

use nepheline_core::{BindValue, Dialect, Error};

use super::asynchronous::AsyncAccess;
use super::handle::sealed;
use super::inside;
use super::options::{Options, Pooler};
use super::setting::{Setting, set_by, set_by_mirroring, set_by_time_limit};
use super::transaction::Transaction;
use crate::engine::metrics::PoolMetrics;
use crate::engine::pool::{Lease, Pool};
use crate::exec::access::run;
use crate::exec::levels::Owner;
use crate::exec::limit::CallLimit;
use crate::exec::line::Wire as _;
use crate::exec::transaction::{Hold as _, Root, TransactionOptions, Work};

/// A database, asked from async code. Cloning it is cheap: the clones share one pool of connections.
///
/// What can be done with it is in [`Handle`](crate::Handle), and in
/// [`transaction`](Self::transaction).
///
/// ```no_run
/// use nepheline::Database;
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64, accredited: bool }
/// # async fn f() -> Result<(), Error> {
/// let db = Database::open("postgres://shed@localhost/core?pool_size=4").await?;
/// let labs = db.read(&Lab::rows().filter(|l| l.accredited)).await?;
/// # Ok(())
/// # }
/// ```
#[derive(Clone)]
pub struct Database {
    shared: Arc<Shared>,
    pub(crate) setting: Setting,
}

struct Shared {
    pool: Pool,
    dialect: Dialect,
    options: Options,
}

impl Database {
    /// Opens the database that a URL names, and checks that it can be used. The parameters are those
    /// of [`Options::from_url`].
    ///
    /// # Errors
    ///
    /// Of kind [`Connection`](crate::ErrorKind::Connection) if the database cannot be reached or
    /// cannot be used. No message has the password.
    pub async fn open(url: &str) -> Result<Database, Error> {
        Database::open_with(Options::from_url(url)?).await
    }

    pub(crate) async fn open_with(options: Options) -> Result<Database, Error> {
        let (connect, size) = options.connector()?;
        let pool = Pool::new(connect, size, &options)?;
        // One connection now, so that what is wrong is told here and not by the first query.
        let dialect = pool.lease(None).await?.line().wire.dialect();
        let setting = Setting::default().never_copying(options.pooler != Pooler::None);
        let shared = Arc::new(Shared { pool, dialect, options });
        Ok(Database { shared, setting })
    }

    /// Returns the state of the pool of connections, and what it has counted since it was opened. Clones share it.
    pub fn pool_metrics(&self) -> PoolMetrics {
        self.shared.pool.metrics()
    }

    /// Closes the handle and all its clones: idle connections at once, and those in use when they come back, which it
    /// waits for. What runs goes on to its end; further calls are errors of the kind
    /// [`Connection`](crate::ErrorKind::Connection).
    ///
    /// ```
    /// # use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64 }
    /// # #[tokio::main(flavor = "current_thread")]
    /// # async fn main() -> Result<(), Error> {
    /// let db = nepheline::Database::open("sqlite::memory:").await?;
    /// db.close().await;
    /// assert_eq!(db.read(&Lab::rows()).await.unwrap_err().kind(), ErrorKind::Connection);
    /// # Ok(())
    /// # }
    /// ```
    pub async fn close(&self) {
        self.shared.pool.close().await;
    }

    set_by!([&self] self -> Database);
    set_by_mirroring!([&self] self -> Database);
    set_by_time_limit!([&self] self -> Database);

    /// The same database with another setting.
    pub(crate) fn set(&self, change: impl FnOnce(&Setting) -> Setting) -> Database {
        Database { shared: self.shared.clone(), setting: change(&self.setting) }
    }

    /// The dialect that the database is asked in.
    pub fn dialect(&self) -> Dialect {
        self.shared.dialect
    }

    /// Runs `work` in a transaction: what it did is committed if it returns `Ok`, and undone if it
    /// returns `Err`, panics, or is dropped half-way.
    ///
    /// The isolation is read committed; [`transaction_with`](Self::transaction_with) sets another.
    ///
    /// ```no_run
    /// # use nepheline::Database;
    /// # use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64, accredited: bool }
    /// # async fn f(db: Database) -> Result<(), Error> {
    /// let (labs, accredited) = db
    ///     .transaction(async |tx| {
    ///         let labs = tx.count(&Lab::rows()).await?;
    ///         let accredited = tx.count(&Lab::rows().filter(|l| l.accredited)).await?;
    ///         Ok::<_, Error>((labs, accredited))
    ///     })
    ///     .await?;
    /// # Ok(())
    /// # }
    /// ```
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
        self.transaction_with(TransactionOptions::new(), work).await
    }

    /// Runs `work` in a transaction as `options` say; see [`transaction`](Self::transaction).
    ///
    /// # Errors
    ///
    /// As [`transaction`](Self::transaction).
    pub async fn transaction_with<T, E>(
        &self,
        options: TransactionOptions,
        work: impl AsyncFnOnce(Transaction) -> Result<T, E>,
    ) -> Result<T, E>
    where
        E: From<Error>,
    {
        let begun = Begun(Arc::new(self.begin(options, Owner::Program).await?));
        let transaction = Transaction::outermost(begun.0.clone());
        let outcome = inside::scope(self.identity(), work(transaction)).await;
        begun.end(outcome).await.0
    }

    /// Runs `work` in a transaction, and again from the start each time the transaction met a
    /// [`Conflict`](crate::ErrorKind::Conflict), `attempts` times at most.
    ///
    /// Whatever else `work` does, it does as often as it is run. An outcome that is not known
    /// ([`TransactionResolutionUnknown`](crate::ErrorKind::TransactionResolutionUnknown)) is never tried again.
    ///
    /// ```no_run
    /// # use nepheline::{Database, Isolation, TransactionOptions};
    /// # use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64, accredited: bool }
    /// # async fn f(db: Database) -> Result<(), Error> {
    /// let options = TransactionOptions::new().isolation(Isolation::Serializable);
    /// let labs = db.transaction_attempts(3, options, async |tx| tx.count(&Lab::rows()).await).await?;
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    ///
    /// As [`transaction`](Self::transaction); the last attempt's, if all met a conflict.
    pub async fn transaction_attempts<T, E, F>(
        &self,
        attempts: u32,
        options: TransactionOptions,
        mut work: impl FnMut(Transaction) -> F,
    ) -> Result<T, E>
    where
        E: From<Error>,
        F: Future<Output = Result<T, E>>,
    {
        let mut attempt = 1;
        loop {
            let begun = Begun(Arc::new(self.begin(options, Owner::Program).await?));
            let transaction = Transaction::outermost(begun.0.clone());
            let outcome = inside::scope(self.identity(), work(transaction)).await;
            let (outcome, conflict) = begun.end(outcome).await;
            if !conflict || attempt >= attempts {
                return outcome;
            }
            // Two that met once would meet again if both began at once.
            tokio::time::sleep(pause_after(attempt)).await;
            attempt += 1;
        }
    }

    pub(crate) async fn begin(
        &self,
        options: TransactionOptions,
        owner: Owner,
    ) -> Result<Work<Lease>, Error> {
        let lease = self.lease(self.setting.begin_call()).await?;
        let setting = self.setting.in_transaction();
        Work::begin(lease, setting, Root::Transaction(options), owner).await
    }

    pub(crate) async fn lease(&self, call: Option<CallLimit>) -> Result<Lease, Error> {
        inside::check(self.identity())?;
        self.shared.pool.lease(call).await
    }

    pub(crate) fn identity(&self) -> usize {
        inside::identity(&self.shared)
    }

    pub(crate) fn pool_size(&self) -> usize {
        self.shared.pool.max_size()
    }
}

/// A transaction that was begun. Dropped before its end, it is undone.
pub(crate) struct Begun(pub(crate) Arc<Work<Lease>>);

impl Begun {
    /// Commits or undoes, as the outcome of the work says; returns also whether there was a conflict.
    pub(crate) async fn end<T, E: From<Error>>(
        self,
        outcome: Result<T, E>,
    ) -> (Result<T, E>, bool) {
        let ended = self.0.end(outcome.is_ok()).await;
        let conflict = self.0.met_conflict();
        match (outcome, ended) {
            (Ok(_), Err(err)) => (Err(err.into()), conflict),
            // The failure of the work is what its caller wants to know, so it stays.
            (outcome, _) => (outcome, conflict),
        }
    }
}

impl Drop for Begun {
    fn drop(&mut self) {
        self.0.let_go();
    }
}

/// How long to wait before a transaction is begun again.
pub(crate) fn pause_after(attempt: u32) -> Duration {
    Duration::from_millis(5) * attempt
}

impl sealed::Handle for Database {
    #[expect(private_interfaces, reason = "only the verbs call it")]
    fn access(&self) -> AsyncAccess<'_> {
        AsyncAccess::Database(self, self.setting.begin_call())
    }
}

impl fmt::Debug for Database {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Database({})", self.shared.options.shown())
    }
}

/// Runs text of a test, or of the demo when it is loaded.
#[doc(hidden)]
pub trait RunText {
    fn run_text(
        &self,
        text: &str,
        binds: Vec<BindValue>,
    ) -> impl Future<Output = Result<(), Error>> + Send;
}

impl<H: sealed::Handle> RunText for H {
    async fn run_text(&self, text: &str, binds: Vec<BindValue>) -> Result<(), Error> {
        run(&self.access(), crate::exec::ask::Run(text, binds)).await
    }
}
