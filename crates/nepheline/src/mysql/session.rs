//! A session over a connection that the program already has.

use async_stream::try_stream;
use futures_util::TryStreamExt;
use futures_util::stream::BoxStream;
use mysql_async::Conn;
use nepheline_core::Error;
use nepheline_core::internal::{Asking, Kept, Selects, Wanted};
use tokio::sync::Mutex;

use super::connection::{self, Server};
use crate::handle::sealed;
use crate::setting::{Setting, set_by};
use crate::transaction::Together;
use crate::verbs::{Gather, Verb};

/// Runs queries on a `mysql_async` connection of your own.
///
/// So one function of an existing service can use Nepheline while the rest stays as it is. The verbs
/// are those of [`Handle`](crate::Handle).
///
/// ```no_run
/// use nepheline::mysql::Session;
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64 }
/// # async fn f(mut conn: mysql_async::Conn) -> Result<(), Error> {
/// let session = Session::over(&mut conn).await?;
/// let labs: u64 = session.count(&Lab::rows()).await?;
/// # Ok(())
/// # }
/// ```
#[derive(Debug)]
pub struct Session<'c> {
    conn: Mutex<&'c mut Conn>,
    server: Server,
    setting: Setting,
}

impl<'c> Session<'c> {
    /// Sets the session up as ours are: `sql_mode`, time zone, character set and limits. It stays so
    /// afterwards.
    ///
    /// # Errors
    ///
    /// Of kind [`Connection`](crate::ErrorKind::Connection) for a server before MariaDB 10.6 or MySQL
    /// 8.0.19; or what the server refuses.
    pub async fn over(conn: &'c mut Conn) -> Result<Session<'c>, Error> {
        let server = connection::set_up(conn).await?;
        Ok(Session { conn: Mutex::new(conn), server, setting: Setting::default() })
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
        let mut conn = self.conn.lock().await;
        let mut running = self.setting.begin(&mut statement)?;
        let fetched = match running.answer() {
            None => connection::fetch(&mut conn, self.server, &statement).await,
            Some(answer) => answer.gather(statement.key_cells()),
        };
        let fetched = running.end(fetched, V::Gathered::seen);
        let gathered = fetched.map_err(|err| statement.context(err))?;
        drop(statement);
        verb.finish(gathered)
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
            let mut conn = self.conn.lock().await;
            let mut running = self.setting.begin(&mut statement)?;
            let rows = match running.answered(statement.key_cells()) {
                Some(rows) => rows,
                None => connection::each(&mut conn, self.server, &statement),
            };
            let mut rows = running.over(rows);
            while let Some(row) = rows.try_next().await.map_err(|err| statement.context(err))? {
                yield row;
            }
        })
    }

    fn asking(&self) -> Asking<'_> {
        self.setting.asking(self.server.dialect)
    }

    async fn begin_together(&self) -> Result<Together, Error> {
        // Whether the connection is within a transaction only the program knows.
        Err(Error::needs_transaction())
    }

    fn check_beside_stream(&self) -> Result<(), Error> {
        Err(Error::stream_needs_two("a session over one connection"))
    }
}
