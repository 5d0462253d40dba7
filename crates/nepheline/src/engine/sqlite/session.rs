//! A session over a SQLite connection of the program.

use std::borrow::Cow;
use std::fmt;

use nepheline_core::Error;
use rusqlite::Connection;

use super::direct;
use crate::access::blocking::BlockingAccess;
use crate::access::direct::{DirectAccess, Held};
use crate::access::handle::sealed;
use crate::access::setting::{Setting, set_by};

/// Runs queries on a `rusqlite` connection or transaction of your own, so that one function of an existing
/// service can use Nepheline. The verbs are those of [`RunsQueries`](crate::blocking::RunsQueries).
///
/// ```
/// use nepheline::blocking::Session;
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64 }
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// # let mut connection = rusqlite::Connection::open_in_memory()?;
/// # connection.execute_batch("CREATE TABLE lab (id INTEGER PRIMARY KEY)")?;
/// let transaction = connection.transaction()?;
/// transaction.execute("INSERT INTO lab VALUES (1)", [])?;
/// assert_eq!(Session::over(&transaction)?.count(&Lab::rows())?, 1);
/// # Ok(())
/// # }
/// ```
pub struct Session<'c> {
    connection: &'c Connection,
    setting: Cow<'c, Setting>,
}

impl<'c> Session<'c> {
    /// Sets the connection up like those that the library opens: foreign keys are enforced, the lock timeout
    /// is five seconds, and a misspelt name in double quotes is an error instead of text. The settings stay
    /// afterwards. Inside a transaction SQLite does not change foreign key enforcement.
    ///
    /// # Errors
    ///
    /// [`Connection`](crate::ErrorKind::Connection) if the database's text is not UTF-8, or SQLite is older
    /// than 3.40.
    pub fn over(connection: &'c Connection) -> Result<Session<'c>, Error> {
        direct::set_up_lent(connection)?;
        Ok(Session { connection, setting: Cow::default() })
    }

    set_by!([self] self -> Self);

    /// Returns the same session with changed settings.
    fn set(mut self, change: impl FnOnce(&Setting) -> Setting) -> Self {
        self.setting = Cow::Owned(change(&self.setting));
        self
    }
}

impl sealed::BlockingRunsQueries for Session<'_> {
    #[expect(private_interfaces, reason = "only the verbs call it")]
    fn access(&self) -> BlockingAccess<'_> {
        let held = Held::Lent(self.connection);
        BlockingAccess::Direct(DirectAccess::Connection(held, &self.setting, None))
    }
}

impl fmt::Debug for Session<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("blocking::Session(sqlite)")
    }
}
