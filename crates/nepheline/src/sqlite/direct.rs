//! A connection that is called on the caller's own thread. Its futures are always ready.

use std::fmt;
use std::future::Future;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use nepheline_core::internal::Statement;
use nepheline_core::{Dialect, Error, RowShape};
use rusqlite::config::DbConfig;
use rusqlite::{Connection, ErrorCode, OpenFlags};

use super::cells::{Bind, RowCells};
use crate::driver::Driver;

/// How long a lock that somebody else holds is waited for.
const LOCK_WAIT: Duration = Duration::from_secs(5);

/// How many compiled statements a connection keeps.
const STATEMENTS_KEPT: usize = 128;

/// The oldest SQLite whose SQL has all that we write, as its version number.
const OLDEST: i32 = 3_040_000;

pub(crate) struct Direct {
    connection: Mutex<Connection>,
}

impl Direct {
    pub(crate) fn open(url: &str) -> Result<Direct, Error> {
        let Some(rest) = url.strip_prefix("sqlite:") else {
            return Err(Error::unfit_session(format!(
                "`{url}` is not the URL of a SQLite database, such as `sqlite:core.db` or `sqlite::memory:`"
            )));
        };
        let (path, mode) = rest.split_once('?').unwrap_or((rest, "mode=rw"));
        let access = match mode {
            "mode=rw" => OpenFlags::SQLITE_OPEN_READ_WRITE,
            "mode=rwc" => OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE,
            "mode=ro" => OpenFlags::SQLITE_OPEN_READ_ONLY,
            other => {
                return Err(Error::unfit_session(format!(
                    "`{other}` is not an option of a SQLite URL; there are `mode=ro`, `mode=rw` and `mode=rwc`"
                )));
            }
        };
        // Without a mutex of its own, because ours lets one thread in at a time.
        let flags = access | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let connection = Connection::open_with_flags(path, flags)
            .map_err(|err| Error::cannot_open(&format!("`{path}`"), err))?;
        Direct::over(connection)
    }

    pub(crate) fn over(connection: Connection) -> Result<Direct, Error> {
        if rusqlite::version_number() < OLDEST {
            let version = rusqlite::version();
            return Err(Error::unfit_session(format!(
                "it is SQLite {version}, and 3.40 is needed"
            )));
        }
        set_up(&connection).map_err(refused)?;
        let encoding: String =
            connection.pragma_query_value(None, "encoding", |row| row.get(0)).map_err(refused)?;
        match encoding.as_str() {
            "UTF-8" => Ok(Direct { connection: Mutex::new(connection) }),
            other => Err(Error::unfit_session(format!("its text is {other}, and UTF-8 is needed"))),
        }
    }

    fn lock(&self) -> MutexGuard<'_, Connection> {
        // A panic elsewhere cannot leave a connection half changed: SQLite keeps its own state.
        self.connection.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn fetch_now<R: RowShape>(
        &self,
        statement: &Statement<'_>,
        mut keep: impl FnMut(R),
    ) -> Result<(), Error> {
        let connection = self.lock();
        let refused = |err| refused(err).in_sql(statement.text()).asked_at(statement.origin());
        let mut prepared = connection.prepare_cached(statement.text()).map_err(refused)?;
        for (i, bind) in statement.binds().enumerate() {
            prepared.raw_bind_parameter(i + 1, Bind(bind)).map_err(refused)?;
        }
        let mut cursor = prepared.raw_query();
        let mut read = 0;
        while read < statement.most_rows() {
            let Some(row) = cursor.next().map_err(refused)? else { break };
            read += 1;
            match R::read(&mut RowCells::new(row)) {
                Ok(row) => keep(row),
                Err(err) => return Err(err.at_row(read as u64).asked_at(statement.origin())),
            }
        }
        Ok(())
    }
}

fn set_up(connection: &Connection) -> rusqlite::Result<()> {
    connection.pragma_update(None, "foreign_keys", true)?;
    connection.busy_timeout(LOCK_WAIT)?;
    // Otherwise a misspelt column in double quotes is read as text, and rows come back.
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_DQS_DML, false)?;
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_DQS_DDL, false)?;
    connection.set_prepared_statement_cache_capacity(STATEMENTS_KEPT);
    Ok(())
}

#[cold]
fn refused(cause: rusqlite::Error) -> Error {
    match cause.sqlite_error_code() {
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => Error::locked(cause),
        _ => Error::database(cause),
    }
}

impl Driver for Direct {
    fn dialect(&self) -> Dialect {
        Dialect::Sqlite
    }

    fn fetch<R: RowShape + Send>(
        &self,
        statement: &Statement<'_>,
        keep: impl FnMut(R) + Send,
    ) -> impl Future<Output = Result<(), Error>> + Send {
        std::future::ready(self.fetch_now(statement, keep))
    }
}

impl fmt::Debug for Direct {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Direct(SQLite)")
    }
}
