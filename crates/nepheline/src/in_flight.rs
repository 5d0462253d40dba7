//! Whether a connection can be used again.

use std::future::Future;
use std::sync::atomic::{AtomicBool, Ordering};

use nepheline_core::{Error, ErrorKind};

/// Set while a statement runs. It stays set if the caller went away before the end, or if the
/// connection was lost; then the pool closes the connection instead of handing it out again.
#[derive(Debug, Default)]
pub(crate) struct InFlight(AtomicBool);

impl InFlight {
    pub(crate) fn is_set(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }

    /// Sets it until `work` has come to its end.
    pub(crate) async fn during<T>(
        &self,
        work: impl Future<Output = Result<T, Error>>,
    ) -> Result<T, Error> {
        self.begin();
        let result = work.await;
        if !matches!(&result, Err(err) if err.kind() == ErrorKind::ConnectionLost) {
            self.end();
        }
        result
    }

    pub(crate) fn begin(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    pub(crate) fn end(&self) {
        self.0.store(false, Ordering::Relaxed);
    }
}
