//! SQLite for async code: a call runs on one of the runtime's threads for blocking work, so that
//! those which drive the tasks never wait for a file.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use deadpool::managed::{self, Metrics, RecycleResult};
use futures_util::stream::BoxStream;
use nepheline_core::internal::Statement;
use nepheline_core::{Error, RowShape};
use rusqlite::InterruptHandle;
use tokio::sync::mpsc;
use tokio::task::spawn_blocking;

use super::direct::{self, StatementTimeout};
use crate::options::{Options, SqliteMode};
use crate::verbs::Gather;

/// How many rows a stream's thread reads ahead, in batches of this many.
const ROWS_IN_BATCH: usize = 256;
const BATCHES_AHEAD: usize = 2;

/// Opens connections for the pool.
pub(crate) struct Manager {
    pub(crate) path: String,
    pub(crate) mode: SqliteMode,
    pub(crate) options: Options,
}

/// A connection of the pool.
pub(crate) struct Connection {
    shared: Arc<Mutex<rusqlite::Connection>>,
    interrupt: Arc<InterruptHandle>,
    timeout: Option<StatementTimeout>,
}

impl managed::Manager for Manager {
    type Type = Connection;
    type Error = Error;

    async fn create(&self) -> Result<Connection, Error> {
        let (path, mode, options) = (self.path.clone(), self.mode, self.options.clone());
        let opened = on_own_thread(move || direct::open(&path, mode, &options)).await?;
        Ok(Connection {
            interrupt: Arc::new(opened.connection.get_interrupt_handle()),
            shared: Arc::new(Mutex::new(opened.connection)),
            timeout: opened.timeout,
        })
    }

    async fn recycle(&self, _: &mut Connection, _: &Metrics) -> RecycleResult<Error> {
        Ok(())
    }
}

impl Connection {
    pub(crate) async fn fetch<R, G>(&self, statement: &Statement<'_>) -> Result<G, Error>
    where
        R: RowShape + Send + 'static,
        G: Gather<R>,
    {
        let statement = statement.to_owned_binds();
        self.with(move |connection| direct::fetch(connection, &statement))
            .await
    }

    pub(crate) async fn command(&self, text: &str) -> Result<(), Error> {
        let text = text.to_owned();
        self.with(move |connection| connection.execute_batch(&text).map_err(direct::failed))
            .await
    }

    /// Ends what a transaction left open, without waiting for it: the caller may be a destructor.
    pub(crate) fn roll_back_later(connection: managed::Object<Manager>) {
        let Ok(runtime) = tokio::runtime::Handle::try_current() else { return };
        runtime.spawn(async move {
            // Without an open transaction, because it ended itself, there is nothing to undo.
            let _ = connection.command("ROLLBACK").await;
        });
    }

    pub(crate) fn stream<R: RowShape + Send + 'static>(
        &self,
        statement: Statement<'_>,
    ) -> BoxStream<'_, Result<R, Error>> {
        let statement = statement.to_owned_binds();
        let (send, mut receive) = mpsc::channel::<Result<Vec<R>, Error>>(BATCHES_AHEAD);
        let shared = self.shared.clone();
        let timeout = self.timeout.clone();
        // Dropping the stream drops the receiver, and the thread stops at its next batch.
        spawn_blocking(move || {
            let connection = shared.lock().unwrap_or_else(PoisonError::into_inner);
            let mut batch = Vec::with_capacity(ROWS_IN_BATCH);
            let read = direct::within(timeout.as_ref(), || {
                direct::each(&connection, &statement, |row| {
                    use std::ops::ControlFlow::{Break, Continue};
                    batch.push(row);
                    if batch.len() < ROWS_IN_BATCH {
                        return Continue(());
                    }
                    let full = std::mem::replace(&mut batch, Vec::with_capacity(ROWS_IN_BATCH));
                    if send.blocking_send(Ok(full)).is_ok() { Continue(()) } else { Break(()) }
                })
            });
            // Nobody is left to tell if the receiver is gone.
            let _ = send.blocking_send(Ok(batch));
            if let Err(err) = read {
                let _ = send.blocking_send(Err(err));
            }
        });
        Box::pin(async_stream::try_stream! {
            while let Some(batch) = receive.recv().await {
                for row in batch? {
                    yield row;
                }
            }
        })
    }

    /// Lends the connection to a thread for blocking work. If the caller goes away meanwhile, the
    /// work is not begun, or its statement is interrupted.
    async fn with<T: Send + 'static>(
        &self,
        work: impl FnOnce(&rusqlite::Connection) -> Result<T, Error> + Send + 'static,
    ) -> Result<T, Error> {
        let shared = self.shared.clone();
        let timeout = self.timeout.clone();
        let progress = Arc::new(Progress::default());
        let _caller = Caller { progress: progress.clone(), interrupt: self.interrupt.clone() };
        on_own_thread(move || {
            let connection = shared.lock().unwrap_or_else(PoisonError::into_inner);
            progress.run(|| direct::within(timeout.as_ref(), || work(&connection)))
        })
        .await
    }
}

/// How far the work has come that a caller waits for.
#[derive(Debug, Default)]
struct Progress(Mutex<Step>);

#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
enum Step {
    #[default]
    Waiting,
    Running,
    Done,
    Abandoned,
}

impl Progress {
    /// Runs the work, unless nobody waits for it any more.
    fn run<T>(&self, work: impl FnOnce() -> Result<T, Error>) -> Result<T, Error> {
        if self.advance(Step::Running) == Step::Abandoned {
            return Err(Error::abandoned());
        }
        let result = work();
        self.advance(Step::Done);
        result
    }

    /// Goes on to the next step, and tells the one that it was at. What was abandoned stays so.
    fn advance(&self, next: Step) -> Step {
        let mut step = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let before = *step;
        if before != Step::Abandoned {
            *step = next;
        }
        before
    }

    /// Tells the work that nobody waits for it, and whether its statement has to be interrupted. The
    /// lock is held meanwhile, so that no statement of anybody else is.
    fn abandon(&self, interrupt: &InterruptHandle) -> bool {
        let mut step = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        match *step {
            Step::Waiting => *step = Step::Abandoned,
            Step::Running => interrupt.interrupt(),
            Step::Done | Step::Abandoned => {}
        }
        *step == Step::Running
    }
}

/// Stands where a caller waits; dropped before the work is done, it ends that.
struct Caller {
    progress: Arc<Progress>,
    interrupt: Arc<InterruptHandle>,
}

/// How long after an interrupt the next one follows. One that comes just before SQLite begins with a
/// statement is lost.
const BETWEEN_INTERRUPTS: Duration = Duration::from_millis(5);

impl Drop for Caller {
    fn drop(&mut self) {
        if !self.progress.abandon(&self.interrupt) {
            return;
        }
        let Ok(runtime) = tokio::runtime::Handle::try_current() else { return };
        let (progress, interrupt) = (self.progress.clone(), self.interrupt.clone());
        runtime.spawn(async move {
            while progress.abandon(&interrupt) {
                tokio::time::sleep(BETWEEN_INTERRUPTS).await;
            }
        });
    }
}

async fn on_own_thread<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, Error> + Send + 'static,
) -> Result<T, Error> {
    match spawn_blocking(work).await {
        Ok(result) => result,
        Err(lost) => Err(Error::of_driver(nepheline_core::ErrorKind::ConnectionLost, lost)),
    }
}
