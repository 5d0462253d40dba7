//! One connection of whatever engine, taken from a pool for as long as somebody holds it.

use deadpool::managed::Object;
use futures_util::stream::{self, BoxStream, StreamExt};
use nepheline_core::internal::{Kept, Statement};
use nepheline_core::{Dialect, Error, RowShape};

use crate::setting::Setting;
use crate::verbs::{Gather, Verb};

pub(crate) enum Connection {
    #[cfg(feature = "sqlite")]
    Sqlite(Object<crate::sqlite::Manager>),
    #[cfg(feature = "postgres")]
    Postgres(Object<crate::postgres::Manager>),
    #[cfg(feature = "mysql")]
    MySql(Object<crate::mysql::Manager>),
}

impl Connection {
    pub(crate) fn dialect(&self) -> Dialect {
        match self {
            #[cfg(feature = "sqlite")]
            Connection::Sqlite(_) => Dialect::Sqlite,
            #[cfg(feature = "postgres")]
            Connection::Postgres(_) => Dialect::Postgres,
            #[cfg(feature = "mysql")]
            Connection::MySql(connection) => connection.dialect(),
        }
    }

    pub(crate) async fn run<V: Verb>(&self, setting: &Setting, verb: V) -> Result<V::Output, Error> {
        let kept = Kept::default();
        let mut statement = verb.statement(setting.asking(self.dialect()).keeping(&kept))?;
        let gathered = self.fetch(setting, &mut statement).await?;
        drop(statement);
        verb.finish(gathered)
    }

    pub(crate) async fn fetch<R, G>(
        &self,
        setting: &Setting,
        statement: &mut Statement<'_>,
    ) -> Result<G, Error>
    where
        R: RowShape + Send + 'static,
        G: Gather<R>,
    {
        let mut running = setting.begin(statement)?;
        if let Some(answer) = running.answer() {
            let answered = running.end(answer.gather(statement.key_cells()), G::seen);
            return answered.map_err(|err| statement.context(err));
        }
        let fetched = match self {
            #[cfg(feature = "sqlite")]
            Connection::Sqlite(connection) => connection.fetch(statement).await,
            #[cfg(feature = "postgres")]
            Connection::Postgres(connection) => connection.fetch(statement).await,
            // In a box of its own: it is the largest, and would be moved with the queries of all.
            #[cfg(feature = "mysql")]
            Connection::MySql(connection) => Box::pin(connection.fetch(statement)).await,
        };
        let fetched = running.end(fetched, G::seen);
        fetched.map_err(|err| statement.context(err))
    }

    /// Runs text of our own that has neither binds nor rows.
    pub(crate) async fn command(&self, text: &str) -> Result<(), Error> {
        let done = match self {
            #[cfg(feature = "sqlite")]
            Connection::Sqlite(connection) => connection.command(text).await,
            #[cfg(feature = "postgres")]
            Connection::Postgres(connection) => connection.command(text).await,
            #[cfg(feature = "mysql")]
            Connection::MySql(connection) => connection.command(text).await,
        };
        done.map_err(|err| err.in_sql(text))
    }

    pub(crate) fn stream<'a, R: RowShape + Send + 'static>(
        &'a self,
        setting: &Setting,
        mut statement: Statement<'a>,
    ) -> BoxStream<'a, Result<R, Error>> {
        let mut running = match setting.begin(&mut statement) {
            Ok(running) => running,
            Err(err) => return stream::iter([Err(err)]).boxed(),
        };
        if let Some(rows) = running.answered(statement.key_cells()) {
            return running.over(rows);
        }
        let rows = match self {
            #[cfg(feature = "sqlite")]
            Connection::Sqlite(connection) => connection.stream(statement),
            #[cfg(feature = "postgres")]
            Connection::Postgres(connection) => connection.stream(statement),
            #[cfg(feature = "mysql")]
            Connection::MySql(connection) => connection.stream(statement),
        };
        running.over(rows)
    }

    /// Gives up a connection whose transaction was left open, so that nothing of it is committed.
    pub(crate) fn abandon(self) {
        match self {
            // Closing would lose a database in memory, so the transaction is rolled back instead.
            #[cfg(feature = "sqlite")]
            Connection::Sqlite(connection) => crate::sqlite::Connection::roll_back_later(connection),
            // Servers roll back what a closed connection left open.
            #[cfg(feature = "postgres")]
            Connection::Postgres(connection) => drop(Object::take(connection)),
            #[cfg(feature = "mysql")]
            Connection::MySql(connection) => drop(Object::take(connection)),
        }
    }
}
