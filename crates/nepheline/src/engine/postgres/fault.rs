//! The meaning of the driver's errors.

use nepheline_core::internal::Violation;
use nepheline_core::{Error, ErrorKind};
use tokio_postgres::error::SqlState;

#[cold]
pub(super) fn failed(cause: tokio_postgres::Error) -> Error {
    let kind = match cause.code() {
        Some(code) if *code == SqlState::T_R_SERIALIZATION_FAILURE => ErrorKind::Conflict,
        Some(code) if *code == SqlState::T_R_DEADLOCK_DETECTED => ErrorKind::Conflict,
        Some(code) if *code == SqlState::LOCK_NOT_AVAILABLE => ErrorKind::Locked,
        Some(code) if *code == SqlState::UNIQUE_VIOLATION => ErrorKind::UniqueViolation,
        Some(code) if *code == SqlState::FOREIGN_KEY_VIOLATION => ErrorKind::ForeignKeyViolation,
        Some(code) if *code == SqlState::CHECK_VIOLATION => ErrorKind::CheckViolation,
        Some(code) if *code == SqlState::NOT_NULL_VIOLATION => ErrorKind::NotNullViolation,
        Some(code) if *code == SqlState::QUERY_CANCELED => ErrorKind::StatementTimeout,
        Some(code) if *code == SqlState::IN_FAILED_SQL_TRANSACTION => ErrorKind::TransactionEnded,
        // Class 57P: an administrator ended the session, or the server is shutting down.
        Some(code) if code.code().starts_with("57P") => ErrorKind::ConnectionLost,
        Some(_) => ErrorKind::Database,
        None if cause.is_closed() || is_io(&cause) => ErrorKind::ConnectionLost,
        None => ErrorKind::Database,
    };
    let violation = cause
        .as_db_error()
        .filter(|err| err.table().is_some())
        .map(|err| Violation {
            constraint: err.constraint().map(str::to_owned),
            table: err.table().map(str::to_owned),
            column: err.column().map(str::to_owned),
        });
    let err = Error::of_driver(kind, cause);
    match violation {
        Some(violation) => err.violating(violation),
        None => err,
    }
}

/// Returns whether the server only asks for the statement to be prepared again, because the columns of its
/// result have changed.
pub(super) fn wants_new_plan(err: &tokio_postgres::Error) -> bool {
    // The code is a general one, so the name of the server's function identifies the case.
    err.code() == Some(&SqlState::FEATURE_NOT_SUPPORTED)
        && err
            .as_db_error()
            .is_some_and(|err| err.routine() == Some("RevalidateCachedQuery"))
}

fn is_io(err: &tokio_postgres::Error) -> bool {
    std::error::Error::source(err).is_some_and(|cause| cause.is::<std::io::Error>())
}
