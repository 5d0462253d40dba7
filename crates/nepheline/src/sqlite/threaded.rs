//! SQLite for async code: a call runs on one of the runtime's threads for blocking work, so that
//! those which drive the tasks never wait for a file.

use std::sync::{Arc, Mutex, PoisonError};

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
    /// statement is interrupted.
    async fn with<T: Send + 'static>(
        &self,
        work: impl FnOnce(&rusqlite::Connection) -> Result<T, Error> + Send + 'static,
    ) -> Result<T, Error> {
        let shared = self.shared.clone();
        let timeout = self.timeout.clone();
        let abandoned = InterruptOnDrop(Some(self.interrupt.clone()));
        let result = on_own_thread(move || {
            let connection = shared.lock().unwrap_or_else(PoisonError::into_inner);
            direct::within(timeout.as_ref(), || work(&connection))
        })
        .await;
        abandoned.disarm();
        result
    }
}

struct InterruptOnDrop(Option<Arc<InterruptHandle>>);

impl InterruptOnDrop {
    fn disarm(mut self) {
        self.0 = None;
    }
}

impl Drop for InterruptOnDrop {
    fn drop(&mut self) {
        if let Some(handle) = &self.0 {
            handle.interrupt();
        }
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
