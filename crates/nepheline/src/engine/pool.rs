//! The connection pool. Only a connection whose state is at rest is returned to it.

use std::ops::{Deref, DerefMut};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::task::Poll;
use std::time::{Duration, Instant};

use deadpool::Runtime;
use deadpool::managed::{
    self, Manager, Metrics, Object, PoolError, RecycleError, RecycleResult, TimeoutType, Timeouts,
    WeakPool,
};
use nepheline_core::{Error, ErrorKind};

use super::metrics::{Counts, PoolMetrics, Why};
use super::{BoxWire, Connect, STOPPING, caretaker};
use crate::access::options::Options;
use crate::exec::limit::{CallLimit, bounded};
use crate::exec::line::Line;
use crate::exec::transaction::Hold;

/// A connection that was idle for longer is checked before it is lent, because a driver notices a vanished
/// server only at the next statement.
const RESTED: Duration = Duration::from_secs(1);

/// The longest wait for the answer to a check.
const CHECKING: Duration = Duration::from_secs(2);

pub(crate) struct Pool {
    pool: managed::Pool<Lines>,
    counts: Arc<Counts>,
    pool_wait: Duration,
    connect_timeout: Duration,
}

/// A connection of the pool. Dropping it counts it as closed.
struct Pooled {
    line: Line<BoxWire>,
    counts: Arc<Counts>,
    why: Why,
}

impl Pooled {
    fn close(mut self, why: Why) {
        self.why = why;
    }
}

impl Deref for Pooled {
    type Target = Line<BoxWire>;

    fn deref(&self) -> &Line<BoxWire> {
        &self.line
    }
}

impl DerefMut for Pooled {
    fn deref_mut(&mut self) -> &mut Line<BoxWire> {
        &mut self.line
    }
}

impl Drop for Pooled {
    fn drop(&mut self) {
        self.counts.closed(self.why);
    }
}

/// Opens and checks the connections of the pool.
struct Lines {
    connect: Box<dyn Connect>,
    shown: String,
    counts: Arc<Counts>,
    statement_timeout: Option<Duration>,
    limits: Limits,
    /// The time at which a connection did not answer a check, if one ever did. Connections that were idle at
    /// that time are not checked at length: if the network broke one, it broke them all.
    unanswered: OnceLock<Mutex<Instant>>,
}

/// The longest idle time, and the longest life, of a connection.
#[derive(Debug, Clone, Copy)]
struct Limits {
    idle: Option<Duration>,
    life: Option<Duration>,
}

impl Limits {
    /// Returns why a connection is too old to be lent, if it is.
    fn exceeded(self, now: Instant, metrics: &Metrics) -> Option<Why> {
        let is_over = |limit: Option<Duration>, time: Duration| limit.is_some_and(|l| time >= l);
        if is_over(self.life, now.saturating_duration_since(metrics.created)) {
            return Some(Why::Old);
        }
        is_over(self.idle, rested(now, metrics)).then_some(Why::Idle)
    }

    /// Returns how often to look for idle connections.
    fn period(self) -> Option<Duration> {
        let shortest = self.idle.into_iter().chain(self.life).min()?;
        Some((shortest / 4).clamp(Duration::from_millis(50), Duration::from_secs(30)))
    }
}

/// Returns the time since a connection was lent, or since it was opened if it never was.
fn rested(now: Instant, metrics: &Metrics) -> Duration {
    now.saturating_duration_since(metrics.recycled.unwrap_or(metrics.created))
}

impl Lines {
    /// Returns why a connection cannot be lent again, if it cannot.
    async fn refusal(&self, line: &mut Pooled, metrics: &Metrics) -> Option<Why> {
        if !line.is_at_rest() {
            return Some(Why::GivenUp);
        }
        if line.wire.is_closed() {
            return Some(Why::Lost);
        }
        let now = Instant::now();
        if let Some(why) = self.limits.exceeded(now, metrics) {
            return Some(why);
        }
        let rested = rested(now, metrics);
        if rested >= RESTED {
            if self.is_doubtful(rested) {
                return Some(Why::Lost);
            }
            match tokio::time::timeout(CHECKING, line.wire.check()).await {
                Ok(true) => {}
                Ok(false) => return Some(Why::Lost),
                Err(_elapsed) => {
                    self.note_unanswered();
                    return Some(Why::Lost);
                }
            }
        }
        if line.is_altered() {
            match bounded(STOPPING, line.wire.reset()).await {
                Some(Ok(())) => line.is_reset(),
                _ => return Some(Why::Lost),
            }
        }
        None
    }

    /// Returns whether another connection did not answer while this one was idle.
    fn is_doubtful(&self, rested: Duration) -> bool {
        let Some(unanswered) = self.unanswered.get() else { return false };
        let at = unanswered.lock().unwrap_or_else(PoisonError::into_inner);
        at.elapsed() < rested
    }

    fn note_unanswered(&self) {
        let unanswered = self.unanswered.get_or_init(|| Mutex::new(Instant::now()));
        *unanswered.lock().unwrap_or_else(PoisonError::into_inner) = Instant::now();
    }
}

impl Manager for Lines {
    // Boxed, because the pool moves it several times with each loan.
    type Type = Box<Pooled>;
    type Error = Error;

    async fn create(&self) -> Result<Box<Pooled>, Error> {
        let wire = self.connect.connect().await.map_err(|err| match err.kind() {
            // A connection that was cut while its session was set up was never in use, so nothing of it was
            // lost.
            ErrorKind::ConnectionLost => Error::cannot_open(&format!("`{}`", self.shown), err),
            _ => err,
        })?;
        let line = Line::new(wire, self.statement_timeout);
        self.counts.opened();
        Ok(Box::new(Pooled { line, counts: self.counts.clone(), why: Why::WithHandle }))
    }

    async fn recycle(&self, line: &mut Box<Pooled>, metrics: &Metrics) -> RecycleResult<Error> {
        // The reason is recorded in case the waiting call gives up.
        line.why = Why::GivenUp;
        match self.refusal(line, metrics).await {
            None => {
                line.why = Why::WithHandle;
                Ok(())
            }
            Some(why) => {
                line.why = why;
                Err(RecycleError::message("it was closed"))
            }
        }
    }
}

impl Pool {
    pub(crate) fn new(
        connect: Box<dyn Connect>,
        size: usize,
        options: &Options,
    ) -> Result<Pool, Error> {
        let counts = Arc::new(Counts::default());
        let weak = Arc::new(OnceLock::<WeakPool<Lines>>::new());
        let of_connect = weak.clone();
        connect.relieved_by(Box::new(move || {
            let pool = of_connect.get().and_then(WeakPool::upgrade);
            if let Some(pool) = pool {
                close_idle(&pool, |_| Some(Why::Relief));
            }
        }));
        let limits = Limits { idle: options.idle_limit, life: options.life_limit };
        let lines = Lines {
            connect,
            shown: options.shown(),
            counts: counts.clone(),
            statement_timeout: options.statement_timeout,
            limits,
            unanswered: OnceLock::new(),
        };
        let pool = managed::Pool::builder(lines)
            .max_size(size)
            .runtime(Runtime::Tokio1)
            .build();
        let pool = pool.map_err(|err| Error::unfit_session(err.to_string()))?;
        let _ = weak.set(pool.weak());
        if let Some(period) = limits.period() {
            caretaker::take_over(close_old(pool.weak(), limits, period));
        }
        Ok(Pool {
            pool,
            counts,
            pool_wait: options.pool_wait,
            connect_timeout: options.connect_timeout,
        })
    }

    /// Returns the largest number of connections.
    pub(crate) fn max_size(&self) -> usize {
        self.pool.status().max_size
    }

    /// Lends a connection, if one becomes free or can be opened in time.
    pub(crate) async fn lease(&self, call: Option<CallLimit>) -> Result<Lease, Error> {
        // A free connection is lent without a timer, which costs more than taking it.
        let mut at_once = std::pin::pin!(self.take(Some(Duration::ZERO)));
        let taken = match futures_util::poll!(at_once.as_mut()) {
            Poll::Ready(Err(PoolError::Timeout(TimeoutType::Wait))) => {
                self.in_time(call, self.take(None)).await?
            }
            Poll::Ready(taken) => taken,
            Poll::Pending => self.in_time(call, at_once).await?,
        };
        let mut object = taken.map_err(|err| match err {
            PoolError::Backend(err) => err,
            PoolError::Closed => Error::closed(),
            other => {
                Error::cannot_open(&format!("`{}`", self.pool.manager().shown), other)
            }
        })?;
        object.begin_call(call);
        Ok(Lease(Some(object)))
    }

    /// Waits for a connection as long as the caller allows.
    fn in_time<T>(
        &self,
        call: Option<CallLimit>,
        taking: impl Future<Output = T>,
    ) -> impl Future<Output = Result<T, Error>> {
        let remaining = call.map_or(Ok(self.pool_wait), |call| call.remaining());
        let longest = remaining.map(|longest| longest.min(self.pool_wait));
        // Boxed, because most callers do not wait.
        let taken = longest.map(|longest| Box::pin(tokio::time::timeout(longest, taking)));
        async move {
            taken?.await.map_err(|_elapsed| {
                self.counts.wait_timed_out();
                Error::pool_exhausted(self.max_size())
            })
        }
    }

    async fn take(
        &self,
        wait: Option<Duration>,
    ) -> Result<Object<Lines>, PoolError<Error>> {
        let create = Some(self.connect_timeout);
        self.pool.timeout_get(&Timeouts { wait, create, recycle: None }).await
    }

    pub(crate) fn metrics(&self) -> PoolMetrics {
        let status = self.pool.status();
        self.counts.metrics(status.max_size, status.available, status.waiting)
    }

    /// Lends no more connections, closes idle ones, and waits until the others are returned.
    pub(crate) async fn close(&self) {
        self.pool.close();
        // Connections in use stay open until they are returned.
        self.counts.all_closed().await;
    }
}

/// Closes the idle connections that `why` gives a reason for.
fn close_idle(pool: &managed::Pool<Lines>, why: impl Fn(&Metrics) -> Option<Why>) {
    let mut reasons = Vec::new();
    let retained = pool.retain(|_, metrics| match why(&metrics) {
        None => true,
        Some(why) => {
            reasons.push(why);
            false
        }
    });
    for (pooled, why) in retained.removed.into_iter().zip(reasons) {
        pooled.close(why);
    }
}

/// Closes connections that exceed their idle time or life, as long as the pool exists.
async fn close_old(pool: WeakPool<Lines>, limits: Limits, period: Duration) {
    loop {
        tokio::time::sleep(period).await;
        let Some(pool) = pool.upgrade() else { return };
        if pool.is_closed() {
            return;
        }
        let now = Instant::now();
        close_idle(&pool, |metrics| limits.exceeded(now, metrics));
    }
}

/// A lent connection. Dropping it returns it to the pool, or hands it to the caretaker if something must be
/// stopped or rolled back; until then it counts as in use.
pub(crate) struct Lease(Option<Object<Lines>>);

impl Hold for Lease {
    type Wire = BoxWire;

    fn line(&mut self) -> &mut Line<BoxWire> {
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
        object.why = match (object.is_lost(), object.is_unanswered()) {
            (true, _) => Why::Lost,
            (_, true) => Why::Unanswered,
            _ => Why::GivenUp,
        };
        object.wire.stop();
        caretaker::take_over(async move {
            let interrupted = object.is_interrupted();
            let salvaged = match object.is_lost() {
                true => Some(false),
                false => bounded(STOPPING, object.wire.salvage(interrupted)).await,
            };
            match salvaged {
                Some(true) => {
                    object.is_salvaged();
                    object.why = Why::WithHandle;
                }
                _ => drop(Object::take(object)),
            }
        });
    }
}
