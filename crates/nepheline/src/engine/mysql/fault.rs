//! The meaning of the driver's errors.

use nepheline_core::internal::Violation;
use nepheline_core::{Error, ErrorKind};

#[cold]
pub(super) fn failed(cause: mysql_async::Error) -> Error {
    let kind = match &cause {
        mysql_async::Error::Server(err) => match err.code {
            // A deadlock, and a row that changed since the transaction's snapshot.
            1213 | 1020 => ErrorKind::Conflict,
            1205 | 3572 => ErrorKind::Locked,
            1969 | 3024 | 1317 => ErrorKind::StatementTimeout,
            1062 | 1586 => ErrorKind::UniqueViolation,
            1451 => ErrorKind::StillReferenced,
            1452 => ErrorKind::ParentNotFound,
            4025 | 3819 => ErrorKind::CheckViolation,
            1048 | 1364 => ErrorKind::NotNullViolation,
            // The connection was killed, or the server is shutting down.
            1927 | 1053 => ErrorKind::ConnectionLost,
            _ => ErrorKind::Database,
        },
        mysql_async::Error::Io(_) => ErrorKind::ConnectionLost,
        mysql_async::Error::Driver(mysql_async::DriverError::ConnectionClosed) => {
            ErrorKind::ConnectionLost
        }
        _ => ErrorKind::Database,
    };
    let violation = violation_of(kind, &cause);
    let err = Error::of_driver(kind, cause);
    match violation {
        Some(violation) => err.violating(violation),
        None => err,
    }
}

/// Returns the violated constraint from the server's message, which has no fields for it.
fn violation_of(kind: ErrorKind, cause: &mysql_async::Error) -> Option<Violation> {
    let mysql_async::Error::Server(err) = cause else { return None };
    let message = err.message.as_str();
    let (mut constraint, mut table, mut column) = (None, None, None);
    match kind {
        // "Duplicate entry '..' for key 'name'", on MySQL with the table and a dot before the name.
        ErrorKind::UniqueViolation => {
            let key = message.strip_suffix('\'')?.rsplit('\'').next()?;
            constraint = key.rsplit('.').next();
        }
        // ".. fails (`database`.`table`, CONSTRAINT `name` FOREIGN KEY ..".
        ErrorKind::StillReferenced | ErrorKind::ParentNotFound => {
            let mut names = message.split('`').skip(1).step_by(2);
            (_, table, constraint) = (names.next(), names.next(), names.next());
        }
        // "CONSTRAINT `name` failed for `database`.`table`", or "Check constraint 'name' is violated.".
        ErrorKind::CheckViolation => {
            let mut names = message.split(['`', '\'']).skip(1).step_by(2);
            (constraint, _, table) = (names.next(), names.next(), names.next());
        }
        // "Column 'c' cannot be null", or "Field 'c' doesn't have a default value".
        ErrorKind::NotNullViolation => column = message.split('\'').nth(1),
        _ => return None,
    }
    let [constraint, table, column] =
        [constraint, table, column].map(|name| name.map(str::to_owned));
    Some(Violation { constraint, table, column })
}

#[cfg(test)]
mod tests {
    use mysql_async::ServerError;
    use nepheline_core::ErrorKind;

    use super::violation_of;

    /// The messages are those of MariaDB 10.11 and MySQL 8.
    #[test]
    fn names_are_found_in_what_the_server_says() {
        let (unique, foreign) = (ErrorKind::UniqueViolation, ErrorKind::ParentNotFound);
        let (check, not_null) = (ErrorKind::CheckViolation, ErrorKind::NotNullViolation);
        let some = |name: &'static str| Some(name);
        for (kind, message, constraint, table, column) in [
            (unique, "Duplicate entry 'KP-001' for key 'label'", some("label"), None, None),
            (unique, "Duplicate entry 'it''s' for key 'specimen.label'", some("label"), None, None),
            (
                foreign,
                "Cannot add or update a child row: a foreign key constraint fails (`core`.`specimen`, \
                 CONSTRAINT `of_borehole` FOREIGN KEY (`borehole_id`) REFERENCES `borehole` (`id`))",
                some("of_borehole"),
                some("specimen"),
                None,
            ),
            (check, "CONSTRAINT `depths` failed for `core`.`specimen`", some("depths"), some("specimen"), None),
            (check, "Check constraint 'depths' is violated.", some("depths"), None, None),
            (not_null, "Column 'label' cannot be null", None, None, some("label")),
            (not_null, "Field 'rock' doesn't have a default value", None, None, some("rock")),
        ] {
            let (code, state) = (1, "HY000".to_owned());
            let server = ServerError { code, message: message.to_owned(), state };
            let found = violation_of(kind, &mysql_async::Error::Server(server));
            let Some(found) = found else { panic!("nothing found in {message}") };
            let names = (found.constraint.as_deref(), found.table.as_deref(), found.column.as_deref());
            assert_eq!(names, (constraint, table, column), "{message}");
        }
    }
}
