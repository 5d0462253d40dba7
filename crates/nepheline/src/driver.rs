//! What the verbs need of a database, whatever its engine. Each engine's folder implements it once.

use std::future::Future;

use nepheline_core::internal::Statement;
use nepheline_core::{Dialect, Error, RowShape};

pub trait Driver: Sync {
    /// The dialect that statements must be written in.
    fn dialect(&self) -> Dialect;

    /// Runs a statement and reads its rows straight from the engine's cells.
    fn fetch<R: RowShape + Send>(
        &self,
        statement: &Statement<'_>,
    ) -> impl Future<Output = Result<Vec<R>, Error>> + Send;
}
