//! Connects to a PostgreSQL server and sets up a session.

use std::collections::VecDeque;
use std::borrow::Cow;
use std::time::Duration;

use futures_util::future::BoxFuture;
use nepheline_core::Error;
use tokio::task::AbortHandle;
use tokio_postgres::config::SslMode;
use tokio_postgres::{Client, Config, NoTls, SimpleQueryMessage};

use super::fault::failed;
use super::settings::Settings;
use super::statements::Statements;
use super::wire::{Canceller, PostgresWire};
use crate::access::options::{Options, Pooler, Tls};
use crate::engine::{BoxWire, Connect, KEEPALIVE_IDLE, KEEPALIVE_INTERVAL, KEEPALIVE_RETRIES, caretaker};

/// The oldest server version that has all the SQL that the library writes, as `server_version_num`.
const OLDEST: u32 = 140_000;

/// Opens connections for the pool.
pub(crate) struct Connector {
    config: Config,
    options: Options,
    tls: Encryption,
}

#[derive(Clone)]
pub(super) enum Encryption {
    Off,
    #[cfg(feature = "tls")]
    On(tokio_postgres_rustls::MakeRustlsConnect),
}

fn encryption(config: &mut Config, options: &Options) -> Result<Encryption, Error> {
    match options.tls {
        Some(Tls::Off) => config.ssl_mode(SslMode::Disable),
        Some(Tls::Require) => config.ssl_mode(SslMode::Require),
        None => config,
    };
    if config.get_ssl_mode() != SslMode::Require {
        return Ok(Encryption::Off);
    }
    #[cfg(feature = "tls")]
    return Ok(Encryption::On(crate::engine::tls::for_postgres(options.tls_root.as_deref())?));
    #[cfg(not(feature = "tls"))]
    Err(Error::unfit_url(&options.shown(), "requires encryption; enable the feature `tls`"))
}

/// Enables TCP keepalive probes, unless the URL sets them.
fn keep_alive(config: &mut Config) {
    let defaults = Config::new();
    if config.get_keepalives_idle() == defaults.get_keepalives_idle() {
        config.keepalives_idle(KEEPALIVE_IDLE);
    }
    if config.get_keepalives_interval().is_none() {
        config.keepalives_interval(KEEPALIVE_INTERVAL);
    }
    if config.get_keepalives_retries().is_none() {
        config.keepalives_retries(KEEPALIVE_RETRIES);
    }
}

impl Connector {
    pub(crate) fn new(options: &Options, url: &str) -> Result<Connector, Error> {
        let shown = options.shown();
        let mut config: Config = url
            .parse()
            .map_err(|err| Error::unfit_url(&shown, "cannot be used").caused_by(err))?;
        config.connect_timeout(options.connect_timeout);
        if config.get_application_name().is_none() {
            config.application_name("nepheline");
        }
        keep_alive(&mut config);
        let tls = encryption(&mut config, options)?;
        Ok(Connector { config, options: options.clone(), tls })
    }
}

impl Connector {
    pub(super) fn is_behind_pooler(&self) -> bool {
        self.options.pooler == Pooler::Transaction
    }

    pub(super) fn encryption(&self) -> &Encryption {
        &self.tls
    }

    pub(super) fn cannot_open(&self, err: tokio_postgres::Error) -> Error {
        Error::cannot_open(&format!("`{}`", self.options.shown()), err)
    }

    async fn open(&self) -> Result<PostgresWire<Client>, Error> {
        let cannot = |err| self.cannot_open(err);
        let config = self.config_with_credentials().await?;
        let (client, driving) = match &self.tls {
            Encryption::Off => {
                let (client, connection) = config.connect(NoTls).await.map_err(cannot)?;
                (client, drive(connection))
            }
            #[cfg(feature = "tls")]
            Encryption::On(tls) => {
                let (client, connection) = config.connect(tls.clone()).await.map_err(cannot)?;
                (client, drive(connection))
            }
        };
        let Options { lock_timeout, statement_timeout, statements_kept, plans, .. } = self.options;
        let settings = Settings { lock_timeout: Some(lock_timeout), statement_timeout, plans };
        let per_transaction = self.is_behind_pooler();
        let (statements, text) = match per_transaction {
            // Each transaction may run in another server session.
            true => (Statements::unnamed(), String::new()),
            false => (Statements::keeping(statements_kept), settings.text()),
        };
        set_up(&client, &text).await?;
        // A cancel request is not safe through a pooler: pgbouncer 1.18 crashes on one whose sender has gone
        // already, as the driver's has. The server itself notices that a connection was closed.
        let canceller = (!per_transaction)
            .then(|| Canceller { token: client.cancel_token(), tls: self.tls.clone() });
        Ok(PostgresWire {
            client,
            statements,
            rows: None,
            canceller,
            settings,
            per_transaction,
            streams_alone: false,
            ahead: VecDeque::new(),
            _driving: Some(driving),
        })
    }

    /// Returns the connection settings, with the credentials that the program supplies now, if it does.
    pub(super) async fn config_with_credentials(&self) -> Result<Cow<'_, Config>, Error> {
        let Some(credentials) = self.options.ask_credentials().await? else {
            return Ok(Cow::Borrowed(&self.config));
        };
        let mut config = self.config.clone();
        config.user(credentials.user).password(credentials.password);
        Ok(Cow::Owned(config))
    }
}

impl Connect for Connector {
    fn connect(&self) -> BoxFuture<'_, Result<BoxWire, Error>> {
        Box::pin(async { Ok(Box::new(self.open().await?) as BoxWire) })
    }
}

/// The longest time that closing a connection may take.
const CLOSING: Duration = Duration::from_secs(1);

/// The task that drives a connection. When it is dropped with the client, it ends after the goodbye to the
/// server, or soon after whatever the server does.
pub(super) struct Driving(AbortHandle);

impl Drop for Driving {
    fn drop(&mut self) {
        let task = self.0.clone();
        if !task.is_finished() {
            caretaker::take_over(async move {
                tokio::time::sleep(CLOSING).await;
                task.abort();
            });
        }
    }
}

/// Drives a connection. Its errors reach the client.
pub(super) fn drive(
    connection: impl Future<Output = Result<(), tokio_postgres::Error>> + Send + 'static,
) -> Driving {
    Driving(tokio::spawn(connection).abort_handle())
}

/// Sets up a session so that statements mean the same as on every other handle, and refuses an unsuitable
/// server.
pub(super) async fn set_up(client: &Client, settings: &str) -> Result<(), Error> {
    let context = format!(
        "{settings}SELECT current_setting('server_version_num'), current_setting('server_encoding')"
    );
    let answers = client.simple_query(&context).await.map_err(failed)?;
    let row = answers.iter().find_map(|answer| match answer {
        SimpleQueryMessage::Row(row) => Some(row),
        _ => None,
    });
    let version = row.and_then(|row| row.get(0)).unwrap_or_default();
    if version.parse::<u32>().is_ok_and(|number| number < OLDEST) {
        let reason = format!("it is PostgreSQL with version number {version}, but 14 is required");
        return Err(Error::unfit_session(reason));
    }
    match row.and_then(|row| row.get(1)).unwrap_or_default() {
        "UTF8" => Ok(()),
        other => Err(Error::unfit_session(format!("its encoding is {other}, but UTF8 is required"))),
    }
}
