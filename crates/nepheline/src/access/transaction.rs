//! The transaction of async handles.

use std::fmt;
use std::sync::Arc;

use nepheline_core::Error;

use super::asynchronous::{AsyncAccess, Inner};
use super::handle::sealed;
use crate::engine::pool::Lease;
use crate::exec::levels::Owner;
use crate::exec::transaction::{Root, Work};

/// A transaction that is under way: what [`Database::transaction`](crate::Database::transaction)
/// gives its closure. The verbs are those of [`Handle`](crate::Handle).
///
/// Its statements run one after another. While a stream of it is read, or a transaction inside of it is open, it refuses
/// statements with [`TransactionBusy`](crate::ErrorKind::TransactionBusy). A statement that the database refuses, that
/// runs into a limit or that is dropped before its answer has come undoes the transaction: every further statement is an
/// error of kind [`TransactionOver`](crate::ErrorKind::TransactionOver), which says which statement it was. What may
/// fail goes into a transaction inside of this one.
pub struct Transaction {
    work: Arc<Work<Lease>>,
    level: u32,
}

impl Transaction {
    pub(crate) fn outermost(work: Arc<Work<Lease>>) -> Transaction {
        Transaction { work, level: Root::LEVEL }
    }

    /// Runs `work` in a transaction inside of this one: what it did is kept if it returns `Ok`, as
    /// far as this one is committed, and undone if it returns `Err`, panics or is dropped. In SQL it is a savepoint.
    /// Until it has ended, this one takes no statements.
    ///
    /// # Errors
    ///
    /// What `work` returns, and what the database refuses at the beginning or the end.
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
            // The failure of the work is what its caller wants to know, so it stays.
            (outcome, _) => outcome,
        }
    }
    /// Runs `work` once the outermost transaction is committed, in the order of these calls. It is dropped if this
    /// transaction or one around it is undone, and if nobody knows whether it was committed.
    ///
    /// It runs before `transaction` returns, when the connection is free again. A panic of it propagates to the caller;
    /// what was committed stays.
    ///
    /// ```
    /// # use nepheline::prelude::*;
    /// # use nepheline::Database;
    /// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64, name: String }
    /// # async fn f(db: &Database, tell: std::sync::mpsc::Sender<i64>) -> Result<(), Error> {
    /// db.transaction(async |tx| {
    ///     tx.write(&Lab::insert(UnsavedLab { id: 7, name: "Ostra Assays".into() })).await?;
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

impl sealed::Handle for Transaction {
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
            .field("over", &self.work.doom(self.level))
            .finish()
    }
}
