//! The errors of hand-written SQL: statements, scripts, functions and procedures.

use std::fmt;

use super::{Error, ErrorKind};

impl Error {
    #[cold]
    pub(crate) fn unfit_columns(
        faults: &[String],
        wanted: &[Option<&str>],
        arrived: &[&str],
    ) -> Error {
        let list = |names: &mut dyn Iterator<Item = String>| names.collect::<Vec<_>>().join(", ");
        let wanted = wanted
            .iter()
            .map(|name| name.map_or("any".to_owned(), |name| format!("`{name}`")));
        let message = format!(
            "the columns of the statement do not fit the row: {}; wanted are {}, arrived are {}",
            faults.join(", "),
            list(&mut wanted.into_iter()),
            list(&mut arrived.iter().map(|name| format!("`{name}`"))),
        );
        Error::new(ErrorKind::Mismatch, message)
    }

    /// Adds the place of the statement in its script.
    #[doc(hidden)]
    #[must_use]
    pub fn in_script(mut self, number: usize, line: usize) -> Error {
        self.0.place = Some(format!("statement {number} of the script, line {line}").into());
        self
    }

    /// Returns the error for a script on a handle that requires policies.
    #[doc(hidden)]
    #[cold]
    pub fn script_outside_policies() -> Error {
        let message = "this handle requires policies, and a script may read and write any table; declare that with \
                       `outside_policies()`";
        Error::new(ErrorKind::PoliciesRequired, message)
    }

    /// Returns the error for a statement of a script that begins or ends a transaction.
    #[doc(hidden)]
    #[cold]
    pub fn script_of_transaction() -> Error {
        let message = "a script cannot begin or end a transaction; it runs in one where the engine's schema changes can \
                       be rolled back";
        Error::new(ErrorKind::InvalidQuery, message)
    }

    /// Returns the error for a statement before which the engine would commit the transaction.
    #[doc(hidden)]
    #[cold]
    pub fn commits_implicitly(dialect: impl fmt::Display) -> Error {
        let message = format!(
            "{dialect} would commit the transaction before this statement; run it outside a transaction"
        );
        Error::new(ErrorKind::Unsupported, message)
    }

    /// Returns the error for a procedure with another number of result sets than are asked for.
    #[doc(hidden)]
    #[cold]
    pub fn other_result_sets(returned: usize, asked: usize) -> Error {
        let message = format!(
            "the procedure returned {returned} result sets, and {asked} are asked for; name the type of each in \
             `result_sets`"
        );
        Error::new(ErrorKind::Mismatch, message)
    }

    /// Returns the error for a procedure that returned no OUT parameters.
    #[doc(hidden)]
    #[cold]
    pub fn no_out_parameters() -> Error {
        let message = "the procedure returned no OUT parameters; leave out `out`, or mark the parameters of the call by \
                       `_` and `inout`";
        Error::new(ErrorKind::Mismatch, message)
    }

    /// Returns the error for the name of a schema.
    #[doc(hidden)]
    #[cold]
    pub fn unfit_schema(schema: &str, fault: &str) -> Error {
        let message =
            format!("the name {schema:?} of a schema {fault}; pass another to `in_schema`");
        Error::new(ErrorKind::InvalidQuery, message)
    }

    /// Returns the error for hand-written text that does not say in which schema it finds names.
    #[doc(hidden)]
    #[cold]
    pub fn text_outside_schema() -> Error {
        let message = "this handle has a schema, and the search path of a connection of the program stays as it is; write \
                       `{schema}.` before the names of tables";
        Error::new(ErrorKind::InvalidQuery, message)
    }

    /// Returns the error for a script that does not say in which schema it finds names.
    #[doc(hidden)]
    #[cold]
    pub fn script_outside_schema() -> Error {
        let message = "this handle has a schema, and a script finds names in it only where the engine has a search path; \
                       write `{schema}.` before the names of tables";
        Error::new(ErrorKind::InvalidQuery, message)
    }

    /// Returns the error for listening where there are no notifications.
    #[doc(hidden)]
    #[cold]
    pub fn no_notifications(place: impl fmt::Display) -> Error {
        let message = format!(
            "listening to a channel is not supported by {place}; look for changes in a table"
        );
        Error::new(ErrorKind::Unsupported, message)
    }

    /// Returns the error for a payload of a notification that has another type.
    #[doc(hidden)]
    #[cold]
    pub fn unfit_payload(
        channel: &str,
        payload: &str,
        cause: impl std::error::Error + Send + Sync + 'static,
    ) -> Error {
        let shown: String = payload.chars().take(80).collect();
        let message =
            format!("the notification {shown:?} of channel `{channel}` does not fit its type");
        Error::new(ErrorKind::Mismatch, message).caused_by(cause)
    }

    /// Returns the error for rows that are fetched without a cursor.
    #[doc(hidden)]
    #[cold]
    pub fn no_cursor() -> Error {
        Error::new(ErrorKind::InvalidQuery, "the call has no cursor")
    }
}
