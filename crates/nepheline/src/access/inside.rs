//! Tracks the transactions whose closures are running, to detect use of the database's own handle inside one.

use std::sync::Arc;

use nepheline_core::Error;
use smallvec::SmallVec;

tokio::task_local! {
    static INSIDE: SmallVec<[usize; 2]>;
}

fn with(database: usize) -> SmallVec<[usize; 2]> {
    let mut inside = INSIDE.try_with(Clone::clone).unwrap_or_default();
    inside.push(database);
    inside
}

/// Returns a number that all clones of a database share, and no other database has.
pub(crate) fn identity<T>(shared: &Arc<T>) -> usize {
    Arc::as_ptr(shared) as *const () as usize
}

/// Runs the closure of a transaction of a database, while it is polled.
pub(crate) async fn scope<F: Future>(database: usize, work: F) -> F::Output {
    INSIDE.scope(with(database), work).await
}

/// Runs the closure of a transaction of a database on this thread.
pub(crate) fn sync_scope<R>(database: usize, work: impl FnOnce() -> R) -> R {
    INSIDE.sync_scope(with(database), work)
}

/// Refuses a database's own handle inside a transaction of it.
pub(crate) fn check(database: usize) -> Result<(), Error> {
    let is_inside = INSIDE.try_with(|inside| inside.contains(&database));
    match is_inside {
        Ok(true) => Err(Error::outer_handle()),
        _ => Ok(()),
    }
}
