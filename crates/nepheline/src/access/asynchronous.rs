//! The statement runner of async handles: a pool, a transaction, or a session.

use futures_util::FutureExt;
use futures_util::future::BoxFuture;
use nepheline_core::{Dialect, Error};
use nepheline_core::internal::{CompileContext, PolicySlot, Statement};

use super::database::Database;
#[cfg(any(feature = "postgres", feature = "mysql"))]
use super::session::SessionAccess;
use crate::observe::interceptor::Interceptors;
use crate::engine::pool::Lease;
use crate::exec::access::{Access, Async, Cursor, Family, AtomicScope};
use crate::exec::ask::Ask;
use crate::exec::levels::Owner;
use crate::exec::limit::CallLimit;
use crate::exec::run;
use crate::exec::sink::Sink;
use crate::exec::together::{self, Together};
use crate::exec::transaction::{Hold, Root, StreamInside, TransactionOptions, Work};
use crate::observe::interceptor::Running;

#[derive(Clone, Copy)]
pub(crate) enum AsyncAccess<'a> {
    /// A pool, and the time limit of the call.
    Database(&'a Database, Option<CallLimit>),
    /// A transaction with the number of its level, and the time limit of the call.
    Work(&'a Work<Lease>, u32, Option<CallLimit>),
    #[cfg(any(feature = "postgres", feature = "mysql"))]
    Session(&'a (dyn SessionAccess + 'a)),
}

impl AsyncAccess<'_> {
    async fn fetch_boxed(&self, ask: &dyn Ask, sink: &mut dyn Sink) -> Result<(), Error> {
        match self {
            AsyncAccess::Database(database, call) => {
                let kept = PolicySlot::default();
                let mut statement = ask.statement(self.context().keeping(&kept))?;
                let lease = database.lease(*call).await;
                let mut lease = lease.map_err(|err| statement.context(err))?;
                run::alone(lease.line(), &database.setting, &mut statement, sink, ask).await
            }
            AsyncAccess::Work(work, level, call) => work.fetch(*level, ask, sink, *call).await,
            #[cfg(any(feature = "postgres", feature = "mysql"))]
            AsyncAccess::Session(session) => session.fetch(ask, sink).await,
        }
    }
}

impl Family for Async {
    type Access<'f> = AsyncAccess<'f>;
    type Cursor<'f> = AsyncCursor<'f>;
    type AtomicScope<'f> = AsyncAtomicScope<'f>;
}

impl Access for AsyncAccess<'_> {
    type Family = Async;

    fn context(&self) -> CompileContext<'_> {
        match self {
            AsyncAccess::Database(database, _) => database.setting.context(database.dialect()),
            AsyncAccess::Work(work, ..) => work.setting.context(work.dialect),
            #[cfg(any(feature = "postgres", feature = "mysql"))]
            AsyncAccess::Session(session) => session.context(),
        }
    }

    fn dialect(&self) -> Dialect {
        match self {
            AsyncAccess::Database(database, _) => database.dialect(),
            AsyncAccess::Work(work, ..) => work.dialect,
            #[cfg(any(feature = "postgres", feature = "mysql"))]
            AsyncAccess::Session(session) => session.dialect(),
        }
    }

    fn fetch<'f>(
        &'f self,
        ask: &'f dyn Ask,
        sink: &'f mut dyn Sink,
    ) -> BoxFuture<'f, Result<(), Error>> {
        self.fetch_boxed(ask, sink).boxed()
    }

    fn fetch_together<'f>(&'f self, reads: Vec<Together<'f>>) -> BoxFuture<'f, Result<(), Error>> {
        Box::pin(async move {
            match self {
                AsyncAccess::Database(database, call) => {
                    let mut reads = reads;
                    let slots: Vec<PolicySlot> = reads.iter().map(|_| PolicySlot::default()).collect();
                    let sent = together::compiled(&mut reads, self.context(), &slots)?;
                    let mut lease = database.lease(*call).await?;
                    run::together(lease.line(), &database.setting, sent).await
                }
                AsyncAccess::Work(work, level, call) => work.fetch_together(*level, reads, *call).await,
                #[cfg(any(feature = "postgres", feature = "mysql"))]
                AsyncAccess::Session(session) => {
                    for read in reads {
                        session.fetch(read.ask, read.sink).await?;
                    }
                    Ok(())
                }
            }
        })
    }

    fn open<'f>(&'f self, ask: &'f dyn Ask) -> BoxFuture<'f, Result<AsyncCursor<'f>, Error>> {
        Box::pin(async move {
            // The statement outlives the read, so it borrows nothing.
            let mut statement = ask.statement(self.context())?.into_owned_binds();
            let (over, mut running) = match self {
                AsyncAccess::Database(database, call) => {
                    let lease = database.lease(*call).await;
                    let mut lease = lease.map_err(|err| statement.context(err))?;
                    let running = database.setting.begin(database.dialect(), &mut statement, ask.counts())?;
                    if !running.has_answer() {
                        let opened = lease.line().open(&statement).await;
                        opened.map_err(|err| statement.context(err))?;
                    }
                    (StreamSource::Lease(lease), running)
                }
                AsyncAccess::Work(work, level, call) => {
                    let opened = work.open_stream(*level, &mut statement, ask.counts(), *call);
                    let (inside, running) = opened.await?;
                    (StreamSource::Work(inside), running)
                }
                #[cfg(any(feature = "postgres", feature = "mysql"))]
            AsyncAccess::Session(session) => {
                    let running = session.open(&mut statement, ask.counts()).await?;
                    (StreamSource::Session(OpenSession(*session)), running)
                }
            };
            let answer = running.answer();
            Ok(AsyncCursor { over, statement, running, answer })
        })
    }

    fn begin_together(&self) -> BoxFuture<'_, Result<AsyncAtomicScope<'_>, Error>> {
        Box::pin(async move {
            match self {
                AsyncAccess::Database(database, _) => {
                    let options = TransactionOptions::new();
                    let work = database.begin(options, Owner::Library).await?;
                    Ok(AsyncAtomicScope::Own(Own(Box::new(work))))
                }
                AsyncAccess::Work(work, level, _) => {
                    let inner = work.open(*level, Owner::Library).await?;
                    Ok(AsyncAtomicScope::Inner(Inner::new(work, inner)))
                }
                // Only the program knows whether its connection is in a transaction.
                #[cfg(any(feature = "postgres", feature = "mysql"))]
                AsyncAccess::Session(_) => Err(Error::needs_transaction()),
            }
        })
    }

    fn interceptors(&self) -> &Interceptors {
        match self {
            AsyncAccess::Database(database, _) => database.setting.interceptors(),
            AsyncAccess::Work(work, ..) => work.setting.interceptors(),
            #[cfg(any(feature = "postgres", feature = "mysql"))]
            AsyncAccess::Session(session) => session.interceptors(),
        }
    }

    fn is_of_program(&self) -> bool {
        match self {
            AsyncAccess::Database(..) | AsyncAccess::Work(..) => false,
            #[cfg(any(feature = "postgres", feature = "mysql"))]
            AsyncAccess::Session(_) => true,
        }
    }

    fn note_write(&self, err: &Error) {
        if let AsyncAccess::Work(work, level, _) = self {
            work.note_write(*level, err);
        }
    }

    fn check_beside_stream(&self) -> Result<(), Error> {
        match self {
            AsyncAccess::Database(database, _) if database.pool_size() > 1 => Ok(()),
            AsyncAccess::Database(..) => Err(Error::stream_needs_two("a pool of one connection")),
            AsyncAccess::Work(..) => Err(Error::stream_needs_two("a transaction")),
            #[cfg(any(feature = "postgres", feature = "mysql"))]
            AsyncAccess::Session(_) => {
                Err(Error::stream_needs_two("a session over one connection"))
            }
        }
    }
}

/// The source of a stream's rows.
enum StreamSource<'a> {
    Lease(Lease),
    Work(StreamInside<'a, Lease>),
    #[cfg(any(feature = "postgres", feature = "mysql"))]
    Session(OpenSession<'a>),
}

/// A session whose connection returns the rows of a stream.
#[cfg(any(feature = "postgres", feature = "mysql"))]
struct OpenSession<'a>(&'a (dyn SessionAccess + 'a));

#[cfg(any(feature = "postgres", feature = "mysql"))]
impl Drop for OpenSession<'_> {
    fn drop(&mut self) {
        self.0.stream_dropped();
    }
}

pub(crate) struct AsyncCursor<'a> {
    over: StreamSource<'a>,
    statement: Statement<'static>,
    running: Running,
    answer: Option<crate::exec::answer::Answer>,
}

impl AsyncCursor<'_> {
    async fn next_rows(&mut self, sink: &mut dyn Sink, most: usize) -> Result<bool, Error> {
        let statement = &self.statement;
        if let Some(answer) = self.answer.take() {
            answer.give(sink, statement.key_cells());
            return Ok(false);
        }
        match &mut self.over {
            StreamSource::Lease(lease) => lease.line().next(statement, sink, most).await,
            StreamSource::Work(inside) => inside.next(statement, sink, most).await,
            #[cfg(any(feature = "postgres", feature = "mysql"))]
            StreamSource::Session(session) => session.0.next(statement, sink, most).await,
        }
    }
}

impl Cursor for AsyncCursor<'_> {
    type Family = Async;

    fn next<'f>(
        &'f mut self,
        sink: &'f mut dyn Sink,
        most: usize,
    ) -> BoxFuture<'f, Result<bool, Error>> {
        Box::pin(async move {
            let more = self.next_rows(sink, most).await;
            self.running.arrived(&self.statement, sink, more)
        })
    }
}

/// The scope that makes several statements atomic.
pub(crate) enum AsyncAtomicScope<'a> {
    Own(Own),
    Inner(Inner<'a, Lease>),
}

/// A transaction that was begun for them.
pub(crate) struct Own(Box<Work<Lease>>);

impl Drop for Own {
    fn drop(&mut self) {
        self.0.let_go();
    }
}

/// A savepoint inside a transaction. It is rolled back if it is dropped without an end.
pub(crate) struct Inner<'a, H: Hold> {
    pub(crate) work: &'a Work<H>,
    pub(crate) level: u32,
}

impl<'a, H: Hold> Inner<'a, H> {
    pub(crate) fn new(work: &'a Work<H>, level: u32) -> Inner<'a, H> {
        Inner { work, level }
    }
}

impl<H: Hold> Drop for Inner<'_, H> {
    fn drop(&mut self) {
        // The state of an ended transaction is unknown.
        self.work.abandon(self.level);
    }
}

impl AtomicScope for AsyncAtomicScope<'_> {
    type Family = Async;

    fn access(&self) -> AsyncAccess<'_> {
        match self {
            AsyncAtomicScope::Own(own) => {
                AsyncAccess::Work(&own.0, Root::LEVEL, own.0.setting.begin_call())
            }
            AsyncAtomicScope::Inner(inner) => {
                AsyncAccess::Work(inner.work, inner.level, inner.work.setting.begin_call())
            }
        }
    }

    fn end(&mut self, keep: bool) -> BoxFuture<'_, Result<(), Error>> {
        Box::pin(async move {
            match self {
                AsyncAtomicScope::Own(own) => own.0.end(keep).await,
                AsyncAtomicScope::Inner(inner) => inner.work.close(inner.level, keep).await,
            }
        })
    }
}
