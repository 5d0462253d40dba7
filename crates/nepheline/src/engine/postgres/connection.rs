//! Connecting to a PostgreSQL server, and setting a session up.

use std::time::Duration;

use futures_util::future::BoxFuture;
use nepheline_core::Error;
use tokio_postgres::config::SslMode;
use tokio_postgres::{Client, Config, NoTls, SimpleQueryMessage};

use super::fault::failed;
use super::statements::Statements;
use super::wire::{Canceller, PostgresWire};
use crate::access::options::{Options, Tls};
use crate::engine::{BoxWire, Connect};

/// The oldest server whose SQL has all that we write, as `server_version_num`.
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
    Err(Error::unfit_url(&options.shown(), "asks for encryption, which the feature `tls` adds"))
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
        let tls = encryption(&mut config, options)?;
        Ok(Connector { config, options: options.clone(), tls })
    }
}

impl Connector {
    async fn open(&self) -> Result<PostgresWire<Client>, Error> {
        let cannot = |err| Error::cannot_open(&format!("`{}`", self.options.shown()), err);
        // The task ends when the client is dropped; what goes wrong in it reaches the client as an error.
        let client = match &self.tls {
            Encryption::Off => {
                let (client, connection) = self.config.connect(NoTls).await.map_err(cannot)?;
                tokio::spawn(connection);
                client
            }
            #[cfg(feature = "tls")]
            Encryption::On(tls) => {
                let connected = self.config.connect(tls.clone()).await;
                let (client, connection) = connected.map_err(cannot)?;
                tokio::spawn(connection);
                client
            }
        };
        set_up(&client).await?;
        set_timeouts(&client, &self.options).await?;
        let statements = Statements::keeping(self.options.statements_kept);
        let canceller = Canceller { token: client.cancel_token(), tls: self.tls.clone() };
        Ok(PostgresWire { client, statements, rows: None, canceller: Some(canceller) })
    }
}

impl Connect for Connector {
    fn connect(&self) -> BoxFuture<'_, Result<BoxWire, Error>> {
        Box::pin(async { Ok(Box::new(self.open().await?) as BoxWire) })
    }
}

/// Makes a session mean what every other handle means, and refuses a server that cannot.
pub(super) async fn set_up(client: &Client) -> Result<(), Error> {
    let settings = "SET TIME ZONE 'UTC'; \
         SET client_encoding TO 'UTF8'; \
         SET standard_conforming_strings TO on; \
         SET transform_null_equals TO off; \
         SELECT current_setting('server_version_num'), current_setting('server_encoding')";
    let answers = client.simple_query(settings).await.map_err(failed)?;
    let row = answers.iter().find_map(|answer| match answer {
        SimpleQueryMessage::Row(row) => Some(row),
        _ => None,
    });
    let version = row.and_then(|row| row.get(0)).unwrap_or_default();
    if version.parse::<u32>().is_ok_and(|number| number < OLDEST) {
        let reason = format!("it is PostgreSQL with version number {version}, and 14 is needed");
        return Err(Error::unfit_session(reason));
    }
    match row.and_then(|row| row.get(1)).unwrap_or_default() {
        "UTF8" => Ok(()),
        other => Err(Error::unfit_session(format!("its text is {other}, and UTF8 is needed"))),
    }
}

async fn set_timeouts(client: &Client, options: &Options) -> Result<(), Error> {
    // Zero means no limit to the server, so what is shorter than a millisecond is one.
    let milliseconds = |longest: Duration| longest.as_millis().max(1);
    let mut settings = format!("SET lock_timeout TO {};", milliseconds(options.lock_timeout));
    if let Some(longest) = options.statement_timeout {
        settings += &format!("SET statement_timeout TO {};", milliseconds(longest));
    }
    client.batch_execute(&settings).await.map_err(failed)
}
