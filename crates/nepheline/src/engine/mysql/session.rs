//! A session over a connection of the program.

use std::fmt;
use std::sync::Arc;

use mysql_async::Conn;
use nepheline_core::{Error, ErrorKind};

use super::connection::{self, Connector};
use super::wire::MySqlWire;
use crate::access::asynchronous::AsyncAccess;
use crate::access::handle::sealed;
use crate::access::session::Lent;
use crate::access::setting::{Setting, set_by};

/// Runs queries on a `mysql_async` connection of your own, so that one function of an existing service can
/// use Nepheline. The verbs are those of [`RunsQueries`](crate::RunsQueries). The session owns the connection
/// while it uses it, because a connection with an unread answer must not be used;
/// [`into_inner`](Self::into_inner) returns it in step.
///
/// ```no_run
/// use nepheline::mysql::Session;
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64 }
/// # async fn f(conn: mysql_async::Conn) -> Result<(), Error> {
/// let session = Session::over(conn).await?;
/// let labs: u64 = session.count(&Lab::rows()).await?;
/// let conn: mysql_async::Conn = session.into_inner().await?;
/// # Ok(())
/// # }
/// ```
pub struct Session {
    lent: Lent<MySqlWire>,
}

impl Session {
    /// Sets the session up like those that the library opens: `sql_mode`, time zone, character set and
    /// limits. The settings stay afterwards.
    ///
    /// # Errors
    ///
    /// [`Connection`](crate::ErrorKind::Connection) for a server before MariaDB 10.6 or MySQL 8.0.19; and
    /// errors of the server.
    pub async fn over(mut conn: Conn) -> Result<Session, Error> {
        let server = connection::set_up(&mut conn).await?;
        let connector = Arc::new(Connector::of_lent(&conn));
        let wire = MySqlWire::new(conn, server, connector);
        Ok(Session { lent: Lent::new(wire) })
    }

    /// Returns the connection. A statement whose future was dropped is stopped first, by `KILL QUERY` from a
    /// second connection.
    ///
    /// # Errors
    ///
    /// [`ConnectionLost`](crate::ErrorKind::ConnectionLost) if the connection could not be brought in step;
    /// it is closed then.
    /// then it is closed.
    pub async fn into_inner(self) -> Result<Conn, Error> {
        let conn = self.lent.into_wire().await?.into_conn();
        conn.ok_or_else(|| Error::of_driver(ErrorKind::ConnectionLost, "it was left busy"))
    }

    set_by!([self] self -> Self);

    /// Returns the same session with changed settings.
    fn set(mut self, change: impl FnOnce(&Setting) -> Setting) -> Self {
        self.lent.setting = change(&self.lent.setting);
        self
    }
}

impl sealed::RunsQueries for Session {
    #[expect(private_interfaces, reason = "only the verbs call it")]
    fn access(&self) -> AsyncAccess<'_> {
        AsyncAccess::Session(&self.lent)
    }
}

impl fmt::Debug for Session {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("mysql::Session")
    }
}
