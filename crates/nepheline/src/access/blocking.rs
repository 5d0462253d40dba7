//! The blocking handles. SQLite is called directly. For a server, a call waits for the async handle, whose
//! connections run on a thread of their own.

use std::fmt;
use std::future::{Ready, ready};
use std::sync::Arc;
#[cfg(feature = "sqlite")]
use std::sync::atomic::{AtomicBool, Ordering};

use nepheline_core::internal::CompileContext;
use nepheline_core::{BindValue, Dialect, Error};
#[cfg(feature = "sqlite")]
use parking_lot::ReentrantMutexGuard;
use scopeguard::ScopeGuard;
use tokio::runtime::Runtime;

use super::asynchronous::{AsyncAccess, AsyncCursor, AsyncAtomicScope, Inner};
use super::database::{Begun, pause_after};
use super::direct::now;
#[cfg(feature = "sqlite")]
use super::direct::{
    DirectAccess, DirectConnection, DirectCursor, DirectInner, DirectAtomicScope, DirectWork, Held,
    OwnWork,
};
use super::handle::sealed;
use super::inside;
use super::options::Options;
#[cfg(feature = "sqlite")]
use super::options::Target;
use super::setting::{Setting, set_by, set_by_session_setting, set_by_time_limit};
use crate::observe::interceptor::Interceptors;
use crate::engine::metrics::PoolMetrics;
use crate::engine::pool::Lease;
#[cfg(feature = "sqlite")]
use crate::engine::sqlite::direct::{self, Opened};
use crate::exec::access::{Access, Blocking, Cursor, Family, AtomicScope, run};
use crate::exec::ask::{Ask, Run};
use crate::exec::describe::{Describable, Describe, DescribedPart};
use crate::exec::read;
use crate::exec::levels::Owner;
use crate::exec::sink::Sink;
use crate::exec::together::Together;
use crate::exec::transaction::{Root, TransactionOptions, Work};

/// A database for code that is not async.
///
/// Threads may share it, and cloning it is cheap. On SQLite the threads take turns on one connection; on a
/// server each call takes a connection from a pool. The verbs are in
/// [`RunsQueries`](crate::blocking::RunsQueries).
///
/// # Panics
///
/// Opening and using a server's blocking handle panics on a thread that drives async tasks, because such a
/// thread must not block. Use [`crate::Database`] or `tokio::task::spawn_blocking` there. SQLite's handle
/// never panics.
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

/// SQLite, called directly. The lock is reentrant, so that the handle can be used while rows of a stream are
/// read.
#[cfg(feature = "sqlite")]
struct Direct {
    opened: parking_lot::ReentrantMutex<Opened>,
    is_closed: AtomicBool,
}

#[cfg(feature = "sqlite")]
impl Direct {
    fn of(opened: Opened) -> Engine {
        let direct = Direct { opened: opened.into(), is_closed: AtomicBool::new(false) };
        Engine::Direct(Arc::new(direct), Setting::default())
    }

    /// Locks the connection, unless the handle accepts no calls.
    fn lock(self: &Arc<Self>) -> Result<ReentrantMutexGuard<'_, Opened>, Refusal> {
        if inside::check(inside::identity(self)).is_err() {
            return Err(Refusal::Inside);
        }
        if self.is_closed.load(Ordering::Relaxed) {
            return Err(Refusal::Closed);
        }
        let opened = self.opened.lock();
        match opened.replaced_file() {
            Some(path) => Err(Refusal::FileReplaced(path.display().to_string())),
            None => Ok(opened),
        }
    }
}

/// The reason why a handle accepts no calls.
#[cfg(feature = "sqlite")]
pub(crate) enum Refusal {
    /// It is used inside a transaction that it began.
    Inside,
    Closed,
    FileReplaced(String),
}

#[cfg(feature = "sqlite")]
impl Refusal {
    fn error(&self) -> Error {
        match self {
            Refusal::Inside => Error::outer_handle(),
            Refusal::Closed => Error::closed(),
            Refusal::FileReplaced(path) => Error::file_replaced(path),
        }
    }
}

/// A server, through the async driver.
#[derive(Clone)]
struct Served {
    database: crate::Database,
    /// One thread drives the connections, also while no call waits. It is shut down without waiting, because
    /// waiting is not allowed where a handle may be dropped.
    runtime: Arc<ScopeGuard<Runtime, fn(Runtime)>>,
}

impl Database {
    /// Opens the database of a URL, and checks that it can be used. The parameters are those of
    /// [`Options::from_url`].
    ///
    /// # Errors
    ///
    /// [`Connection`](crate::ErrorKind::Connection) if the database cannot be reached or used. No message
    /// contains the password.
    pub fn open(url: &str) -> Result<Database, Error> {
        Database::open_with(Options::from_url(url)?)
    }

    pub(crate) fn open_with(options: Options) -> Result<Database, Error> {
        options.check()?;
        let engine = match &options.target {
            #[cfg(feature = "sqlite")]
            Target::Sqlite { path, mode } => {
                Direct::of(direct::open(path, *mode, &options, None)?)
            }
            _ => {
                let runtime = tokio::runtime::Builder::new_multi_thread()
                    .worker_threads(1)
                    .thread_name("nepheline-blocking")
                    .enable_all()
                    .build();
                let runtime = runtime.map_err(|err| Error::cannot_open("for lack of a runtime", err))?;
                let runtime = scopeguard::guard(runtime, Runtime::shutdown_background as fn(Runtime));
                let database = runtime.block_on(crate::Database::open_with(options))?;
                Engine::Served(Served { database, runtime: Arc::new(runtime) })
            }
        };
        Ok(Database { engine })
    }

    /// Takes over a SQLite connection of the program. To lend one, see
    /// [`Session::over`](crate::blocking::Session::over).
    ///
    /// The connection is set up like those that the library opens: foreign keys are enforced, the lock
    /// timeout is five seconds, and a misspelt name in double quotes is an error instead of text.
    ///
    /// # Errors
    ///
    /// [`Connection`](crate::ErrorKind::Connection) if the database's text is not UTF-8, or SQLite is older
    /// than 3.40.
    #[cfg(feature = "sqlite")]
    pub fn over(connection: rusqlite::Connection) -> Result<Database, Error> {
        Ok(Database { engine: Direct::of(direct::take_over(connection, None)?) })
    }

    /// Returns the state of the connection pool, and its counters since it was opened. Clones share it. On
    /// SQLite it is one connection.
    pub fn pool_metrics(&self) -> PoolMetrics {
        match &self.engine {
            #[cfg(feature = "sqlite")]
            Engine::Direct(direct, _) => {
                PoolMetrics::of_one(direct.is_closed.load(Ordering::Relaxed), direct.opened.is_locked())
            }
            Engine::Served(served) => served.database.pool_metrics(),
        }
    }

    /// Closes the handle and all its clones when running calls have ended. Later calls fail with
    /// [`Connection`](crate::ErrorKind::Connection). The one connection to SQLite is freed with the last
    /// clone.
    pub fn close(&self) {
        match &self.engine {
            #[cfg(feature = "sqlite")]
            Engine::Direct(direct, _) => {
                direct.is_closed.store(true, Ordering::Relaxed);
                drop(direct.opened.lock());
            }
            Engine::Served(served) => served.runtime.block_on(served.database.close()),
        }
    }

    set_by!([&self] self -> Database);
    set_by_session_setting!([&self] self -> Database);
    set_by_time_limit!([&self] self -> Database);

    /// Returns the same database with changed settings.
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

    /// Returns the dialect of the database.
    pub fn dialect(&self) -> Dialect {
        match &self.engine {
            #[cfg(feature = "sqlite")]
            Engine::Direct(..) => crate::engine::sqlite::DIALECT,
            Engine::Served(served) => served.database.dialect(),
        }
    }

    /// Runs `work` in a transaction, which is committed if `work` returns `Ok` and rolled back if it returns
    /// `Err` or panics.
    ///
    /// # Errors
    ///
    /// The error that `work` returns, and errors of the database at the begin or the end.
    pub fn transaction<T, E: From<Error>>(
        &self,
        work: impl FnOnce(&Transaction<'_>) -> Result<T, E>,
    ) -> Result<T, E> {
        self.transaction_with(TransactionOptions::new(), work)
    }

    /// Runs `work` in a transaction with `options`; see [`transaction`](Self::transaction).
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

    /// Runs `work` in a transaction, and runs it again from the start after each
    /// [`Conflict`](crate::ErrorKind::Conflict), at most `attempts` times.
    ///
    /// Side effects of `work` happen in each run. One SQLite connection has no conflicts. An unknown outcome
    /// ([`TransactionResolutionUnknown`](crate::ErrorKind::TransactionResolutionUnknown)) is never repeated.
    ///
    /// # Errors
    ///
    /// As [`transaction`](Self::transaction); the error of the last attempt, if all had conflicts.
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
            std::thread::sleep(pause_after(attempt));
            attempt += 1;
        }
    }

    /// Runs one attempt, and returns whether it had a conflict.
    fn run_once<T, E: From<Error>>(
        &self,
        options: TransactionOptions,
        work: impl FnOnce(&Transaction<'_>) -> Result<T, E>,
    ) -> (Result<T, E>, bool) {
        match &self.engine {
            #[cfg(feature = "sqlite")]
            Engine::Direct(direct, setting) => direct.run_once(setting, options, work),
            Engine::Served(served) => served.run_once(options, work),
        }
    }
}

#[cfg(feature = "sqlite")]
impl Direct {
    fn run_once<T, E: From<Error>>(
        self: &Arc<Self>,
        setting: &Setting,
        options: TransactionOptions,
        work: impl FnOnce(&Transaction<'_>) -> Result<T, E>,
    ) -> (Result<T, E>, bool) {
        let opened = match self.lock() {
            Ok(opened) => opened,
            Err(why) => return (Err(why.error().into()), false),
        };
        let connection = DirectConnection::of(&opened);
        let (root, setting) = (Root::Transaction(options), setting.in_transaction());
        let begun = now(Work::begin(connection.hold(root), setting, root, Owner::Program));
        let own = match begun {
            Ok(begun) => OwnWork(begun),
            Err(err) => return (Err(err.into()), false),
        };
        let scope = Scope::Direct(&own.0, connection);
        let transaction = Transaction { scope, level: Root::LEVEL };
        let outcome = inside::sync_scope(inside::identity(self), || work(&transaction));
        let ended = now(own.0.end(outcome.is_ok()));
        (kept(outcome, ended), own.0.met_conflict())
    }
}

impl Served {
    fn run_once<T, E: From<Error>>(
        &self,
        options: TransactionOptions,
        work: impl FnOnce(&Transaction<'_>) -> Result<T, E>,
    ) -> (Result<T, E>, bool) {
        let begun = self.runtime.block_on(self.database.begin(options, Owner::Program));
        let begun = match begun {
            Ok(begun) => Begun(Arc::new(begun)),
            Err(err) => return (Err(err.into()), false),
        };
        let scope = Scope::Served(&self.runtime, &begun.0);
        let transaction = Transaction { scope, level: Root::LEVEL };
        let outcome = inside::sync_scope(self.database.identity(), || work(&transaction));
        self.runtime.block_on(begun.end(outcome))
    }
}

/// Returns the outcome of a transaction's work, unless the commit failed.
fn kept<T, E: From<Error>>(outcome: Result<T, E>, ended: Result<(), Error>) -> Result<T, E> {
    match (outcome, ended) {
        (Ok(_), Err(err)) => Err(err.into()),
        // The caller needs the error of the work most, so it is kept.
        (outcome, _) => outcome,
    }
}

impl sealed::BlockingRunsQueries for Database {
    #[expect(private_interfaces, reason = "only the verbs call it")]
    fn access(&self) -> BlockingAccess<'_> {
        match &self.engine {
            #[cfg(feature = "sqlite")]
            Engine::Direct(direct, setting) => match direct.lock() {
                Ok(opened) => {
                    let held = Held::Locked(opened);
                    BlockingAccess::Direct(DirectAccess::Connection(held, setting, setting.begin_call()))
                }
                Err(why) => BlockingAccess::Refused(setting, why),
            },
            Engine::Served(served) => {
                let call = served.database.setting.begin_call();
                let access = AsyncAccess::Database(&served.database, call);
                BlockingAccess::Served(&served.runtime, access)
            }
        }
    }
}

/// A transaction in progress: the argument of the closure of [`Database::transaction`]. The verbs are those
/// of [`RunsQueries`](crate::blocking::RunsQueries). The async [`Transaction`](crate::Transaction) documents
/// what rolls it back, and which calls it refuses while something inside it is open.
pub struct Transaction<'c> {
    scope: Scope<'c>,
    level: u32,
}

#[derive(Clone, Copy)]
enum Scope<'c> {
    #[cfg(feature = "sqlite")]
    Direct(&'c (dyn DirectWork + 'c), DirectConnection<'c>),
    Served(&'c Runtime, &'c Work<Lease>),
}

impl Transaction<'_> {
    /// Runs `work` in a transaction inside this one (a savepoint). Its changes are kept if it returns `Ok`
    /// and this transaction is committed, and rolled back if it returns `Err` or panics. Until it has ended,
    /// this transaction accepts no statements.
    ///
    /// # Errors
    ///
    /// The error that `work` returns, and errors of the database at the begin or the end.
    pub fn transaction<T, E: From<Error>>(
        &self,
        work: impl FnOnce(&Transaction<'_>) -> Result<T, E>,
    ) -> Result<T, E> {
        let scope = self.scope;
        match scope {
            #[cfg(feature = "sqlite")]
            Scope::Direct(outer, _) => {
                let level = outer.open(self.level, Owner::Program)?;
                let inner = DirectInner { work: outer, level };
                let outcome = work(&Transaction { scope, level });
                let ended = inner.work.close(level, outcome.is_ok());
                kept(outcome, ended)
            }
            Scope::Served(runtime, outer) => {
                let level = runtime.block_on(outer.open(self.level, Owner::Program))?;
                let inner = Inner::new(outer, level);
                let outcome = work(&Transaction { scope, level });
                let ended = runtime.block_on(inner.work.close(level, outcome.is_ok()));
                kept(outcome, ended)
            }
        }
    }

    /// Runs `work` after the outermost transaction is committed, in the order of these calls. It is dropped
    /// if this transaction or one around it is rolled back, and if the outcome of the commit is unknown.
    ///
    /// It runs before `transaction` returns, when the connection is free again. A panic in it propagates to
    /// the caller; the commit stands.
    pub fn after_commit(&self, work: impl FnOnce() + Send + 'static) {
        match self.scope {
            #[cfg(feature = "sqlite")]
            Scope::Direct(outer, _) => outer.after_commit(self.level, Box::new(work)),
            Scope::Served(_, outer) => outer.after_commit(self.level, Box::new(work)),
        }
    }
}

impl sealed::BlockingRunsQueries for Transaction<'_> {
    #[expect(private_interfaces, reason = "only the verbs call it")]
    fn access(&self) -> BlockingAccess<'_> {
        match self.scope {
            #[cfg(feature = "sqlite")]
            Scope::Direct(work, connection) => {
                let call = work.setting().begin_call();
                BlockingAccess::Direct(DirectAccess::Work(work, connection, self.level, call))
            }
            Scope::Served(runtime, work) => {
                let call = work.setting.begin_call();
                BlockingAccess::Served(runtime, AsyncAccess::Work(work, self.level, call))
            }
        }
    }
}

/// Runs the statements of blocking handles. Its futures are ready at once.
pub(crate) enum BlockingAccess<'a> {
    #[cfg(feature = "sqlite")]
    Direct(DirectAccess<'a>),
    Served(&'a Runtime, AsyncAccess<'a>),
    /// A handle that accepts no calls, with the reason.
    #[cfg(feature = "sqlite")]
    Refused(&'a Setting, Refusal),
}

impl Family for Blocking {
    type Access<'f> = BlockingAccess<'f>;
    type Cursor<'f> = BlockingCursor<'f>;
    type AtomicScope<'f> = BlockingAtomicScope<'f>;
}

impl Access for BlockingAccess<'_> {
    type Family = Blocking;

    fn context(&self) -> CompileContext<'_> {
        match self {
            #[cfg(feature = "sqlite")]
            BlockingAccess::Direct(access) => access.context(),
            BlockingAccess::Served(_, access) => access.context(),
            #[cfg(feature = "sqlite")]
            BlockingAccess::Refused(setting, _) => setting.context(crate::engine::sqlite::DIALECT),
        }
    }

    fn dialect(&self) -> Dialect {
        match self {
            BlockingAccess::Served(_, access) => access.dialect(),
            #[cfg(feature = "sqlite")]
            BlockingAccess::Direct(_) | BlockingAccess::Refused(..) => crate::engine::sqlite::DIALECT,
        }
    }

    #[inline]
    fn fetch<'f>(
        &'f self,
        ask: &'f dyn Ask,
        sink: &'f mut dyn Sink,
    ) -> Ready<Result<(), Error>> {
        match self {
            #[cfg(feature = "sqlite")]
            BlockingAccess::Direct(access) => ready(access.fetch(ask, sink)),
            BlockingAccess::Served(runtime, access) => {
                ready(runtime.block_on(access.fetch(ask, sink)))
            }
            #[cfg(feature = "sqlite")]
            BlockingAccess::Refused(_, why) => ready(Err(why.error())),
        }
    }

    fn fetch_together<'f>(&'f self, reads: Vec<Together<'f>>) -> Ready<Result<(), Error>> {
        ready(match self {
            #[cfg(feature = "sqlite")]
            BlockingAccess::Direct(access) => {
                let mut reads = reads.into_iter();
                reads.try_for_each(|read| access.fetch(read.ask, read.sink))
            }
            BlockingAccess::Served(runtime, access) => runtime.block_on(access.fetch_together(reads)),
            #[cfg(feature = "sqlite")]
            BlockingAccess::Refused(_, why) => Err(why.error()),
        })
    }

    fn open<'f>(&'f self, ask: &'f dyn Ask) -> Ready<Result<BlockingCursor<'f>, Error>> {
        ready(match self {
            #[cfg(feature = "sqlite")]
            BlockingAccess::Direct(access) => access.open(ask).map(BlockingCursor::Direct),
            BlockingAccess::Served(runtime, access) => {
                let opened = runtime.block_on(access.open(ask));
                opened.map(|cursor| BlockingCursor::Served(runtime, cursor))
            }
            #[cfg(feature = "sqlite")]
            BlockingAccess::Refused(_, why) => Err(why.error()),
        })
    }

    fn begin_together(&self) -> Ready<Result<BlockingAtomicScope<'_>, Error>> {
        ready(match self {
            #[cfg(feature = "sqlite")]
            BlockingAccess::Direct(access) => {
                access.begin_together().map(BlockingAtomicScope::Direct)
            }
            BlockingAccess::Served(runtime, access) => {
                let begun = runtime.block_on(access.begin_together());
                begun.map(|together| BlockingAtomicScope::Served(runtime, together))
            }
            #[cfg(feature = "sqlite")]
            BlockingAccess::Refused(_, why) => Err(why.error()),
        })
    }

    fn interceptors(&self) -> &Interceptors {
        match self {
            #[cfg(feature = "sqlite")]
            BlockingAccess::Direct(access) => access.setting().interceptors(),
            BlockingAccess::Served(_, access) => access.interceptors(),
            #[cfg(feature = "sqlite")]
            BlockingAccess::Refused(setting, _) => setting.interceptors(),
        }
    }

    fn is_of_program(&self) -> bool {
        match self {
            #[cfg(feature = "sqlite")]
            BlockingAccess::Direct(_) | BlockingAccess::Refused(..) => false,
            BlockingAccess::Served(_, access) => access.is_of_program(),
        }
    }

    fn note_write(&self, err: &Error) {
        match self {
            #[cfg(feature = "sqlite")]
            BlockingAccess::Direct(access) => access.note_write(err),
            BlockingAccess::Served(_, access) => access.note_write(err),
            #[cfg(feature = "sqlite")]
            BlockingAccess::Refused(..) => {}
        }
    }

    fn check_beside_stream(&self) -> Result<(), Error> {
        match self {
            #[cfg(feature = "sqlite")]
            BlockingAccess::Direct(_) => Ok(()),
            BlockingAccess::Served(_, access) => access.check_beside_stream(),
            #[cfg(feature = "sqlite")]
            BlockingAccess::Refused(..) => Ok(()),
        }
    }
}

pub(crate) enum BlockingCursor<'a> {
    #[cfg(feature = "sqlite")]
    Direct(DirectCursor<'a>),
    Served(&'a Runtime, AsyncCursor<'a>),
}

impl Cursor for BlockingCursor<'_> {
    type Family = Blocking;

    fn next<'f>(&'f mut self, sink: &'f mut dyn Sink, most: usize) -> Ready<Result<bool, Error>> {
        match self {
            #[cfg(feature = "sqlite")]
            BlockingCursor::Direct(cursor) => ready(cursor.next(sink, most)),
            BlockingCursor::Served(runtime, cursor) => {
                ready(runtime.block_on(cursor.next(sink, most)))
            }
        }
    }
}

#[expect(clippy::large_enum_variant, reason = "it lives once for each write of several statements")]
pub(crate) enum BlockingAtomicScope<'a> {
    #[cfg(feature = "sqlite")]
    Direct(DirectAtomicScope<'a>),
    Served(&'a Runtime, AsyncAtomicScope<'a>),
}

impl AtomicScope for BlockingAtomicScope<'_> {
    type Family = Blocking;

    fn access(&self) -> BlockingAccess<'_> {
        match self {
            #[cfg(feature = "sqlite")]
            BlockingAtomicScope::Direct(together) => BlockingAccess::Direct(together.access()),
            BlockingAtomicScope::Served(runtime, together) => {
                BlockingAccess::Served(runtime, together.access())
            }
        }
    }

    fn end(&mut self, keep: bool) -> Ready<Result<(), Error>> {
        match self {
            #[cfg(feature = "sqlite")]
            BlockingAtomicScope::Direct(together) => ready(together.end(keep)),
            BlockingAtomicScope::Served(runtime, together) => {
                ready(runtime.block_on(together.end(keep)))
            }
        }
    }
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
        write!(f, "blocking::Transaction(level {})", self.level)
    }
}

/// Runs SQL text of a test, or of the demo's setup.
#[doc(hidden)]
pub trait RunText {
    fn run_text(&self, text: &str, binds: Vec<BindValue>) -> Result<(), Error>;
}

impl<H: sealed::BlockingRunsQueries> RunText for H {
    fn run_text(&self, text: &str, binds: Vec<BindValue>) -> Result<(), Error> {
        now(run(&self.access(), Run(text, binds)))
    }
}

/// Asks for the types and the plan of a query without running it.
#[doc(hidden)]
pub trait Describes {
    fn described(&self, query: &dyn Describable) -> Result<Vec<DescribedPart>, Error>;

    fn plan_of(&self, query: &dyn Describable) -> Result<String, Error>;
}

impl<H: sealed::BlockingRunsQueries> Describes for H {
    fn described(&self, query: &dyn Describable) -> Result<Vec<DescribedPart>, Error> {
        now(run(&self.access(), Describe(query)))
    }

    fn plan_of(&self, query: &dyn Describable) -> Result<String, Error> {
        now(read::plan(self.access(), query, false))
    }
}
