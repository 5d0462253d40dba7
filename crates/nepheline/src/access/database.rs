//! The async handle of a database: a connection pool.

use std::fmt;
use std::future::Future;
use std::sync::Arc;
use std::time::Duration;

use futures_util::stream::{Stream, StreamExt};
use nepheline_core::{BindValue, Dialect, Error};

use super::asynchronous::AsyncAccess;
use super::handle::sealed;
use super::inside;
use super::options::{Options, Pooler};
use super::setting::{Setting, set_by, set_by_session_setting, set_by_time_limit};
use super::transaction::Transaction;
use crate::engine::Connect;
use crate::engine::metrics::PoolMetrics;
use crate::engine::pool::{Lease, Pool};
use crate::access::handle::RunsQueries;
use crate::exec::access::run;
use crate::exec::companions::Readable;
use crate::exec::describe::{Describable, Describe, DescribedPart};
use crate::exec::levels::Owner;
use crate::exec::read;
use crate::exec::limit::CallLimit;
use crate::exec::line::Wire as _;
use crate::exec::transaction::{Hold as _, Root, TransactionOptions, Work};

/// A database for async code. Cloning it is cheap: the clones share one connection pool.
///
/// The verbs are in [`RunsQueries`](crate::RunsQueries); transactions are in
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
    /// Opens the database of a URL, and checks that it can be used. The parameters are those of
    /// [`Options::from_url`].
    ///
    /// # Errors
    ///
    /// [`Connection`](crate::ErrorKind::Connection) if the database cannot be reached or used. No message
    /// contains the password.
    pub async fn open(url: &str) -> Result<Database, Error> {
        Database::open_with(Options::from_url(url)?).await
    }

    pub(crate) async fn open_with(options: Options) -> Result<Database, Error> {
        let (connect, size) = options.connector()?;
        Database::of(connect, size, options).await
    }

    async fn of(connect: Box<dyn Connect>, size: usize, options: Options) -> Result<Database, Error> {
        let pool = Pool::new(connect, size, &options)?;
        // Opens one connection now, so that a failure is reported here and not by the first query.
        let dialect = pool.lease(None).await?.line().wire.dialect();
        let setting = Setting::default().never_copying(options.pooler != Pooler::None);
        let shared = Arc::new(Shared { pool, dialect, options });
        Ok(Database { shared, setting })
    }

    /// Takes over a SQLite connection of the program, with the tables and functions that it has: a database in memory for
    /// tests, for example. The pool has this one connection.
    ///
    /// ```
    /// # #[tokio::main(flavor = "current_thread")]
    /// # async fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64 }
    ///
    /// let connection = rusqlite::Connection::open_in_memory()?;
    /// connection.execute_batch("CREATE TABLE lab (id INTEGER PRIMARY KEY)")?;
    /// let db = nepheline::Database::over(connection).await?;
    /// assert_eq!(db.count(&Lab::rows()).await?, 0);
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    ///
    /// [`Connection`](crate::ErrorKind::Connection) if the database's text is not UTF-8, or SQLite is older than 3.40.
    #[cfg(feature = "sqlite")]
    pub async fn over(connection: rusqlite::Connection) -> Result<Database, Error> {
        let options = Options::from_url("sqlite::memory:")?;
        let connect = crate::engine::sqlite::Connector::over(connection, options.clone());
        Database::of(Box::new(connect), 1, options).await
    }

    /// Returns the state of the connection pool, and its counters since it was opened. Clones share it.
    pub fn pool_metrics(&self) -> PoolMetrics {
        self.shared.pool.metrics()
    }

    /// Closes the handle and all its clones: idle connections at once, and busy ones when they are returned.
    /// It waits for those. Running calls finish; later calls fail with
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
    set_by_session_setting!([&self] self -> Database);
    set_by_time_limit!([&self] self -> Database);

    /// Returns the same database with changed settings.
    pub(crate) fn set(&self, change: impl FnOnce(&Setting) -> Setting) -> Database {
        Database { shared: self.shared.clone(), setting: change(&self.setting) }
    }

    /// Listens to the notifications of a PostgreSQL channel (LISTEN), over a connection of its own that is not part of
    /// the pool. Each payload is parsed into a `T`: a `String`, a number, a `Uuid`, or a type of yours.
    ///
    /// If the connection is lost, it is opened again, which the stream reports, because notifications were missed
    /// meanwhile. A failed attempt is an error of the stream, which goes on. Notifications are sent by `pg_notify`,
    /// and arrive when the transaction that sent them is committed.
    ///
    /// ```no_run
    /// # use futures_util::StreamExt;
    /// # use nepheline::{Database, Notification, statement};
    /// # use nepheline::prelude::*;
    /// # async fn f(db: Database) -> Result<(), Error> {
    /// let mut measured = db.listen::<i64>("measured").await?;
    /// db.write(&statement!("SELECT pg_notify('measured', {})", "7").writing()).await?;
    /// while let Some(notification) = measured.next().await {
    ///     match notification? {
    ///         Notification::Arrived(specimen) => println!("specimen {specimen} is measured"),
    ///         Notification::Reconnected => println!("some may have been missed"),
    ///         _ => {}
    ///     }
    /// }
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    ///
    /// [`Unsupported`](crate::ErrorKind::Unsupported) on other engines, and behind a pooler that reserves a session for
    /// one transaction; [`Connection`](crate::ErrorKind::Connection) if the first connection fails. In the stream,
    /// [`Mismatch`](crate::ErrorKind::Mismatch) for a payload that is no `T`.
    #[cfg(feature = "postgres")]
    pub async fn listen<T>(
        &self,
        channel: impl Into<String>,
    ) -> Result<crate::engine::postgres::Notifications<T>, Error>
    where
        T: std::str::FromStr<Err: std::error::Error + Send + Sync + 'static> + Send + 'static,
    {
        match self.shared.options.notifier() {
            Some(connector) => connector?.listen(channel.into()).await,
            None => Err(Error::no_notifications(self.dialect())),
        }
    }

    /// Reads the rows one after another, in constant memory, as a stream that owns all it needs: the body of a response.
    /// It is [`read_stream`](crate::RunsQueries::read_stream) otherwise, and begins when it is first polled.
    ///
    /// ```no_run
    /// # use futures_util::TryStreamExt;
    /// # use nepheline::Database;
    /// # use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64, name: String }
    /// # fn f(db: Database) -> impl futures_util::Stream<Item = Result<String, Error>> + Send + 'static {
    /// db.into_stream(Lab::rows().order_by(|l| l.id.asc())).map_ok(|lab| format!("{}\n", lab.name))
    /// # }
    /// ```
    pub fn into_stream<Q: Readable + 'static>(
        self,
        query: Q,
    ) -> impl Stream<Item = Result<Q::Row, Error>> + Send + Unpin + 'static {
        Box::pin(async_stream::stream! {
            let mut rows = RunsQueries::read_stream(&self, &query);
            while let Some(row) = rows.next().await {
                yield row;
            }
        })
    }

    /// Returns the dialect of the database.
    pub fn dialect(&self) -> Dialect {
        self.shared.dialect
    }

    /// Runs `work` in a transaction, which is committed if `work` returns `Ok`, and rolled back if it returns
    /// `Err`, panics, or is dropped before it ends.
    ///
    /// The isolation level is READ COMMITTED; [`transaction_with`](Self::transaction_with) sets another.
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
    /// The error that `work` returns, and errors of the database at the begin or the end.
    pub async fn transaction<T, E>(
        &self,
        work: impl AsyncFnOnce(Transaction) -> Result<T, E>,
    ) -> Result<T, E>
    where
        E: From<Error>,
    {
        self.transaction_with(TransactionOptions::new(), work).await
    }

    /// Runs `work` in a transaction with `options`; see [`transaction`](Self::transaction).
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

    /// Runs `work` in a transaction, and runs it again from the start after each
    /// [`Conflict`](crate::ErrorKind::Conflict), at most `attempts` times.
    ///
    /// Side effects of `work` happen in each run. An unknown outcome
    /// ([`TransactionResolutionUnknown`](crate::ErrorKind::TransactionResolutionUnknown)) is never repeated.
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
    /// As [`transaction`](Self::transaction); the error of the last attempt, if all had conflicts.
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
            // Two transactions in conflict would conflict again if both began at once.
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

/// A transaction that was begun. It is rolled back if it is dropped before its end.
pub(crate) struct Begun(pub(crate) Arc<Work<Lease>>);

impl Begun {
    /// Commits or rolls back, as the outcome of the work says; also returns whether there was a conflict.
    pub(crate) async fn end<T, E: From<Error>>(
        self,
        outcome: Result<T, E>,
    ) -> (Result<T, E>, bool) {
        let ended = self.0.end(outcome.is_ok()).await;
        let conflict = self.0.met_conflict();
        match (outcome, ended) {
            (Ok(_), Err(err)) => (Err(err.into()), conflict),
            // The caller needs the error of the work most, so it is kept.
            (outcome, _) => (outcome, conflict),
        }
    }
}

impl Drop for Begun {
    fn drop(&mut self) {
        self.0.let_go();
    }
}

/// Returns the pause before a transaction is begun again.
pub(crate) fn pause_after(attempt: u32) -> Duration {
    Duration::from_millis(5) * attempt
}

impl sealed::RunsQueries for Database {
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

/// Runs SQL text of a test, or of the demo's setup.
#[doc(hidden)]
pub trait RunText {
    fn run_text(
        &self,
        text: &str,
        binds: Vec<BindValue>,
    ) -> impl Future<Output = Result<(), Error>> + Send;
}

impl<H: sealed::RunsQueries> RunText for H {
    async fn run_text(&self, text: &str, binds: Vec<BindValue>) -> Result<(), Error> {
        run(&self.access(), crate::exec::ask::Run(text, binds)).await
    }
}

/// Asks for the types and the plan of a query without running it.
#[doc(hidden)]
pub trait Describes {
    fn described(
        &self,
        query: &dyn Describable,
    ) -> impl Future<Output = Result<Vec<DescribedPart>, Error>> + Send;

    fn plan_of(
        &self,
        query: &dyn Describable,
    ) -> impl Future<Output = Result<String, Error>> + Send;
}

impl<H: sealed::RunsQueries> Describes for H {
    async fn described(&self, query: &dyn Describable) -> Result<Vec<DescribedPart>, Error> {
        run(&self.access(), Describe(query)).await
    }

    async fn plan_of(&self, query: &dyn Describable) -> Result<String, Error> {
        read::plan(self.access(), query, false).await
    }
}
