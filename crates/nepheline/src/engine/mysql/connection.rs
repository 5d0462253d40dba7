//! Connects to a MariaDB or MySQL server and sets up a session.

use std::num::NonZeroUsize;
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use futures_util::future::BoxFuture;
use mysql_async::prelude::Queryable;
use mysql_async::{Conn, Opts, OptsBuilder};
use nepheline_core::Error;
use url::Url;

use super::Flavour;
use super::fault::failed;
use super::wire::MySqlWire;
use crate::access::options::{Credentials, Options, Tls};
use crate::engine::{BoxWire, CloseIdle, Connect, KEEPALIVE_IDLE};

/// Opens connections for the pool.
pub(crate) struct Connector {
    settings: Opts,
    /// `None` for a lent connection.
    options: Option<Options>,
    close_idle: OnceLock<CloseIdle>,
}

/// The properties that a server reported when the session was set up.
#[derive(Debug, Clone)]
pub(super) struct Server {
    pub(super) flavour: Flavour,
    pub(super) max_allowed_packet: usize,
    /// Distinguishes it from other servers behind the same address.
    pub(super) identity: String,
}

/// An SQL expression that distinguishes a server from others behind the same address.
pub(super) const IDENTITY: &str = "CONCAT_WS('/', @@hostname, @@port, @@server_id, @@datadir)";

impl Connector {
    pub(crate) fn new(options: &Options, url: &Url) -> Result<Connector, Error> {
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
            // The wire caches statements itself, because the driver closes none at the server's limit.
            .stmt_cache_size(0)
            .tcp_keepalive(Some(KEEPALIVE_IDLE))
            // A socket is used only if the URL names one.
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
                builder = builder.ssl_opts(crate::engine::tls::for_mysql(options.tls_root.as_deref()));
            }
            #[cfg(not(feature = "tls"))]
            {
                let reason = "requires encryption; enable the feature `tls`";
                return Err(Error::unfit_url(&shown, reason));
            }
        }
        let (options, close_idle) = (Some(options.clone()), OnceLock::new());
        Ok(Connector { settings: builder.into(), options, close_idle })
    }

    /// Returns the connector of a lent connection.
    pub(super) fn of_lent(conn: &Conn) -> Connector {
        Connector { settings: conn.opts().clone(), options: None, close_idle: OnceLock::new() }
    }

    /// Connects without setting up a session.
    pub(super) async fn connect_bare(&self) -> Result<Conn, Error> {
        let mut settings = self.settings.clone();
        let shown = match &self.options {
            None => "of the program".to_owned(),
            Some(options) => {
                if let Some(Credentials { user, password }) = options.ask_credentials().await? {
                    let builder = OptsBuilder::from_opts(settings);
                    settings = builder.user(Some(user)).pass(Some(password)).into();
                }
                format!("`{}`", options.shown())
            }
        };
        let conn = Conn::new(settings).await;
        conn.map_err(|err| Error::cannot_open(&shown, err))
    }

    /// Returns the number of statements that a wire caches, or `None` if the driver caches them.
    pub(super) fn statements_kept(&self) -> Option<NonZeroUsize> {
        let options = self.options.as_ref()?;
        Some(NonZeroUsize::new(options.statements_kept).unwrap_or(NonZeroUsize::MIN))
    }

    pub(super) fn is_cached_by_driver(&self) -> bool {
        self.settings.stmt_cache_size() > 0
    }

    /// Closes the idle connections of the pool.
    pub(super) fn close_idle(&self) {
        if let Some(close_idle) = self.close_idle.get() {
            close_idle();
        }
    }

    /// Returns the time limit of a statement whose call has none.
    pub(super) fn usual_limit(&self) -> Option<Duration> {
        self.options.as_ref().and_then(|options| options.statement_timeout)
    }

    async fn set_timeouts(
        &self,
        conn: &mut Conn,
        flavour: Flavour,
        limit: Option<Duration>,
    ) -> Result<(), Error> {
        let Some(options) = &self.options else { return Ok(()) };
        let lock = options.lock_timeout.as_secs().max(1);
        let mut settings = format!("SET SESSION innodb_lock_wait_timeout = {lock}");
        if limit.is_some() {
            settings = format!("{settings}, {}", statement_timeout(flavour, limit));
        }
        conn.query_drop(settings).await.map_err(failed)
    }

    /// Resets a session to its state after connecting, with this time limit.
    pub(super) async fn reset(
        &self,
        conn: &mut Conn,
        flavour: Flavour,
        limit: Option<Duration>,
    ) -> Result<(), Error> {
        conn.reset().await.map_err(failed)?;
        // A reset does not undo USE ("COM_RESET_CONNECTION").
        if let Some(database) = self.settings.db_name() {
            let quoted = database.replace('`', "``");
            conn.query_drop(format!("USE `{quoted}`")).await.map_err(failed)?;
        }
        for settings in session_settings(flavour) {
            conn.query_drop(settings).await.map_err(failed)?;
        }
        self.set_timeouts(conn, flavour, limit).await
    }
}

impl Connect for Arc<Connector> {
    fn connect(&self) -> BoxFuture<'_, Result<BoxWire, Error>> {
        Box::pin(async {
            let mut conn = self.connect_bare().await?;
            let server = set_up(&mut conn).await?;
            self.set_timeouts(&mut conn, server.flavour, self.usual_limit()).await?;
            Ok(Box::new(MySqlWire::new(conn, server, self.clone())) as BoxWire)
        })
    }

    fn relieved_by(&self, close_idle: CloseIdle) {
        let _ = self.close_idle.set(close_idle);
    }
}

/// Sets up a session so that statements mean the same as on every other handle, and refuses an unsuitable
/// server.
pub(super) async fn set_up(conn: &mut Conn) -> Result<Server, Error> {
    let facts = format!("SELECT VERSION(), @@max_allowed_packet, {IDENTITY}");
    let facts: Option<(String, usize, String)> = conn.query_first(facts).await.map_err(failed)?;
    let (version, max_allowed_packet, identity) = facts.unwrap_or_default();
    let flavour = match version.contains("MariaDB") {
        true => Flavour::MariaDb,
        false => Flavour::MySql,
    };
    let oldest = match flavour {
        Flavour::MariaDb => (10, 6, 0),
        Flavour::MySql => (8, 0, 19),
    };
    if conn.server_version() < oldest {
        let (major, minor, patch) = oldest;
        return Err(Error::unfit_session(format!(
            "it is {} {version}, but {major}.{minor}.{patch} is required",
            flavour.dialect()
        )));
    }
    for settings in session_settings(flavour) {
        conn.query_drop(settings).await.map_err(failed)?;
    }
    Ok(Server { flavour, max_allowed_packet, identity })
}

/// Returns the texts that set the session. `sql_mode` is replaced as a whole: modes such as ANSI_QUOTES,
/// PIPES_AS_CONCAT and PAD_CHAR_TO_FULL_LENGTH change the meaning of statements.
fn session_settings(flavour: Flavour) -> [&'static str; 2] {
    match flavour {
        // Under ONLY_FULL_GROUP_BY, MariaDB 10.11 refuses a prepared statement with a total over a derived table when it
        // runs for the second time (error 1140). The levels of expressions check groups anyway.
        Flavour::MariaDb => [
            "SET NAMES utf8mb4 COLLATE utf8mb4_nopad_bin",
            "SET SESSION sql_mode = 'STRICT_ALL_TABLES,NO_ZERO_IN_DATE,NO_ZERO_DATE,\
             NO_ENGINE_SUBSTITUTION,NO_BACKSLASH_ESCAPES,SIMULTANEOUS_ASSIGNMENT', \
             time_zone = '+00:00', group_concat_max_len = 1073741824, \
             max_recursive_iterations = 4294967295, tmp_table_size = 268435456, \
             max_heap_table_size = 268435456, sql_select_limit = DEFAULT, sql_auto_is_null = 0",
        ],
        Flavour::MySql => [
            "SET NAMES utf8mb4 COLLATE utf8mb4_0900_bin",
            "SET SESSION sql_mode = 'STRICT_ALL_TABLES,ONLY_FULL_GROUP_BY,NO_ZERO_IN_DATE,\
             NO_ZERO_DATE,NO_ENGINE_SUBSTITUTION,NO_BACKSLASH_ESCAPES', \
             time_zone = '+00:00', group_concat_max_len = 1073741824, \
             cte_max_recursion_depth = 4294967295, tmp_table_size = 268435456, \
             max_heap_table_size = 268435456, sql_select_limit = DEFAULT, sql_auto_is_null = 0",
        ],
    }
}

/// Returns the text that sets the statement timeout, where zero means no limit.
pub(super) fn statement_timeout(flavour: Flavour, longest: Option<Duration>) -> String {
    match flavour {
        Flavour::MariaDb => {
            let seconds = longest.map_or(0.0, |longest| longest.as_secs_f64().max(1e-6));
            format!("max_statement_time = {seconds:.6}")
        }
        Flavour::MySql => format!("max_execution_time = {}", longest.map_or(0, |longest| longest.as_millis().max(1))),
    }
}
