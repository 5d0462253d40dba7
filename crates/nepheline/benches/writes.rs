//! Policies and writes against the same work written by hand:
//! `source .ci/servers && cargo bench -p nepheline --all-features --bench writes`.
#![allow(
    missing_docs,
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stdout,
    reason = "a bench"
)]

mod support;

use std::time::Instant;

use criterion::{Criterion, criterion_group, criterion_main};
use mysql_async::prelude::Queryable;
use nepheline::blocking::{Database, RunsQueries};
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;
use support::{Scattered, against_by_hand};

const ROWS: i64 = 100_000;
const ROUNDS: usize = 15;

struct AnalystId(i64);

fn own(r: GuardedColumns, analyst: &AnalystId) -> Condition {
    r.analyst_id.eq(analyst.0)
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "bench_write", policies(own))]
struct Guarded {
    #[nepheline(key)]
    id: i64,
    specimen_id: i64,
    #[nepheline(by_code_point)]
    element: String,
    ppm: f64,
    analyst_id: i64,
}

/// The same table, with the condition said by whoever asks.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "bench_write")]
struct Plain {
    #[nepheline(key)]
    id: i64,
    specimen_id: i64,
    #[nepheline(by_code_point)]
    element: String,
    ppm: f64,
    analyst_id: i64,
}

fn rows() -> impl Iterator<Item = PlainToInsert> {
    (0..ROWS).map(|id| PlainToInsert {
        id,
        specimen_id: id / 5,
        element: ["Nd", "La", "Ce", "Zr"][(id % 4) as usize].to_owned(),
        ppm: id as f64 * 0.37,
        analyst_id: 7,
    })
}

fn prepared(url: &str, float: &str, text: &str) -> Database {
    let db = Database::open(url).unwrap();
    db.run_text("DROP TABLE IF EXISTS bench_write", vec![])
        .unwrap();
    let create = format!(
        "CREATE TABLE bench_write (id BIGINT PRIMARY KEY, specimen_id BIGINT NOT NULL, \
         element {text} NOT NULL, ppm {float} NOT NULL, analyst_id BIGINT NOT NULL)"
    );
    db.run_text(&create, vec![]).unwrap();
    db
}

fn policies(criterion: &mut Criterion) {
    let engines = [
        ("SQLite", Some("sqlite::memory:".to_owned()), "REAL", "TEXT"),
        (
            "PostgreSQL",
            std::env::var("NEPHELINE_TEST_POSTGRES").ok(),
            "float8",
            "text COLLATE \"C\"",
        ),
        (
            "MariaDB",
            std::env::var("NEPHELINE_TEST_MARIADB").ok(),
            "DOUBLE",
            "VARCHAR(9) COLLATE utf8mb4_nopad_bin",
        ),
    ];
    for (name, url, float, text) in engines {
        let Some(url) = url else { continue };
        let db = prepared(&url, float, text);
        db.write(&Plain::insert_all(rows())).unwrap();
        let guarded = db.carrying(AnalystId(7));
        let (mut ours, mut theirs) = (Scattered::below(ROWS), Scattered::below(ROWS));
        against_by_hand(
            criterion,
            (&format!("point query under a policy, {name}"), 1.05),
            if name == "SQLite" { 5_000 } else { 500 },
            || guarded.read_one(&Guarded::row(ours.next())).unwrap(),
            || {
                db.read_one(&Plain::row(theirs.next()).filter(|r| r.analyst_id.eq(7)))
                    .unwrap()
            },
        );
    }
}

/// The ratios of rounds in which each way of ours and the one by hand do their work once.
fn compare(name: &str, db: &Database, mut by_hand: impl FnMut() -> f64) {
    let whole = || timed(|| assert_eq!(db.write(&Plain::insert_all(rows())).unwrap(), ROWS as u64));
    let flowing = || timed(|| assert_eq!(db.insert_stream(rows()).unwrap(), ROWS as u64));
    let ours: [(&str, &dyn Fn() -> f64); 2] = [("insert_all", &whole), ("insert_stream", &flowing)];
    for (way, ours) in ours {
        let ours = || {
            db.run_text("DELETE FROM bench_write", vec![]).unwrap();
            ours()
        };
        let mut ratios: Vec<f64> = (0..ROUNDS)
            .map(|round| {
                if round % 2 == 0 {
                    let mine = ours();
                    mine / by_hand()
                } else {
                    let other = by_hand();
                    ours() / other
                }
            })
            .collect();
        ratios.sort_by(f64::total_cmp);
        let (low, median, high) = (ratios[1], ratios[ROUNDS / 2], ratios[ROUNDS - 2]);
        println!(
            "RATIO {way} of 100000 rows, {name}: {median:.3} (budget 1.1; {low:.3} to {high:.3} over {ROUNDS} rounds)"
        );
    }
}

fn timed(work: impl FnOnce()) -> f64 {
    let began = Instant::now();
    work();
    began.elapsed().as_secs_f64()
}

fn inserts(_: &mut Criterion) {
    let db = prepared("sqlite::memory:", "REAL", "TEXT");
    let mut sqlite = rusqlite::Connection::open_in_memory().unwrap();
    sqlite
        .execute_batch(
            "CREATE TABLE bench_write (id BIGINT PRIMARY KEY, specimen_id BIGINT NOT NULL, \
             element TEXT NOT NULL, ppm REAL NOT NULL, analyst_id BIGINT NOT NULL)",
        )
        .unwrap();
    compare("SQLite, against VALUES of 200 rows", &db, || {
        sqlite.execute("DELETE FROM bench_write", []).unwrap();
        timed(|| {
            let tx = sqlite.transaction().unwrap();
            {
                let values = vec!["(?, ?, ?, ?, ?)"; 200].join(", ");
                let mut insert = tx
                    .prepare(&format!("INSERT INTO bench_write VALUES {values}"))
                    .unwrap();
                let rows: Vec<PlainToInsert> = rows().collect();
                for chunk in rows.chunks(200) {
                    for (row, at) in chunk.iter().zip((1..).step_by(5)) {
                        insert.raw_bind_parameter(at, row.id).unwrap();
                        insert.raw_bind_parameter(at + 1, row.specimen_id).unwrap();
                        insert.raw_bind_parameter(at + 2, &*row.element).unwrap();
                        insert.raw_bind_parameter(at + 3, row.ppm).unwrap();
                        insert.raw_bind_parameter(at + 4, row.analyst_id).unwrap();
                    }
                    insert.raw_execute().unwrap();
                }
            }
            tx.commit().unwrap();
        })
    });

    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .unwrap();
    if let Ok(url) = std::env::var("NEPHELINE_TEST_POSTGRES") {
        let db = prepared(&url, "float8", "text COLLATE \"C\"");
        let (mut client, connection) = runtime
            .block_on(tokio_postgres::connect(&url, tokio_postgres::NoTls))
            .unwrap();
        let driver = runtime.spawn(connection);
        let ty = |name: &str| match name {
            "text" => tokio_postgres::types::Type::TEXT,
            "float8" => tokio_postgres::types::Type::FLOAT8,
            _ => tokio_postgres::types::Type::INT8,
        };
        compare("PostgreSQL, against COPY in binary", &db, || {
            db.run_text("DELETE FROM bench_write", vec![]).unwrap();
            timed(|| {
                runtime.block_on(async {
                    let tx = client.transaction().await.unwrap();
                    let sink = tx
                        .copy_in("COPY bench_write FROM STDIN BINARY")
                        .await
                        .unwrap();
                    let types = ["int8", "int8", "text", "float8", "int8"].map(ty);
                    let writer = tokio_postgres::binary_copy::BinaryCopyInWriter::new(sink, &types);
                    futures_util::pin_mut!(writer);
                    for row in rows() {
                        let row: [&(dyn tokio_postgres::types::ToSql + Sync); 5] =
                            [&row.id, &row.specimen_id, &row.element, &row.ppm, &row.analyst_id];
                        writer.as_mut().write(&row).await.unwrap();
                    }
                    writer.finish().await.unwrap();
                    tx.commit().await.unwrap();
                })
            })
        });
        driver.abort();
    }
    if let Ok(url) = std::env::var("NEPHELINE_TEST_MARIADB") {
        let db = prepared(&url, "DOUBLE", "VARCHAR(9) COLLATE utf8mb4_nopad_bin");
        let mut conn = runtime
            .block_on(mysql_async::Conn::new(mysql_async::Opts::from_url(&url).unwrap()))
            .unwrap();
        compare("MariaDB, against VALUES of 100 rows", &db, || {
            db.run_text("DELETE FROM bench_write", vec![]).unwrap();
            timed(|| {
                runtime.block_on(async {
                    let values = vec!["(?, ?, ?, ?, ?)"; 100].join(", ");
                    let insert = conn
                        .prep(format!("INSERT INTO bench_write VALUES {values}"))
                        .await
                        .unwrap();
                    conn.query_drop("START TRANSACTION").await.unwrap();
                    let rows: Vec<PlainToInsert> = rows().collect();
                    for chunk in rows.chunks(100) {
                        let binds = chunk.iter().flat_map(|row| -> [mysql_async::Value; 5] {
                            [
                                row.id.into(),
                                row.specimen_id.into(),
                                row.element.as_str().into(),
                                row.ppm.into(),
                                row.analyst_id.into(),
                            ]
                        });
                        let binds: Vec<mysql_async::Value> = binds.collect();
                        conn.exec_drop(&insert, binds).await.unwrap();
                    }
                    conn.query_drop("COMMIT").await.unwrap();
                })
            })
        });
    }
}

criterion_group!(group, policies, inserts);
criterion_main!(group);
