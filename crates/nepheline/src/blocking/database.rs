//! The blocking handle of a database.

use nepheline_core::Error;

use super::sealed;
use crate::driver::Driver;
use crate::sqlite::Direct;

/// A database that is asked from one thread at a time.
///
/// Threads may share it: they take turns. What can be done with it is in [`Handle`](super::Handle).
///
/// ```no_run
/// use nepheline::blocking::Database;
/// # fn main() -> Result<(), nepheline::Error> {
/// let db = Database::open("sqlite:core.db")?;
/// # Ok(())
/// # }
/// ```
#[derive(Debug)]
pub struct Database {
    driver: Direct,
}

impl Database {
    /// Opens the database that `url` names.
    ///
    /// `sqlite:path/to/file.db` is a file, which must exist unless `?mode=rwc` follows (with
    /// `?mode=ro` it is only read); `sqlite::memory:` is a new and empty database in memory. The
    /// modes are those of SQLite's own URI file names.
    ///
    /// # Errors
    ///
    /// Of kind [`Connection`](crate::ErrorKind::Connection) for a URL that is none of these, a file
    /// that cannot be opened, or a database whose text is not UTF-8.
    pub fn open(url: &str) -> Result<Database, Error> {
        Ok(Database { driver: Direct::open(url)? })
    }

    /// Takes over a connection that the program already has.
    ///
    /// It is set up as our own are: foreign keys are enforced, a lock is waited for up to five
    /// seconds, and a misspelt name in double quotes is an error instead of text.
    ///
    /// # Errors
    ///
    /// Of kind [`Connection`](crate::ErrorKind::Connection) if the database's text is not UTF-8, or
    /// SQLite is older than 3.40.
    pub fn over(connection: rusqlite::Connection) -> Result<Database, Error> {
        Ok(Database { driver: Direct::over(connection)? })
    }
}

impl sealed::Handle for Database {
    fn driver(&self) -> &impl Driver {
        &self.driver
    }
}
