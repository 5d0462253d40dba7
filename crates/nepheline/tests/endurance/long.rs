//! Millions of statements: memory stays flat, and so do the statements that the server keeps.
//!
//! `ENDURANCE_QUERIES=2000000 cargo test --release --all-features --test endurance -- --ignored long --nocapture`

use std::time::Instant;

use mysql_async::prelude::Queryable;
use nepheline::internal::RunText as _;
use nepheline::prelude::*;
use nepheline::{Database, blocking};

use crate::support::{Engine, engines_with};

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "long_reading")]
struct Reading {
    #[nepheline(key)]
    id: i64,
    metres: i64,
}

const SHAPES: u64 = 300;
const TASKS: u64 = 16;
const ROWS: i64 = 1_000;

/// A query of one of so many texts, for one row.
fn shape(number: u64) -> (i64, nepheline::Query<Reading>) {
    let id = (number * 7_919) as i64 % ROWS;
    let digits = (0..6).map(|place| number % SHAPES / 3_u64.pow(place) % 3);
    let query = digits.fold(Reading::rows(), |query, digit| match digit {
        0 => query.filter(|r| r.metres.gt(-1)),
        1 => query.filter(|r| r.metres.ge(0)),
        _ => query.filter(|r| r.metres.ne(-1)),
    });
    (id, query.filter(move |r| r.id.eq(id)))
}

/// The resident memory of this process, in MiB.
fn resident() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:"));
    line.map_or(0, |line| line.trim().trim_end_matches(" kB").parse::<u64>().unwrap() / 1024)
}

/// Returns the number of prepared statements at the server, where it tells.
async fn prepared(engine: &Engine) -> u64 {
    if engine.name != "MariaDB" {
        return 0;
    }
    let mut conn = mysql_async::Conn::from_url(&engine.url).await.unwrap();
    let row: Option<(String, u64)> = conn
        .query_first("SHOW GLOBAL STATUS LIKE 'Prepared_stmt_count'")
        .await
        .unwrap();
    row.unwrap().1
}

fn queries() -> u64 {
    let text = std::env::var("ENDURANCE_QUERIES").ok();
    text.map_or(2_000_000, |text| text.parse().unwrap())
}

async fn fill(engine: &Engine) {
    let db = engine.open_async().await;
    db.run_text("DROP TABLE IF EXISTS long_reading", vec![])
        .await
        .unwrap();
    let create = "CREATE TABLE long_reading (id BIGINT PRIMARY KEY, metres BIGINT NOT NULL)";
    db.run_text(create, vec![]).await.unwrap();
    db.write(&Reading::insert_all((0..ROWS).map(|id| ReadingToInsert { id, metres: id })))
        .await
        .unwrap();
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "runs ENDURANCE_QUERIES queries on each engine"]
async fn long_runs_keep_their_memory() {
    let queries = queries();
    for engine in engines_with("long") {
        fill(&engine).await;
        let db = Database::open(&engine.with("pool_size=8&pool_wait=5m"))
            .await
            .unwrap();
        let mut memory = Vec::new();
        let began = Instant::now();
        for part in 0..10 {
            let tasks = (0..TASKS).map(|task| {
                let db = db.clone();
                tokio::spawn(async move {
                    for number in 0..queries / 10 / TASKS {
                        let (id, query) = shape(part * 31 + task * 104_729 + number);
                        assert_eq!(db.read_one(&query).await.unwrap().id, id);
                    }
                })
            });
            for task in futures_util::future::join_all(tasks).await {
                task.unwrap();
            }
            memory.push(resident());
        }
        let (took, prepared) = (began.elapsed(), prepared(&engine).await);
        println!(
            "{}: {queries} queries of {SHAPES} shapes in {:.0} s; MiB after each tenth {memory:?}; {prepared} statements \
             at the server; {:?}",
            engine.name,
            took.as_secs_f64(),
            db.pool_metrics()
        );
        assert!(memory[9] <= memory[1] + 8, "it grows: {memory:?}");
        // Eight connections cache 128 each; a few more are of other programs.
        let is_bounded = (8 * 100..=8 * 128 + 64).contains(&prepared);
        assert!(is_bounded || engine.name != "MariaDB", "{prepared}");
    }
}

#[test]
#[ignore = "runs ENDURANCE_QUERIES / 10 queries on each server"]
fn long_runs_of_64_blocking_threads_all_end() {
    let each = queries() / 10 / 64;
    for engine in engines_with("long_blocking") {
        tokio::runtime::Runtime::new()
            .unwrap()
            .block_on(fill(&engine));
        let db = blocking::Database::open(&engine.with("pool_size=8&pool_wait=5m")).unwrap();
        let (before, began) = (resident(), Instant::now());
        std::thread::scope(|scope| {
            for thread in 0..64 {
                let db = &db;
                scope.spawn(move || {
                    for number in 0..each {
                        let (id, query) = shape(thread * 104_729 + number);
                        assert_eq!(blocking::RunsQueries::read_one(db, &query).unwrap().id, id);
                    }
                });
            }
        });
        println!(
            "{}: {} queries of 64 threads in {:.1} s; {before} MiB before, {} after",
            engine.name,
            each * 64,
            began.elapsed().as_secs_f64(),
            resident()
        );
        assert_eq!(db.pool_metrics().waits_timed_out, 0);
    }
}

/// Prints how long 200 tasks on a pool of 8 take, as a ratio to the same text through the driver's usual pool.
#[test]
#[ignore = "measures, and checks nothing but the answers"]
fn long_measure_of_200_tasks_on_a_pool_of_8() {
    let Some(engine) = crate::support::server("PostgreSQL") else { return };
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .unwrap();
    runtime.block_on(fill(&engine));
    let db = runtime
        .block_on(Database::open(&engine.with("pool_size=8")))
        .unwrap();
    let config = engine.url.parse().unwrap();
    let usual = deadpool_postgres::Pool::builder(deadpool_postgres::Manager::new(
        config,
        tokio_postgres::NoTls,
    ))
    .max_size(8)
    .build()
    .unwrap();
    let text = Reading::row(1)
        .sql(Dialect::Postgres)
        .unwrap()
        .text()
        .to_owned();
    let by_hand = async |id: i64| {
        let client = usual.get().await.unwrap();
        let statement = client.prepare_cached(&text).await.unwrap();
        let row = client.query_one(&statement, &[&id]).await.unwrap();
        Reading { id: row.get(0), metres: row.get(1) }
    };
    for tasks in [8, 64, 200] {
        let batches = 4_000 / tasks;
        let mut ratios: Vec<f64> = (0..41)
            .map(|_| {
                let began = Instant::now();
                for _ in 0..batches {
                    let queries: Vec<_> = (0..tasks).map(Reading::row).collect();
                    let read = futures_util::future::join_all(
                        queries.iter().map(|query| db.read_one(query)),
                    );
                    assert_eq!(runtime.block_on(read).len() as i64, tasks);
                }
                let ours = began.elapsed();
                let began = Instant::now();
                for _ in 0..batches {
                    let read = futures_util::future::join_all((0..tasks).map(&by_hand));
                    assert_eq!(runtime.block_on(read).len() as i64, tasks);
                }
                ours.as_secs_f64() / began.elapsed().as_secs_f64()
            })
            .collect();
        ratios.sort_by(f64::total_cmp);
        println!("{tasks} tasks: {:.3} ({:.3} to {:.3})", ratios[20], ratios[3], ratios[37]);
    }
}
