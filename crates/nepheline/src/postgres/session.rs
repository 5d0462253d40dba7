//! A session over a client that the program already has.

use async_stream::try_stream;
use futures_util::TryStreamExt;
use futures_util::stream::BoxStream;
use nepheline_core::internal::{Asking, Kept, Selects, Statement, Wanted};
use nepheline_core::{Dialect, Error, RowShape};
use tokio_postgres::{Client, GenericClient};

use super::connection;
use super::statements::Statements;
use crate::handle::sealed;
use crate::setting::{Setting, set_by};
use crate::transaction::Together;
use crate::verbs::{Gather, Verb};

/// How many statements a session keeps prepared.
const STATEMENTS_KEPT: usize = 128;

/// Runs queries on a `tokio_postgres` client or transaction of your own.
///
/// So one function of an existing service can use Nepheline while the rest stays as it is. The verbs
/// are those of [`Handle`](crate::Handle).
///
/// ```no_run
/// use nepheline::postgres::Session;
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64 }
/// # async fn f(client: tokio_postgres::Client) -> Result<(), Error> {
/// let session = Session::over(&client).await?;
/// let labs: u64 = session.count(&Lab::rows()).await?;
/// # Ok(())
/// # }
/// ```
#[derive(Debug)]
pub struct Session<'c> {
    client: &'c Client,
    statements: Statements,
    setting: Setting,
}

impl<'c> Session<'c> {
    /// Sets the session up as ours are: time zone UTC, encoding UTF-8, standard strings, and `= NULL`
    /// as the standard has it. It stays so afterwards.
    ///
    /// # Errors
    ///
    /// Of kind [`Connection`](crate::ErrorKind::Connection) for a server before PostgreSQL 14 or one
    /// whose text is not UTF-8; or what the server refuses.
    pub async fn over(client: &'c impl GenericClient) -> Result<Session<'c>, Error> {
        // The client below a transaction: what runs on it runs within the transaction. Its own
        // methods need no box for each call, which those of the trait do.
        let client = client.client();
        connection::set_up(client).await?;
        let statements = Statements::keeping(STATEMENTS_KEPT);
        Ok(Session { client, statements, setting: Setting::default() })
    }

    set_by!([self] self -> Self);

    /// The same session with another setting.
    fn set(mut self, change: impl FnOnce(&Setting) -> Setting) -> Self {
        self.setting = change(&self.setting);
        self
    }

    pub(crate) async fn run_verb<V: Verb>(&self, verb: V) -> Result<V::Output, Error> {
        let kept = Kept::default();
        let mut statement = verb.statement(sealed::Handle::asking(self).keeping(&kept))?;
        let gathered = self
            .fetch(&mut statement)
            .await
            .map_err(|err| statement.context(err))?;
        drop(statement);
        verb.finish(gathered)
    }

    async fn fetch<R, G>(&self, statement: &mut Statement<'_>) -> Result<G, Error>
    where
        R: RowShape,
        G: Gather<R>,
    {
        let mut running = self.setting.begin(statement)?;
        if let Some(answer) = running.answer() {
            return running.end(answer.gather(statement.key_cells()), G::seen);
        }
        let gathered = connection::fetch(self.client, &self.statements, statement).await;
        running.end(gathered, G::seen)
    }
}

impl sealed::Handle for Session<'_> {
    async fn run<V: Verb>(&self, verb: V) -> Result<V::Output, Error> {
        self.run_verb(verb).await
    }

    fn stream<'a, Q: Selects + Sync>(
        &'a self,
        query: &'a Q,
    ) -> BoxStream<'a, Result<Q::Read, Error>> {
        Box::pin(try_stream! {
            let mut statement = query.statement(self.asking(), Wanted::Rows)?;
            let mut running = self.setting.begin(&mut statement)?;
            let rows = match running.answered(statement.key_cells()) {
                Some(rows) => rows,
                None => {
                    let rows = self.statements.run(self.client, &statement).await;
                    connection::each(rows.map_err(|err| statement.context(err))?, &statement)
                }
            };
            let mut rows = running.over(rows);
            while let Some(row) = rows.try_next().await.map_err(|err| statement.context(err))? {
                yield row;
            }
        })
    }

    fn asking(&self) -> Asking<'_> {
        // A client that is not ours could not be given up if a COPY lost step with the server.
        Asking { copies: false, ..self.setting.asking(Dialect::Postgres) }
    }

    async fn begin_together(&self) -> Result<Together, Error> {
        // Whether the connection is within a transaction only the program knows.
        Err(Error::needs_transaction())
    }

    fn check_beside_stream(&self) -> Result<(), Error> {
        Err(Error::stream_needs_two("a session over one connection"))
    }
}
