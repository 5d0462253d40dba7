//! The operation of a statement.

use std::fmt;

/// The operation of a statement.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Operation {
    /// A read, or an EXPLAIN.
    Read,
    /// An INSERT.
    Insert,
    /// An UPDATE, also one that marks rows as retired.
    Update,
    /// A DELETE.
    Delete,
    /// Hand-written SQL of the program.
    HandWritten,
    /// A call of a procedure, or of a function that returns a cursor.
    Call,
    /// The begin of a transaction.
    Begin,
    /// A COMMIT.
    Commit,
    /// A ROLLBACK.
    Rollback,
    /// A SAVEPOINT, where a transaction begins inside another.
    Savepoint,
    /// A RELEASE SAVEPOINT.
    ReleaseSavepoint,
    /// A ROLLBACK TO SAVEPOINT.
    RollbackToSavepoint,
    /// A question for the types of a statement, which is not run.
    Describe,
    /// A statement that prepares the session for the next ones: settings, or the lock before a `COPY`.
    Prepare,
}

impl Operation {
    /// Returns whether it begins, ends or prepares a transaction, instead of being a statement of the
    /// program.
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
                | Operation::HandWritten
                | Operation::Call
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
            Operation::HandWritten => "TEXT",
            Operation::Call => "CALL",
            Operation::Begin => "BEGIN",
            Operation::Commit => "COMMIT",
            Operation::Rollback => "ROLLBACK",
            Operation::Savepoint => "SAVEPOINT",
            Operation::ReleaseSavepoint => "RELEASE SAVEPOINT",
            Operation::RollbackToSavepoint => "ROLLBACK TO SAVEPOINT",
            Operation::Describe => "DESCRIBE",
            Operation::Prepare => "PREPARE",
        })
    }
}
