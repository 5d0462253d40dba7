//! What a statement does.

use std::fmt;

/// What a statement does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Operation {
    /// It reads, or asks for a plan.
    Read,
    /// It inserts rows.
    Insert,
    /// It updates rows, or marks them as withdrawn.
    Update,
    /// It deletes rows.
    Delete,
    /// It is text of the program's own.
    Text,
    /// It begins a transaction.
    Begin,
    /// It commits a transaction.
    Commit,
    /// It undoes a transaction.
    Rollback,
    /// It sets a savepoint, where a transaction begins inside another.
    Savepoint,
    /// It keeps what was done since a savepoint.
    ReleaseSavepoint,
    /// It undoes what was done since a savepoint.
    RollbackToSavepoint,
    /// It prepares the session for the statements that follow: settings, or the lock before a `COPY`.
    Prepare,
}

impl Operation {
    /// Returns whether it begins, ends or prepares a transaction, rather than being a statement that the program asked for.
    pub fn is_of_transaction(self) -> bool {
        matches!(
            self,
            Operation::Begin
                | Operation::Commit
                | Operation::Rollback
                | Operation::Savepoint
                | Operation::ReleaseSavepoint
                | Operation::RollbackToSavepoint
                | Operation::Prepare
        )
    }

    /// Returns whether its effect may be stored although its answer was lost.
    #[doc(hidden)]
    pub fn may_write(self) -> bool {
        matches!(
            self,
            Operation::Insert
                | Operation::Update
                | Operation::Delete
                | Operation::Text
                | Operation::Commit
        )
    }
}

impl fmt::Display for Operation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Operation::Read => "SELECT",
            Operation::Insert => "INSERT",
            Operation::Update => "UPDATE",
            Operation::Delete => "DELETE",
            Operation::Text => "TEXT",
            Operation::Begin => "BEGIN",
            Operation::Commit => "COMMIT",
            Operation::Rollback => "ROLLBACK",
            Operation::Savepoint => "SAVEPOINT",
            Operation::ReleaseSavepoint => "RELEASE SAVEPOINT",
            Operation::RollbackToSavepoint => "ROLLBACK TO SAVEPOINT",
            Operation::Prepare => "PREPARE",
        })
    }
}
