//! Runs and stops statements on a PostgreSQL connection.
//!
//! The driver reads the answers of a statement that was dropped by itself, so that the wire is always in step. The
//! server goes on with the statement until it is cancelled.

use std::borrow::{Borrow, Cow};
use std::collections::hash_map::Entry;
use std::collections::{HashMap, VecDeque};
use std::pin::Pin;
use std::task::Poll;
use std::time::Duration;

use futures_util::future::{BoxFuture, join_all};
use futures_util::{FutureExt, Stream, TryStreamExt};
use nepheline_core::internal::{Statement, Written};
use nepheline_core::{Dialect, Error, ErrorKind, Operation};
use smallvec::smallvec;
use tokio_postgres::error::SqlState;
use tokio_postgres::types::Type;
use tokio_postgres::{CancelToken, Client, NoTls, Row, RowStream};

use super::binds::sql_type;
use super::cells::RowCells;
use super::connection::{Driving, Encryption};
use super::copy::copy;
use super::fault::{failed, wants_new_plan};
use super::settings::{self, Settings};
use super::statements::Statements;
use crate::engine::{AsyncWire, STOPPING};
use crate::exec::answer::Answer;
use crate::exec::describe::{DescribedPart, answer_of};
use crate::exec::sink::Sink;
use crate::exec::transaction::{BeginTexts, Isolation, TransactionOptions};

/// The most values that one statement binds: the protocol counts them with 16 bits ("Bind").
const MOST_BINDS: usize = 65_535;

/// A connection over a client of the library, or over one that the program lends.
pub(super) struct PostgresWire<C> {
    pub(super) client: C,
    pub(super) statements: Statements,
    /// The remaining rows of a stream.
    pub(super) rows: Option<Pin<Box<RowStream>>>,
    /// Cancels the running statement. A lent client has none: a cancel request that arrives late would stop a
    /// statement of the program.
    pub(super) canceller: Option<Canceller>,
    pub(super) settings: Settings,
    /// True if each transaction may run in another server session, and sets it up for itself.
    pub(super) per_transaction: bool,
    /// True while a stream is read in a transaction of its own.
    pub(super) streams_alone: bool,
    /// The answers of statements that were sent ahead.
    pub(super) ahead: VecDeque<Result<RowStream, Error>>,
    /// The task that drives a connection of the library.
    pub(super) _driving: Option<Driving>,
}

/// The pause after a cancel request, before it is repeated.
const BETWEEN_REQUESTS: Duration = Duration::from_millis(50);

/// The most requests for a connection that is given up: more than statements are sent together. A network that stalls answers none.
const MOST_REQUESTS: usize = 10;

/// Sends a cancel request for the statement that runs on a connection.
#[derive(Clone)]
pub(super) struct Canceller {
    pub(super) token: CancelToken,
    pub(super) tls: Encryption,
}

impl Canceller {
    async fn cancel(self) {
        let cancelled = async {
            match self.tls {
                Encryption::Off => self.token.cancel_query(NoTls).await,
                #[cfg(feature = "tls")]
                Encryption::On(tls) => self.token.cancel_query(tls).await,
            }
        };
        // If the server cannot be reached, the connection is closed anyway.
        let _ = tokio::time::timeout(STOPPING, cancelled).await;
    }
}

impl<C: Borrow<Client> + Send + Sync> PostgresWire<C> {
    /// Cancels what was sent, and waits for its end.
    ///
    /// A request stops one statement. It is repeated, because others may have been sent behind that one, and because it is lost
    /// if the server handles it before it begins a statement.
    async fn cancel(&self, canceller: Canceller, most_requests: usize) -> Result<(), Error> {
        let lost = |cause: &'static str| Error::of_driver(ErrorKind::ConnectionLost, cause);
        let cancelled = async {
            for _ in 0..most_requests {
                canceller.clone().cancel().await;
                // The answer comes after all that was sent. A late request may hit this fence, and nothing else.
                let fence = self.client.borrow().simple_query("");
                match tokio::time::timeout(BETWEEN_REQUESTS, fence).await {
                    Ok(Ok(_)) => return Ok(()),
                    Ok(Err(err)) if err.code() == Some(&SqlState::QUERY_CANCELED) => {}
                    Ok(Err(err)) => return Err(failed(err)),
                    Err(_elapsed) => {}
                }
            }
            Err(lost("what was dropped did not end"))
        };
        let ended = tokio::time::timeout(STOPPING, cancelled).await;
        ended.unwrap_or_else(|_| Err(lost("what was dropped did not end in time")))
    }

    async fn send(&self, statement: &Statement<'_>, alone: bool) -> Result<RowStream, Error> {
        if statement.binds().len() > MOST_BINDS {
            return Err(Error::too_many_binds(statement.binds().len(), MOST_BINDS));
        }
        let client = self.client.borrow();
        match self.statements.run(client, statement).await {
            // The table has changed since the statement was prepared. Inside a transaction the server accepts
            // nothing more.
            Err(err) if wants_new_plan(&err) => {
                self.statements.forget(statement.text());
                match alone {
                    true => self.statements.run(client, statement).await,
                    false => Err(err),
                }
            }
            sent => sent,
        }
        .map_err(failed)
    }

    async fn fetch(
        &mut self,
        statement: &Statement<'_>,
        sink: &mut dyn Sink,
        alone: bool,
    ) -> Result<(), Error> {
        if let Some(copying) = statement.copying() {
            // Boxed, because it is rare, and its state would be moved with every query.
            let rows =
                Box::pin(copy(self.client.borrow(), &self.statements, statement, copying)).await?;
            sink.wrote(Written { rows, inserted: rows });
            return Ok(());
        }
        if statement.operation() == Operation::Describe {
            Box::pin(described(self.client.borrow(), statement)).await?.give(sink, &[]);
            return Ok(());
        }
        if alone && self.per_transaction {
            return Box::pin(self.fetch_in_transaction(statement, sink)).await;
        }
        if let Some(schema) = statement.search_path() {
            Box::pin(self.find_names_in(schema, alone)).await?;
        }
        read_rows(self.send(statement, alone).await?, statement, sink).await
    }

    /// Makes hand-written text find names in a schema: until the transaction ends, or until the session is reset
    /// because hand-written text may have changed it.
    async fn find_names_in(&self, schema: &str, alone: bool) -> Result<(), Error> {
        // The session of the program would keep it.
        if self._driving.is_none() {
            return Err(Error::text_outside_schema());
        }
        let set = search_path(schema, !alone);
        self.client.borrow().batch_execute(&set).await.map_err(failed)
    }

    /// Runs a statement inside a transaction of its own, which is sent together with it.
    async fn fetch_in_transaction(
        &mut self,
        statement: &Statement<'_>,
        sink: &mut dyn Sink,
    ) -> Result<(), Error> {
        let mut begin = self.begin_text("BEGIN");
        begin.extend(statement.search_path().map(|schema| search_path(schema, true)));
        let client = self.client.borrow();
        let mut commit = std::pin::pin!(client.batch_execute("COMMIT"));
        // Polled in this order, they are sent in this order. The answer to COMMIT arrives after the rows are
        // read.
        let (begun, sent, early) = futures_util::join!(
            client.batch_execute(&begin),
            self.send(statement, false),
            async { futures_util::poll!(commit.as_mut()) },
        );
        let ran = match (begun, sent) {
            (Err(err), _) => Err(failed(err)),
            (_, Err(err)) => Err(err),
            (Ok(()), Ok(rows)) => read_rows(rows, statement, sink).await,
        };
        // After a failure, COMMIT rolls back without an error.
        let committed = match early {
            Poll::Ready(committed) => committed,
            Poll::Pending => commit.await,
        };
        ran.and(committed.map_err(failed))
    }

    fn begin_text(&self, begin: &str) -> String {
        format!("{begin}; {}", self.settings.text_in_transaction())
    }

    /// Passes the rows that have arrived to a sink, or waits for one.
    async fn next_rows(
        &mut self,
        statement: &Statement<'_>,
        sink: &mut dyn Sink,
        most: usize,
    ) -> Result<bool, Error> {
        let Some(rows) = &mut self.rows else { return Ok(false) };
        let (mut given, mut places) = (0, None);
        let more = std::future::poll_fn(|cx| {
            while given < most {
                let row = match rows.as_mut().poll_next(cx) {
                    Poll::Pending if given > 0 => return Poll::Ready(Ok(true)),
                    Poll::Pending => return Poll::Pending,
                    Poll::Ready(None) => return Poll::Ready(Ok(false)),
                    Poll::Ready(Some(Err(err))) => return Poll::Ready(Err(failed(err))),
                    Poll::Ready(Some(Ok(row))) => row,
                };
                given += 1;
                let places = match &places {
                    Some(known) => known,
                    None => match statement.cell_places(0, || names_of(&row)) {
                        Ok(found) => places.insert(found),
                        Err(err) => return Poll::Ready(Err(err)),
                    },
                };
                if !sink.postgres_row(&mut RowCells::new(&row, places)) {
                    // A row that does not fit its type ends the stream with an error.
                    return Poll::Ready(Ok(true));
                }
            }
            Poll::Ready(Ok(true))
        });
        let more = more.await;
        if !matches!(more, Ok(true)) {
            self.rows = None;
            self.end_of_stream().await?;
        }
        more
    }

    /// Ends the transaction that a stream has of its own.
    async fn end_of_stream(&mut self) -> Result<(), Error> {
        match std::mem::take(&mut self.streams_alone) {
            true => self.client.borrow().batch_execute("COMMIT").await.map_err(failed),
            false => Ok(()),
        }
    }
}

/// Returns the statement that sets the search path, for the session or the transaction.
fn search_path(schema: &str, is_local: bool) -> String {
    let set = if is_local { "SET LOCAL" } else { "SET" };
    format!("{set} search_path TO \"{}\"; ", schema.replace('"', "\"\""))
}

/// Returns the names of the columns of a row.
fn names_of(row: &Row) -> Vec<String> {
    row.columns().iter().map(|column| column.name().to_owned()).collect()
}

/// Passes the rows of a statement to a sink.
async fn read_rows(
    rows: RowStream,
    statement: &Statement<'_>,
    sink: &mut dyn Sink,
) -> Result<(), Error> {
    let mut rows = std::pin::pin!(rows);
    let (mut wants, mut places, mut left) = (true, None, statement.most_rows());
    while let Some(row) = rows.try_next().await.map_err(failed)? {
        // Rows that are not wanted are read too, so that the connection becomes free.
        if !wants {
            continue;
        }
        let places = places.get_or_insert_with(|| statement.cell_places(0, || names_of(&row)));
        left = left.saturating_sub(1);
        wants = match places {
            Ok(places) => sink.postgres_row(&mut RowCells::new(&row, places)) && left > 0,
            Err(_) => false,
        };
    }
    if let Some(Err(err)) = places {
        return Err(err);
    }
    sink.wrote(Written { rows: rows.rows_affected().unwrap_or_default(), inserted: 0 });
    Ok(())
}

impl<C: Borrow<Client> + Send + Sync> AsyncWire for PostgresWire<C> {
    fn dialect(&self) -> Dialect {
        super::DIALECT
    }

    fn before(&self, statement: &Statement<'_>) -> Vec<Statement<'static>> {
        statement
            .copying()
            .map(super::copy::before)
            .unwrap_or_default()
    }

    fn run<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        alone: bool,
    ) -> BoxFuture<'f, Result<(), Error>> {
        self.ahead.clear();
        self.fetch(statement, sink, alone).boxed()
    }

    fn send_ahead<'f, 's: 'f>(
        &'f mut self,
        statements: &'f [&'f Statement<'s>],
        alone: bool,
    ) -> BoxFuture<'f, Result<(), Error>> {
        self.ahead.clear();
        let needs_more = |statement: &&Statement<'_>| statement.search_path().is_some();
        if alone && self.per_transaction || statements.iter().any(needs_more) {
            return Box::pin(std::future::ready(Ok(())));
        }
        Box::pin(async move {
            // Polled in this order, they are sent in this order.
            let sent = statements.iter().map(|statement| self.send(statement, alone));
            self.ahead = join_all(sent).await.into();
            Ok(())
        })
    }

    fn run_sent<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        alone: bool,
    ) -> BoxFuture<'f, Result<(), Error>> {
        match self.ahead.pop_front() {
            Some(Ok(rows)) => read_rows(rows, statement, sink).boxed(),
            Some(Err(err)) => Box::pin(std::future::ready(Err(err))),
            None => self.fetch(statement, sink, alone).boxed(),
        }
    }

    fn command<'f>(&'f mut self, text: &'f str) -> BoxFuture<'f, Result<(), Error>> {
        Box::pin(async move { self.client.borrow().batch_execute(text).await.map_err(failed) })
    }

    fn open<'f>(
        &'f mut self,
        statement: &'f Statement<'_>,
        alone: bool,
    ) -> BoxFuture<'f, Result<(), Error>> {
        Box::pin(async move {
            if alone && self.per_transaction {
                let mut begin = self.begin_text("BEGIN");
                begin.extend(statement.search_path().map(|schema| search_path(schema, true)));
                self.client.borrow().batch_execute(&begin).await.map_err(failed)?;
                self.streams_alone = true;
            } else if let Some(schema) = statement.search_path() {
                self.find_names_in(schema, alone).await?;
            }
            match self.send(statement, false).await {
                Ok(rows) => {
                    self.rows = Some(Box::pin(rows));
                    Ok(())
                }
                Err(err) => self.end_of_stream().await.and(Err(err)),
            }
        })
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
        Box::pin(async move {
            let Some(mut rows) = self.rows.take() else { return Ok(()) };
            while rows.try_next().await.map_err(failed)?.is_some() {}
            self.end_of_stream().await
        })
    }

    fn recover(&mut self) -> BoxFuture<'_, Result<(), Error>> {
        self.rows = None;
        self.ahead.clear();
        Box::pin(async move {
            // Without a canceller, the dropped statement runs to its end, and the next statement waits for
            // that.
            let Some(canceller) = self.canceller.clone() else {
                return match self.per_transaction {
                    // The server stops the statement when the connection is closed.
                    true => Err(Error::of_driver(ErrorKind::ConnectionLost, "a call on it was dropped")),
                    false => Ok(()),
                };
            };
            self.cancel(canceller, usize::MAX).await
        })
    }

    /// Returns whether the connection can be lent again. The server rolls back what a closed connection left
    /// open.
    fn salvage(&mut self, interrupted: bool) -> BoxFuture<'_, bool> {
        self.rows = None;
        Box::pin(async move {
            if interrupted && let Some(canceller) = self.canceller.clone() {
                // If it cannot be stopped, the connection is closed anyway.
                let _ = self.cancel(canceller, MOST_REQUESTS).await;
            }
            false
        })
    }

    fn is_closed(&self) -> bool {
        self.client.borrow().is_closed()
    }

    fn check(&mut self) -> BoxFuture<'_, bool> {
        Box::pin(async { self.client.borrow().simple_query("").await.is_ok() })
    }

    fn limit(&mut self, longest: Option<Duration>) -> BoxFuture<'_, Result<(), Error>> {
        Box::pin(async move {
            self.settings.statement_timeout = longest;
            if self.per_transaction {
                return Ok(());
            }
            let text = settings::statement_timeout(longest);
            self.client.borrow().batch_execute(&text).await.map_err(failed)
        })
    }

    fn reset(&mut self) -> BoxFuture<'_, Result<(), Error>> {
        Box::pin(async move {
            if self.per_transaction {
                return Ok(());
            }
            let text = format!("{} {}", settings::AS_AT_FIRST, self.settings.text());
            self.client.borrow().batch_execute(&text).await.map_err(failed)
        })
    }

    fn begin_texts(&self, options: TransactionOptions) -> BeginTexts {
        let begin = match (options.isolation, options.read_only) {
            (Isolation::ReadCommitted, false) => "BEGIN ISOLATION LEVEL READ COMMITTED",
            (Isolation::ReadCommitted, true) => "BEGIN ISOLATION LEVEL READ COMMITTED READ ONLY",
            (Isolation::Serializable, false) => "BEGIN ISOLATION LEVEL SERIALIZABLE",
            (Isolation::Serializable, true) => "BEGIN ISOLATION LEVEL SERIALIZABLE READ ONLY",
        };
        match self.per_transaction {
            true => smallvec![Cow::Owned(self.begin_text(begin))],
            false => smallvec![Cow::Borrowed(begin)],
        }
    }

    /// Returns a COMMIT that fails in a failed transaction. PostgreSQL answers a plain COMMIT there with
    /// ROLLBACK, which the driver does not report. The SELECT before it is refused instead, and the server
    /// then skips the rest ("Multiple Statements in a Simple Query").
    fn commit_text(&self) -> &'static str {
        "SELECT 1; COMMIT"
    }
}

/// Returns what PostgreSQL tells of a statement: types of columns and parameters, and the columns of tables that may be NULL. A
/// column that may not is NULL behind an outer join, so that this is unknown.
async fn described(client: &Client, statement: &Statement<'_>) -> Result<Answer, Error> {
    const NULLABLE: &str = "SELECT attnum FROM pg_attribute WHERE attrelid = $1 AND NOT attnotnull AND attnum > 0";
    let types: Vec<Type> = statement.binds().map(|bind| sql_type(&bind)).collect();
    let prepared = client.prepare_typed(statement.text(), &types).await.map_err(failed)?;
    let mut tables: HashMap<u32, Vec<i16>> = HashMap::new();
    for table in prepared.columns().iter().filter_map(tokio_postgres::Column::table_oid) {
        if let Entry::Vacant(entry) = tables.entry(table) {
            let rows = client.query(NULLABLE, &[&table]).await.map_err(failed)?;
            let columns: Result<Vec<i16>, _> = rows.iter().map(|row| row.try_get(0)).collect();
            entry.insert(columns.map_err(failed)?);
        }
    }
    let columns = prepared.columns().iter().map(|column| {
        let of_table = column.table_oid().zip(column.column_id());
        let is_nullable = of_table.is_some_and(|(table, column)| {
            tables.get(&table).is_some_and(|nullable| nullable.contains(&column))
        });
        DescribedPart::column(column.name(), column.type_().name(), is_nullable.then_some(true))
    });
    let parameters = prepared.params().iter().zip(1..);
    let parameters =
        parameters.map(|(ty, number)| DescribedPart::parameter(format!("${number}"), ty.name()));
    answer_of(statement, Some(columns.collect()), parameters)
}
