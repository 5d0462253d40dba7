//! The library on PostgreSQL and MariaDB over loopback against the same work written by hand with the
//! same drivers: `cargo bench -p nepheline --all-features --bench servers`, with the databases that
//! the tests use named in `NEPHELINE_TEST_POSTGRES` and `NEPHELINE_TEST_MARIADB`.
#![allow(
    missing_docs,
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stdout,
    reason = "a bench"
)]

mod support;

use std::future::Future;
use std::hint::black_box;
use std::time::Instant;

use criterion::{Criterion, criterion_group, criterion_main};
use futures_util::future::join_all;
use mysql_async::prelude::Queryable;
use nepheline::internal::RunText as _;
use nepheline::prelude::*;
use nepheline::{Database, RunsQueries, blocking};
use support::{Scattered, against_by_hand};
use tokio::runtime::Runtime;

const ROWS: i64 = 100_000;
const TASKS: [usize; 2] = [64, 200];

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "bench_reading")]
struct Reading {
    #[nepheline(key)]
    id: i64,
    specimen_id: i64,
    #[nepheline(by_code_point)]
    element: String,
    #[nepheline(by_code_point)]
    remark: String,
    ppm: f64,
    error_ppm: f64,
    taken_on: Date,
    analyst_id: Option<i64>,
}

fn runtime() -> Runtime {
    tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .unwrap()
}

/// Fills the table, with whatever the engine has to make rows out of nothing.
async fn fill(db: &Database, create: &str, insert: &str) {
    db.run_text("DROP TABLE IF EXISTS bench_reading", vec![])
        .await
        .unwrap();
    db.run_text(create, vec![]).await.unwrap();
    db.run_text(insert, vec![]).await.unwrap();
    assert_eq!(db.count(&Reading::rows()).await.unwrap(), ROWS as u64);
}

/// The parts of a bench that are the same for each engine.
struct Bench<'a> {
    engine: &'a str,
    criterion: &'a mut Criterion,
    runtime: &'a Runtime,
    db: &'a Database,
    url: &'a str,
}

impl Bench<'_> {
    fn name(&self, what: &str) -> String {
        format!("{}: {what}", self.engine)
    }

    /// A query by key through a pool, on each side; async, and blocking.
    fn pooled_point<F: Future<Output = Reading>>(&mut self, by_hand: impl Fn(i64) -> F) {
        let (mut ours, mut theirs) = (Scattered::below(ROWS), Scattered::below(ROWS));
        let (runtime, db) = (self.runtime, self.db);
        let name = self.name("point query through a pool");
        against_by_hand(
            self.criterion,
            (&name, 1.03),
            500,
            || {
                runtime
                    .block_on(db.read_one(&Reading::row(ours.next())))
                    .unwrap()
            },
            || runtime.block_on(by_hand(theirs.next())),
        );
        let db = blocking::Database::open(self.url).unwrap();
        let name = self.name("point query through a pool, blocking");
        against_by_hand(
            self.criterion,
            (&name, 1.03),
            500,
            || db.read_one(&Reading::row(ours.next())).unwrap(),
            || runtime.block_on(by_hand(theirs.next())),
        );
        self.compile_share();
    }

    /// A query by key on one connection, on each side.
    fn point<F: Future<Output = Reading>>(
        &mut self,
        session: &impl RunsQueries,
        by_hand: impl Fn(i64) -> F,
    ) {
        let (mut ours, mut theirs) = (Scattered::below(ROWS), Scattered::below(ROWS));
        let runtime = self.runtime;
        let name = self.name("point query on one connection");
        against_by_hand(
            self.criterion,
            (&name, 1.03),
            500,
            || {
                runtime
                    .block_on(session.read_one(&Reading::row(ours.next())))
                    .unwrap()
            },
            || runtime.block_on(by_hand(theirs.next())),
        );
    }

    /// The share of building and compiling the query.
    fn compile_share(&self) {
        let dialect = self.db.dialect();
        let calls = 20_000;
        let started = Instant::now();
        for id in 0..calls {
            black_box(Reading::row(i64::from(id)).sql(dialect).unwrap());
        }
        let compile = started.elapsed() / calls;
        let started = Instant::now();
        let mut keys = Scattered::below(ROWS);
        for _ in 0..calls / 10 {
            self.runtime
                .block_on(self.db.read_one(&Reading::row(keys.next())))
                .unwrap();
        }
        let whole = started.elapsed() / (calls / 10);
        let share = 100.0 * compile.as_secs_f64() / whole.as_secs_f64();
        println!(
            "SHARE {}: {share:.2} % ({compile:?} of {whole:?})",
            self.name("build and compile")
        );
    }

    fn all_rows<F: Future<Output = Vec<Reading>>>(&mut self, by_hand: impl Fn() -> F) {
        let (runtime, db) = (self.runtime, self.db);
        let mut ours = runtime.block_on(db.read(&Reading::rows())).unwrap();
        let mut theirs = runtime.block_on(by_hand());
        ours.sort_by_key(|row| row.id);
        theirs.sort_by_key(|row| row.id);
        assert_eq!(ours, theirs);
        let name = self.name("reading 100000 rows of 8 columns");
        against_by_hand(
            self.criterion,
            (&name, 1.05),
            1,
            || runtime.block_on(db.read(&Reading::rows())).unwrap(),
            || runtime.block_on(by_hand()),
        );
        let db = blocking::Database::open(self.url).unwrap();
        let name = self.name("reading 100000 rows of 8 columns, blocking");
        against_by_hand(
            self.criterion,
            (&name, 1.05),
            1,
            || db.read(&Reading::rows()).unwrap(),
            || runtime.block_on(by_hand()),
        );
    }

    fn concurrent<F: Future<Output = Reading>>(&mut self, by_hand: impl Fn(i64) -> F) {
        let (runtime, db) = (self.runtime, self.db);
        for tasks in TASKS {
            let (mut ours, mut theirs) = (Scattered::below(ROWS), Scattered::below(ROWS));
            let name = self.name(&format!("{tasks} tasks through a pool of 8"));
            against_by_hand(
                self.criterion,
                (&name, 1.05),
                10,
                || {
                    let queries: Vec<_> = (0..tasks).map(|_| Reading::row(ours.next())).collect();
                    runtime.block_on(join_all(queries.iter().map(|query| db.read_one(query))))
                },
                || runtime.block_on(join_all((0..tasks).map(|_| by_hand(theirs.next())))),
            );
        }
    }
}

fn postgres(criterion: &mut Criterion) {
    let Ok(url) = std::env::var("NEPHELINE_TEST_POSTGRES") else { return };
    let runtime = runtime();
    let url = format!("{url}?pool_size=8");
    let db = runtime.block_on(Database::open(&url)).unwrap();
    let create = "CREATE TABLE bench_reading (id bigint PRIMARY KEY, specimen_id bigint NOT NULL, \
                  element text COLLATE \"C\" NOT NULL, remark text COLLATE \"C\" NOT NULL, \
                  ppm float8 NOT NULL, error_ppm float8 NOT NULL, taken_on date NOT NULL, analyst_id bigint)";
    let insert = "INSERT INTO bench_reading SELECT i, i / 5, 'Nd', 'reading number ' || i || ' of the day', \
                  i * 0.37, i * 0.0037, date '2000-01-01' + (i % 9000)::int, \
                  CASE WHEN i % 3 > 0 THEN i % 7 END FROM generate_series(0, 99999) AS i";
    runtime.block_on(fill(&db, create, insert));
    runtime
        .block_on(db.run_text("ANALYZE bench_reading", vec![]))
        .unwrap();

    fn of_row(row: &tokio_postgres::Row) -> Reading {
        Reading {
            id: row.get(0),
            specimen_id: row.get(1),
            element: row.get(2),
            remark: row.get(3),
            ppm: row.get(4),
            error_ppm: row.get(5),
            taken_on: row.get(6),
            analyst_id: row.get(7),
        }
    }
    let connect = || async {
        let url = std::env::var("NEPHELINE_TEST_POSTGRES").unwrap();
        let (client, connection) = tokio_postgres::connect(&url, tokio_postgres::NoTls)
            .await
            .unwrap();
        tokio::spawn(connection);
        client
    };
    let client = runtime.block_on(connect());
    let [one, all] = [Reading::row(1), Reading::rows()].map(|query| {
        let text = query.sql(Dialect::Postgres).unwrap().text().to_owned();
        runtime.block_on(client.prepare(&text)).unwrap()
    });

    let mut bench =
        Bench { engine: "PostgreSQL", criterion, runtime: &runtime, db: &db, url: &url };
    let own = runtime.block_on(connect());
    let session = runtime
        .block_on(nepheline::postgres::Session::over(&own))
        .unwrap();
    bench.point(&session, |id| {
        let (client, one) = (&client, &one);
        async move { of_row(&client.query_one(one, &[&id]).await.unwrap()) }
    });
    bench.all_rows(|| async {
        client
            .query(&all, &[])
            .await
            .unwrap()
            .iter()
            .map(of_row)
            .collect()
    });
    let text = Reading::row(1)
        .sql(Dialect::Postgres)
        .unwrap()
        .text()
        .to_owned();
    let pool = {
        let config = std::env::var("NEPHELINE_TEST_POSTGRES")
            .unwrap()
            .parse()
            .unwrap();
        let manager = deadpool_postgres::Manager::new(config, tokio_postgres::NoTls);
        deadpool_postgres::Pool::builder(manager)
            .max_size(8)
            .build()
            .unwrap()
    };
    let by_hand = |id| {
        let (pool, text) = (&pool, &text);
        async move {
            let client = pool.get().await.unwrap();
            let statement = client.prepare_cached(text).await.unwrap();
            of_row(&client.query_one(&statement, &[&id]).await.unwrap())
        }
    };
    bench.pooled_point(by_hand);
    bench.concurrent(by_hand);
}

fn mariadb(criterion: &mut Criterion) {
    let Ok(url) = std::env::var("NEPHELINE_TEST_MARIADB") else { return };
    let runtime = runtime();
    let by_hand_url = url.clone();
    let url = format!("{url}?pool_size=8");
    let db = runtime.block_on(Database::open(&url)).unwrap();
    let create = "CREATE TABLE bench_reading (id BIGINT PRIMARY KEY, specimen_id BIGINT NOT NULL, \
                  element VARCHAR(20) NOT NULL, remark VARCHAR(100) NOT NULL, ppm DOUBLE NOT NULL, \
                  error_ppm DOUBLE NOT NULL, taken_on DATE NOT NULL, analyst_id BIGINT) \
                  CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin";
    let insert = "INSERT INTO bench_reading SELECT seq, seq DIV 5, 'Nd', \
                  CONCAT('reading number ', seq, ' of the day'), seq * 0.37, seq * 0.0037, \
                  DATE '2000-01-01' + INTERVAL (seq % 9000) DAY, IF(seq % 3 > 0, seq % 7, NULL) \
                  FROM seq_0_to_99999";
    runtime.block_on(fill(&db, create, insert));

    type Fields = (i64, i64, String, String, f64, f64, mysql_async::Value, Option<i64>);
    fn of_fields(fields: Fields) -> Reading {
        let (id, specimen_id, element, remark, ppm, error_ppm, taken_on, analyst_id) = fields;
        let mysql_async::Value::Date(year, month, day, ..) = taken_on else { panic!("no date") };
        let taken_on = Date::new(year as i16, month as i8, day as i8).unwrap();
        Reading { id, specimen_id, element, remark, ppm, error_ppm, taken_on, analyst_id }
    }
    let [one, all] = [Reading::row(1), Reading::rows()]
        .map(|query| query.sql(Dialect::MariaDb).unwrap().text().to_owned());
    let options = mysql_async::Opts::from_url(&by_hand_url).unwrap();
    let options = mysql_async::OptsBuilder::from_opts(options).prefer_socket(false);
    let conn = runtime
        .block_on(mysql_async::Conn::new(options.clone()))
        .unwrap();
    let conn = tokio::sync::Mutex::new(conn);

    let mut bench = Bench { engine: "MariaDB", criterion, runtime: &runtime, db: &db, url: &url };
    let own = runtime
        .block_on(mysql_async::Conn::new(options.clone()))
        .unwrap();
    let session = runtime
        .block_on(nepheline::mysql::Session::over(own))
        .unwrap();
    bench.point(&session, |id| {
        let (conn, one) = (&conn, &one);
        async move {
            let fields: Option<Fields> = conn.lock().await.exec_first(one, (id,)).await.unwrap();
            of_fields(fields.unwrap())
        }
    });
    bench.all_rows(|| async {
        conn.lock()
            .await
            .exec_map(&all, (), of_fields)
            .await
            .unwrap()
    });
    let limits = mysql_async::PoolConstraints::new(1, 8).unwrap();
    let pooled = mysql_async::PoolOpts::default()
        .with_constraints(limits)
        .with_reset_connection(false);
    let pool = mysql_async::Pool::new(options.pool_opts(pooled));
    let by_hand = |id| {
        let (pool, one) = (&pool, &one);
        async move {
            let mut conn = pool.get_conn().await.unwrap();
            let fields: Option<Fields> = conn.exec_first(one, (id,)).await.unwrap();
            of_fields(fields.unwrap())
        }
    };
    bench.pooled_point(by_hand);
    bench.concurrent(by_hand);
    runtime.block_on(async { drop(pool.disconnect().await) });
}

criterion_group!(group, postgres, mariadb);
criterion_main!(group);
