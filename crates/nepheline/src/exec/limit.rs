//! Time limits. The database enforces its own first; the client gives up a little later, in case no answer
//! arrives.

use std::time::{Duration, Instant};

use nepheline_core::Error;

/// The time after the database's own limit at which the client gives up. It is long enough for a busy
/// database to answer first, because its answer says that the statement was stopped.
pub(crate) const MARGIN: Duration = Duration::from_secs(1);

/// The time limit of one call of a handle, which covers all its statements together.
#[derive(Debug, Clone, Copy)]
pub(crate) struct CallLimit {
    pub(crate) longest: Duration,
    until: Instant,
}

impl CallLimit {
    pub(crate) fn beginning_now(longest: Duration) -> CallLimit {
        CallLimit { longest, until: Instant::now() + longest }
    }

    /// Returns the time that is left, or an error if none is.
    pub(crate) fn remaining(&self) -> Result<Duration, Error> {
        let left = self.until.saturating_duration_since(Instant::now());
        match left.is_zero() {
            true => Err(Error::call_over(self.longest)),
            false => Ok(left),
        }
    }
}

/// Waits for a future at most this long; returns `None` if it did not complete in time.
pub(crate) async fn bounded<T>(longest: Duration, work: impl Future<Output = T>) -> Option<T> {
    // Boxed, because the timer is larger than most of the futures.
    Box::pin(tokio::time::timeout(longest, work)).await.ok()
}
