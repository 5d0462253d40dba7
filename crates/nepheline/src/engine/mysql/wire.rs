//! Runs and stops statements on a connection to MariaDB or MySQL.
//!
//! The protocol has one answer after the other, and the driver reads each only while it is asked to. So an exchange that
//! has begun is never dropped: its future owns the connection and stays here if whoever waits for it goes away. Nothing
//! else is sent before that exchange has ended.

use std::task::Poll;
use std::time::Duration;

use futures_util::FutureExt;
use futures_util::future::BoxFuture;
use mysql_async::prelude::Queryable;
use mysql_async::{BinaryProtocol, Conn, Opts, Params, QueryResult};
use nepheline_core::internal::{Statement, Written};
use nepheline_core::{Dialect, Error, ErrorKind, Operation};

use super::cells::{RowCells, bind};
use super::connection::{IDENTITY, Server};
use super::fault::failed;
use crate::engine::{AsyncWire, STOPPING};
use crate::exec::sink::Sink;
use crate::exec::transaction::{Isolation, TransactionOptions};

/// A connection that rested for longer is asked whether it is still there before it is used: unlike PostgreSQL's driver,
/// this one learns of a lost server only from the next statement.
const RESTED: Duration = Duration::from_secs(1);

/// Warnings that mean a wrong answer: joined text was cut (1260), a value was converted badly (1292), a result was over
/// the packet limit (1301), a recursion was stopped early (1931).
const WRONG_ANSWERS: [u16; 4] = [1260, 1292, 1301, 1931];

/// The most values that one statement binds: the protocol counts them with 16 bits ("COM_STMT_PREPARE response").
const MOST_BINDS: usize = 65_535;

/// An exchange with the server, from what is sent to the end of its answer or the first of its rows.
type Exchange = BoxFuture<'static, (Conn, Result<Begun, Error>)>;

/// The state that an exchange leaves.
#[derive(Default)]
struct Begun {
    /// True if rows follow.
    rows: bool,
    /// The statement to close after them, where it does not come again.
    once: Option<mysql_async::Statement>,
}

pub(super) struct MySqlWire {
    /// Missing while an exchange has it.
    conn: Option<Conn>,
    exchange: Option<Exchange>,
    /// True if rows are still to come.
    rows_follow: bool,
    once: Option<mysql_async::Statement>,
    id: u32,
    server: Server,
    /// The settings of a second connection, which stops the statement on this one.
    settings: Opts,
    ping_timeout: Duration,
}

impl MySqlWire {
    pub(super) fn new(
        conn: Conn,
        server: Server,
        settings: Opts,
        ping_timeout: Duration,
    ) -> MySqlWire {
        let id = conn.id();
        MySqlWire {
            conn: Some(conn),
            exchange: None,
            rows_follow: false,
            once: None,
            id,
            server,
            settings,
            ping_timeout,
        }
    }

    /// Gives the connection back, if it is in step.
    pub(super) fn into_conn(mut self) -> Option<Conn> {
        match self.rows_follow || self.exchange.is_some() {
            true => None,
            false => self.conn.take(),
        }
    }

    /// Begins an exchange, and waits for its end.
    async fn exchange<F>(&mut self, begin: impl FnOnce(Conn) -> F) -> Result<(), Error>
    where
        F: Future<Output = (Conn, Result<Begun, Error>)> + Send + 'static,
    {
        let conn = self.conn.take().ok_or_else(lost)?;
        self.exchange = Some(begin(conn).boxed());
        self.end_exchange().await
    }

    async fn end_exchange(&mut self) -> Result<(), Error> {
        let Some(exchange) = &mut self.exchange else { return Ok(()) };
        let (conn, begun) = exchange.await;
        self.exchange = None;
        self.conn = Some(conn);
        let begun = begun?;
        (self.rows_follow, self.once) = (begun.rows, begun.once);
        Ok(())
    }

    /// Sends a statement, and waits until its rows follow.
    async fn begin(&mut self, statement: &Statement<'_>) -> Result<(), Error> {
        let sized = statement.binds().map(|bind| bind.size());
        let size = statement.text().len() + sized.sum::<usize>();
        // The server would close the connection without a word.
        if size >= self.server.max_allowed_packet {
            return Err(Error::too_large(size, self.server.max_allowed_packet));
        }
        let given = statement.binds().len();
        if given > MOST_BINDS {
            return Err(Error::too_many_binds(given, MOST_BINDS));
        }
        let binds: Vec<_> = statement
            .binds()
            .map(|value| bind(&value, self.server.dialect))
            .collect();
        let binds = match binds.is_empty() {
            true => Params::Empty,
            false => Params::Positional(binds),
        };
        let (text, once) = (statement.text().to_owned(), statement.is_of_once());
        self.exchange(move |mut conn| async move {
            let begun = begin(&mut conn, text, binds, given, once).await;
            (conn, begun)
        })
        .await
    }

    /// Takes a row, if there is one. Dropped, it has taken none: the driver keeps what it read of a packet.
    async fn row(&mut self) -> Result<Option<mysql_async::Row>, Error> {
        let conn = self.conn.as_mut().ok_or_else(lost)?;
        let row = QueryResult::<BinaryProtocol>::new(conn).next().await;
        if !matches!(row, Ok(Some(_))) {
            self.rows_follow = false;
        }
        row.map_err(failed)
    }

    /// After the last row: how many were written, and whether the server warns of a wrong answer.
    async fn end(&mut self, operation: Operation, sink: &mut dyn Sink) -> Result<(), Error> {
        let conn = self.conn.as_mut().ok_or_else(lost)?;
        let (warnings, affected) = (conn.get_warnings(), conn.affected_rows());
        sink.wrote(written(operation, affected, &conn.info()));
        if let Some(statement) = self.once.take() {
            // A statement that does not come again takes no room from those that do. If that fails the connection
            // is lost, as whoever takes it next will find.
            let _ = self
                .exchange(|mut conn| async move {
                    let closed = conn.close(statement).await;
                    (conn, closed.map(|()| Begun::default()).map_err(failed))
                })
                .await;
        }
        if warnings > 0 {
            self.exchange(|mut conn| async move {
                let checked = check_warnings(&mut conn).await;
                (conn, checked.map(|()| Begun::default()))
            })
            .await?;
        }
        Ok(())
    }

    async fn fetch(&mut self, statement: &Statement<'_>, sink: &mut dyn Sink) -> Result<(), Error> {
        self.begin(statement).await?;
        let mut wants = true;
        while let Some(row) = self.row().await? {
            // Those that nobody wants are read all the same, so that the connection is free.
            if wants {
                wants = sink.mysql_row(&mut RowCells::new(&row, statement.key_cells()));
            }
        }
        self.end(statement.operation(), sink).await
    }

    async fn next_rows(
        &mut self,
        statement: &Statement<'_>,
        sink: &mut dyn Sink,
        most: usize,
    ) -> Result<bool, Error> {
        for given in 0..most {
            let row = match given {
                0 => self.row().await,
                // Rows that have not arrived yet are not waited for.
                _ => match futures_util::poll!(std::pin::pin!(self.row())) {
                    Poll::Ready(row) => row,
                    Poll::Pending => return Ok(true),
                },
            };
            let Some(row) = row? else {
                self.end(statement.operation(), sink).await?;
                return Ok(false);
            };
            if !sink.mysql_row(&mut RowCells::new(&row, statement.key_cells())) {
                // A row does not fit its type, which ends the stream with an error.
                return Ok(true);
            }
        }
        Ok(true)
    }

    /// Reads the answers that are still to come.
    async fn drain(&mut self) -> Result<(), Error> {
        // The exchange that was given up may have failed; it matters only that its answer is over.
        let ended = self.end_exchange().await;
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

    /// Has the server stop what runs, from a second connection.
    fn kill(&self, what: &'static str) -> impl Future<Output = ()> + Send + use<> {
        let (settings, id) = (self.settings.clone(), self.id);
        let identity = self.server.identity.clone();
        let killed = async move {
            let mut conn = Conn::new(settings).await?;
            let there: Option<String> = conn.query_first(format!("SELECT {IDENTITY}")).await?;
            // Behind one address there may be several servers, each with connections of that number.
            if there.as_deref() == Some(&*identity) {
                conn.query_drop(format!("{what} {id}")).await?;
            }
            conn.disconnect().await
        };
        // Without an answer the connection is closed all the same.
        tokio::time::timeout(STOPPING, killed).map(drop)
    }
}

impl Drop for MySqlWire {
    fn drop(&mut self) {
        let busy = self.rows_follow || self.exchange.is_some();
        if busy {
            // Dropped within a runtime, the driver would first read all that is still to come.
            let left = (self.conn.take(), self.exchange.take());
            let _ = std::thread::Builder::new().spawn(move || drop(left));
        }
    }
}

impl AsyncWire for MySqlWire {
    fn dialect(&self) -> Dialect {
        self.server.dialect
    }

    fn run<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        _alone: bool,
    ) -> BoxFuture<'f, Result<(), Error>> {
        self.fetch(statement, sink).boxed()
    }

    fn command<'f>(&'f mut self, text: &'f str) -> BoxFuture<'f, Result<(), Error>> {
        let text = text.to_owned();
        self.exchange(|mut conn| async move {
            let done = conn.query_drop(text).await;
            (conn, done.map(|()| Begun::default()).map_err(failed))
        })
        .boxed()
    }

    fn open<'f>(&'f mut self, statement: &'f Statement<'_>) -> BoxFuture<'f, Result<(), Error>> {
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
            // A kill that came late hits this, and then nothing else.
            for _ in 0..2 {
                match self.command("DO 0").await {
                    Err(err) if err.kind() == ErrorKind::StatementTimeout => {}
                    fenced => return fenced,
                }
            }
            Ok(())
        })
    }

    /// The server undoes what a closed connection left open.
    fn salvage(&mut self, interrupted: bool) -> BoxFuture<'_, bool> {
        Box::pin(async move {
            if interrupted {
                self.kill("KILL").await;
            }
            false
        })
    }

    fn rested(&mut self, rested: Duration) -> BoxFuture<'_, bool> {
        if rested < RESTED {
            return std::future::ready(true).boxed();
        }
        Box::pin(async move {
            let timeout = self.ping_timeout;
            let ping = self.exchange(|mut conn| async move {
                let answer = conn.ping().await;
                (conn, answer.map(|()| Begun::default()).map_err(failed))
            });
            matches!(tokio::time::timeout(timeout, ping).await, Ok(Ok(())))
        })
    }

    fn begin_texts(&self, options: TransactionOptions) -> &'static [&'static str] {
        match (options.isolation, options.read_only) {
            (Isolation::ReadCommitted, false) => {
                &["SET TRANSACTION ISOLATION LEVEL READ COMMITTED", "START TRANSACTION"]
            }
            (Isolation::ReadCommitted, true) => {
                &["SET TRANSACTION ISOLATION LEVEL READ COMMITTED", "START TRANSACTION READ ONLY"]
            }
            (Isolation::Serializable, false) => {
                &["SET TRANSACTION ISOLATION LEVEL SERIALIZABLE", "START TRANSACTION"]
            }
            (Isolation::Serializable, true) => {
                &["SET TRANSACTION ISOLATION LEVEL SERIALIZABLE", "START TRANSACTION READ ONLY"]
            }
        }
    }
}

fn lost() -> Error {
    Error::of_driver(ErrorKind::ConnectionLost, "an earlier exchange with the server was given up")
}

/// Prepares and sends a statement; the driver keeps those that come again.
async fn begin(
    conn: &mut Conn,
    text: String,
    binds: Params,
    given: usize,
    once: bool,
) -> Result<Begun, Error> {
    let prepared = conn.prep(text).await.map_err(failed)?;
    // The driver would leave the connection unusable.
    if usize::from(prepared.num_params()) != given {
        return Err(Error::wrong_placeholders(prepared.num_params().into(), given));
    }
    // The rows are read from the connection afterwards.
    drop(conn.exec_iter(&prepared, binds).await.map_err(failed)?);
    Ok(Begun { rows: true, once: once.then_some(prepared) })
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
