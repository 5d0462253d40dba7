//! A connection to SQLite that runs on the calling thread.

use std::borrow::Cow;
use std::future::{Ready, ready};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use nepheline_core::internal::{Statement, Violation, Written};
use nepheline_core::{Dialect, Error, ErrorKind, Operation};
use rusqlite::config::DbConfig;
use rusqlite::{CachedStatement, Connection, ErrorCode, OpenFlags, Rows};
use self_cell::MutBorrow;
use smallvec::smallvec;

use super::cells::{RowCells, bind};
use super::file::OpenFile;
use super::functions;
use crate::access::options::{Options, SqliteMode};
use crate::exec::access::Blocking;
use crate::exec::answer::Answer;
use crate::exec::describe::{DescribedPart, answer_of};
use crate::exec::line::Wire;
use crate::exec::sink::Sink;
use crate::exec::transaction::{BeginTexts, ROOT_SAVEPOINT, Root, TransactionOptions};

/// The oldest SQLite version that has all the SQL that the library writes, as its version number.
const OLDEST: i32 = 3_040_000;

/// The number of virtual machine steps between two looks at the clock.
const STEPS_BETWEEN_LOOKS: i32 = 10_000;

/// A connection that the library opened or took over.
pub(crate) struct Opened {
    pub(crate) connection: Connection,
    pub(crate) timeout: StatementTimeout,
    lock_timeout: Duration,
    file: Option<OpenFile>,
}

impl Opened {
    /// Returns the path of the opened file, if another file or none has that path now.
    pub(crate) fn replaced_file(&self) -> Option<&Path> {
        self.file.as_ref().and_then(OpenFile::replaced)
    }

    /// Restores the settings of a new connection.
    pub(crate) fn reset(&self) -> Result<(), Error> {
        let waits = self.connection.busy_timeout(self.lock_timeout);
        waits.and_then(|()| set_pragmas(&self.connection)).map_err(failed)
    }
}

/// Opens a file, or a database in memory, and sets up the connection.
pub(crate) fn open(
    path: &Path,
    mode: SqliteMode,
    options: &Options,
    given_up: Option<Arc<AtomicBool>>,
) -> Result<Opened, Error> {
    let cannot = |err| Error::cannot_open(&format!("`{}`", path.display()), err);
    let access = match mode {
        SqliteMode::ReadOnly => OpenFlags::SQLITE_OPEN_READ_ONLY,
        SqliteMode::Existing => OpenFlags::SQLITE_OPEN_READ_WRITE,
        SqliteMode::Create => OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE,
    };
    // SQLite's own mutex is not needed, because the handle's lock admits one thread at a time.
    let flags = access | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    // The engine may be built to read a name that begins with "file:" as a URI ("URI Filenames").
    let is_like_uri = path.as_os_str().as_encoded_bytes().starts_with(b"file:");
    let named = if is_like_uri { &Path::new(".").join(path) } else { path };
    let mut connection = Connection::open_with_flags(named, flags).map_err(cannot)?;
    set_up(&connection, options.lock_timeout).map_err(cannot)?.check()?;
    if let Some(setup) = &options.sqlite_setup {
        setup(&connection).map_err(cannot)?;
    }
    connection.set_prepared_statement_cache_capacity(options.statements_kept);
    let timeout = StatementTimeout::install(&mut connection, options.statement_timeout, given_up)?;
    let (lock_timeout, file) = (options.lock_timeout, OpenFile::at(path));
    Ok(Opened { connection, timeout, lock_timeout, file })
}

/// The lock timeout of a connection of the program.
const LOCK_WAIT: Duration = Duration::from_secs(5);

/// Takes over a connection of the program.
pub(crate) fn take_over(
    mut connection: Connection,
    given_up: Option<Arc<AtomicBool>>,
) -> Result<Opened, Error> {
    set_up_lent(&connection)?;
    let timeout = StatementTimeout::install(&mut connection, None, given_up)?;
    Ok(Opened { connection, timeout, lock_timeout: LOCK_WAIT, file: None })
}

/// Sets up a connection of the program.
pub(crate) fn set_up_lent(connection: &Connection) -> Result<(), Error> {
    set_up(connection, LOCK_WAIT).map_err(failed)?.check()
}

/// The text encoding of a database.
struct Encoding(String);

impl Encoding {
    /// Refuses an engine or a database that the library cannot use.
    fn check(&self) -> Result<(), Error> {
        if rusqlite::version_number() < OLDEST {
            let version = rusqlite::version();
            return Err(Error::unfit_session(format!("it is SQLite {version}, but 3.40 is required")));
        }
        match self.0.as_str() {
            "UTF-8" => Ok(()),
            other => Err(Error::unfit_session(format!("its encoding is {other}, but UTF-8 is required"))),
        }
    }
}

/// Sets up a connection so that statements mean the same as on every other handle.
fn set_up(connection: &Connection, lock_timeout: Duration) -> rusqlite::Result<Encoding> {
    // First, because another process may hold the lock that reading the file takes.
    connection.busy_timeout(lock_timeout)?;
    set_pragmas(connection)?;
    // Without this, a misspelt column in double quotes is read as text, and rows come back.
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_DQS_DML, false)?;
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_DQS_DDL, false)?;
    functions::register(connection)?;
    // Reads the file, so that a file which is no database is detected here.
    connection.pragma_query_value(None, "encoding", |row| row.get(0)).map(Encoding)
}

/// Sets the pragmas that hand-written text may change.
fn set_pragmas(connection: &Connection) -> rusqlite::Result<()> {
    connection.pragma_update(None, "foreign_keys", true)?;
    connection.pragma_update(None, "query_only", false)
}

/// A connection that runs on the calling thread.
pub(crate) struct DirectWire<'c> {
    pub(crate) connection: &'c Connection,
    opened: Option<&'c Opened>,
    limit: Option<Duration>,
}

impl<'c> DirectWire<'c> {
    pub(crate) fn new(
        connection: &'c Connection,
        opened: Option<&'c Opened>,
    ) -> DirectWire<'c> {
        DirectWire { connection, opened, limit: None }
    }
}

impl Wire for DirectWire<'_> {
    type Mode = Blocking;

    const STOPS_ITSELF: bool = true;

    fn dialect(&self) -> Dialect {
        super::DIALECT
    }

    #[inline]
    fn run<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        _alone: bool,
    ) -> Ready<Result<(), Error>> {
        ready(within(self.opened, self.limit, || run(self.connection, statement, sink)))
    }

    fn send_ahead<'f, 's: 'f>(
        &'f mut self,
        _statements: &'f [&'f Statement<'s>],
        _alone: bool,
    ) -> Ready<Result<(), Error>> {
        ready(Ok(()))
    }

    fn command<'f>(&'f mut self, text: &'f str) -> Ready<Result<(), Error>> {
        let run = || self.connection.execute_batch(text).map_err(failed);
        ready(within(self.opened, self.limit, run))
    }

    fn stop_after(&mut self, longest: Option<Duration>) {
        self.limit = longest;
    }

    fn limit(&mut self, longest: Option<Duration>) -> Ready<Result<(), Error>> {
        self.stop_after(longest);
        ready(Ok(()))
    }

    // Nothing is left in progress: a call ends before it returns.
    fn recover(&mut self) -> Ready<Result<(), Error>> {
        ready(Ok(()))
    }

    fn finish_stream(&mut self) -> Ready<Result<(), Error>> {
        ready(Ok(()))
    }

    fn has_ended_transaction(&self) -> bool {
        self.connection.is_autocommit()
    }

    fn begin_texts(&self, options: TransactionOptions) -> BeginTexts {
        begin_texts(options)
    }

    fn end_texts(&self, options: TransactionOptions) -> &'static [&'static str] {
        end_texts(options)
    }
}

/// Returns the texts that begin a transaction. A lock taken at the begin waits for its turn; one taken by a
/// write after a read would fail at once.
pub(super) fn begin_texts(options: TransactionOptions) -> BeginTexts {
    match options.read_only {
        false => smallvec![Cow::Borrowed("BEGIN IMMEDIATE")],
        true => smallvec![Cow::Borrowed("BEGIN"), Cow::Borrowed("PRAGMA query_only = ON")],
    }
}

pub(super) fn end_texts(options: TransactionOptions) -> &'static [&'static str] {
    if options.read_only { &["PRAGMA query_only = OFF"] } else { &[] }
}

/// Returns the texts that roll back a transaction whose owner was dropped.
pub(crate) fn undo_texts(root: Root) -> String {
    match root {
        Root::Transaction(_) => "ROLLBACK; PRAGMA query_only = OFF".to_owned(),
        Root::Savepoint => {
            format!("ROLLBACK TO SAVEPOINT {ROOT_SAVEPOINT}; RELEASE SAVEPOINT {ROOT_SAVEPOINT}")
        }
    }
}

/// Runs a statement, and passes its rows to a sink.
pub(super) fn run(
    connection: &Connection,
    statement: &Statement<'_>,
    sink: &mut dyn Sink,
) -> Result<(), Error> {
    if statement.operation() == Operation::Describe {
        // A statement of the cache would tell of the schema as it was.
        let prepared = connection.prepare(statement.text()).map_err(failed)?;
        check_placeholders(&prepared, statement)?;
        described(statement, &prepared)?.give(sink, &[]);
        return Ok(());
    }
    let mut prepared = prepare(connection, statement)?;
    let places = statement.cell_places(0, || names_of(&prepared))?;
    let mut cursor = prepared.raw_query();
    let mut left = statement.most_rows();
    while left > 0 {
        let Some(row) = cursor.next().map_err(failed)? else { break };
        left -= 1;
        if !sink.sqlite_row(&mut RowCells::new(row, &places)) {
            break;
        }
    }
    drop(cursor);
    sink.wrote(Written { rows: connection.changes(), inserted: 0 });
    Ok(())
}

/// Returns what SQLite tells of a statement: the declared types of columns that are selected as they are.
fn described(
    statement: &Statement<'_>,
    prepared: &rusqlite::Statement<'_>,
) -> Result<Answer, Error> {
    let columns = prepared.columns().map(|column| {
        DescribedPart::column(column.name(), column.decl_type().unwrap_or_default(), None)
    });
    let parameters = (1..=prepared.parameter_count())
        .map(|number| DescribedPart::parameter(format!("?{number}"), ""));
    answer_of(statement, Some(columns.collect()), parameters)
}

/// Returns the names of the columns of a result.
fn names_of(prepared: &rusqlite::Statement<'_>) -> Vec<String> {
    prepared.column_names().map(str::to_owned).collect()
}

/// Prepares a statement, or finds it in the cache, and binds its values.
pub(super) fn prepare<'c>(
    connection: &'c Connection,
    statement: &Statement<'_>,
) -> Result<CachedStatement<'c>, Error> {
    let mut prepared = connection
        .prepare_cached(statement.text())
        .map_err(failed)?;
    check_placeholders(&prepared, statement)?;
    let (mut place, mut unbound) = (0, None);
    statement.each_bind(|value| {
        place += 1;
        if let Err(err) = bind(&mut prepared, place, &value) {
            unbound.get_or_insert(err);
        }
    });
    match unbound {
        Some(err) => Err(failed(err)),
        None => Ok(prepared),
    }
}

/// Refuses another number of placeholders than of binds: SQLite would silently read a placeholder without a bind as NULL.
fn check_placeholders(
    prepared: &rusqlite::Statement<'_>,
    statement: &Statement<'_>,
) -> Result<(), Error> {
    match (prepared.parameter_count(), statement.binds().len()) {
        (asked, given) if asked != given => Err(Error::wrong_placeholders(asked, given)),
        _ => Ok(()),
    }
}

self_cell::self_cell! {
    /// A statement with its open result, whose rows are read one after the other.
    pub(crate) struct OpenRows<'c> {
        owner: MutBorrow<CachedStatement<'c>>,
        #[not_covariant]
        dependent: Rows,
    }
}

impl<'c> OpenRows<'c> {
    pub(crate) fn open(
        connection: &'c Connection,
        statement: &Statement<'_>,
    ) -> Result<OpenRows<'c>, Error> {
        let prepared = MutBorrow::new(prepare(connection, statement)?);
        Ok(OpenRows::new(prepared, |prepared| prepared.borrow_mut().raw_query()))
    }

    /// Passes up to `most` rows to a sink; returns whether more may come.
    pub(crate) fn next(
        &mut self,
        statement: &Statement<'_>,
        sink: &mut dyn Sink,
        most: usize,
    ) -> Result<bool, Error> {
        self.with_dependent_mut(|_, rows| {
            let places = match rows.as_ref() {
                Some(prepared) => statement.cell_places(0, || names_of(prepared))?,
                None => return Ok(false),
            };
            for _ in 0..most {
                let Some(row) = rows.next().map_err(failed)? else { return Ok(false) };
                if !sink.sqlite_row(&mut RowCells::new(row, &places)) {
                    return Ok(false);
                }
            }
            Ok(true)
        })
    }
}

/// Stops statements that run too long, or that were given up. SQLite calls it after a number of steps.
#[derive(Clone)]
pub(crate) struct StatementTimeout {
    usual: Option<Duration>,
    opened: Instant,
    /// The deadline of the running statement, in nanoseconds after `opened`; 0 while none runs.
    end: Arc<AtomicU64>,
}

impl StatementTimeout {
    /// Installs it on a connection. `given_up` stops the statement too, if it is given.
    pub(super) fn install(
        connection: &mut Connection,
        usual: Option<Duration>,
        given_up: Option<Arc<AtomicBool>>,
    ) -> Result<StatementTimeout, Error> {
        let (opened, end) = (Instant::now(), Arc::new(AtomicU64::new(0)));
        let seen = end.clone();
        let is_over = move || {
            let end = seen.load(Ordering::Relaxed);
            let given_up = given_up.as_ref();
            end != 0 && nanoseconds(opened.elapsed()) >= end
                || given_up.is_some_and(|given_up| given_up.load(Ordering::Acquire))
        };
        connection
            .progress_handler(STEPS_BETWEEN_LOOKS, Some(is_over))
            .map_err(failed)?;
        Ok(StatementTimeout { usual, opened, end })
    }

    /// Returns the time limit of a statement whose call has none.
    pub(crate) fn usual(&self) -> Option<Duration> {
        self.usual
    }
}

/// Runs `work`, and stops a statement in it that runs longer than `limit`, if both are set.
#[inline]
pub(crate) fn within<T>(
    opened: Option<&Opened>,
    limit: Option<Duration>,
    work: impl FnOnce() -> T,
) -> T {
    let (Some(opened), Some(longest)) = (opened, limit) else { return work() };
    let timeout = &opened.timeout;
    // While SQLite waits for a lock it does not call the handler.
    let waits_less = longest < opened.lock_timeout;
    if waits_less {
        let _ = opened.connection.busy_timeout(longest);
    }
    let end = nanoseconds(timeout.opened.elapsed() + longest);
    timeout.end.store(end, Ordering::Relaxed);
    let result = work();
    timeout.end.store(0, Ordering::Relaxed);
    if waits_less {
        let _ = opened.connection.busy_timeout(opened.lock_timeout);
    }
    result
}

fn nanoseconds(duration: Duration) -> u64 {
    u64::try_from(duration.as_nanos()).unwrap_or(u64::MAX)
}

#[cold]
pub(crate) fn failed(cause: rusqlite::Error) -> Error {
    let kind = match cause.sqlite_error() {
        // Another connection wrote since this transaction began to read, so only a new transaction can write.
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

/// Returns the constraint that SQLite's message names: "UNIQUE constraint failed: t.a, t.b".
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
