//! A session over a client of the program.

use std::collections::VecDeque;
use std::fmt;

use nepheline_core::Error;
use tokio_postgres::{Client, GenericClient};

use super::connection;
use super::settings::Settings;
use super::statements::Statements;
use super::wire::PostgresWire;
use crate::access::asynchronous::AsyncAccess;
use crate::access::handle::sealed;
use crate::access::session::Lent;
use crate::access::setting::{Setting, set_by};

/// The number of prepared statements that a session caches.
const STATEMENTS_KEPT: usize = 128;

/// Runs queries on a `tokio_postgres` client or transaction of your own, so that one function of an existing
/// service can use Nepheline. The verbs are those of [`RunsQueries`](crate::RunsQueries). A statement whose
/// future is dropped continues at the server, and the next one waits for its end, because a cancel request
/// could stop a statement of the program.
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
pub struct Session<'c> {
    lent: Lent<PostgresWire<&'c Client>>,
}

impl<'c> Session<'c> {
    /// Sets the session up like those that the library opens: time zone UTC, encoding UTF-8, standard
    /// strings, and standard `= NULL`. The settings stay afterwards, and must not change while the session is
    /// used: the driver sends and reads UTF-8 whatever the client encoding is.
    ///
    /// # Errors
    ///
    /// [`Connection`](crate::ErrorKind::Connection) for a server before PostgreSQL 14 or one whose text is
    /// not UTF-8; and errors of the server.
    pub async fn over(client: &'c impl GenericClient) -> Result<Session<'c>, Error> {
        // The client below a transaction: statements on it run inside the transaction. Its own methods need
        // no box for each call, which those of the trait do.
        let client = client.client();
        let settings = Settings::default();
        connection::set_up(client, &settings.text()).await?;
        let wire = PostgresWire {
            client,
            statements: Statements::keeping(STATEMENTS_KEPT),
            rows: None,
            // A cancel request could stop a statement of the program.
            canceller: None,
            settings,
            per_transaction: false,
            streams_alone: false,
            ahead: VecDeque::new(),
            _driving: None,
        };
        Ok(Session { lent: Lent::new(wire) })
    }

    set_by!([self] self -> Self);

    /// Returns the same session with changed settings.
    fn set(mut self, change: impl FnOnce(&Setting) -> Setting) -> Self {
        self.lent.setting = change(&self.lent.setting);
        self
    }
}

impl sealed::RunsQueries for Session<'_> {
    #[expect(private_interfaces, reason = "only the verbs call it")]
    fn access(&self) -> AsyncAccess<'_> {
        AsyncAccess::Session(&self.lent)
    }
}

impl fmt::Debug for Session<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("postgres::Session")
    }
}
