//! Runs and stops statements on a connection to MariaDB or MySQL.
//!
//! The protocol has one answer after the other, and the driver reads each only while it is polled. So an
//! exchange that has begun is never dropped: its future owns the connection and stays here if its caller goes
//! away. Nothing else is sent before that exchange has ended.

use std::borrow::Cow;
use std::iter;
use std::sync::Arc;
use std::task::Poll;
use std::time::Duration;

use futures_util::FutureExt;
use futures_util::future::BoxFuture;
use lru::LruCache;
use mysql_async::consts::ColumnFlags;
use mysql_async::prelude::Queryable;
use mysql_async::{BinaryProtocol, Conn, Params, QueryResult, Row};
use nepheline_core::internal::{Statement, Written};
use nepheline_core::{Dialect, Error, ErrorKind, Operation};
use smallvec::smallvec;

use super::cells::{RowCells, bind, type_name};
use super::connection::{self, Connector, IDENTITY, Server};
use super::fault::failed;
use crate::engine::{AsyncWire, STOPPING};
use crate::exec::answer::Answer;
use crate::exec::describe::{DescribedPart, answer_of};
use crate::exec::sink::Sink;
use crate::exec::transaction::{BeginTexts, Isolation, TransactionOptions};

/// Warnings that mean a wrong answer: GROUP_CONCAT was cut (1260), a value was converted badly (1292), a
/// result exceeded the packet limit (1301), a recursion was stopped early (1931).
const WRONG_ANSWERS: [u16; 4] = [1260, 1292, 1301, 1931];

/// The most values that one statement binds: the protocol counts them with 16 bits ("COM_STMT_PREPARE response").
const MOST_BINDS: usize = 65_535;

/// The savepoint around hand-written SQL.
const STATE_SAVEPOINT: &str = "nepheline_state";

/// An exchange with the server, from the request to the end of its answer or its first row.
type Exchange = BoxFuture<'static, (Conn, Result<Begun, Error>)>;

/// The state after an exchange.
#[derive(Default)]
struct Begun {
    /// True if rows follow.
    rows: bool,
    /// The prepared statement, unless the server is at its limit.
    prepared: Option<mysql_async::Statement>,
}

/// Prepared statements by their text.
type Cached = LruCache<Box<str>, mysql_async::Statement>;

/// The pause between two attempts to prepare a statement at a server that is at its limit, and the number of
/// attempts.
const BETWEEN_ATTEMPTS: Duration = Duration::from_millis(20);
const ATTEMPTS: u32 = 50;

pub(super) struct MySqlWire {
    /// `None` while an exchange owns it.
    conn: Option<Conn>,
    exchange: Option<Exchange>,
    /// True if rows are still to come.
    rows_follow: bool,
    /// The statement to close after the rows, if its text will not occur again.
    once: Option<mysql_async::Statement>,
    /// The cached prepared statements; on a lent connection the driver caches them.
    statements: Option<Cached>,
    id: u32,
    server: Server,
    connector: Arc<Connector>,
    /// The time limit that the server was last given.
    limit: Option<Duration>,
    /// True if hand-written SQL has ended the transaction.
    has_ended_transaction: bool,
}

impl MySqlWire {
    pub(super) fn new(
        conn: Conn,
        server: Server,
        connector: Arc<Connector>,
    ) -> MySqlWire {
        let id = conn.id();
        MySqlWire {
            conn: Some(conn),
            exchange: None,
            rows_follow: false,
            once: None,
            statements: connector.statements_kept().map(LruCache::new),
            id,
            server,
            limit: connector.usual_limit(),
            connector,
            has_ended_transaction: false,
        }
    }

    /// Returns the connection, if it is in step.
    pub(super) fn into_conn(mut self) -> Option<Conn> {
        match self.rows_follow || self.exchange.is_some() {
            true => None,
            false => self.conn.take(),
        }
    }

    /// Begins an exchange, and waits for its end.
    async fn exchange<F>(&mut self, begin: impl FnOnce(Conn) -> F) -> Result<Begun, Error>
    where
        F: Future<Output = (Conn, Result<Begun, Error>)> + Send + 'static,
    {
        let conn = self.conn.take().ok_or_else(lost)?;
        self.exchange = Some(begin(conn).boxed());
        self.end_exchange().await
    }

    async fn end_exchange(&mut self) -> Result<Begun, Error> {
        let Some(exchange) = &mut self.exchange else { return Ok(Begun::default()) };
        let (conn, begun) = exchange.await;
        self.exchange = None;
        self.conn = Some(conn);
        let begun = begun?;
        self.rows_follow = begun.rows;
        Ok(begun)
    }

    /// Runs an exchange without rows or other results.
    async fn short<F>(&mut self, exchange: impl FnOnce(Conn) -> F) -> Result<(), Error>
    where
        F: Future<Output = (Conn, mysql_async::Result<()>)> + Send + 'static,
    {
        let begun = self.exchange(|conn| {
            exchange(conn).map(|(conn, done)| (conn, done.map(|()| Begun::default()).map_err(failed)))
        });
        begun.await.map(drop)
    }

    /// Sends a statement, and waits until its rows follow.
    async fn begin(&mut self, statement: &Statement<'_>) -> Result<(), Error> {
        let sized = statement.binds().map(|bind| bind.size());
        let size = statement.text().len() + sized.sum::<usize>();
        // The server would close the connection without a message.
        if size >= self.server.max_allowed_packet {
            return Err(Error::too_large(size, self.server.max_allowed_packet));
        }
        let given = statement.binds().len();
        if given > MOST_BINDS {
            return Err(Error::too_many_binds(given, MOST_BINDS));
        }
        let cached = self.statements.as_mut().and_then(|cached| cached.get(statement.text()));
        let prepared = match cached.cloned() {
            Some(prepared) => prepared,
            // Boxed, because it is rare, and its state would be moved with every query.
            None => Box::pin(self.prepare(statement)).await?,
        };
        let asked = usize::from(prepared.num_params());
        let begun = match asked == given {
            true => self.execute(prepared, statement).await,
            // The driver would leave the connection unusable.
            false => Err(Error::wrong_placeholders(asked, given)),
        };
        if begun.is_err() {
            self.close_once().await;
        }
        begun
    }

    /// Executes a prepared statement. Its rows are then read from the connection.
    async fn execute(
        &mut self,
        prepared: mysql_async::Statement,
        statement: &Statement<'_>,
    ) -> Result<(), Error> {
        let flavour = self.server.flavour;
        let binds: Vec<_> = statement.binds().map(|value| bind(&value, flavour)).collect::<Result<_, Error>>()?;
        let binds = match binds.is_empty() {
            true => Params::Empty,
            false => Params::Positional(binds),
        };
        let executing = self.exchange(|mut conn| async move {
            let sent = conn.exec_iter(&prepared, binds).await.map(drop);
            let begun = sent.map(|()| Begun { rows: true, ..Begun::default() });
            (conn, begun.map_err(failed))
        });
        executing.await.map(drop)
    }

    /// Prepares a statement, and caches it if its text may occur again.
    async fn prepare(
        &mut self,
        statement: &Statement<'_>,
    ) -> Result<mysql_async::Statement, Error> {
        let is_full = |cached: &Cached| cached.len() >= cached.cap().get();
        if !statement.is_of_once() && self.statements.as_ref().is_some_and(is_full) {
            self.close_cached(1).await?;
        }
        let mut has_closed_idle = false;
        for _ in 0..ATTEMPTS {
            let text = statement.text().to_owned();
            let preparing = self.exchange(|mut conn| async move {
                let prepared = match conn.prep(text).await {
                    Ok(prepared) => Ok(Some(prepared)),
                    Err(err) if is_at_limit(&err) => Ok(None),
                    Err(err) => Err(failed(err)),
                };
                let begun = prepared.map(|prepared| Begun { rows: false, prepared });
                (conn, begun)
            });
            if let Some(prepared) = preparing.await?.prepared {
                match &mut self.statements {
                    Some(cached) if !statement.is_of_once() => {
                        cached.put(statement.text().into(), prepared.clone());
                    }
                    None if self.connector.is_cached_by_driver() && !statement.is_of_once() => {}
                    _ => self.once = Some(prepared.clone()),
                }
                return Ok(prepared);
            }
            self.make_room(&mut has_closed_idle).await?;
        }
        Err(Error::too_many_statements())
    }

    /// Closes a statement whose text will not occur again, so that it takes no room.
    async fn close_once(&mut self) {
        let Some(statement) = self.once.take() else { return };
        let closing = self.short(|mut conn| async move {
            let closed = conn.close(statement).await;
            (conn, closed)
        });
        // If closing fails the connection is lost, which its next user finds out.
        let _ = closing.await;
    }

    /// Closes cached statements, the least recently used first.
    async fn close_cached(&mut self, most: usize) -> Result<(), Error> {
        let Some(cached) = &mut self.statements else { return Ok(()) };
        let oldest = iter::from_fn(|| cached.pop_lru());
        let closing: Vec<_> = oldest.take(most).map(|(_, statement)| statement).collect();
        self.short(|mut conn| async move {
            for statement in closing {
                if let Err(err) = conn.close(statement).await {
                    return (conn, Err(err));
                }
            }
            (conn, Ok(()))
        })
        .await
    }

    /// Frees prepared statements at a server that is at its limit: first those of this connection, then those
    /// of idle connections. Otherwise it waits until others are closed.
    #[cold]
    async fn make_room(&mut self, has_closed_idle: &mut bool) -> Result<(), Error> {
        let cached = self.statements.as_ref().map_or(0, LruCache::len);
        if cached > 0 {
            return self.close_cached(cached.div_ceil(2)).await;
        }
        if !std::mem::replace(has_closed_idle, true) {
            self.connector.close_idle();
        }
        tokio::time::sleep(BETWEEN_ATTEMPTS).await;
        Ok(())
    }

    /// Reads a row, if there is one. If it is dropped, no row is lost: the driver keeps the partial packet.
    async fn row(&mut self) -> Result<Option<mysql_async::Row>, Error> {
        let conn = self.conn.as_mut().ok_or_else(lost)?;
        let mut result = QueryResult::<BinaryProtocol>::new(conn);
        let row = result.next().await;
        match row {
            Ok(Some(_)) => {}
            // A procedure may return several result sets.
            Ok(None) => self.rows_follow = !result.is_empty(),
            Err(_) => self.rows_follow = false,
        }
        row.map_err(failed)
    }

    /// Reads the end of the rows: the number of written rows, and whether the server warns of a wrong answer.
    async fn end(&mut self, operation: Operation, sink: &mut dyn Sink) -> Result<(), Error> {
        let conn = self.conn.as_mut().ok_or_else(lost)?;
        let (warnings, affected) = (conn.get_warnings(), conn.affected_rows());
        sink.wrote(written(operation, affected, &conn.info()));
        self.close_once().await;
        if warnings > 0 {
            let checking = self.exchange(|mut conn| async move {
                let checked = check_warnings(&mut conn).await;
                (conn, checked.map(|()| Begun::default()))
            });
            checking.await?;
        }
        Ok(())
    }

    async fn fetch(&mut self, statement: &Statement<'_>, sink: &mut dyn Sink) -> Result<(), Error> {
        if statement.operation() == Operation::Describe {
            let prepared = Box::pin(self.prepare(statement)).await?;
            let answer = described(statement, &prepared);
            self.close_once().await;
            answer?.give(sink, &[]);
            return Ok(());
        }
        self.begin(statement).await?;
        let (mut wants, mut left, mut set) = (true, statement.most_rows(), 0);
        let mut unfit = None;
        loop {
            let mut places = None;
            while let Some(mut row) = self.row().await? {
                // Rows that are not wanted are read too, so that the connection becomes free.
                if !wants {
                    continue;
                }
                let found = || statement.cell_places(set, || names_of(&row));
                left = left.saturating_sub(1);
                wants = match places.get_or_insert_with(found) {
                    Ok(places) => sink.mysql_row(&mut RowCells::new(&mut row, places)) && left > 0,
                    Err(_) => false,
                };
            }
            if let Some(Err(err)) = places {
                unfit.get_or_insert(err);
            }
            if !self.rows_follow {
                break;
            }
            set += 1;
            sink.next_set();
        }
        self.end(statement.operation(), sink).await?;
        unfit.map_or(Ok(()), Err)
    }

    /// Runs hand-written SQL in a transaction, and finds out whether it has ended the transaction: a procedure may
    /// commit, and so do many statements ("Statements That Cause an Implicit Commit"). A savepoint ends with its
    /// transaction, also where another transaction has begun since.
    async fn fetch_in_transaction(
        &mut self,
        statement: &Statement<'_>,
        sink: &mut dyn Sink,
    ) -> Result<(), Error> {
        self.command(&format!("SAVEPOINT {STATE_SAVEPOINT}")).await?;
        let ran = self.fetch(statement, sink).await;
        let is_lost = |err: &Error| err.kind() == ErrorKind::ConnectionLost;
        // The server has rolled back a transaction that it found in a deadlock.
        let is_conflict = |err: &Error| err.kind() == ErrorKind::Conflict;
        if ran.as_ref().is_err_and(|err| is_lost(err) || is_conflict(err)) {
            return ran;
        }
        let released = self.command(&format!("RELEASE SAVEPOINT {STATE_SAVEPOINT}")).await;
        let Err(err) = released else { return ran };
        self.has_ended_transaction = true;
        if is_lost(&err) {
            return ran.and(Err(err));
        }
        // It may have begun another one.
        self.command("ROLLBACK").await?;
        ran
    }

    async fn next_rows(
        &mut self,
        statement: &Statement<'_>,
        sink: &mut dyn Sink,
        most: usize,
    ) -> Result<bool, Error> {
        let mut places = None;
        for given in 0..most {
            let row = match given {
                0 => self.row().await,
                // Rows that have not arrived are not waited for.
                _ => match futures_util::poll!(std::pin::pin!(self.row())) {
                    Poll::Ready(row) => row,
                    Poll::Pending => return Ok(true),
                },
            };
            let Some(mut row) = row? else {
                self.end(statement.operation(), sink).await?;
                return Ok(false);
            };
            let known = match places.take() {
                Some(known) => known,
                None => match statement.cell_places(0, || names_of(&row)) {
                    Ok(found) => found,
                    Err(err) => {
                        self.drain().await?;
                        return Err(err);
                    }
                },
            };
            let places = places.insert(known);
            if !sink.mysql_row(&mut RowCells::new(&mut row, places)) {
                // A row that does not fit its type ends the stream with an error.
                return Ok(true);
            }
        }
        Ok(true)
    }

    /// Reads the remaining answers.
    async fn drain(&mut self) -> Result<(), Error> {
        // The dropped exchange may have failed; only the end of its answer matters.
        let ended = self.end_exchange().await.map(drop);
        if self.conn.is_none() {
            return ended;
        }
        while self.rows_follow {
            if let Err(err) = self.row().await
                && err.kind() == ErrorKind::ConnectionLost
            {
                return Err(err);
            }
        }
        match ended {
            Err(err) if err.kind() == ErrorKind::ConnectionLost => Err(err),
            _ => Ok(()),
        }
    }

    /// Stops the running statement, from a second connection.
    fn kill(&self, what: &'static str) -> impl Future<Output = ()> + Send + use<> {
        let (connector, id) = (self.connector.clone(), self.id);
        let identity = self.server.identity.clone();
        let killed = async move {
            let mut conn = connector.connect_bare().await?;
            let there: Option<String> =
                conn.query_first(format!("SELECT {IDENTITY}")).await.map_err(failed)?;
            // Several servers may share an address, each with a connection of that number.
            if there.as_deref() == Some(&*identity) {
                conn.query_drop(format!("{what} {id}")).await.map_err(failed)?;
            }
            conn.disconnect().await.map_err(failed)
        };
        // Without an answer the connection is closed anyway.
        tokio::time::timeout(STOPPING, killed).map(drop)
    }
}

impl Drop for MySqlWire {
    fn drop(&mut self) {
        let busy = self.rows_follow || self.exchange.is_some();
        if busy {
            // Inside a runtime, the driver's destructor would first read all remaining rows.
            let left = (self.conn.take(), self.exchange.take());
            let _ = std::thread::Builder::new().spawn(move || drop(left));
        }
    }
}

impl AsyncWire for MySqlWire {
    fn dialect(&self) -> Dialect {
        self.server.flavour.dialect()
    }

    fn run<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        alone: bool,
    ) -> BoxFuture<'f, Result<(), Error>> {
        self.has_ended_transaction = false;
        match statement.operation() {
            Operation::Call | Operation::HandWritten if !alone => {
                self.fetch_in_transaction(statement, sink).boxed()
            }
            _ => self.fetch(statement, sink).boxed(),
        }
    }

    fn command<'f>(&'f mut self, text: &'f str) -> BoxFuture<'f, Result<(), Error>> {
        let text = text.to_owned();
        self.short(|mut conn| async move {
            let done = conn.query_drop(text).await;
            (conn, done)
        })
        .boxed()
    }

    fn limit(&mut self, longest: Option<Duration>) -> BoxFuture<'_, Result<(), Error>> {
        self.limit = longest;
        let text = connection::statement_timeout(self.server.flavour, longest);
        self.short(|mut conn| async move {
            let done = conn.query_drop(format!("SET SESSION {text}")).await;
            (conn, done)
        })
        .boxed()
    }

    fn open<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        _alone: bool,
    ) -> BoxFuture<'f, Result<(), Error>> {
        self.begin(statement).boxed()
    }

    fn next<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        most: usize,
    ) -> BoxFuture<'f, Result<bool, Error>> {
        self.next_rows(statement, sink, most).boxed()
    }

    fn finish_stream(&mut self) -> BoxFuture<'_, Result<(), Error>> {
        self.drain().boxed()
    }

    fn recover(&mut self) -> BoxFuture<'_, Result<(), Error>> {
        Box::pin(async move {
            if self.rows_follow || self.exchange.is_some() {
                self.kill("KILL QUERY").await;
            }
            let drained = tokio::time::timeout(STOPPING, self.drain()).await;
            let drained =
                drained.map_err(|err| Error::of_driver(ErrorKind::ConnectionLost, err))?;
            drained?;
            // A late kill hits this statement, and nothing else.
            for _ in 0..2 {
                match self.command("DO 0").await {
                    Err(err) if err.kind() == ErrorKind::StatementTimeout => {}
                    fenced => return fenced,
                }
            }
            Ok(())
        })
    }

    fn has_ended_transaction(&self) -> bool {
        self.has_ended_transaction
    }

    /// Returns whether the connection can be lent again. The server rolls back what a closed connection left
    /// open.
    fn salvage(&mut self, interrupted: bool) -> BoxFuture<'_, bool> {
        Box::pin(async move {
            if interrupted {
                self.kill("KILL").await;
            }
            false
        })
    }

    fn check(&mut self) -> BoxFuture<'_, bool> {
        let ping = self.short(|mut conn| async move {
            let answer = conn.ping().await;
            (conn, answer)
        });
        ping.map(|answer| answer.is_ok()).boxed()
    }

    fn reset(&mut self) -> BoxFuture<'_, Result<(), Error>> {
        // The server drops them in a reset.
        if let Some(cached) = &mut self.statements {
            cached.clear();
        }
        let (connector, flavour, limit) = (self.connector.clone(), self.server.flavour, self.limit);
        self.exchange(move |mut conn| async move {
            let reset = connector.reset(&mut conn, flavour, limit).await;
            (conn, reset.map(|()| Begun::default()))
        })
        .map(|begun| begun.map(drop))
        .boxed()
    }

    fn begin_texts(&self, options: TransactionOptions) -> BeginTexts {
        let isolation = match options.isolation {
            Isolation::ReadCommitted => "SET TRANSACTION ISOLATION LEVEL READ COMMITTED",
            Isolation::Serializable => "SET TRANSACTION ISOLATION LEVEL SERIALIZABLE",
        };
        let start = match options.read_only {
            false => "START TRANSACTION",
            true => "START TRANSACTION READ ONLY",
        };
        smallvec![Cow::Borrowed(isolation), Cow::Borrowed(start)]
    }
}

fn lost() -> Error {
    Error::of_driver(ErrorKind::ConnectionLost, "an earlier exchange with the server was abandoned")
}

/// Returns whether the server has reached `max_prepared_stmt_count`.
fn is_at_limit(err: &mysql_async::Error) -> bool {
    matches!(err, mysql_async::Error::Server(err) if err.code == 1461)
}

/// Returns the number of rows that a statement wrote. The server counts in its own way: only changed rows for
/// an UPDATE, and updated rows twice for an upsert. For several rows its message has the details: "Rows
/// matched: 2  Changed: 1  Warnings: 0" and "Records: 3  Duplicates: 1  Warnings: 0".
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
            // For a single row it reports 1, or 2 if the row was stored before and has changed.
            let changed = number_after("Duplicates: ").unwrap_or(affected / 2);
            let inserted = affected.saturating_sub(2 * changed);
            Written { rows: inserted + changed, inserted }
        }
        _ => Written { rows: affected, inserted: 0 },
    }
}

async fn check_warnings(conn: &mut Conn) -> Result<(), Error> {
    let asked = conn.query("SHOW WARNINGS");
    let warnings: Vec<(String, u16, String)> = asked.await.map_err(failed)?;
    match warnings
        .into_iter()
        .find(|(_, code, _)| WRONG_ANSWERS.contains(code))
    {
        Some((_, code, message)) => Err(Error::wrong_answer(format!("{message} ({code})"))),
        None => Ok(()),
    }
}

/// Returns the names of the columns of a row.
fn names_of(row: &Row) -> Vec<String> {
    row.columns_ref().iter().map(|column| column.name_str().into_owned()).collect()
}

/// Returns what the server tells of a statement: the types of its columns, but not of its parameters. It tells that NULL is
/// possible only of columns that are selected as they are: of an expression, it says so whenever it cannot exclude it.
fn described(
    statement: &Statement<'_>,
    prepared: &mysql_async::Statement,
) -> Result<Answer, Error> {
    let columns = prepared.columns();
    let columns = columns.iter().map(|column| {
        let is_plain = !column.org_name_ref().is_empty();
        let nullable = is_plain.then_some(!column.flags().contains(ColumnFlags::NOT_NULL_FLAG));
        DescribedPart::column(&column.name_str(), &type_name(column), nullable)
    });
    let parameters =
        (1..=prepared.num_params()).map(|number| DescribedPart::parameter(format!("?{number}"), ""));
    // MariaDB tells none of a DELETE .. RETURNING, or of a CALL, before it runs.
    let columns = Some(columns.collect()).filter(|columns: &Vec<_>| !columns.is_empty());
    answer_of(statement, columns, parameters)
}
