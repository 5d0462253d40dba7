//! Tasks that write all the time, over a network and a server to which everything happens. What was told as done is
//! there once, what was told as failed is not there, nobody is stuck, and the pool is whole afterwards.
//!
//! The long form: `CHAOS_SECONDS=600 cargo test --release --all-features --test endurance -- --ignored chaos --nocapture`.

use std::collections::{HashMap, HashSet};
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use nepheline::internal::RunText as _;
use nepheline::prelude::*;
use nepheline::{Database, RunsQueries, blocking};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::proxy::{Mode, Proxy};
use crate::support::own_server::{Ended, OwnServer};
use crate::support::servers;

#[derive(Debug, Clone, PartialEq, Table)]
struct Entry {
    #[nepheline(key)]
    id: i64,
    task: i64,
    metres: i64,
}

#[derive(Debug, Clone, PartialEq, Table)]
struct Total {
    #[nepheline(key)]
    task: i64,
    metres: i64,
}

const TASKS: i64 = 8;
const CONNECTIONS: u64 = 4;

/// The outcomes that the tasks were given.
#[derive(Default)]
struct Told {
    next: AtomicI64,
    /// Tells of each entry that it was stored, or that it was not; it is missing if nobody knows.
    stored: Mutex<HashMap<i64, bool>>,
    unknown: AtomicU64,
    lost: AtomicU64,
    done: AtomicBool,
}

impl Told {
    fn number(&self) -> i64 {
        self.next.fetch_add(1, Ordering::SeqCst)
    }

    fn takes(&self, id: i64, outcome: &Result<(), Error>) {
        let kind = outcome.as_ref().err().map(Error::kind);
        match kind {
            None => drop(self.stored.lock().unwrap().insert(id, true)),
            Some(ErrorKind::TransactionResolutionUnknown) => {
                self.unknown.fetch_add(1, Ordering::SeqCst);
            }
            Some(
                ErrorKind::ConnectionLost
                | ErrorKind::StatementTimeout
                | ErrorKind::PoolExhausted
                | ErrorKind::Connection
                | ErrorKind::TransactionEnded
                | ErrorKind::Conflict
                | ErrorKind::Locked,
            ) => drop(self.stored.lock().unwrap().insert(id, false)),
            // A server that goes down or comes up says so in words of its own.
            Some(ErrorKind::Database) => drop(self.stored.lock().unwrap().insert(id, false)),
            Some(kind) => panic!("{kind:?} is no fault of a network or a server"),
        }
    }
}

/// Returns whether a call has cost its connection, as far as it was told. One that the server stopped keeps it.
fn has_lost<T>(outcome: &Result<T, Error>) -> bool {
    let kind = outcome.as_ref().err().map(Error::kind);
    matches!(kind, Some(ErrorKind::ConnectionLost | ErrorKind::TransactionResolutionUnknown))
}

fn entry(id: i64, task: i64) -> nepheline::Insert<Entry> {
    Entry::insert(EntryToInsert { id, task, metres: 1 })
}

fn more(task: i64) -> nepheline::Update<Total> {
    Total::row(task).update(|t| t.metres.set(t.metres + 1))
}

/// Writes until it is told that the world is done, and reads in between.
async fn work(db: Database, task: i64, told: Arc<Told>) {
    while !told.done.load(Ordering::SeqCst) {
        let id = told.number();
        let outcome = db
            .transaction(async |tx| {
                tx.write(&entry(id, task)).await?;
                tx.write(&more(task)).await.map(drop)
            })
            .await;
        told.takes(id, &outcome);
        let read = db.read(&Total::row(task)).await;
        let lost = u64::from(has_lost(&outcome)) + u64::from(has_lost(&read));
        told.lost.fetch_add(lost, Ordering::SeqCst);
        if let Ok(rows) = read {
            assert_eq!(
                rows.iter().map(|total| total.task).collect::<Vec<_>>(),
                [task],
                "another's answer"
            );
        }
    }
}

fn work_blocking(db: &blocking::Database, task: i64, told: &Told) {
    while !told.done.load(Ordering::SeqCst) {
        let id = told.number();
        let outcome = db.transaction(|tx| {
            blocking::RunsQueries::write(tx, &entry(id, task))?;
            blocking::RunsQueries::write(tx, &more(task)).map(drop)
        });
        told.takes(id, &outcome);
    }
}

/// Does something to the network or the server, and makes it good again.
async fn disturb(server: &mut OwnServer, proxy: &Proxy, dice: &mut ChaCha8Rng) {
    let pause = Duration::from_millis(dice.random_range(50..600));
    match dice.random_range(0..12) {
        0 | 1 => proxy.set_open(Mode::Cut),
        2 | 3 => proxy.set_open(Mode::Reset),
        4 | 5 => {
            proxy.set(Mode::Stall);
            tokio::time::sleep(pause * 3).await;
            proxy.set(Mode::Pass);
        }
        6 | 7 => {
            proxy.set(Mode::SwallowAnswers);
            tokio::time::sleep(pause).await;
            proxy.set_open(Mode::Cut);
            proxy.set(Mode::Pass);
        }
        // Half open: the peers of these never hear of each other again.
        8 => proxy.set_open(Mode::Stall),
        9 => server.restart(Ended::Orderly).await,
        10 => server.restart(Ended::AtOnce).await,
        _ => server.restart(Ended::Killed).await,
    }
    tokio::time::sleep(pause).await;
}

async fn on(mut server: OwnServer, time: Duration, seed: u64) {
    let direct = Database::open(&server.url()).await.unwrap();
    for text in [
        "CREATE TABLE entry (id BIGINT PRIMARY KEY, task BIGINT NOT NULL, metres BIGINT NOT NULL)",
        "CREATE TABLE total (task BIGINT PRIMARY KEY, metres BIGINT NOT NULL)",
    ] {
        direct.run_text(text, vec![]).await.unwrap();
    }
    let totals = (0..=TASKS).map(|task| TotalToInsert { task, metres: 0 });
    direct.write(&Total::insert_all(totals)).await.unwrap();
    drop(direct);

    let proxy = Proxy::before(server.port).await;
    let url = server.url_at(proxy.port)
        + "?pool_wait=2s&connect_timeout=2s&statement_timeout=1s&lock_timeout=1s";
    let db = Database::open(&(url.clone() + "&pool_size=4"))
        .await
        .unwrap();
    let told = Arc::new(Told::default());
    let tasks: Vec<_> = (0..TASKS)
        .map(|task| tokio::spawn(work(db.clone(), task, told.clone())))
        .collect();
    let blocking_url = url.clone() + "&pool_size=1";
    let opening =
        tokio::task::spawn_blocking(move || blocking::Database::open(&blocking_url).unwrap());
    let (blocking, told_of_thread) = (opening.await.unwrap(), told.clone());
    let thread = std::thread::spawn(move || work_blocking(&blocking, TASKS, &told_of_thread));
    let (mut dice, until) = (ChaCha8Rng::seed_from_u64(seed), Instant::now() + time);
    let mut disturbances = 0;
    while Instant::now() < until {
        disturb(&mut server, &proxy, &mut dice).await;
        disturbances += 1;
    }
    proxy.set_open(Mode::Cut);
    proxy.set(Mode::Pass);
    tokio::time::sleep(Duration::from_millis(500)).await;
    told.done.store(true, Ordering::SeqCst);

    // Each wait has a limit: two for a connection, and one and a second more for each of a few statements.
    for task in tasks {
        let ended = tokio::time::timeout(Duration::from_secs(30), task).await;
        ended.unwrap_or_else(|_| panic!("a task is stuck")).unwrap();
    }
    let stuck = Instant::now() + Duration::from_secs(30);
    while !thread.is_finished() {
        assert!(Instant::now() < stuck, "a thread is stuck");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    thread.join().unwrap();

    // The pool is whole: as many as it has room for work at once.
    let whole = (0..CONNECTIONS).map(|task| {
        let db = db.clone();
        async move {
            db.transaction(async |tx| {
                tokio::task::yield_now().await;
                tx.read_one(&Total::row(task as i64)).await
            })
            .await
        }
    });
    for read in futures_util::future::join_all(whole).await {
        read.unwrap_or_else(|err| panic!("seed {seed}: {err:#}; {:?}", server.is_up()));
    }
    let lost = told.lost.load(Ordering::SeqCst);
    // The pool counts a connection when it has closed it, which is after the call has ended.
    let counted = Instant::now() + Duration::from_secs(5);
    while db.pool_metrics().closed.total() < lost && Instant::now() < counted {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let metrics = db.pool_metrics();
    assert!(metrics.connections as u64 <= CONNECTIONS, "{metrics:?}");
    assert!(lost <= metrics.closed.total(), "a connection was lost twice: {lost} of {metrics:?}");

    let direct = Database::open(&server.url()).await.unwrap();
    let (entries, totals) = stored(&direct).await;
    let told_of = told.stored.lock().unwrap();
    for (id, stored) in told_of.iter() {
        assert_eq!(entries.contains(id), *stored, "seed {seed}: entry {id} was told {stored}");
    }
    let done = told_of.values().filter(|stored| **stored).count();
    assert_eq!(totals, entries.len() as i64, "seed {seed}: an entry without its total, or twice");
    println!(
        "{}: {disturbances} disturbances in {:.0} s with seed {seed}: {done} stored, {} failed, {} unknown; {} \
         connections opened, {metrics:?}",
        server.name(),
        time.as_secs_f64(),
        told_of.len() - done,
        told.unknown.load(Ordering::SeqCst),
        metrics.opened,
    );
    assert!(done > 0, "nothing was done");
}

/// The entries, and the totals put together.
async fn stored(db: &impl RunsQueries) -> (HashSet<i64>, i64) {
    let ids = db.read(&Entry::rows().select(|e| e.id)).await.unwrap();
    let entries: HashSet<i64> = ids.iter().copied().collect();
    assert_eq!(entries.len(), ids.len());
    let totals = db.read(&Total::rows().select(|t| t.metres)).await.unwrap();
    (entries, totals.iter().sum())
}

#[tokio::test(flavor = "multi_thread")]
async fn chaos_leaves_everything_whole() {
    if servers().is_empty() {
        return;
    }
    let [postgres, mariadb] = OwnServer::each().await;
    let seed = u64::from(std::process::id());
    tokio::join!(
        on(postgres, Duration::from_secs(8), seed),
        on(mariadb, Duration::from_secs(8), seed)
    );
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "takes as long as CHAOS_SECONDS says, for each of two servers"]
async fn long_chaos_leaves_everything_whole() {
    let number = |name: &str, usual: u64| {
        std::env::var(name)
            .ok()
            .map_or(usual, |text| text.parse().unwrap())
    };
    let (time, seed) = (Duration::from_secs(number("CHAOS_SECONDS", 600)), number("CHAOS_SEED", 1));
    let [postgres, mariadb] = OwnServer::each().await;
    on(mariadb, time, seed).await;
    on(postgres, time, seed).await;
}
