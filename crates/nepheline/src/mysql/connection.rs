//! A connection to a MariaDB or MySQL server: how it is set up, and how a statement runs on it.

use std::time::Duration;

use async_stream::try_stream;
use deadpool::managed::{self, Metrics, RecycleError, RecycleResult};
use futures_util::TryStreamExt;
use futures_util::stream::BoxStream;
use mysql_async::prelude::Queryable;
use mysql_async::{BinaryProtocol, Conn, Opts, OptsBuilder, Params, QueryResult};
use nepheline_core::internal::{Statement, Violation, Written};
use nepheline_core::{Dialect, Error, ErrorKind, Operation, RowShape};
use tokio::sync::Mutex;
use url::Url;

use super::cells::{RowCells, bind};
use crate::in_flight::InFlight;
use crate::options::{Options, Tls};
use crate::verbs::{Arriving, Gather};

/// A connection that rested for longer is asked whether it is still there before it is used: unlike
/// PostgreSQL's driver, this one learns of a lost server only from the next statement.
const RESTED: Duration = Duration::from_secs(1);

/// Warnings that mean a wrong answer: joined text was cut (1260), a value was converted badly
/// (1292), a result was over the packet limit (1301), a recursion was stopped early (1931).
const WRONG_ANSWERS: [u16; 4] = [1260, 1292, 1301, 1931];

/// Opens connections for the pool.
pub(crate) struct Manager {
    pub(crate) settings: Opts,
    pub(crate) options: Options,
}

/// A connection of the pool.
pub(crate) struct Connection {
    conn: Mutex<Conn>,
    server: Server,
    in_flight: InFlight,
}

/// What a server said of itself when the session was set up.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Server {
    pub(super) dialect: Dialect,
    pub(super) max_allowed_packet: usize,
}

impl Manager {
    pub(crate) fn new(options: &Options, url: &Url) -> Result<Manager, Error> {
        let shown = options.shown();
        let decoded = |text: &str| -> Result<String, Error> {
            let text = percent_encoding::percent_decode_str(text).decode_utf8();
            Ok(text
                .map_err(|err| Error::unfit_url(&shown, "is not UTF-8").caused_by(err))?
                .into())
        };
        let mut builder = OptsBuilder::default()
            .ip_or_hostname(url.host_str().unwrap_or("localhost"))
            .tcp_port(url.port().unwrap_or(3306))
            .stmt_cache_size(options.statements_kept)
            // A socket is used where the URL names one, and only there.
            .prefer_socket(false);
        if !url.username().is_empty() {
            builder = builder.user(Some(decoded(url.username())?));
        }
        if let Some(password) = url.password() {
            builder = builder.pass(Some(decoded(password)?));
        }
        match decoded(url.path().trim_start_matches('/'))?.as_str() {
            "" => {}
            database => builder = builder.db_name(Some(database.to_owned())),
        }
        for (name, value) in url.query_pairs() {
            match &*name {
                "socket" => builder = builder.socket(Some(value.into_owned())),
                _ => {
                    let reason = format!("has an unknown parameter `{name}`");
                    return Err(Error::unfit_url(&shown, reason));
                }
            }
        }
        if options.tls == Some(Tls::Require) {
            #[cfg(feature = "tls")]
            {
                builder = builder.ssl_opts(crate::tls::for_mysql(options.tls_root.as_deref()));
            }
            #[cfg(not(feature = "tls"))]
            {
                let reason = "asks for encryption, which the feature `tls` adds";
                return Err(Error::unfit_url(&shown, reason));
            }
        }
        Ok(Manager { settings: builder.into(), options: options.clone() })
    }
}

impl Manager {
    async fn connect(&self) -> Result<Connection, Error> {
        let mut conn = Conn::new(self.settings.clone())
            .await
            .map_err(|err| Error::cannot_open(&format!("`{}`", self.options.shown()), err))?;
        let server = set_up(&mut conn).await?;
        set_timeouts(&mut conn, server, &self.options).await?;
        Ok(Connection { conn: Mutex::new(conn), server, in_flight: InFlight::default() })
    }
}

impl managed::Manager for Manager {
    type Type = Connection;
    type Error = Error;

    async fn create(&self) -> Result<Connection, Error> {
        // In a box of its own: connecting is rare, and its state would be moved with every query.
        Box::pin(self.connect()).await
    }

    async fn recycle(
        &self,
        connection: &mut Connection,
        metrics: &Metrics,
    ) -> RecycleResult<Error> {
        if connection.in_flight.is_set() {
            return Err(RecycleError::message("it was left busy"));
        }
        if metrics.last_used() < RESTED {
            return Ok(());
        }
        let ping = Box::pin(connection.conn.get_mut().ping());
        match tokio::time::timeout(self.options.connect_timeout, ping).await {
            Ok(answer) => answer.map_err(|err| RecycleError::Backend(failed(err))),
            Err(_) => Err(RecycleError::message("it does not answer")),
        }
    }
}

/// Makes a session mean what every other handle means, and refuses a server that cannot.
pub(super) async fn set_up(conn: &mut Conn) -> Result<Server, Error> {
    let facts: Option<(String, usize)> = conn
        .query_first("SELECT VERSION(), @@max_allowed_packet")
        .await
        .map_err(failed)?;
    let (version, max_allowed_packet) = facts.unwrap_or_default();
    let dialect = match version.contains("MariaDB") {
        true => Dialect::MariaDb,
        false => Dialect::MySql,
    };
    let oldest = match dialect {
        Dialect::MariaDb => (10, 6, 0),
        _ => (8, 0, 19),
    };
    if conn.server_version() < oldest {
        let (major, minor, patch) = oldest;
        return Err(Error::unfit_session(format!(
            "it is {dialect} {version}, and {major}.{minor}.{patch} is needed"
        )));
    }
    for settings in session_settings(dialect) {
        conn.query_drop(settings).await.map_err(failed)?;
    }
    Ok(Server { dialect, max_allowed_packet })
}

/// The whole `sql_mode` is set, never added to: modes such as ANSI_QUOTES, PIPES_AS_CONCAT and
/// PAD_CHAR_TO_FULL_LENGTH change what a statement means.
fn session_settings(dialect: Dialect) -> [&'static str; 2] {
    match dialect {
        Dialect::MariaDb => [
            "SET NAMES utf8mb4 COLLATE utf8mb4_nopad_bin",
            "SET SESSION sql_mode = 'STRICT_ALL_TABLES,ONLY_FULL_GROUP_BY,NO_ZERO_IN_DATE,\
             NO_ZERO_DATE,NO_ENGINE_SUBSTITUTION,NO_BACKSLASH_ESCAPES,SIMULTANEOUS_ASSIGNMENT', \
             time_zone = '+00:00', group_concat_max_len = 1073741824, \
             max_recursive_iterations = 4294967295, tmp_table_size = 268435456, \
             max_heap_table_size = 268435456, sql_select_limit = DEFAULT, sql_auto_is_null = 0, \
             optimizer_switch = 'exists_to_in=off'",
        ],
        _ => [
            "SET NAMES utf8mb4 COLLATE utf8mb4_0900_bin",
            "SET SESSION sql_mode = 'STRICT_ALL_TABLES,ONLY_FULL_GROUP_BY,NO_ZERO_IN_DATE,\
             NO_ZERO_DATE,NO_ENGINE_SUBSTITUTION,NO_BACKSLASH_ESCAPES', \
             time_zone = '+00:00', group_concat_max_len = 1073741824, \
             cte_max_recursion_depth = 4294967295, tmp_table_size = 268435456, \
             max_heap_table_size = 268435456, sql_select_limit = DEFAULT, sql_auto_is_null = 0",
        ],
    }
}

async fn set_timeouts(conn: &mut Conn, server: Server, options: &Options) -> Result<(), Error> {
    let lock = options.lock_timeout.as_secs().max(1);
    let mut settings = format!("SET SESSION innodb_lock_wait_timeout = {lock}");
    if let Some(longest) = options.statement_timeout {
        settings += &match server.dialect {
            Dialect::MariaDb => {
                format!(", max_statement_time = {:.6}", longest.as_secs_f64().max(1e-6))
            }
            _ => format!(", max_execution_time = {}", longest.as_millis().max(1)),
        };
    }
    conn.query_drop(settings).await.map_err(failed)
}

impl Connection {
    pub(crate) fn dialect(&self) -> Dialect {
        self.server.dialect
    }

    pub(crate) async fn fetch<R, G>(&self, statement: &Statement<'_>) -> Result<G, Error>
    where
        R: RowShape,
        G: Gather<R>,
    {
        let fetched = async { fetch(&mut *self.conn.lock().await, self.server, statement).await };
        self.in_flight.during(fetched).await
    }

    pub(crate) async fn command(&self, text: &str) -> Result<(), Error> {
        let done = async {
            self.conn
                .lock()
                .await
                .query_drop(text)
                .await
                .map_err(failed)
        };
        self.in_flight.during(done).await
    }

    pub(crate) fn stream<'a, R: RowShape + Send + 'static>(
        &'a self,
        statement: Statement<'a>,
    ) -> BoxStream<'a, Result<R, Error>> {
        Box::pin(try_stream! {
            self.in_flight.begin();
            let mut conn = self.conn.lock().await;
            let mut rows = each(&mut conn, self.server, &statement);
            while let Some(row) = rows.try_next().await? {
                yield row;
            }
            self.in_flight.end();
        })
    }
}

/// Runs a statement; the rows as they arrive.
pub(super) fn each<'a, 'q: 'a, R: RowShape + Send + 'static>(
    conn: &'a mut Conn,
    server: Server,
    statement: &'a Statement<'q>,
) -> BoxStream<'a, Result<R, Error>> {
    Box::pin(try_stream! {
        let prepared = prepare(conn, server, statement).await?;
        let mut rows = begin(conn, server, statement, &prepared).await?;
        let mut read = 0;
        while let Some(row) = rows.next().await.map_err(failed)? {
            read += 1;
            yield R::read(&mut RowCells::new(&row, statement.key_cells())).map_err(|err| err.at_row(read))?;
        }
        let warnings = rows.warnings();
        rows.drop_result().await.map_err(failed)?;
        check_warnings(conn, warnings).await?;
        forget(conn, statement, prepared).await;
    })
}

/// Runs a statement and gathers its rows.
pub(super) async fn fetch<R, G>(
    conn: &mut Conn,
    server: Server,
    statement: &Statement<'_>,
) -> Result<G, Error>
where
    R: RowShape,
    G: Gather<R>,
{
    let prepared = prepare(conn, server, statement).await?;
    let mut rows = begin(conn, server, statement, &prepared).await?;
    let mut arriving = Arriving::<G>::default();
    while let Some(row) = rows.next().await.map_err(failed)? {
        arriving.take(R::read(&mut RowCells::new(&row, statement.key_cells())));
    }
    let warnings = rows.warnings();
    arriving.wrote(written(statement.operation(), rows.affected_rows(), &rows.info()));
    rows.drop_result().await.map_err(failed)?;
    check_warnings(conn, warnings).await?;
    forget(conn, statement, prepared).await;
    arriving.finish()
}

/// How many rows a statement wrote, where the server counts in its own ways: of an update only the rows that it
/// changed, and of an upsert these twice. Of several rows it says more, as "Rows matched: 2  Changed: 1  Warnings: 0"
/// and "Records: 3  Duplicates: 1  Warnings: 0".
fn written(operation: Operation, affected: u64, info: &str) -> Written {
    let number_after = |name: &str| -> Option<u64> {
        let (_, rest) = info.split_once(name)?;
        rest.split_whitespace().next()?.parse().ok()
    };
    match operation {
        Operation::Update => {
            Written { rows: number_after("Rows matched: ").unwrap_or(affected), inserted: 0 }
        }
        Operation::Insert => {
            // Of a single row it says no more than 1 or, if that was there and has changed, 2.
            let changed = number_after("Duplicates: ").unwrap_or(affected / 2);
            let inserted = affected.saturating_sub(2 * changed);
            Written { rows: inserted + changed, inserted }
        }
        _ => Written { rows: affected, inserted: 0 },
    }
}

/// The statement as the server knows it; the driver keeps those that come again.
async fn prepare(
    conn: &mut Conn,
    server: Server,
    statement: &Statement<'_>,
) -> Result<mysql_async::Statement, Error> {
    let size = statement.text().len() + statement.binds().map(|bind| bind.size()).sum::<usize>();
    // The server would close the connection without a word.
    if size >= server.max_allowed_packet {
        return Err(Error::too_large(size, server.max_allowed_packet));
    }
    let prepared = conn.prep(statement.text()).await.map_err(failed)?;
    // The driver would leave the connection unusable.
    if usize::from(prepared.num_params()) != statement.binds().len() {
        let (asked, given) = (prepared.num_params(), statement.binds().len());
        return Err(Error::wrong_placeholders(asked.into(), given));
    }
    Ok(prepared)
}

async fn begin<'c>(
    conn: &'c mut Conn,
    server: Server,
    statement: &Statement<'_>,
    prepared: &mysql_async::Statement,
) -> Result<QueryResult<'c, 'static, BinaryProtocol>, Error> {
    let binds: Vec<_> = statement
        .binds()
        .map(|value| bind(&value, server.dialect))
        .collect();
    let binds = match binds.is_empty() {
        true => Params::Empty,
        false => Params::Positional(binds),
    };
    conn.exec_iter(prepared, binds).await.map_err(failed)
}

/// Lets go of a statement that does not come again, so that it takes no room from those that do.
async fn forget(conn: &mut Conn, statement: &Statement<'_>, prepared: mysql_async::Statement) {
    if statement.is_of_once() {
        // If that fails the connection is lost, as whoever takes it next will find.
        let _ = Box::pin(conn.close(prepared)).await;
    }
}

async fn check_warnings(conn: &mut Conn, count: u16) -> Result<(), Error> {
    if count == 0 {
        return Ok(());
    }
    let asked = Box::pin(conn.query("SHOW WARNINGS"));
    let warnings: Vec<(String, u16, String)> = asked.await.map_err(failed)?;
    match warnings
        .into_iter()
        .find(|(_, code, _)| WRONG_ANSWERS.contains(code))
    {
        Some((_, code, message)) => Err(Error::wrong_answer(format!("{message} ({code})"))),
        None => Ok(()),
    }
}

#[cold]
pub(super) fn failed(cause: mysql_async::Error) -> Error {
    let kind = match &cause {
        mysql_async::Error::Server(err) => match err.code {
            // A deadlock, and a row that changed since the transaction's snapshot.
            1213 | 1020 => ErrorKind::Conflict,
            1205 | 3572 => ErrorKind::Locked,
            1969 | 3024 | 1317 => ErrorKind::StatementTimeout,
            1062 | 1586 => ErrorKind::UniqueViolation,
            1451 | 1452 => ErrorKind::ForeignKeyViolation,
            4025 | 3819 => ErrorKind::CheckViolation,
            1048 | 1364 => ErrorKind::NotNullViolation,
            // Killed, or the server is going down.
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

/// What the server's message tells of a constraint: it has no fields of its own.
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
        ErrorKind::ForeignKeyViolation => {
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
