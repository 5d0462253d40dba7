//! A network between the library and a server that misbehaves when it is told to.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::tcp::{OwnedReadHalf, OwnedWriteHalf};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;

/// The way in which the network treats the bytes of a connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Mode {
    Pass,
    /// Nothing arrives, and nobody is told.
    Stall,
    /// The program's bytes arrive, and the answers do not.
    SwallowAnswers,
    /// The connection is closed in order.
    Cut,
    /// The connection is closed in order after this many bytes of answers.
    CutAfter(usize),
    /// The connection is reset.
    Reset,
}

#[derive(Clone)]
pub(crate) struct Proxy {
    pub(crate) port: u16,
    shared: Arc<Shared>,
}

struct Shared {
    /// The mode of connections that are made from now on.
    next: Mutex<Mode>,
    connections: Mutex<Vec<watch::Sender<Mode>>>,
    open: AtomicUsize,
}

impl Proxy {
    pub(crate) async fn before(server: u16) -> Proxy {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        let shared = Arc::new(Shared {
            next: Mutex::new(Mode::Pass),
            connections: Mutex::default(),
            open: AtomicUsize::new(0),
        });
        let of_task = shared.clone();
        tokio::spawn(async move {
            while let Ok((client, _)) = listener.accept().await {
                let shared = of_task.clone();
                let mode = *shared.next.lock().unwrap();
                let (set, mode) = watch::channel(mode);
                shared.connections.lock().unwrap().push(set);
                tokio::spawn(async move {
                    shared.open.fetch_add(1, Ordering::SeqCst);
                    carry(client, server, mode).await;
                    shared.open.fetch_sub(1, Ordering::SeqCst);
                });
            }
        });
        Proxy { port, shared }
    }

    /// Sets the mode of all connections, those included that are open.
    pub(crate) fn set(&self, mode: Mode) {
        *self.shared.next.lock().unwrap() = mode;
        self.set_open(mode);
    }

    /// Sets the mode of the connections that are open.
    pub(crate) fn set_open(&self, mode: Mode) {
        let mut connections = self.shared.connections.lock().unwrap();
        connections.retain(|connection| connection.send(mode).is_ok());
    }

    /// Returns the number of connections that the program has open.
    pub(crate) fn open(&self) -> usize {
        self.shared.open.load(Ordering::SeqCst)
    }

    /// Waits until the program has no more than so many open.
    pub(crate) async fn open_at_most(&self, most: usize, within: Duration) {
        let until = Instant::now() + within;
        while self.open() > most {
            assert!(Instant::now() < until, "{} connections are still open", self.open());
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }
}

/// Carries bytes both ways until the client's side is closed, or the network closes it.
async fn carry(client: TcpStream, server: u16, mode: watch::Receiver<Mode>) {
    let Ok(server) = TcpStream::connect(("127.0.0.1", server)).await else { return };
    let (from_client, mut to_client) = client.into_split();
    let (from_server, to_server) = server.into_split();
    let questions = pump(from_client, to_server, mode.clone(), false);
    let answers = async {
        let closed = pump_into(from_server, &mut to_client, mode.clone(), true).await;
        // As long as the network stalls, nobody is told that the server is gone.
        let mut mode = mode.clone();
        let _ = mode.wait_for(|mode| *mode != Mode::Stall).await;
        closed
    };
    tokio::select! {
        () = questions => {}
        () = answers => {}
    }
    if *mode.borrow() == Mode::Reset {
        let _ = to_client.as_ref().set_zero_linger();
    }
}

async fn pump(
    from: OwnedReadHalf,
    mut to: OwnedWriteHalf,
    mode: watch::Receiver<Mode>,
    answers: bool,
) {
    pump_into(from, &mut to, mode, answers).await;
}

async fn pump_into(
    mut from: OwnedReadHalf,
    to: &mut OwnedWriteHalf,
    mut mode: watch::Receiver<Mode>,
    answers: bool,
) {
    let (mut buffer, mut waiting, mut carried) = (vec![0; 16 << 10], Vec::new(), 0);
    loop {
        let now = *mode.borrow_and_update();
        match now {
            Mode::Cut | Mode::Reset => return,
            Mode::CutAfter(most) if answers && carried + waiting.len() > most => {
                let _ = to.write_all(&waiting[..most - carried]).await;
                return;
            }
            Mode::CutAfter(_) => {
                carried += waiting.len();
                if to.write_all(&waiting).await.is_err() {
                    return;
                }
                waiting.clear();
            }
            Mode::Pass => {
                if to.write_all(&waiting).await.is_err() {
                    return;
                }
                waiting.clear();
            }
            Mode::SwallowAnswers if answers => waiting.clear(),
            Mode::SwallowAnswers => {
                let _ = to.write_all(&waiting).await;
                waiting.clear();
            }
            Mode::Stall => {}
        }
        tokio::select! {
            read = from.read(&mut buffer) => match read {
                Ok(0) | Err(_) => return,
                Ok(read) => waiting.extend_from_slice(&buffer[..read]),
            },
            changed = mode.changed() => if changed.is_err() { return },
        }
    }
}
