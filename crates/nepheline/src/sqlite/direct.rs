//! A connection to SQLite, called on the thread that it is called from.

use std::ops::ControlFlow;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use nepheline_core::internal::{Kept, Statement, Violation, Written};
use nepheline_core::{Dialect, Error, ErrorKind, RowShape};
use rusqlite::config::DbConfig;
use rusqlite::{Connection, ErrorCode, OpenFlags};

use super::cells::{RowCells, bind};
use super::functions;
use crate::options::{Options, SqliteMode};
use crate::setting::Setting;
use crate::verbs::{Gather, Verb};

/// The oldest SQLite whose SQL has all that we write, as its version number.
const OLDEST: i32 = 3_040_000;

/// How many steps of its machine SQLite takes between two looks at the clock.
const STEPS_BETWEEN_LOOKS: i32 = 10_000;

/// A connection of our own.
pub(crate) struct Opened {
    pub(crate) connection: Connection,
    pub(crate) timeout: Option<StatementTimeout>,
}

/// Opens a file, or a database in memory, and sets the connection up.
pub(crate) fn open(path: &str, mode: SqliteMode, options: &Options) -> Result<Opened, Error> {
    let access = match mode {
        SqliteMode::ReadOnly => OpenFlags::SQLITE_OPEN_READ_ONLY,
        SqliteMode::Existing => OpenFlags::SQLITE_OPEN_READ_WRITE,
        SqliteMode::Create => OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE,
    };
    // Without a mutex of its own, because ours lets one thread in at a time.
    let flags = access | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let mut connection = Connection::open_with_flags(path, flags)
        .map_err(|err| Error::cannot_open(&format!("`{path}`"), err))?;
    set_up(&connection, options.lock_timeout)?;
    connection.set_prepared_statement_cache_capacity(options.statements_kept);
    let longest = options.statement_timeout;
    let timeout = longest.map(|longest| StatementTimeout::install(&mut connection, longest));
    Ok(Opened { connection, timeout: timeout.transpose()? })
}

/// Makes a connection mean what every other handle means, and refuses one that cannot.
pub(crate) fn set_up(connection: &Connection, lock_timeout: Duration) -> Result<(), Error> {
    if rusqlite::version_number() < OLDEST {
        let version = rusqlite::version();
        return Err(Error::unfit_session(format!("it is SQLite {version}, and 3.40 is needed")));
    }
    let settings = || -> rusqlite::Result<String> {
        connection.pragma_update(None, "foreign_keys", true)?;
        connection.busy_timeout(lock_timeout)?;
        // Otherwise a misspelt column in double quotes is read as text, and rows come back.
        connection.set_db_config(DbConfig::SQLITE_DBCONFIG_DQS_DML, false)?;
        connection.set_db_config(DbConfig::SQLITE_DBCONFIG_DQS_DDL, false)?;
        functions::register(connection)?;
        connection.pragma_query_value(None, "encoding", |row| row.get(0))
    };
    match settings().map_err(failed)?.as_str() {
        "UTF-8" => Ok(()),
        other => Err(Error::unfit_session(format!("its text is {other}, and UTF-8 is needed"))),
    }
}

/// Runs a verb from its statement to its answer. What gates take is not of the statement's own time.
pub(crate) fn run<V: Verb>(
    connection: &Connection,
    timeout: Option<&StatementTimeout>,
    setting: &Setting,
    verb: V,
) -> Result<V::Output, Error> {
    let kept = Kept::default();
    let mut statement = verb.statement(setting.asking(Dialect::Sqlite).keeping(&kept))?;
    let mut running = setting.begin(&mut statement)?;
    let fetched = match running.answer() {
        None => within(timeout, || fetch(connection, &statement)),
        Some(answer) => answer
            .gather(statement.key_cells())
            .map_err(|err| statement.context(err)),
    };
    let gathered = running.end(fetched, V::Gathered::seen)?;
    drop(statement);
    verb.finish(gathered)
}

/// Runs a statement and gathers its rows.
pub(crate) fn fetch<R, G>(connection: &Connection, statement: &Statement<'_>) -> Result<G, Error>
where
    R: RowShape,
    G: Gather<R>,
{
    let mut gathered = G::default();
    each(connection, statement, |row| {
        gathered.take(row);
        ControlFlow::Continue(())
    })?;
    gathered.wrote(Written { rows: connection.changes(), inserted: 0 });
    Ok(gathered)
}

/// Runs a statement and gives each row to `take` as it is read, until that has enough.
pub(crate) fn each<R: RowShape>(
    connection: &Connection,
    statement: &Statement<'_>,
    mut take: impl FnMut(R) -> ControlFlow<()>,
) -> Result<(), Error> {
    let failed = |err| statement.context(failed(err));
    let mut prepared = connection
        .prepare_cached(statement.text())
        .map_err(failed)?;
    // A placeholder that nothing is bound to would be NULL in silence.
    if prepared.parameter_count() != statement.binds().len() {
        let (asked, given) = (prepared.parameter_count(), statement.binds().len());
        return Err(statement.context(Error::wrong_placeholders(asked, given)));
    }
    let (mut place, mut unbound) = (0, None);
    statement.each_bind(|value| {
        place += 1;
        if let Err(err) = bind(&mut prepared, place, &value) {
            unbound.get_or_insert(err);
        }
    });
    if let Some(err) = unbound {
        return Err(failed(err));
    }
    let mut cursor = prepared.raw_query();
    let mut read = 0;
    while read < statement.most_rows() {
        let Some(row) = cursor.next().map_err(failed)? else { break };
        read += 1;
        match R::read(&mut RowCells::new(row, statement.key_cells())) {
            Ok(row) => {
                if take(row).is_break() {
                    break;
                }
            }
            Err(err) => return Err(statement.context(err.at_row(read as u64))),
        }
    }
    Ok(())
}

/// Stops statements that run too long. SQLite asks it every so many steps whether to go on.
#[derive(Clone)]
pub(crate) struct StatementTimeout {
    longest: Duration,
    opened: Instant,
    /// When the running statement has to end, in nanoseconds after `opened`; 0 while none runs.
    end: Arc<AtomicU64>,
}

impl StatementTimeout {
    fn install(connection: &mut Connection, longest: Duration) -> Result<StatementTimeout, Error> {
        let (opened, end) = (Instant::now(), Arc::new(AtomicU64::new(0)));
        let seen = end.clone();
        let is_over = move || {
            let end = seen.load(Ordering::Relaxed);
            end != 0 && nanoseconds(opened.elapsed()) >= end
        };
        connection
            .progress_handler(STEPS_BETWEEN_LOOKS, Some(is_over))
            .map_err(failed)?;
        Ok(StatementTimeout { longest, opened, end })
    }
}

/// Runs `work`, and stops a statement of it that runs too long, if there is such a limit.
#[inline]
pub(crate) fn within<T>(timeout: Option<&StatementTimeout>, work: impl FnOnce() -> T) -> T {
    let Some(timeout) = timeout else { return work() };
    let end = nanoseconds(timeout.opened.elapsed() + timeout.longest);
    timeout.end.store(end, Ordering::Relaxed);
    let result = work();
    timeout.end.store(0, Ordering::Relaxed);
    result
}

fn nanoseconds(duration: Duration) -> u64 {
    u64::try_from(duration.as_nanos()).unwrap_or(u64::MAX)
}

#[cold]
pub(crate) fn failed(cause: rusqlite::Error) -> Error {
    let kind = match cause.sqlite_error() {
        // Somebody wrote since this transaction began to read: only a new one can write.
        Some(err) if err.extended_code == rusqlite::ffi::SQLITE_BUSY_SNAPSHOT => {
            ErrorKind::Conflict
        }
        Some(err) if err.code == ErrorCode::ConstraintViolation => match err.extended_code {
            rusqlite::ffi::SQLITE_CONSTRAINT_UNIQUE
            | rusqlite::ffi::SQLITE_CONSTRAINT_PRIMARYKEY
            | rusqlite::ffi::SQLITE_CONSTRAINT_ROWID => ErrorKind::UniqueViolation,
            rusqlite::ffi::SQLITE_CONSTRAINT_FOREIGNKEY => ErrorKind::ForeignKeyViolation,
            rusqlite::ffi::SQLITE_CONSTRAINT_CHECK => ErrorKind::CheckViolation,
            rusqlite::ffi::SQLITE_CONSTRAINT_NOTNULL => ErrorKind::NotNullViolation,
            _ => ErrorKind::Database,
        },
        Some(err) => match err.code {
            ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked => ErrorKind::Locked,
            ErrorCode::OperationInterrupted => ErrorKind::StatementTimeout,
            _ => ErrorKind::Database,
        },
        None => ErrorKind::Database,
    };
    let violation = violation_of(kind, &cause.to_string());
    let err = Error::of_driver(kind, cause);
    match violation {
        Some(violation) => err.violating(violation),
        None => err,
    }
}

/// What SQLite's message tells of a constraint: "UNIQUE constraint failed: t.a, t.b".
fn violation_of(kind: ErrorKind, message: &str) -> Option<Violation> {
    let what = message
        .split_once("constraint failed")
        .map(|(_, what)| what.trim_start_matches(": "));
    let mut violation = Violation::default();
    match (kind, what) {
        (ErrorKind::CheckViolation, Some(name)) => violation.constraint = Some(name.to_owned()),
        (ErrorKind::UniqueViolation | ErrorKind::NotNullViolation, Some(columns)) => {
            let names = columns
                .split(", ")
                .map(|name| name.split_once('.').unwrap_or(("", name)));
            let columns: Vec<&str> = names.clone().map(|(_, column)| column).collect();
            violation.table = names.map(|(table, _)| table.to_owned()).next();
            violation.column = Some(columns.join(", "));
        }
        (ErrorKind::ForeignKeyViolation, _) => {}
        _ => return None,
    }
    Some(violation)
}
