//! The transaction of async handles.

use std::fmt;
use std::sync::Arc;

use nepheline_core::Error;

use super::asynchronous::{AsyncAccess, Inner};
use super::handle::sealed;
use crate::engine::pool::Lease;
use crate::exec::levels::Owner;
use crate::exec::transaction::{Root, Work};

/// A transaction in progress: the argument of the closure of
/// [`Database::transaction`](crate::Database::transaction). The verbs are those of
/// [`RunsQueries`](crate::RunsQueries).
///
/// Its statements run one after another. While a stream of it is read, or a transaction inside it is open,
/// other statements fail with [`TransactionBusy`](crate::ErrorKind::TransactionBusy). A statement that the
/// database refuses, that exceeds a limit, or that is dropped before its answer arrives ends the transaction:
/// it will be rolled back, and every further statement fails with
/// [`TransactionEnded`](crate::ErrorKind::TransactionEnded), which names that statement. Put work that may
/// fail into a transaction inside this one.
pub struct Transaction {
    work: Arc<Work<Lease>>,
    level: u32,
}

impl Transaction {
    pub(crate) fn outermost(work: Arc<Work<Lease>>) -> Transaction {
        Transaction { work, level: Root::LEVEL }
    }

    /// Runs `work` in a transaction inside this one (a savepoint). Its changes are kept if it returns `Ok`
    /// and this transaction is committed, and rolled back if it returns `Err`, panics or is dropped. Until it
    /// has ended, this transaction accepts no statements.
    ///
    /// # Errors
    ///
    /// The error that `work` returns, and errors of the database at the begin or the end.
    pub async fn transaction<T, E>(
        &self,
        work: impl AsyncFnOnce(Transaction) -> Result<T, E>,
    ) -> Result<T, E>
    where
        E: From<Error>,
    {
        let level = self.work.open(self.level, Owner::Program).await?;
        let inner = Inner::new(&self.work, level);
        let outcome = work(Transaction { work: self.work.clone(), level }).await;
        let end = inner.work.close(level, outcome.is_ok()).await;
        match (outcome, end) {
            (Ok(_), Err(err)) => Err(err.into()),
            // The caller needs the error of the work most, so it is kept.
            (outcome, _) => outcome,
        }
    }
    /// Runs `work` after the outermost transaction is committed, in the order of these calls. It is dropped
    /// if this transaction or one around it is rolled back, and if the outcome of the commit is unknown.
    ///
    /// It runs before `transaction` returns, when the connection is free again. A panic in it propagates to
    /// the caller; the commit stands.
    ///
    /// ```
    /// # use nepheline::prelude::*;
    /// # use nepheline::Database;
    /// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64, name: String }
    /// # async fn f(db: &Database, tell: std::sync::mpsc::Sender<i64>) -> Result<(), Error> {
    /// db.transaction(async |tx| {
    ///     tx.write(&Lab::insert(LabToInsert { id: 7, name: "Ostra Assays".into() })).await?;
    ///     let tell = tell.clone();
    ///     tx.after_commit(move || drop(tell.send(7)));
    ///     Ok(())
    /// })
    /// .await
    /// # }
    /// ```
    pub fn after_commit(&self, work: impl FnOnce() + Send + 'static) {
        self.work.after_commit(self.level, Box::new(work));
    }
}

impl sealed::RunsQueries for Transaction {
    #[expect(private_interfaces, reason = "only the verbs call it")]
    fn access(&self) -> AsyncAccess<'_> {
        AsyncAccess::Work(&self.work, self.level, self.work.setting.begin_call())
    }
}

impl fmt::Debug for Transaction {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Transaction")
            .field("dialect", &self.work.dialect)
            .field("level", &self.level)
            .field("over", &self.work.end_reason(self.level))
            .finish()
    }
}
