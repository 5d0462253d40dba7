//! The metrics of a pool, for operators.

use std::sync::atomic::{AtomicU64, Ordering};

use tokio::sync::Notify;

/// The state of a connection pool, and its counters since it was opened.
///
/// ```
/// # #[tokio::main(flavor = "current_thread")]
/// # async fn main() -> Result<(), nepheline::Error> {
/// let db = nepheline::Database::open("sqlite::memory:").await?;
/// let pool = db.pool_metrics();
/// assert_eq!((pool.connections, pool.idle, pool.waiting), (1, 1, 0));
/// # Ok(())
/// # }
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
#[non_exhaustive]
pub struct PoolMetrics {
    /// The largest number of open connections; 0 once the handle is closed.
    pub most: usize,
    /// The number of open connections, including those whose statements are being stopped.
    pub connections: usize,
    /// The number of connections that can be lent at once.
    pub idle: usize,
    /// The number of calls that wait for a connection.
    pub waiting: usize,
    /// The number of calls that gave up waiting, with [`PoolExhausted`](crate::ErrorKind::PoolExhausted).
    pub waits_timed_out: u64,
    /// The number of connections that were opened.
    pub opened: u64,
    /// The numbers of connections that were closed, by reason.
    pub closed: ClosedConnections,
}

impl PoolMetrics {
    /// Returns the state of a single connection, which lives as long as its handle.
    #[cfg(feature = "sqlite")]
    pub(crate) fn of_one(is_closed: bool, is_busy: bool) -> PoolMetrics {
        let (there, closed) = (usize::from(!is_closed), u64::from(is_closed));
        PoolMetrics {
            most: there,
            connections: there,
            idle: usize::from(!is_closed && !is_busy),
            opened: 1,
            closed: ClosedConnections { with_handle: closed, ..ClosedConnections::default() },
            ..PoolMetrics::default()
        }
    }
}

/// The numbers of connections of a pool that were closed, by reason.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
#[non_exhaustive]
pub struct ClosedConnections {
    /// The server or the network ended them, or they did not answer a check.
    pub lost: u64,
    /// A statement was not answered within its time limit, not even by the server's own timeout.
    pub unanswered: u64,
    /// A call on them was dropped, or one of their statements was cancelled.
    pub given_up: u64,
    /// They were idle for longer than `idle_limit`.
    pub idle: u64,
    /// They were open for longer than `life_limit`.
    pub old: u64,
    /// They were idle when the server reached its limit of prepared statements.
    pub relief: u64,
    /// The handle was closed.
    pub with_handle: u64,
}

impl ClosedConnections {
    /// Returns the sum of all reasons.
    #[must_use]
    pub fn total(&self) -> u64 {
        let ClosedConnections { lost, unanswered, given_up, idle, old, relief, with_handle } = self;
        lost + unanswered + given_up + idle + old + relief + with_handle
    }
}

/// The reason why a connection is closed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Why {
    Lost,
    Unanswered,
    GivenUp,
    Idle,
    Old,
    Relief,
    WithHandle,
}

#[derive(Debug, Default)]
pub(super) struct Counts {
    opened: AtomicU64,
    waits_timed_out: AtomicU64,
    closed: [AtomicU64; 7],
    all_closed: Notify,
}

impl Counts {
    pub(super) fn opened(&self) {
        self.opened.fetch_add(1, Ordering::Relaxed);
    }

    pub(super) fn wait_timed_out(&self) {
        self.waits_timed_out.fetch_add(1, Ordering::Relaxed);
    }

    pub(super) fn closed(&self, why: Why) {
        if let Some(count) = self.closed.get(why as usize) {
            count.fetch_add(1, Ordering::AcqRel);
        }
        self.all_closed.notify_waiters();
    }

    fn closed_so_far(&self) -> ClosedConnections {
        let count = |why: Why| {
            let count = self.closed.get(why as usize);
            count.map_or(0, |count| count.load(Ordering::Acquire))
        };
        ClosedConnections {
            lost: count(Why::Lost),
            unanswered: count(Why::Unanswered),
            given_up: count(Why::GivenUp),
            idle: count(Why::Idle),
            old: count(Why::Old),
            relief: count(Why::Relief),
            with_handle: count(Why::WithHandle),
        }
    }

    pub(super) fn metrics(&self, most: usize, idle: usize, waiting: usize) -> PoolMetrics {
        // The closed connections are read first, so that each of them is also among the opened ones.
        let closed = self.closed_so_far();
        let opened = self.opened.load(Ordering::Acquire);
        let connections = usize::try_from(opened - closed.total()).unwrap_or(usize::MAX);
        PoolMetrics {
            most,
            connections,
            idle,
            waiting,
            waits_timed_out: self.waits_timed_out.load(Ordering::Relaxed),
            opened,
            closed,
        }
    }

    /// Waits until every connection that was opened is closed.
    pub(super) async fn all_closed(&self) {
        loop {
            let mut notified = std::pin::pin!(self.all_closed.notified());
            notified.as_mut().enable();
            if self.opened.load(Ordering::Acquire) == self.closed_so_far().total() {
                return;
            }
            notified.await;
        }
    }
}
