//! Relations and totals over a core shed of 100,000 specimens and 500,000 assays, on three engines:
//! children alongside against the best pair of statements written by hand with the same driver, groups
//! against the same SQL written by hand, a page that goes on after a row against one with an offset, and
//! the plans of the forms that ask for children against those of hand-written SQL.
//! `cargo bench -p nepheline --all-features --bench relations`, with the databases that the tests use.
#![allow(
    missing_docs,
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stdout,
    reason = "a bench"
)]

mod support;

use std::collections::HashMap;
use std::future::Future;

use criterion::{Criterion, criterion_group, criterion_main};
use mysql_async::prelude::Queryable;
use nepheline::blocking;
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;
use support::against_by_hand;
use tokio::runtime::Runtime;

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "bench_specimen", children(assays: Assay by specimen_id))]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    borehole_id: i64,
    #[nepheline(by_code_point)]
    label: String,
    top_m: f64,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "bench_assay")]
struct Assay {
    #[nepheline(key)]
    id: i64,
    #[nepheline(references = Specimen)]
    specimen_id: i64,
    #[nepheline(by_code_point)]
    element: String,
    ppm: f64,
}

type Pairs = Vec<(Specimen, Vec<Assay>)>;

/// The number of boreholes with 50 specimens that a read takes: a page, and a report.
const SIZES: [i64; 2] = [1, 200];

fn fill(db: &blocking::Database, text: &str, float: &str, concat: impl Fn(&str) -> String) {
    let run = |sql: &str| db.run_text(sql, vec![]).unwrap();
    run("DROP TABLE IF EXISTS bench_assay");
    run("DROP TABLE IF EXISTS bench_specimen");
    run(&format!(
        "CREATE TABLE bench_specimen (id BIGINT PRIMARY KEY, borehole_id BIGINT NOT NULL, \
         label {text} NOT NULL, top_m {float} NOT NULL)"
    ));
    run(&format!(
        "CREATE TABLE bench_assay (id BIGINT PRIMARY KEY, specimen_id BIGINT NOT NULL, \
         element {text} NOT NULL, ppm {float} NOT NULL)"
    ));
    let numbers = |last: i64| {
        format!(
            "WITH RECURSIVE n (i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < {last}) SELECT"
        )
    };
    // Two thousand boreholes of 50 specimens, each with five assays.
    run(&format!(
        "INSERT INTO bench_specimen {} i, i % 2000, {}, i * 0.25 FROM n",
        numbers(99_999),
        concat("i")
    ));
    run(&format!(
        "INSERT INTO bench_assay {} i, i % 100000, 'Nd', (i % 5000 * 7919 % 100000) * 0.01 FROM n",
        numbers(499_999)
    ));
    run("CREATE INDEX bench_specimen_borehole ON bench_specimen (borehole_id, id)");
    run("CREATE INDEX bench_assay_specimen ON bench_assay (specimen_id)");
}

fn put_together(specimens: Vec<Specimen>, assays: Vec<Assay>) -> Pairs {
    let mut by_specimen: HashMap<i64, Vec<Assay>> = HashMap::with_capacity(specimens.len());
    for assay in assays {
        by_specimen
            .entry(assay.specimen_id)
            .or_default()
            .push(assay);
    }
    let each = specimens.into_iter();
    each.map(|s| {
        let own = by_specimen.remove(&s.id).unwrap_or_default();
        (s, own)
    })
    .collect()
}

/// The specimens of each of twenty parts: how many, and their depths together.
type Parts = Vec<(Option<i64>, i64, Option<f64>)>;

const PARTS_BY_HAND: &str = "SELECT borehole_id % 20, count(*), sum(top_m) FROM bench_specimen \
     WHERE top_m > 10 GROUP BY 1 ORDER BY 1";

fn compare_totals(
    criterion: &mut Criterion,
    engine: &str,
    db: &blocking::Database,
    by_hand: impl Fn() -> Parts,
) {
    let twenty = std::num::NonZeroI64::new(20).unwrap();
    let ours = || {
        let query = Specimen::rows()
            .filter(|s| s.top_m.gt(10))
            .select(|s| (per(s.borehole_id % twenty), count(), sum(s.top_m)))
            .order_by(|s| per(s.borehole_id % twenty).asc());
        let parts = db.read(&query).unwrap();
        let parts = parts
            .into_iter()
            .map(|(part, count, sum)| (Some(part), count, sum));
        parts.collect::<Parts>()
    };
    assert_eq!(ours().len(), 20);
    assert_eq!(ours(), by_hand());
    let name = format!("{engine}: groups of 100000 rows");
    against_by_hand(criterion, (&name, 1.05), 1, ours, by_hand);

    let query = Specimen::rows().order_by(|s| (s.borehole_id.asc(), s.id.asc()));
    let deep = db.read_after(&query, None, 10_000).unwrap();
    let cursor = deep.after().unwrap().clone();
    let after = || {
        db.read_after(&query, Some(&cursor), 20)
            .unwrap()
            .into_rows()
    };
    let offset = query.clone().offset(10_000).limit(20);
    assert_eq!(after(), db.read(&offset).unwrap());
    let name = format!("{engine}: a page 10000 rows deep after a row, against an offset");
    against_by_hand(criterion, (&name, 1.0), 5, after, || db.read(&offset).unwrap());
}

fn compare(
    criterion: &mut Criterion,
    engine: &str,
    db: &blocking::Database,
    by_hand: impl Fn(i64) -> Pairs,
) {
    for boreholes in SIZES {
        let ours = || {
            let query = Specimen::rows()
                .filter(|s| s.borehole_id.lt(boreholes))
                .order_by(|s| s.id.asc())
                .alongside(|s| s.assays().order_by(|a| a.id.asc()));
            db.read(&query).unwrap()
        };
        let read = ours();
        assert_eq!(read.len() as i64, 50 * boreholes);
        assert!(read.iter().all(|(_, assays)| assays.len() == 5));
        assert_eq!(read, by_hand(boreholes));
        let name = format!("{engine}: {} specimens with their assays alongside", 50 * boreholes);
        let calls = if boreholes == 1 { 20 } else { 1 };
        against_by_hand(criterion, (&name, 1.1), calls, ours, || by_hand(boreholes));
    }
}

/// The plans of ours and of the same question written by hand are one.
fn compare_plans(engine: &str, db: &blocking::Database, explain: impl Fn(&str) -> String) {
    let questions: [(&str, Query<Specimen>, &str); 3] = [
        (
            "exists",
            Specimen::rows().filter(|s| s.assays().any(|a| a.ppm.gt(990.0))),
            "SELECT s.id, s.borehole_id, s.label, s.top_m FROM bench_specimen s WHERE EXISTS \
             (SELECT 1 FROM bench_assay a WHERE a.specimen_id = s.id AND a.ppm > 990.0)",
        ),
        (
            "not_exists",
            Specimen::rows().filter(|s| s.assays().filter(|a| a.ppm.gt(990.0)).not_exists()),
            "SELECT s.id, s.borehole_id, s.label, s.top_m FROM bench_specimen s WHERE NOT EXISTS \
             (SELECT 1 FROM bench_assay a WHERE a.specimen_id = s.id AND a.ppm > 990.0)",
        ),
        (
            "at least 6",
            Specimen::rows().filter(|s| s.assays().count().ge(6)),
            "SELECT s.id, s.borehole_id, s.label, s.top_m FROM bench_specimen s WHERE \
             (SELECT 1 FROM bench_assay a WHERE a.specimen_id = s.id LIMIT 1 OFFSET 5) IS NOT NULL",
        ),
    ];
    for (what, query, by_hand) in questions {
        // But for the names that each gives to the tables.
        let plain = |plan: &str| {
            let words = plan.split(|c: char| !(c.is_alphanumeric() || c == '_'));
            let words = words.filter(|word| !word.is_empty() && word.parse::<f64>().is_err());
            let named = words.map(|word| match word {
                "a" => "bench_assay",
                "s" => "bench_specimen",
                word => word,
            });
            let mut named: Vec<_> = named.collect();
            named.dedup();
            named.join(" ")
        };
        let ours = db.explain(&query).unwrap();
        let theirs = explain(by_hand);
        let same = plain(&ours) == plain(&theirs);
        println!("PLAN {engine}: {what}: {}", if same { "the same" } else { "another" });
        if !same {
            println!("ours:\n{ours}\nby hand:\n{theirs}");
        }
    }
}

fn sqlite(criterion: &mut Criterion) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("bench.db");
    let db = blocking::Database::open(&format!("sqlite:{}?mode=rwc", path.display())).unwrap();
    fill(&db, "TEXT", "REAL", |i| format!("'S-' || {i}"));
    let own = rusqlite::Connection::open(&path).unwrap();
    compare(criterion, "SQLite", &db, |boreholes| {
        let specimens: Vec<Specimen> = own
            .prepare_cached(
                "SELECT id, borehole_id, label, top_m FROM bench_specimen WHERE borehole_id < ? ORDER BY id",
            )
            .unwrap()
            .query_map([boreholes], |row| {
                Ok(Specimen {
                    id: row.get(0)?,
                    borehole_id: row.get(1)?,
                    label: row.get(2)?,
                    top_m: row.get(3)?,
                })
            })
            .unwrap()
            .collect::<Result<_, _>>()
            .unwrap();
        let ids: Vec<i64> = specimens.iter().map(|s| s.id).collect();
        let assays = own
            .prepare_cached(
                "SELECT id, specimen_id, element, ppm FROM bench_assay \
                 WHERE specimen_id IN (SELECT value FROM json_each(?)) ORDER BY id",
            )
            .unwrap()
            .query_map([serde_json::to_string(&ids).unwrap()], |row| {
                Ok(Assay {
                    id: row.get(0)?,
                    specimen_id: row.get(1)?,
                    element: row.get(2)?,
                    ppm: row.get(3)?,
                })
            })
            .unwrap()
            .collect::<Result<_, _>>()
            .unwrap();
        put_together(specimens, assays)
    });
    compare_totals(criterion, "SQLite", &db, || {
        let mut prepared = own.prepare_cached(PARTS_BY_HAND).unwrap();
        let rows = prepared.query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)));
        rows.unwrap().collect::<Result<_, _>>().unwrap()
    });
    compare_plans("SQLite", &db, |sql| {
        let mut prepared = own.prepare(&format!("EXPLAIN QUERY PLAN {sql}")).unwrap();
        let lines = prepared
            .query_map([], |row| row.get::<_, String>(3))
            .unwrap();
        lines.collect::<Result<Vec<_>, _>>().unwrap().join("\n")
    });
}

fn block<T>(runtime: &Runtime, future: impl Future<Output = T>) -> T {
    runtime.block_on(future)
}

fn postgres(criterion: &mut Criterion) {
    let Ok(url) = std::env::var("NEPHELINE_TEST_POSTGRES") else { return };
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .unwrap();
    let db = blocking::Database::open(&url).unwrap();
    fill(&db, "TEXT COLLATE \"C\"", "FLOAT8", |i| format!("'S-' || {i}"));
    db.run_text("ANALYZE bench_specimen", vec![]).unwrap();
    db.run_text("ANALYZE bench_assay", vec![]).unwrap();
    let client = block(&runtime, async {
        let (client, connection) = tokio_postgres::connect(&url, tokio_postgres::NoTls)
            .await
            .unwrap();
        tokio::spawn(connection);
        client
    });
    let [of_specimens, of_assays] = [
        "SELECT id, borehole_id, label, top_m FROM bench_specimen WHERE borehole_id < $1 ORDER BY id",
        "SELECT id, specimen_id, element, ppm FROM bench_assay WHERE specimen_id = ANY($1) ORDER BY id",
    ]
    .map(|text| block(&runtime, client.prepare(text)).unwrap());
    compare(criterion, "PostgreSQL", &db, |boreholes| {
        block(&runtime, async {
            let rows = client.query(&of_specimens, &[&boreholes]).await.unwrap();
            let specimens: Vec<Specimen> = rows
                .iter()
                .map(|row| Specimen {
                    id: row.get(0),
                    borehole_id: row.get(1),
                    label: row.get(2),
                    top_m: row.get(3),
                })
                .collect();
            let ids: Vec<i64> = specimens.iter().map(|s| s.id).collect();
            let rows = client.query(&of_assays, &[&ids]).await.unwrap();
            let assays = rows.iter().map(|row| Assay {
                id: row.get(0),
                specimen_id: row.get(1),
                element: row.get(2),
                ppm: row.get(3),
            });
            put_together(specimens, assays.collect())
        })
    });
    let of_parts = block(&runtime, client.prepare(PARTS_BY_HAND)).unwrap();
    compare_totals(criterion, "PostgreSQL", &db, || {
        let rows = block(&runtime, client.query(&of_parts, &[])).unwrap();
        rows.iter()
            .map(|row| (row.get(0), row.get(1), row.get(2)))
            .collect()
    });
    compare_plans("PostgreSQL", &db, |sql| {
        let rows = block(&runtime, client.query(&format!("EXPLAIN {sql}"), &[])).unwrap();
        rows.iter()
            .map(|row| row.get::<_, String>(0))
            .collect::<Vec<_>>()
            .join("\n")
    });
}

fn mariadb(criterion: &mut Criterion) {
    let Ok(url) = std::env::var("NEPHELINE_TEST_MARIADB") else { return };
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .unwrap();
    let db = blocking::Database::open(&url).unwrap();
    let text = "VARCHAR(20) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin";
    fill(&db, text, "DOUBLE", |i| format!("CONCAT('S-', {i})"));
    let options = mysql_async::Opts::from_url(&url).unwrap();
    let options = mysql_async::OptsBuilder::from_opts(options).prefer_socket(false);
    let conn = block(&runtime, mysql_async::Conn::new(options)).unwrap();
    let conn = tokio::sync::Mutex::new(conn);
    compare(criterion, "MariaDB", &db, |boreholes| {
        block(&runtime, async {
            let mut conn = conn.lock().await;
            let specimens: Vec<Specimen> = conn
                .exec_map(
                    "SELECT id, borehole_id, label, top_m FROM bench_specimen WHERE borehole_id < ? ORDER BY id",
                    (boreholes,),
                    |(id, borehole_id, label, top_m)| Specimen { id, borehole_id, label, top_m },
                )
                .await
                .unwrap();
            let ids: Vec<i64> = specimens.iter().map(|s| s.id).collect();
            let assays = conn
                .exec_map(
                    "SELECT id, specimen_id, element, ppm FROM bench_assay WHERE specimen_id IN (SELECT j.v \
                     FROM JSON_TABLE(?, '$[*]' COLUMNS (v BIGINT PATH '$')) j) ORDER BY id",
                    (serde_json::to_string(&ids).unwrap(),),
                    |(id, specimen_id, element, ppm)| Assay { id, specimen_id, element, ppm },
                )
                .await
                .unwrap();
            put_together(specimens, assays)
        })
    });
    compare_totals(criterion, "MariaDB", &db, || {
        block(&runtime, async { conn.lock().await.exec(PARTS_BY_HAND, ()).await.unwrap() })
    });
    compare_plans("MariaDB", &db, |sql| {
        block(&runtime, async {
            let mut conn = conn.lock().await;
            let plan: Option<String> = conn
                .query_first(format!("EXPLAIN FORMAT=JSON {sql}"))
                .await
                .unwrap();
            plan.unwrap()
        })
    });
}

criterion_group!(group, sqlite, postgres, mariadb);
criterion_main!(group);
