//! SQLite for async code: each connection has a thread of its own, so that runtime threads never wait for a
//! file, and a transaction can be rolled back where there is no runtime.

use std::any::Any;
use std::path::PathBuf;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::{Arc, Mutex, PoisonError};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread;
use std::time::Duration;

use futures_util::FutureExt;
use futures_util::future::BoxFuture;
use nepheline_core::internal::Statement;
use nepheline_core::{Dialect, Error, ErrorKind};
use rusqlite::InterruptHandle;
use tokio::sync::oneshot;

use super::direct::{self, OpenRows, Opened};
use super::file::OpenFile;
use crate::access::options::{Options, SqliteMode};
use crate::engine::{AsyncWire, BoxWire, Connect};
use crate::exec::sink::Sink;
use crate::exec::transaction::{BeginTexts, TransactionOptions};

/// Opens connections for the pool.
pub(crate) struct Connector {
    pub(crate) path: PathBuf,
    pub(crate) mode: SqliteMode,
    pub(crate) options: Options,
    /// The connection of the program that is used instead of opening one.
    given: Given,
}

/// A connection of the program, until it is used.
type Given = Option<Arc<Mutex<Option<rusqlite::Connection>>>>;

impl Connector {
    pub(crate) fn new(path: PathBuf, mode: SqliteMode, options: Options) -> Connector {
        Connector { path, mode, options, given: None }
    }

    /// Returns a connector that hands out a connection of the program.
    pub(crate) fn over(connection: rusqlite::Connection, options: Options) -> Connector {
        let given = Some(Arc::new(Mutex::new(Some(connection))));
        Connector { given, ..Connector::new(PathBuf::from(":memory:"), SqliteMode::Existing, options) }
    }
}

type Job = Box<dyn FnOnce(&Opened) + Send>;

/// The result of a job, or its panic, which propagates to the caller.
type Answer<T> = thread::Result<Result<T, Error>>;

/// A connection whose thread does one job after the other.
struct ThreadedWire {
    jobs: Sender<Job>,
    signals: Arc<Signals>,
    interrupt: Arc<InterruptHandle>,
    /// The end of a job that was not awaited.
    ending: Option<oneshot::Receiver<()>>,
    /// The channel on which the rows of a stream are requested.
    stream: Option<Sender<Chunk>>,
    /// The longest that a statement may run.
    limit: Option<Duration>,
    /// The file, which the pool's thread checks.
    file: Option<OpenFile>,
}

#[derive(Default)]
struct Signals {
    /// True while no call waits for the running job: SQLite checks it after a number of steps, and jobs
    /// before they begin.
    given_up: Arc<AtomicBool>,
    /// True if no transaction was open when the last job ended.
    autocommit: AtomicBool,
}

/// A request for rows of a stream: an empty sink, the number of rows, and the channel for the filled sink.
type Chunk = (Box<dyn Sink>, usize, oneshot::Sender<Answer<(Box<dyn Sink>, bool)>>);

impl Connect for Connector {
    fn connect(&self) -> BoxFuture<'_, Result<BoxWire, Error>> {
        let (path, mode, options) = (self.path.clone(), self.mode, self.options.clone());
        let given = self.given.clone();
        Box::pin(async move {
            let file = OpenFile::at(&path);
            let limit = options.statement_timeout;
            let (jobs, receive) = channel::<Job>();
            let (opened_send, opened) = oneshot::channel();
            let signals = Arc::new(Signals::default());
            let of_thread = signals.clone();
            let work = move || {
                let given_up = Some(of_thread.given_up.clone());
                let opened = match given {
                    None => direct::open(&path, mode, &options, given_up),
                    Some(given) => match given.lock().unwrap_or_else(PoisonError::into_inner).take() {
                        Some(connection) => direct::take_over(connection, given_up),
                        None => Err(Error::closed()),
                    },
                };
                match opened {
                    Ok(opened) => {
                        let interrupt = opened.connection.get_interrupt_handle();
                        if opened_send.send(Ok(interrupt)).is_ok() {
                            work(&opened, &receive, &of_thread);
                        }
                    }
                    Err(err) => drop(opened_send.send(Err(err))),
                }
            };
            let thread = thread::Builder::new().name("nepheline-sqlite".to_owned());
            let started = thread.spawn(work);
            started.map_err(|err| Error::cannot_open("for lack of a thread", err))?;
            let interrupt = Arc::new(opened.await.map_err(gone)??);
            let wire = ThreadedWire {
                jobs,
                signals,
                interrupt,
                ending: None,
                stream: None,
                limit,
                file,
            };
            Ok(Box::new(wire) as BoxWire)
        })
    }
}

/// Does jobs until all senders are gone.
fn work(opened: &Opened, jobs: &Receiver<Job>, signals: &Signals) {
    while let Ok(job) = jobs.recv() {
        job(opened);
        signals
            .autocommit
            .store(opened.connection.is_autocommit(), Ordering::Release);
    }
}

fn gone(err: oneshot::error::RecvError) -> Error {
    Error::of_driver(ErrorKind::ConnectionLost, err)
}

/// Returns the result of a job, or its panic.
fn unwound<T>(answer: Answer<T>) -> Result<T, Error> {
    answer.unwrap_or_else(|panic: Box<dyn Any + Send>| resume_unwind(panic))
}

impl ThreadedWire {
    /// Runs a job on the thread, and waits for it.
    async fn job<T: Send + 'static>(
        &mut self,
        work: impl FnOnce(&Opened) -> Result<T, Error> + Send + 'static,
    ) -> Result<T, Error> {
        let (answer, answered) = oneshot::channel::<Answer<T>>();
        let (end, ending) = oneshot::channel();
        let (signals, limit) = (self.signals.clone(), self.limit);
        let job = Box::new(move |opened: &Opened| {
            if signals.given_up.load(Ordering::Acquire) {
                let _ = end.send(());
                return;
            }
            let done = catch_unwind(AssertUnwindSafe(|| {
                direct::within(Some(opened), limit, || work(opened))
            }));
            signals
                .autocommit
                .store(opened.connection.is_autocommit(), Ordering::Release);
            let _ = answer.send(done);
            let _ = end.send(());
        });
        self.ending = Some(ending);
        let sent = self.jobs.send(job);
        sent.map_err(|_| Error::of_driver(ErrorKind::ConnectionLost, "its thread has ended"))?;
        let answer = answered.await.map_err(gone)?;
        self.ending = None;
        unwound(answer)
    }

    /// Stops the running job, and waits for its end.
    async fn come_to_rest(&mut self) -> Result<(), Error> {
        self.stop();
        // The job of a stream ends when no more rows can be requested.
        self.stream = None;
        if let Some(mut ending) = self.ending.take() {
            // An interrupt just before SQLite begins a statement is lost, and a statement that waits for a
            // lock takes no steps.
            while let Err(_elapsed) = tokio::time::timeout(BETWEEN_INTERRUPTS, &mut ending).await {
                self.interrupt.interrupt();
            }
        }
        self.signals.given_up.store(false, Ordering::Release);
        Ok(())
    }
}

/// The pause between two interrupts.
const BETWEEN_INTERRUPTS: Duration = Duration::from_millis(5);

impl AsyncWire for ThreadedWire {
    fn dialect(&self) -> Dialect {
        super::DIALECT
    }

    fn run<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        _alone: bool,
    ) -> BoxFuture<'f, Result<(), Error>> {
        let (owned, mut filled) = (statement.to_owned_binds(), sink.sibling());
        let job = self.job(move |opened| {
            direct::run(&opened.connection, &owned, &mut *filled).map(|()| filled)
        });
        job.map(|filled| filled.map(|filled| sink.adopt(filled)))
            .boxed()
    }

    fn command<'f>(&'f mut self, text: &'f str) -> BoxFuture<'f, Result<(), Error>> {
        let text = text.to_owned();
        self.job(move |opened| {
            let done = opened.connection.execute_batch(&text);
            done.map_err(direct::failed)
        })
        .boxed()
    }

    fn open<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        _alone: bool,
    ) -> BoxFuture<'f, Result<(), Error>> {
        let (owned, limit) = (statement.to_owned_binds(), self.limit);
        Box::pin(async move {
            let (asked, asks) = channel::<Chunk>();
            let (opened_send, opened) = oneshot::channel::<Answer<()>>();
            let (end, ending) = oneshot::channel();
            let job = Box::new(move |opened: &Opened| {
                stream(opened, &owned, limit, &asks, opened_send);
                let _ = end.send(());
            });
            self.ending = Some(ending);
            self.stream = Some(asked);
            let sent = self.jobs.send(job);
            sent.map_err(|_| Error::of_driver(ErrorKind::ConnectionLost, "its thread has ended"))?;
            let outcome = unwound(opened.await.map_err(gone)?);
            if outcome.is_err() {
                self.finish_stream().await?;
            }
            outcome
        })
    }

    fn next<'f>(
        &'f mut self,
        _statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        most: usize,
    ) -> BoxFuture<'f, Result<bool, Error>> {
        Box::pin(async move {
            let (answer, answered) = oneshot::channel();
            if let Some(stream) = &self.stream {
                let _ = stream.send((sink.sibling(), most, answer));
            }
            let outcome = unwound(answered.await.map_err(gone)?);
            match outcome {
                Ok((filled, more)) => {
                    sink.adopt(filled);
                    if !more {
                        self.finish_stream().await?;
                    }
                    Ok(more)
                }
                Err(err) => {
                    self.finish_stream().await?;
                    Err(err)
                }
            }
        })
    }

    fn finish_stream(&mut self) -> BoxFuture<'_, Result<(), Error>> {
        self.stream = None;
        Box::pin(async move {
            if let Some(ending) = &mut self.ending {
                let _ = ending.await;
            }
            self.ending = None;
            Ok(())
        })
    }

    fn stop(&mut self) {
        if self.ending.is_some() {
            self.signals.given_up.store(true, Ordering::Release);
            self.interrupt.interrupt();
        }
        self.stream = None;
    }

    fn recover(&mut self) -> BoxFuture<'_, Result<(), Error>> {
        Box::pin(self.come_to_rest())
    }

    fn salvage(&mut self, _interrupted: bool) -> BoxFuture<'_, bool> {
        Box::pin(async move {
            let rested = self.come_to_rest().await;
            let undone = self.job(|opened| {
                let connection = &opened.connection;
                if !connection.is_autocommit() {
                    connection.execute_batch("ROLLBACK").map_err(direct::failed)?;
                }
                let writable = connection.execute_batch("PRAGMA query_only = OFF");
                writable.map_err(direct::failed)
            });
            rested.is_ok() && undone.await.is_ok()
        })
    }

    fn is_closed(&self) -> bool {
        self.file.as_ref().is_some_and(|file| file.replaced().is_some())
    }

    fn check(&mut self) -> BoxFuture<'_, bool> {
        Box::pin(std::future::ready(true))
    }

    fn limit(&mut self, longest: Option<Duration>) -> BoxFuture<'_, Result<(), Error>> {
        self.limit = longest;
        Box::pin(std::future::ready(Ok(())))
    }

    fn reset(&mut self) -> BoxFuture<'_, Result<(), Error>> {
        self.job(Opened::reset).boxed()
    }

    fn has_ended_transaction(&self) -> bool {
        self.signals.autocommit.load(Ordering::Acquire)
    }

    fn begin_texts(&self, options: TransactionOptions) -> BeginTexts {
        direct::begin_texts(options)
    }

    fn end_texts(&self, options: TransactionOptions) -> &'static [&'static str] {
        direct::end_texts(options)
    }
}

/// Reads the rows of a stream as they are requested.
fn stream(
    opened: &Opened,
    statement: &Statement<'static>,
    limit: Option<Duration>,
    asks: &Receiver<Chunk>,
    opened_send: oneshot::Sender<Answer<()>>,
) {
    let mut rows = match OpenRows::open(&opened.connection, statement) {
        Ok(rows) => rows,
        Err(err) => return drop(opened_send.send(Ok(Err(err)))),
    };
    if opened_send.send(Ok(Ok(()))).is_err() {
        return;
    }
    while let Ok((mut sink, most, answer)) = asks.recv() {
        let read = catch_unwind(AssertUnwindSafe(|| {
            let more = direct::within(Some(opened), limit, || rows.next(statement, &mut *sink, most))?;
            Ok((sink, more))
        }));
        if answer.send(read).is_err() {
            return;
        }
    }
}
