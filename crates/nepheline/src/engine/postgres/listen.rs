//! LISTEN: the notifications of a channel as a stream, over a connection of its own.

use std::error::Error as StdError;
use std::fmt;
use std::pin::Pin;
use std::str::FromStr;
use std::task::{Context, Poll};
use std::time::Duration;

use async_stream::stream;
use futures_util::stream::{self, Stream, StreamExt};
use nepheline_core::Error;
use tokio::sync::mpsc::{self, Receiver};
use tokio_postgres::tls::MakeTlsConnect;
use tokio_postgres::{AsyncMessage, Client, Config, NoTls, Socket};

use super::connection::{Connector, Driving, Encryption, drive};
use super::fault::failed;

/// An event while a program listens to a channel.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Notification<T> {
    /// A notification, with its payload.
    Arrived(T),
    /// The connection was lost and is there again. Notifications in between were missed, so read again what they would
    /// have told.
    Reconnected,
}

/// The notifications of a channel; made by [`Database::listen`](crate::Database::listen). It never ends by itself.
pub struct Notifications<T> {
    arriving: Pin<Box<dyn Stream<Item = Result<Notification<T>, Error>> + Send>>,
}

impl<T> Stream for Notifications<T> {
    type Item = Result<Notification<T>, Error>;

    fn poll_next(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        self.arriving.poll_next_unpin(cx)
    }
}

impl<T> fmt::Debug for Notifications<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Notifications")
    }
}

/// The notifications that may wait for the program; the server keeps later ones.
const WAITING: usize = 1024;

/// The wait after the first failed attempt to connect again, and the longest.
const FIRST_WAIT: Duration = Duration::from_millis(500);
const LONGEST_WAIT: Duration = Duration::from_secs(30);

/// A connection that listens.
struct Listening {
    payloads: Receiver<String>,
    /// The client; without it the connection ends.
    _client: Client,
    _driving: Driving,
}

impl Connector {
    /// Listens to a channel.
    pub(crate) async fn listen<T>(self, channel: String) -> Result<Notifications<T>, Error>
    where
        T: FromStr<Err: StdError + Send + Sync + 'static> + Send + 'static,
    {
        if self.is_behind_pooler() {
            return Err(Error::no_notifications("a pooler that lends a session for one transaction"));
        }
        let mut listening = self.open_channel(&channel).await?;
        let arriving = stream! {
            loop {
                while let Some(payload) = listening.payloads.recv().await {
                    let parsed = payload.parse::<T>();
                    yield parsed.map(Notification::Arrived).map_err(|err| Error::unfit_payload(&channel, &payload, err));
                }
                let mut wait = FIRST_WAIT;
                listening = loop {
                    match self.open_channel(&channel).await {
                        Ok(again) => break again,
                        Err(err) => yield Err(err),
                    }
                    tokio::time::sleep(wait).await;
                    wait = (wait * 2).min(LONGEST_WAIT);
                };
                yield Ok(Notification::Reconnected);
            }
        };
        Ok(Notifications { arriving: Box::pin(arriving) })
    }

    async fn open_channel(&self, channel: &str) -> Result<Listening, Error> {
        let config = self.config_with_credentials().await?;
        let opened = match self.encryption() {
            Encryption::Off => open(&config, NoTls).await,
            #[cfg(feature = "tls")]
            Encryption::On(tls) => open(&config, tls.clone()).await,
        };
        let listening = opened.map_err(|err| self.cannot_open(err))?;
        let listen = format!("LISTEN \"{}\"", channel.replace('"', "\"\""));
        listening._client.batch_execute(&listen).await.map_err(failed)?;
        Ok(listening)
    }
}

/// Opens a connection whose notifications are passed on.
async fn open<T>(config: &Config, tls: T) -> Result<Listening, tokio_postgres::Error>
where
    T: MakeTlsConnect<Socket, Stream: Send + 'static>,
{
    let (client, mut connection) = config.connect(tls).await?;
    let (send, payloads) = mpsc::channel(WAITING);
    let driving = drive(async move {
        let mut messages = stream::poll_fn(move |cx| connection.poll_message(cx));
        while let Some(message) = messages.next().await {
            if let AsyncMessage::Notification(notification) = message? {
                // Without a receiver, nobody listens any more.
                if send.send(notification.payload().to_owned()).await.is_err() {
                    break;
                }
            }
        }
        Ok(())
    });
    Ok(Listening { payloads, _client: client, _driving: driving })
}

