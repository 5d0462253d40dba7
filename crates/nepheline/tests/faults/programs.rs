//! Random programs over accounts, at whose await points something goes wrong: a future is dropped, a closure panics, a
//! statement runs too long, a backend is killed, somebody holds a lock.
//!
//! Every transfer is written down in the journal by the transaction that makes it, so that balances and journal agree
//! at the end only if every transaction was kept whole or undone whole, and what was told of each can be compared with
//! what is there. `FAULTS=20000 cargo test --release --all-features --test faults -- --ignored` runs more of them;
//! `FAULTS_ON=MariaDB` on one engine, `FAULT_SEED` with the seed that a run has printed.

use std::future::Future;
use std::panic::AssertUnwindSafe;
use std::pin::Pin;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

use futures_util::{FutureExt, StreamExt};
use nepheline::internal::RunText as _;
use nepheline::prelude::*;
use nepheline::{Database, Transaction};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::support::{Engine, engines_with};

const ACCOUNTS: i64 = 6;
const OPENING: i64 = 1_000;
const TASKS: u64 = 8;
/// So many that a write of them takes several statements on each engine, or a COPY.
const LINES: i64 = 1_100;

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "fault_account")]
struct Account {
    #[nepheline(key)]
    id: i64,
    metres: i64,
}

/// A transfer of a program, or a line of a write of many rows, whose metres are 0.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "fault_journal")]
struct Entry {
    #[nepheline(key)]
    id: i64,
    program: i64,
    giver: i64,
    taker: i64,
    metres: i64,
}

/// A program.
#[derive(Debug, Clone, Copy)]
struct Plan {
    program: i64,
    kind: Kind,
    /// At which step it goes wrong by itself, and how.
    fault: Fault,
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Kind {
    Read,
    Stream,
    LoneWrite,
    ManyRows,
    Transfer,
    TransferWithInner,
    TransferWithUndoneInner,
    TransferWithLines,
    TransferWithStream,
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Fault {
    None,
    /// Dropped after so many polls.
    Dropped(u32),
    /// Dropped after so many microseconds.
    Late(u64),
    Panic,
    Failed,
    TooLong,
    /// Like `TooLong`, in a transaction inside, and the work goes on as if nothing had happened.
    TooLongInside,
    /// A statement that the database refuses, and the work goes on as if nothing had happened.
    Ignored,
    /// A statement that is dropped, and the work goes on as if nothing had happened.
    DroppedInside,
}

/// The outcome that a program was told.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Told {
    Kept,
    Undone,
    /// Nothing, because nobody was left to be told, or that it is not known.
    Unknown,
}

impl Plan {
    fn new(program: i64, rng: &mut ChaCha8Rng) -> Plan {
        use Kind::*;
        let kinds = [
            Read,
            Stream,
            LoneWrite,
            ManyRows,
            Transfer,
            Transfer,
            TransferWithInner,
            TransferWithUndoneInner,
            TransferWithLines,
            TransferWithStream,
        ];
        let fault = match rng.random_range(0..15) {
            0..4 => Fault::None,
            4..7 => Fault::Dropped(rng.random_range(0..30)),
            7..9 => Fault::Late(rng.random_range(0..8_000)),
            9 => Fault::Panic,
            10 => Fault::Failed,
            11 => Fault::TooLong,
            12 => Fault::TooLongInside,
            13 => Fault::DroppedInside,
            _ => Fault::Ignored,
        };
        Plan { program, kind: kinds[rng.random_range(0..kinds.len())], fault }
    }

    /// Returns whether a statement of its transaction fails for certain.
    fn must_fail(&self) -> bool {
        let is_transfer =
            !matches!(self.kind, Kind::Read | Kind::Stream | Kind::LoneWrite | Kind::ManyRows);
        let fails = matches!(
            self.fault,
            Fault::Panic | Fault::Failed | Fault::TooLong | Fault::Ignored | Fault::DroppedInside
        );
        is_transfer && fails
    }

    /// Returns the number of entries that it leaves, if it is kept.
    fn entries(&self) -> u64 {
        match self.kind {
            Kind::Read | Kind::Stream => 0,
            Kind::LoneWrite | Kind::Transfer => 1,
            Kind::TransferWithUndoneInner | Kind::TransferWithStream => 1,
            Kind::TransferWithInner => 2,
            Kind::ManyRows => LINES as u64,
            Kind::TransferWithLines => 1 + LINES as u64,
        }
    }

    fn entry(&self, number: i64, giver: i64, taker: i64, metres: i64) -> EntryToInsert {
        EntryToInsert {
            id: self.program * 10_000 + number,
            program: self.program,
            giver,
            taker,
            metres,
        }
    }

    fn lines(&self) -> Vec<EntryToInsert> {
        (1..=LINES)
            .map(|line| self.entry(1_000 + line, 0, 0, 0))
            .collect()
    }
}

/// Polls so many times, and is ready with nothing then.
struct Polls<F> {
    left: u32,
    work: Pin<Box<F>>,
}

impl<F: Future> Future for Polls<F> {
    type Output = Option<F::Output>;

    fn poll(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<F::Output>> {
        if self.left == 0 {
            return Poll::Ready(None);
        }
        self.left -= 1;
        self.work.as_mut().poll(cx).map(Some)
    }
}

/// A world with accounts, and the handles that programs use.
#[derive(Clone)]
struct World {
    engine: Engine,
    db: Database,
    counts: Arc<Counts>,
}

/// No connection is lost but by being killed.
#[derive(Default)]
struct Counts {
    killed: AtomicU64,
    /// The errors of lost connections.
    lost: Mutex<Vec<String>>,
}

impl World {
    async fn new(engine: &Engine) -> World {
        let setup = engine.open_async().await;
        let text = [
            "DROP TABLE IF EXISTS fault_journal",
            "DROP TABLE IF EXISTS fault_account",
            "CREATE TABLE fault_account (id BIGINT PRIMARY KEY, metres BIGINT NOT NULL)",
            "CREATE TABLE fault_journal (id BIGINT PRIMARY KEY, program BIGINT NOT NULL, giver BIGINT NOT NULL, \
             taker BIGINT NOT NULL, metres BIGINT NOT NULL)",
        ];
        for text in text {
            setup.run_text(text, vec![]).await.unwrap();
        }
        let accounts = (1..=ACCOUNTS).map(|id| AccountToInsert { id, metres: OPENING });
        setup.write(&Account::insert_all(accounts)).await.unwrap();
        let parameters = "pool_size=3&pool_wait=60s&lock_timeout=2s&statement_timeout=300ms";
        let named = engine.pick("", "&application_name=fault_programs", "");
        let url = engine.with(&format!("{parameters}{named}"));
        let db = Database::open(&url).await.unwrap();
        World { engine: engine.clone(), db, counts: Arc::default() }
    }

    /// Runs a program with its fault, and returns what was told of it.
    async fn run(&self, plan: Plan) -> Told {
        let work = AssertUnwindSafe(self.program(plan)).catch_unwind();
        let ended = match plan.fault {
            Fault::Dropped(left) => Polls { left, work: Box::pin(work) }.await,
            Fault::Late(micros) => tokio::time::timeout(Duration::from_micros(micros), work)
                .await
                .ok(),
            _ => Some(work.await),
        };
        match ended {
            Some(Ok(Ok(()))) => Told::Kept,
            Some(Ok(Err(err))) => {
                let told = told(&err, plan);
                if told == Told::Unknown || err.kind() == ErrorKind::ConnectionLost {
                    self.counts
                        .lost
                        .lock()
                        .unwrap()
                        .push(format!("{plan:?}: {err:#}"));
                }
                told
            }
            // A panic of the work is always before its commit.
            Some(Err(_)) => Told::Undone,
            None => Told::Unknown,
        }
    }

    async fn program(&self, plan: Plan) -> Result<(), Error> {
        let account = plan.program % ACCOUNTS + 1;
        let query = Account::row(account).select(move |a| (a.id, bind(plan.program)));
        match plan.kind {
            Kind::Read => {
                assert_eq!(
                    self.db.read_one(&query).await?,
                    (account, plan.program),
                    "an answer of its own"
                );
            }
            Kind::Stream => {
                let query = Account::rows().select(move |a| (a.id, bind(plan.program)));
                let mut rows = self.db.read_stream(&query);
                for _ in 0..plan.program % ACCOUNTS {
                    let row = rows.next().await.transpose()?;
                    assert_eq!(row.unwrap().1, plan.program, "a row of its own");
                }
            }
            Kind::LoneWrite => {
                assert_eq!(
                    self.db
                        .write(&Entry::insert(plan.entry(1, 0, 0, 0)))
                        .await?,
                    1
                );
            }
            Kind::ManyRows => {
                assert_eq!(self.db.write(&Entry::insert_all(plan.lines())).await?, LINES as u64);
            }
            _ => {
                self.db
                    .transaction(async |tx| self.transfer(&tx, plan).await)
                    .await?
            }
        }
        Ok(())
    }

    async fn transfer(&self, tx: &Transaction, plan: Plan) -> Result<(), Error> {
        let (giver, taker) = (plan.program % ACCOUNTS + 1, (plan.program + 1) % ACCOUNTS + 1);
        let metres = plan.program % 7 + 1;
        self.step(tx, plan, 0).await?;
        tx.write(&Account::row(giver).update(|a| a.metres.set(a.metres - metres)))
            .await?;
        self.step(tx, plan, 1).await?;
        if plan.kind == Kind::TransferWithStream {
            let query = Account::rows().select(move |a| (a.id, bind(plan.program)));
            let mut rows = tx.read_stream(&query);
            let row = rows.next().await.transpose()?;
            assert_eq!(row.unwrap().1, plan.program, "a row of its own");
        }
        tx.write(&Account::row(taker).update(|a| a.metres.set(a.metres + metres)))
            .await?;
        self.step(tx, plan, 2).await?;
        match plan.kind {
            Kind::TransferWithInner => {
                let inner = plan.entry(2, 0, 0, 0);
                tx.transaction(async |tx| tx.write(&Entry::insert(inner)).await)
                    .await?;
            }
            Kind::TransferWithUndoneInner => {
                let inner = [3, 4].map(|number| plan.entry(number, 0, 0, 0));
                let undone: Result<(), Error> = tx
                    .transaction(async |tx| {
                        tx.write(&Entry::insert_all(inner)).await?;
                        // The row is not there, which undoes this and nothing else.
                        tx.read_one(&Account::row(0)).await.map(drop)
                    })
                    .await;
                if let Err(err) = undone
                    && err.kind() != ErrorKind::NotFound
                {
                    return Err(err);
                }
            }
            Kind::TransferWithLines => {
                tx.write(&Entry::insert_all(plan.lines())).await?;
            }
            _ => {}
        }
        self.step(tx, plan, 3).await?;
        tx.write(&Entry::insert(plan.entry(1, giver, taker, metres)))
            .await?;
        let echo = Account::row(giver).select(move |a| (a.id, bind(plan.program)));
        assert_eq!(tx.read_one(&echo).await?, (giver, plan.program), "an answer of its own");
        Ok(())
    }

    /// Goes wrong by itself, if this is the step for it.
    async fn step(&self, tx: &Transaction, plan: Plan, step: i64) -> Result<(), Error> {
        if plan.program / 3 % 4 != step {
            return Ok(());
        }
        let too_long = self.engine.pick(
            "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT max(i) FROM n",
            "SELECT pg_sleep(20)",
            "SELECT count(*) FROM seq_1_to_1000000 a, seq_1_to_1000000 b",
        );
        match plan.fault {
            Fault::Panic => panic!("on purpose"),
            Fault::Failed => tx.read_one(&Account::row(0)).await.map(drop),
            Fault::TooLong => tx.run_text(too_long, vec![]).await,
            Fault::TooLongInside => {
                let inner: Result<(), Error> = tx
                    .transaction(async |tx| tx.run_text(too_long, vec![]).await)
                    .await;
                assert!(inner.is_err());
                Ok(())
            }
            Fault::DroppedInside => {
                let wait = Duration::from_millis(plan.program as u64 % 5);
                let dropped = tokio::time::timeout(wait, tx.run_text(too_long, vec![]));
                assert!(dropped.await.is_err());
                Ok(())
            }
            Fault::Ignored => {
                let there_already = AccountToInsert { id: 1, metres: 0 };
                assert!(tx.write(&Account::insert(there_already)).await.is_err());
                Ok(())
            }
            _ => Ok(()),
        }
    }

    /// Kills whatever backend of a program is there just now.
    async fn kill(&self, killer: &Database) {
        match self.engine.name {
            "SQLite" => {}
            "PostgreSQL" => {
                let killed = Account::row(1).select(|_| {
                    verbatim!(
                        sqlite: "0",
                        postgres: "(SELECT count(pg_terminate_backend(pid)) FROM (SELECT pid FROM pg_stat_activity \
                                   WHERE application_name = 'fault_programs' \
                                   AND datname = current_database() ORDER BY random() LIMIT 1) AS one)",
                        mysql: "0"
                    )
                    .typed::<i64>()
                });
                let killed = killer.read_one(&killed).await.unwrap();
                self.counts
                    .killed
                    .fetch_add(killed as u64, Ordering::Relaxed);
            }
            _ => {
                let id = Account::row(1).select(|_| {
                    verbatim!(
                        sqlite: "0",
                        postgres: "0",
                        mysql: "(SELECT MIN(id) FROM information_schema.processlist WHERE info LIKE 'UPDATE%fault_%' \
                                AND db = DATABASE())"
                    )
                    .typed::<Option<i64>>()
                });
                if let Ok(Some(id)) = killer.read_one(&id).await {
                    // It may have ended meanwhile.
                    if killer.run_text(&format!("KILL {id}"), vec![]).await.is_ok() {
                        self.counts.killed.fetch_add(1, Ordering::Relaxed);
                    }
                }
            }
        }
    }
}

fn told(err: &Error, plan: Plan) -> Told {
    match err.kind() {
        ErrorKind::TransactionResolutionUnknown => Told::Unknown,
        ErrorKind::NotFound
        | ErrorKind::StatementTimeout
        | ErrorKind::TransactionEnded
        | ErrorKind::ConnectionLost
        // One that was killed while it was opened.
        | ErrorKind::Connection
        | ErrorKind::Conflict
        | ErrorKind::Locked => Told::Undone,
        other => panic!("{plan:?} ended with {other:?}: {err:#}"),
    }
}

/// Runs so many programs, in tasks that share a pool of three, and compares what was told with what is there.
async fn run(engine: &Engine, programs: u64, seed: u64) {
    let started = Instant::now();
    let world = World::new(engine).await;
    let outcomes = Arc::new(Mutex::new(Vec::new()));
    let tasks = (0..TASKS).map(|task| {
        let (world, outcomes) = (world.clone(), outcomes.clone());
        tokio::spawn(async move {
            let mut rng = ChaCha8Rng::seed_from_u64(seed * TASKS + task);
            for number in 0..programs.div_ceil(TASKS) {
                let plan = Plan::new((number * TASKS + task + 1) as i64, &mut rng);
                let told = world.run(plan).await;
                outcomes.lock().unwrap().push((plan, told));
            }
        })
    });
    let tasks: Vec<_> = tasks.collect();
    let trouble = tokio::spawn({
        let world = world.clone();
        let other = engine.open_async().await;
        async move {
            let mut rng = ChaCha8Rng::seed_from_u64(seed + 1);
            loop {
                tokio::time::sleep(Duration::from_millis(rng.random_range(5..40))).await;
                if rng.random_range(0..3) == 0 {
                    world.kill(&other).await;
                    continue;
                }
                // Holds the lock of an account for a while; who waits for it may run out of time.
                let (account, held) = (rng.random_range(1..=ACCOUNTS), rng.random_range(0..30));
                let _: Result<(), Error> = other
                    .transaction(async |tx| {
                        let touched = Account::row(account).update(|a| a.metres.set(a.metres));
                        tx.write(&touched).await?;
                        tokio::time::sleep(Duration::from_millis(held)).await;
                        tx.read_one(&Account::row(0)).await.map(drop)
                    })
                    .await;
            }
        }
    });
    for task in tasks {
        task.await.unwrap();
    }
    trouble.abort();
    let _ = trouble.await;

    // The pool is whole: three at once, each with an answer of its own.
    let echo = |number: i64| {
        let db = world.db.clone();
        async move {
            let query = Account::row(1).select(move |_| bind(number));
            assert_eq!(db.read_one(&query).await.unwrap(), number);
        }
    };
    // One that was killed at rest is told to whoever takes it, once.
    for _ in 0..3 {
        let _ = world.db.count(&Account::rows()).await;
    }
    let whole = tokio::time::timeout(Duration::from_secs(20), async {
        tokio::join!(echo(1), echo(2), echo(3))
    });
    assert!(whole.await.is_ok(), "no connection is missing from the pool");

    let other = engine.open_async().await;
    nothing_goes_on(engine, &other).await;
    let outcomes = outcomes.lock().unwrap().clone();
    check(&other, &outcomes, seed).await;
    let Counts { killed, lost } = &*world.counts;
    let (killed, lost) = (killed.load(Ordering::Relaxed), lost.lock().unwrap());
    let most = if engine.name == "SQLite" { 0 } else { killed };
    assert!(
        lost.len() as u64 <= most,
        "seed {seed}: {killed} connections were killed, lost {lost:#?}"
    );
    let kept = outcomes
        .iter()
        .filter(|(_, told)| *told == Told::Kept)
        .count();
    let undone = outcomes
        .iter()
        .filter(|(_, told)| *told == Told::Undone)
        .count();
    println!(
        "{}: {} programs with seed {seed} in {:.1} s, {kept} kept, {undone} undone, {} unknown",
        engine.name,
        outcomes.len(),
        started.elapsed().as_secs_f64(),
        outcomes.len() - kept - undone
    );
}

/// No transaction is left open, and no statement runs on.
async fn nothing_goes_on(engine: &Engine, other: &Database) {
    let going_on = Account::row(1).select(|_| {
        verbatim!(
            sqlite: "0",
            postgres: "(SELECT count(*) FROM pg_stat_activity WHERE application_name = 'fault_programs' \
                       AND datname = current_database() AND state <> 'idle')",
            mysql: "(SELECT COUNT(*) FROM information_schema.processlist WHERE info LIKE '%fault_%' \
                    AND db = DATABASE() AND id <> CONNECTION_ID())"
        )
        .typed::<i64>()
    });
    let until = Instant::now() + Duration::from_secs(10);
    loop {
        let left = other.read_one(&going_on).await.unwrap();
        if left == 0 {
            break;
        }
        assert!(Instant::now() < until, "{left} go on at {}", engine.name);
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    // Whoever has a transaction open may hold a lock.
    let locked = other
        .transaction(async |tx| {
            tx.write(
                &Account::rows()
                    .update(|a| a.metres.set(a.metres))
                    .every_row(),
            )
            .await
        })
        .await;
    assert_eq!(locked.unwrap(), ACCOUNTS as u64);
}

/// Compares what was told of each program with what is there, over a connection that had no part in it.
async fn check(other: &Database, outcomes: &[(Plan, Told)], seed: u64) {
    let per_program = Entry::rows().select(|e| (per(e.program), count()));
    let there: std::collections::HashMap<i64, i64> = other
        .read(&per_program)
        .await
        .unwrap()
        .into_iter()
        .collect();
    for (plan, told) in outcomes {
        let found = there.get(&plan.program).copied().unwrap_or_default() as u64;
        let fits = match told {
            Told::Kept => found == plan.entries() && !plan.must_fail(),
            Told::Undone => found == 0,
            Told::Unknown => found == 0 || found == plan.entries(),
        };
        assert!(fits, "seed {seed}: {plan:?} was told {told:?}, and left {found} entries");
    }
    let mut expected = [OPENING; ACCOUNTS as usize];
    for entry in other
        .read(&Entry::rows().filter(|e| e.metres.gt(0)))
        .await
        .unwrap()
    {
        expected[entry.giver as usize - 1] -= entry.metres;
        expected[entry.taker as usize - 1] += entry.metres;
    }
    let accounts = other
        .read(&Account::rows().order_by(|a| a.id.asc()))
        .await
        .unwrap();
    let metres: Vec<i64> = accounts.into_iter().map(|account| account.metres).collect();
    assert_eq!(metres, expected, "seed {seed}: the accounts are what the journal says");
}

fn from_environment(name: &str, otherwise: u64) -> u64 {
    std::env::var(name).map_or(otherwise, |value| value.parse().unwrap())
}

/// The programs of all engines take turns, so that none waits for the machine.
async fn on_every_engine(programs: u64) {
    let seed = from_environment("FAULT_SEED", std::process::id().into());
    let on = std::env::var("FAULTS_ON").unwrap_or_default();
    let engines = engines_with("programs").into_iter();
    for engine in engines.filter(|engine| engine.name.contains(&on)) {
        println!("{}: seed {seed}", engine.name);
        run(&engine, programs, seed).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_goes_wrong_is_kept_whole_or_undone_whole() {
    on_every_engine(from_environment("FAULTS", 300)).await;
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "takes minutes: FAULTS=20000 cargo test --release --all-features --test faults -- --ignored"]
async fn whatever_goes_wrong_for_long_is_kept_whole_or_undone_whole() {
    on_every_engine(from_environment("FAULTS", 20_000)).await;
}
