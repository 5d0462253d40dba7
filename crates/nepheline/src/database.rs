//! The async handle of a database: a pool of connections.

use std::fmt;
use std::future::Future;
use std::sync::Arc;
use std::time::Duration;

use deadpool::Runtime;
use deadpool::managed::{self, Manager, Object, PoolError, TimeoutType, Timeouts};
use futures_util::stream::{BoxStream, TryStreamExt};
use nepheline_core::internal::{Asking, Kept, Selects, Wanted};
use nepheline_core::{BindValue, Dialect, Error};

use crate::connection::Connection;
use crate::handle::sealed;
use crate::options::{Options, Target};
use crate::setting::{Setting, set_by, set_by_mirroring};
use crate::transaction::{Begun, Together, Transaction, TransactionOptions};
use crate::verbs::Verb;

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
    setting: Setting,
}

struct Shared {
    pool: Pool,
    dialect: Dialect,
    options: Options,
}

enum Pool {
    #[cfg(feature = "sqlite")]
    Sqlite(managed::Pool<crate::sqlite::Manager>),
    #[cfg(feature = "postgres")]
    Postgres(managed::Pool<crate::postgres::Manager>),
    #[cfg(feature = "mysql")]
    MySql(managed::Pool<crate::mysql::Manager>),
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
        let pool = Pool::build(&options)?;
        // One connection now, so that what is wrong is told here and not by the first query.
        let dialect = pool.acquire(&options).await?.dialect();
        let shared = Arc::new(Shared { pool, dialect, options });
        Ok(Database { shared, setting: Setting::default() })
    }

    set_by!([&self] self -> Database);
    set_by_mirroring!([&self] self -> Database);

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
        let begun = self.begin(options).await?;
        let outcome = work(begun.transaction()).await;
        begun.end(outcome).await.0
    }

    /// Runs `work` in a transaction, and again from the start each time the transaction met a
    /// [`Conflict`](crate::ErrorKind::Conflict), `attempts` times at most.
    ///
    /// Whatever else `work` does, it does as often as it is run.
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
            let begun = self.begin(options).await?;
            let outcome = work(begun.transaction()).await;
            let (outcome, conflict) = begun.end(outcome).await;
            if !conflict || attempt >= attempts {
                return outcome;
            }
            // Two that met once would meet again if both began at once.
            tokio::time::sleep(pause_after(attempt)).await;
            attempt += 1;
        }
    }

    pub(crate) async fn begin(&self, options: TransactionOptions) -> Result<Begun, Error> {
        Begun::begin(self.acquire().await?, self.setting.in_transaction(), options).await
    }

    pub(crate) async fn acquire(&self) -> Result<Connection, Error> {
        self.shared.pool.acquire(&self.shared.options).await
    }
}

/// How long to wait before a transaction is begun again.
pub(crate) fn pause_after(attempt: u32) -> Duration {
    Duration::from_millis(5) * attempt
}

impl Pool {
    fn build(options: &Options) -> Result<Pool, Error> {
        match &options.target {
            #[cfg(feature = "sqlite")]
            Target::Sqlite { path, mode } => {
                let options = options.clone();
                // Each connection to a database in memory would have one of its own.
                let size = if path == crate::options::IN_MEMORY { 1 } else { options.pool_size };
                let manager = crate::sqlite::Manager { path: path.clone(), mode: *mode, options };
                Ok(Pool::Sqlite(pool_of(manager, size)?))
            }
            #[cfg(feature = "postgres")]
            Target::Postgres(url) => {
                let manager = crate::postgres::Manager::new(options, url.as_str())?;
                Ok(Pool::Postgres(pool_of(manager, options.pool_size)?))
            }
            #[cfg(feature = "mysql")]
            Target::MySql(url) => {
                let manager = crate::mysql::Manager::new(options, url)?;
                Ok(Pool::MySql(pool_of(manager, options.pool_size)?))
            }
            #[allow(unreachable_patterns, reason = "unless every engine's feature is on")]
            _ => {
                let reason = "is of an engine whose feature is off; turn on `sqlite`, `postgres` or `mysql`";
                Err(Error::unfit_url(&options.shown(), reason))
            }
        }
    }

    /// How many connections there can be.
    fn size(&self) -> usize {
        match self {
            #[cfg(feature = "sqlite")]
            Pool::Sqlite(pool) => pool.status().max_size,
            #[cfg(feature = "postgres")]
            Pool::Postgres(pool) => pool.status().max_size,
            #[cfg(feature = "mysql")]
            Pool::MySql(pool) => pool.status().max_size,
        }
    }

    async fn acquire(&self, options: &Options) -> Result<Connection, Error> {
        match self {
            #[cfg(feature = "sqlite")]
            Pool::Sqlite(pool) => Ok(Connection::Sqlite(take_from(pool, options).await?)),
            #[cfg(feature = "postgres")]
            Pool::Postgres(pool) => Ok(Connection::Postgres(take_from(pool, options).await?)),
            #[cfg(feature = "mysql")]
            Pool::MySql(pool) => Ok(Connection::MySql(take_from(pool, options).await?)),
        }
    }
}

fn pool_of<M: Manager<Error = Error>>(manager: M, size: usize) -> Result<managed::Pool<M>, Error> {
    let pool = managed::Pool::builder(manager).max_size(size).runtime(Runtime::Tokio1).build();
    pool.map_err(|err| Error::unfit_session(err.to_string()))
}

async fn take_from<M: Manager<Error = Error>>(
    pool: &managed::Pool<M>,
    options: &Options,
) -> Result<Object<M>, Error> {
    let create = Some(options.connect_timeout);
    // Without a timer first: it costs more than taking a connection that is free.
    let at_once = Timeouts { wait: Some(Duration::ZERO), create, recycle: None };
    let taken = match pool.timeout_get(&at_once).await {
        Err(PoolError::Timeout(TimeoutType::Wait)) => {
            let in_time = Timeouts { wait: Some(options.pool_wait), create, recycle: None };
            Box::pin(pool.timeout_get(&in_time)).await
        }
        taken => taken,
    };
    taken.map_err(|err| match err {
        PoolError::Backend(err) => err,
        PoolError::Timeout(TimeoutType::Wait) => Error::pool_exhausted(pool.status().max_size),
        other => Error::cannot_open(&format!("`{}`", options.shown()), other),
    })
}

impl sealed::Handle for Database {
    async fn run<V: Verb>(&self, verb: V) -> Result<V::Output, Error> {
        let kept = Kept::default();
        let mut statement = verb.statement(self.asking().keeping(&kept))?;
        let connection = self.acquire().await.map_err(|err| statement.context(err))?;
        let gathered = connection.fetch(&self.setting, &mut statement).await?;
        drop(statement);
        verb.finish(gathered)
    }

    fn stream<'a, Q: Selects + Sync>(
        &'a self,
        query: &'a Q,
    ) -> BoxStream<'a, Result<Q::Read, Error>> {
        Box::pin(async_stream::try_stream! {
            let statement = query.statement(self.asking(), Wanted::Rows)?;
            let origin = statement.origin();
            let connection = self.acquire().await?;
            let mut rows = connection.stream(&self.setting, statement);
            while let Some(row) = rows.try_next().await.map_err(|err| err.asked_at(origin))? {
                yield row;
            }
        })
    }

    fn asking(&self) -> Asking<'_> {
        self.setting.asking(self.shared.dialect)
    }

    async fn begin_together(&self) -> Result<Together, Error> {
        Ok(Together::Begun(self.begin(TransactionOptions::new()).await?))
    }

    fn check_beside_stream(&self) -> Result<(), Error> {
        match self.shared.pool.size() {
            0 | 1 => Err(Error::stream_needs_two("a pool of one connection")),
            _ => Ok(()),
        }
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
    fn run_text(
        &self,
        text: &str,
        binds: Vec<BindValue>,
    ) -> impl Future<Output = Result<(), Error>> + Send {
        self.run(crate::verbs::Run(text, binds))
    }
}
