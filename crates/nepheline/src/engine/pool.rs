//! The pool of connections. Only a connection whose state says that it is at rest goes back into it.

use std::time::Duration;

use deadpool::Runtime;
use deadpool::managed::{
    self, Manager, Metrics, Object, PoolError, RecycleError, RecycleResult, TimeoutType, Timeouts,
};
use nepheline_core::Error;

use super::{BoxWire, Connect, STOPPING, caretaker};
use crate::access::options::Options;
use crate::exec::line::Line;
use crate::exec::transaction::Hold;

type PooledLine = Line<BoxWire>;

pub(crate) struct Pool {
    pool: managed::Pool<Lines>,
    pool_wait: Duration,
    connect_timeout: Duration,
    shown: String,
}

/// Opens and checks the connections of the pool.
struct Lines(Box<dyn Connect>);

impl Manager for Lines {
    type Type = PooledLine;
    type Error = Error;

    async fn create(&self) -> Result<PooledLine, Error> {
        Ok(Line::new(self.0.connect().await?))
    }

    async fn recycle(&self, line: &mut PooledLine, metrics: &Metrics) -> RecycleResult<Error> {
        if line.is_at_rest() && line.wire.rested(metrics.last_used()).await {
            return Ok(());
        }
        Err(RecycleError::message("it was closed or left busy"))
    }
}

impl Pool {
    pub(crate) fn new(
        connect: Box<dyn Connect>,
        size: usize,
        options: &Options,
    ) -> Result<Pool, Error> {
        let pool = managed::Pool::builder(Lines(connect))
            .max_size(size)
            .runtime(Runtime::Tokio1)
            .build();
        Ok(Pool {
            pool: pool.map_err(|err| Error::unfit_session(err.to_string()))?,
            pool_wait: options.pool_wait,
            connect_timeout: options.connect_timeout,
            shown: options.shown(),
        })
    }

    /// How many connections there can be.
    pub(crate) fn max_size(&self) -> usize {
        self.pool.status().max_size
    }

    pub(crate) async fn lease(&self) -> Result<Lease, Error> {
        let create = Some(self.connect_timeout);
        // Without a timer first: it costs more than taking a connection that is free.
        let at_once = Timeouts { wait: Some(Duration::ZERO), create, recycle: None };
        let taken = match self.pool.timeout_get(&at_once).await {
            Err(PoolError::Timeout(TimeoutType::Wait)) => {
                let in_time = Timeouts { wait: Some(self.pool_wait), create, recycle: None };
                Box::pin(self.pool.timeout_get(&in_time)).await
            }
            taken => taken,
        };
        let taken = taken.map_err(|err| match err {
            PoolError::Backend(err) => err,
            PoolError::Timeout(TimeoutType::Wait) => Error::pool_exhausted(self.max_size()),
            other => Error::cannot_open(&format!("`{}`", self.shown), other),
        })?;
        Ok(Lease(Some(taken)))
    }
}

/// A connection that is lent. Dropped, it goes back to the pool, or to the caretaker if something is left to stop or
/// to undo; until then it counts as lent.
pub(crate) struct Lease(Option<Object<Lines>>);

impl Hold for Lease {
    type Wire = BoxWire;

    fn line(&mut self) -> &mut PooledLine {
        match &mut self.0 {
            Some(object) => object,
            None => unreachable!("a lease has its connection until it is dropped"),
        }
    }
}

impl Drop for Lease {
    fn drop(&mut self) {
        let Some(mut object) = self.0.take() else { return };
        if object.is_at_rest() {
            return;
        }
        object.wire.stop();
        caretaker::take_over(async move {
            let interrupted = object.is_interrupted();
            let salvaged = match object.is_unfit() {
                true => Ok(false),
                false => tokio::time::timeout(STOPPING, object.wire.salvage(interrupted)).await,
            };
            match salvaged {
                Ok(true) => object.is_salvaged(),
                _ => drop(Object::take(object)),
            }
        });
    }
}
