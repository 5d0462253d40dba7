//! The blocking handle of a database, and its transactions.

use std::fmt;
use std::ops::ControlFlow;
use std::sync::Arc;

use futures_util::stream::StreamExt;
use nepheline_core::internal::Asking;
use nepheline_core::{Dialect, Error, Unsaved, Writes};
use scopeguard::ScopeGuard;
use tokio::runtime::Runtime;

#[cfg(feature = "sqlite")]
use super::session::{self, Session};
use super::sealed;
use crate::handle::sealed::Handle as AsyncHandle;
use crate::options::Options;
use crate::readable::Readable;
#[cfg(feature = "sqlite")]
use crate::options::Target;
use crate::setting::{Setting, set_by, set_by_mirroring};
#[cfg(feature = "sqlite")]
use crate::sqlite::direct::{self, StatementTimeout};
use crate::transaction::{self, TransactionOptions};
use crate::verbs::Verb;
use crate::writing::{self, Chunks, Outcome};

/// A database, asked from code that is not async.
///
/// Threads may share it, and cloning it is cheap. Over SQLite they take turns on one connection; over a server each call
/// takes a connection from a pool. What can be done with it is in [`Handle`](super::Handle).
///
/// # Panics
///
/// Opening and using a server's blocking handle panics on a thread that drives async tasks, which
/// must not block; there, use [`crate::Database`], or `tokio::task::spawn_blocking`. SQLite's never does.
///
/// ```no_run
/// use nepheline::blocking::Database;
/// # fn main() -> Result<(), nepheline::Error> {
/// let db = Database::open("sqlite:core.db")?;
/// # Ok(())
/// # }
/// ```
#[derive(Clone)]
pub struct Database {
    engine: Engine,
}

#[derive(Clone)]
enum Engine {
    #[cfg(feature = "sqlite")]
    Direct(Arc<Direct>, Setting),
    Served(Served),
}

/// SQLite, called directly. The lock may be taken again by the thread that holds it, so that a
/// function called within a transaction cannot wait for itself.
#[cfg(feature = "sqlite")]
struct Direct {
    connection: parking_lot::ReentrantMutex<rusqlite::Connection>,
    timeout: Option<StatementTimeout>,
}

/// A server, through the async driver, which the calling thread drives.
#[derive(Clone)]
struct Served {
    database: crate::Database,
    /// Shut down without waiting, because waiting is not allowed where a handle may be dropped.
    runtime: Arc<ScopeGuard<Runtime, fn(Runtime)>>,
}

impl Database {
    /// Opens the database that a URL names, and checks that it can be used. The parameters are those
    /// of [`Options::from_url`].
    ///
    /// # Errors
    ///
    /// Of kind [`Connection`](crate::ErrorKind::Connection) if the database cannot be reached or
    /// cannot be used. No message has the password.
    pub fn open(url: &str) -> Result<Database, Error> {
        Database::open_with(Options::from_url(url)?)
    }

    pub(crate) fn open_with(options: Options) -> Result<Database, Error> {
        let engine = match &options.target {
            #[cfg(feature = "sqlite")]
            Target::Sqlite { path, mode } => {
                let opened = direct::open(path, *mode, &options)?;
                let direct =
                    Direct { connection: opened.connection.into(), timeout: opened.timeout };
                Engine::Direct(Arc::new(direct), Setting::default())
            }
            _ => {
                let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
                let runtime = runtime.map_err(|err| Error::cannot_open("for lack of a runtime", err))?;
                let runtime = scopeguard::guard(runtime, Runtime::shutdown_background as fn(Runtime));
                let database = runtime.block_on(crate::Database::open_with(options))?;
                Engine::Served(Served { database, runtime: Arc::new(runtime) })
            }
        };
        Ok(Database { engine })
    }

    /// Takes over a SQLite connection that the program already has. To lend one, see
    /// [`Session::over`].
    ///
    /// It is set up as our own are: foreign keys are enforced, a lock is waited for up to five
    /// seconds, and a misspelt name in double quotes is an error instead of text.
    ///
    /// # Errors
    ///
    /// Of kind [`Connection`](crate::ErrorKind::Connection) if the database's text is not UTF-8, or
    /// SQLite is older than 3.40.
    #[cfg(feature = "sqlite")]
    pub fn over(connection: rusqlite::Connection) -> Result<Database, Error> {
        session::set_up(&connection)?;
        let direct = Direct { connection: connection.into(), timeout: None };
        Ok(Database { engine: Engine::Direct(Arc::new(direct), Setting::default()) })
    }

    set_by!([&self] self -> Database);
    set_by_mirroring!([&self] self -> Database);

    /// The same database with another setting.
    fn set(&self, change: impl FnOnce(&Setting) -> Setting) -> Database {
        let engine = match &self.engine {
            #[cfg(feature = "sqlite")]
            Engine::Direct(direct, setting) => Engine::Direct(direct.clone(), change(setting)),
            Engine::Served(Served { database, runtime }) => {
                Engine::Served(Served { database: database.set(change), runtime: runtime.clone() })
            }
        };
        Database { engine }
    }

    /// The dialect that the database is asked in.
    pub fn dialect(&self) -> Dialect {
        match &self.engine {
            #[cfg(feature = "sqlite")]
            Engine::Direct(..) => Dialect::Sqlite,
            Engine::Served(served) => served.database.dialect(),
        }
    }

    /// Runs `work` in a transaction: what it did is committed if it returns `Ok`, and undone if it
    /// returns `Err` or panics.
    ///
    /// # Errors
    ///
    /// What `work` returns, and what the database refuses at the beginning or the end.
    pub fn transaction<T, E: From<Error>>(
        &self,
        work: impl FnOnce(&Transaction<'_>) -> Result<T, E>,
    ) -> Result<T, E> {
        self.transaction_with(TransactionOptions::new(), work)
    }

    /// Runs `work` in a transaction as `options` say; see [`transaction`](Self::transaction).
    ///
    /// # Errors
    ///
    /// As [`transaction`](Self::transaction).
    pub fn transaction_with<T, E: From<Error>>(
        &self,
        options: TransactionOptions,
        work: impl FnOnce(&Transaction<'_>) -> Result<T, E>,
    ) -> Result<T, E> {
        self.run_once(options, work).0
    }

    /// Runs `work` in a transaction, and again from the start each time the transaction met a
    /// [`Conflict`](crate::ErrorKind::Conflict), `attempts` times at most.
    ///
    /// Whatever else `work` does, it does as often as it is run. On one SQLite connection there is
    /// nobody to be in conflict with.
    ///
    /// # Errors
    ///
    /// As [`transaction`](Self::transaction); the last attempt's, if all met a conflict.
    pub fn transaction_attempts<T, E: From<Error>>(
        &self,
        attempts: u32,
        options: TransactionOptions,
        mut work: impl FnMut(&Transaction<'_>) -> Result<T, E>,
    ) -> Result<T, E> {
        let mut attempt = 1;
        loop {
            let (outcome, conflict) = self.run_once(options, &mut work);
            if !conflict || attempt >= attempts {
                return outcome;
            }
            std::thread::sleep(crate::database::pause_after(attempt));
            attempt += 1;
        }
    }

    /// One attempt, and whether it met a conflict.
    fn run_once<T, E: From<Error>>(
        &self,
        options: TransactionOptions,
        work: impl FnOnce(&Transaction<'_>) -> Result<T, E>,
    ) -> (Result<T, E>, bool) {
        match &self.engine {
            #[cfg(feature = "sqlite")]
            Engine::Direct(direct, setting) => {
                let connection = direct.connection.lock();
                let setting = setting.in_transaction();
                let session = Session::within(&connection, direct.timeout.as_ref(), &setting);
                let outcome = session::in_transaction(&session, options, |session| {
                    work(&Transaction { scope: Scope::Direct(session), depth: 0 })
                });
                (outcome, false)
            }
            Engine::Served(served) => served.run_once(options, work),
        }
    }
}

impl Served {
    fn run_once<T, E: From<Error>>(
        &self,
        options: TransactionOptions,
        work: impl FnOnce(&Transaction<'_>) -> Result<T, E>,
    ) -> (Result<T, E>, bool) {
        let begun = self.runtime.block_on(async {
            self.database.begin(options).await
        });
        let begun = match begun {
            Ok(begun) => begun,
            Err(err) => return (Err(err.into()), false),
        };
        let scope = Scope::Served { runtime: &self.runtime, transaction: begun.transaction() };
        let outcome = work(&Transaction { scope, depth: 0 });
        self.runtime.block_on(begun.end(outcome))
    }
}

impl sealed::Handle for Database {
    #[inline]
    fn run<V: Verb>(&self, verb: V) -> Result<V::Output, Error> {
        match &self.engine {
            #[cfg(feature = "sqlite")]
            Engine::Direct(direct, setting) => {
                let connection = direct.connection.lock();
                Session::within(&connection, direct.timeout.as_ref(), setting).run(verb)
            }
            Engine::Served(served) => served.runtime.block_on(served.database.run(verb)),
        }
    }

    fn asking(&self) -> Asking<'_> {
        match &self.engine {
            #[cfg(feature = "sqlite")]
            Engine::Direct(_, setting) => setting.asking(Dialect::Sqlite),
            Engine::Served(served) => AsyncHandle::asking(&served.database),
        }
    }

    fn insert_chunks<I: Iterator<Item: Unsaved>>(&self, chunks: Chunks<I>) -> Result<u64, Error> {
        match &self.engine {
            #[cfg(feature = "sqlite")]
            Engine::Direct(direct, setting) => {
                let connection = direct.connection.lock();
                Session::within(&connection, direct.timeout.as_ref(), setting).insert_chunks(chunks)
            }
            Engine::Served(served) => {
                served.runtime.block_on(writing::insert_chunks(&served.database, chunks))
            }
        }
    }

    fn write_as<W: Writes, O: Outcome<W>>(&self, write: &W) -> Result<O, Error> {
        match &self.engine {
            #[cfg(feature = "sqlite")]
            Engine::Direct(direct, setting) => {
                let connection = direct.connection.lock();
                Session::within(&connection, direct.timeout.as_ref(), setting).write_as(write)
            }
            Engine::Served(served) => {
                let asking = AsyncHandle::asking(&served.database);
                served.runtime.block_on(writing::write(&served.database, write, asking))
            }
        }
    }

    fn each<Q: Readable>(
        &self,
        query: &Q,
        take: impl FnMut(Q::Row) -> ControlFlow<()>,
    ) -> Result<(), Error> {
        match &self.engine {
            #[cfg(feature = "sqlite")]
            Engine::Direct(direct, setting) => {
                let connection = direct.connection.lock();
                Session::within(&connection, direct.timeout.as_ref(), setting).each(query, take)
            }
            Engine::Served(served) => {
                served.runtime.block_on(take_each(query.stream(&served.database), take))
            }
        }
    }
}

/// A transaction that is under way: what [`Database::transaction`] gives its closure. The verbs are
/// those of [`Handle`](super::Handle).
pub struct Transaction<'c> {
    scope: Scope<'c>,
    /// How many transactions this one is inside of.
    depth: u32,
}

enum Scope<'c> {
    #[cfg(feature = "sqlite")]
    Direct(&'c Session<'c>),
    Served { runtime: &'c Runtime, transaction: transaction::Transaction },
}

impl Transaction<'_> {
    /// Runs `work` in a transaction inside of this one: what it did is kept if it returns `Ok`, as
    /// far as this one is committed, and undone if it returns `Err`. In SQL it is a savepoint.
    ///
    /// # Errors
    ///
    /// What `work` returns, and what the database refuses at the beginning or the end.
    pub fn transaction<T, E: From<Error>>(
        &self,
        work: impl FnOnce(&Transaction<'_>) -> Result<T, E>,
    ) -> Result<T, E> {
        let name = transaction::savepoint_name(self.depth);
        self.command(&format!("SAVEPOINT {name}"))?;
        let outcome = work(&Transaction { scope: self.scope.inner(), depth: self.depth + 1 });
        if outcome.is_err() {
            self.command(&format!("ROLLBACK TO SAVEPOINT {name}"))?;
        }
        self.command(&format!("RELEASE SAVEPOINT {name}"))?;
        outcome
    }

    fn command(&self, text: &str) -> Result<(), Error> {
        match &self.scope {
            #[cfg(feature = "sqlite")]
            Scope::Direct(session) => session.command(text),
            Scope::Served { runtime, transaction } => runtime.block_on(transaction.command(text)),
        }
    }
}

impl Scope<'_> {
    fn inner(&self) -> Scope<'_> {
        match self {
            #[cfg(feature = "sqlite")]
            Scope::Direct(session) => Scope::Direct(session),
            Scope::Served { runtime, transaction } => {
                Scope::Served { runtime, transaction: transaction.inner() }
            }
        }
    }
}

impl sealed::Handle for Transaction<'_> {
    fn run<V: Verb>(&self, verb: V) -> Result<V::Output, Error> {
        match &self.scope {
            #[cfg(feature = "sqlite")]
            Scope::Direct(session) => session.run(verb),
            Scope::Served { runtime, transaction } => runtime.block_on(transaction.run(verb)),
        }
    }

    fn asking(&self) -> Asking<'_> {
        match &self.scope {
            #[cfg(feature = "sqlite")]
            Scope::Direct(session) => session.asking(),
            Scope::Served { transaction, .. } => AsyncHandle::asking(transaction),
        }
    }

    fn insert_chunks<I: Iterator<Item: Unsaved>>(&self, chunks: Chunks<I>) -> Result<u64, Error> {
        match &self.scope {
            #[cfg(feature = "sqlite")]
            Scope::Direct(session) => session.insert_chunks(chunks),
            Scope::Served { runtime, transaction } => {
                runtime.block_on(writing::insert_chunks(transaction, chunks))
            }
        }
    }

    fn write_as<W: Writes, O: Outcome<W>>(&self, write: &W) -> Result<O, Error> {
        match &self.scope {
            #[cfg(feature = "sqlite")]
            Scope::Direct(session) => session.write_as(write),
            Scope::Served { runtime, transaction } => {
                let asking = AsyncHandle::asking(transaction);
                runtime.block_on(writing::write(transaction, write, asking))
            }
        }
    }

    fn each<Q: Readable>(
        &self,
        query: &Q,
        take: impl FnMut(Q::Row) -> ControlFlow<()>,
    ) -> Result<(), Error> {
        match &self.scope {
            #[cfg(feature = "sqlite")]
            Scope::Direct(session) => session.each(query, take),
            Scope::Served { runtime, transaction } => {
                runtime.block_on(take_each(query.stream(transaction), take))
            }
        }
    }
}

async fn take_each<R>(
    mut rows: impl futures_util::Stream<Item = Result<R, Error>> + Unpin,
    mut take: impl FnMut(R) -> ControlFlow<()>,
) -> Result<(), Error> {
    while let Some(row) = rows.next().await {
        if take(row?).is_break() {
            break;
        }
    }
    Ok(())
}


impl fmt::Debug for Database {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.engine {
            #[cfg(feature = "sqlite")]
            Engine::Direct(..) => f.write_str("blocking::Database(sqlite)"),
            Engine::Served(served) => write!(f, "blocking::{:?}", served.database),
        }
    }
}

impl fmt::Debug for Transaction<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "blocking::Transaction(depth {})", self.depth)
    }
}
