//! What the verbs need of a database, whatever its engine. Each engine's folder implements it once.

use std::future::Future;

use nepheline_core::internal::Statement;
use nepheline_core::{Dialect, Error, RowShape};

pub trait Driver: Sync {
    /// The dialect that statements must be written in.
    fn dialect(&self) -> Dialect;

    /// Runs a statement, reads its rows straight from the engine's cells, and gives each to `keep`.
    fn fetch<R: RowShape + Send>(
        &self,
        statement: &Statement<'_>,
        keep: impl FnMut(R) + Send,
    ) -> impl Future<Output = Result<(), Error>> + Send;
}
