//! A connection to a PostgreSQL server: how it is set up, and how a statement runs on it.

use std::time::Duration;

use async_stream::try_stream;
use deadpool::managed::{self, Metrics, RecycleError, RecycleResult};
use futures_util::stream::BoxStream;
use futures_util::{TryStreamExt, pin_mut};
use nepheline_core::internal::{Statement, Written};
use nepheline_core::{Error, RowShape};
use tokio_postgres::config::SslMode;
use tokio_postgres::{Client, Config, NoTls, RowStream, SimpleQueryMessage};

use super::cells::RowCells;
use super::copy::copy;
use super::fault::failed;
use super::statements::Statements;
use crate::in_flight::InFlight;
use crate::options::{Options, Tls};
use crate::verbs::{Arriving, Gather};

/// The oldest server whose SQL has all that we write, as `server_version_num`.
const OLDEST: u32 = 140_000;

/// Opens connections for the pool.
pub(crate) struct Manager {
    config: Config,
    options: Options,
    tls: Encryption,
}

enum Encryption {
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
    return Ok(Encryption::On(crate::tls::for_postgres(options.tls_root.as_deref())?));
    #[cfg(not(feature = "tls"))]
    Err(Error::unfit_url(&options.shown(), "asks for encryption, which the feature `tls` adds"))
}

/// A connection of the pool.
pub(crate) struct Connection {
    client: Client,
    statements: Statements,
    in_flight: InFlight,
}

impl Manager {
    pub(crate) fn new(options: &Options, url: &str) -> Result<Manager, Error> {
        let shown = options.shown();
        let mut config: Config = url
            .parse()
            .map_err(|err| Error::unfit_url(&shown, "cannot be used").caused_by(err))?;
        config.connect_timeout(options.connect_timeout);
        if config.get_application_name().is_none() {
            config.application_name("nepheline");
        }
        let tls = encryption(&mut config, options)?;
        Ok(Manager { config, options: options.clone(), tls })
    }
}

impl Manager {
    async fn connect(&self) -> Result<Connection, Error> {
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
        Ok(Connection {
            client,
            statements: Statements::keeping(self.options.statements_kept),
            in_flight: InFlight::default(),
        })
    }
}

impl managed::Manager for Manager {
    type Type = Connection;
    type Error = Error;

    async fn create(&self) -> Result<Connection, Error> {
        // In a box of its own: connecting is rare, and its state would be moved with every query.
        Box::pin(self.connect()).await
    }

    async fn recycle(&self, connection: &mut Connection, _: &Metrics) -> RecycleResult<Error> {
        let usable = !connection.client.is_closed() && !connection.in_flight.is_set();
        usable
            .then_some(())
            .ok_or_else(|| RecycleError::message("it was closed or left busy"))
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

impl Connection {
    pub(crate) async fn fetch<R, G>(&self, statement: &Statement<'_>) -> Result<G, Error>
    where
        R: RowShape,
        G: Gather<R>,
    {
        self.in_flight
            .during(fetch(&self.client, &self.statements, statement))
            .await
    }

    pub(crate) async fn command(&self, text: &str) -> Result<(), Error> {
        self.in_flight
            .during(async { self.client.batch_execute(text).await.map_err(failed) })
            .await
    }

    pub(crate) fn stream<'a, R: RowShape + Send + 'static>(
        &'a self,
        statement: Statement<'a>,
    ) -> BoxStream<'a, Result<R, Error>> {
        Box::pin(try_stream! {
            self.in_flight.begin();
            let rows = self.statements.run(&self.client, &statement).await?;
            let mut rows = each(rows, &statement);
            while let Some(row) = rows.try_next().await? {
                yield row;
            }
            self.in_flight.end();
        })
    }
}

/// The rows as they arrive.
pub(super) fn each<'a, R: RowShape + Send + 'static>(
    rows: RowStream,
    statement: &'a Statement<'_>,
) -> BoxStream<'a, Result<R, Error>> {
    let key_cells = statement.key_cells();
    Box::pin(try_stream! {
        pin_mut!(rows);
        let mut read = 0;
        while let Some(row) = rows.try_next().await.map_err(failed)? {
            read += 1;
            yield R::read(&mut RowCells::new(&row, key_cells)).map_err(|err| err.at_row(read))?;
        }
    })
}

/// Runs a statement and gathers its rows.
pub(super) async fn fetch<R, G>(
    client: &Client,
    statements: &Statements,
    statement: &Statement<'_>,
) -> Result<G, Error>
where
    R: RowShape,
    G: Gather<R>,
{
    if let Some(copying) = statement.copying() {
        let mut gathered = G::default();
        // In a box of its own: it is rare, and its state would be moved with every query.
        let rows = Box::pin(copy(client, statements, statement, copying)).await?;
        gathered.wrote(Written { rows, inserted: rows });
        return Ok(gathered);
    }
    let rows = statements.run(client, statement).await?;
    pin_mut!(rows);
    let mut arriving = Arriving::<G>::default();
    while let Some(row) = rows.try_next().await.map_err(failed)? {
        arriving.take(R::read(&mut RowCells::new(&row, statement.key_cells())));
    }
    arriving.wrote(Written { rows: rows.rows_affected().unwrap_or_default(), inserted: 0 });
    arriving.finish()
}
