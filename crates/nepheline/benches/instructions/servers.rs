//! The client's side of async reads, where a server is named as for the tests.

use jiff::ToSpan;
use mysql_async::prelude::Queryable;
use nepheline::Database;
use nepheline::internal::RunText as _;
use nepheline::prelude::*;
use tokio::runtime::Runtime;

use crate::twins;

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "instructions_lab")]
struct Lab {
    #[nepheline(key)]
    id: i64,
    #[nepheline(by_code_point)]
    name: String,
    visits: Option<i64>,
}

/// A row with an exact number, a date, text and a NULL.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "instructions_reading")]
struct Reading {
    #[nepheline(key)]
    id: i64,
    #[nepheline(by_code_point)]
    remark: String,
    fee: Decimal,
    taken_on: Date,
    analyst_id: Option<i64>,
}

/// The number of queries that are counted together: an answer that arrives in two pieces costs a turn more.
const QUERIES: u32 = 300;

async fn prepared(url: &str) -> Database {
    let db = Database::open(&format!("{url}?pool_size=1")).await.unwrap();
    for text in [
        "DROP TABLE IF EXISTS instructions_lab",
        "CREATE TABLE instructions_lab (id BIGINT PRIMARY KEY, name VARCHAR(60) NOT NULL, visits BIGINT)",
        "INSERT INTO instructions_lab VALUES (1, 'Ostra Assays', 7), (2, 'Kern Lab', NULL)",
        "DROP TABLE IF EXISTS instructions_reading",
        "CREATE TABLE instructions_reading (id BIGINT PRIMARY KEY, remark VARCHAR(60) NOT NULL, \
         fee DECIMAL(10, 2) NOT NULL, taken_on DATE NOT NULL, analyst_id BIGINT)",
    ] {
        db.run_text(text, vec![]).await.unwrap();
    }
    let first = Date::constant(2024, 1, 1);
    let rows = (0..1_000).map(|id| ReadingToInsert {
        id,
        remark: format!("reading number {id} of the day"),
        fee: Decimal::new(id * 37, 2),
        taken_on: first.saturating_add((id % 300).days()),
        analyst_id: (id % 3 > 0).then_some(id % 7),
    });
    db.write(&Reading::insert_all(rows)).await.unwrap();
    db
}

pub(crate) fn measure() {
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .unwrap();
    if let Ok(url) = std::env::var("NEPHELINE_TEST_POSTGRES") {
        postgres(&runtime, &url);
    }
    if let Ok(url) = std::env::var("NEPHELINE_TEST_MARIADB") {
        mariadb(&runtime, &url);
    }
}

fn postgres(runtime: &Runtime, url: &str) {
    let db = runtime.block_on(prepared(url));
    let text = Lab::row(1)
        .sql(Dialect::Postgres)
        .unwrap()
        .text()
        .to_owned();
    let manager = deadpool_postgres::Manager::new(url.parse().unwrap(), tokio_postgres::NoTls);
    let pool = deadpool_postgres::Pool::builder(manager)
        .max_size(1)
        .build()
        .unwrap();
    let by_hand = async || {
        let client = pool.get().await.unwrap();
        let statement = client.prepare_cached(&text).await.unwrap();
        let row = client.query_one(&statement, &[&1_i64]).await.unwrap();
        Lab { id: row.get(0), name: row.get(1), visits: row.get(2) }
    };
    twins(
        "async point query through a pool, PostgreSQL",
        QUERIES,
        || runtime.block_on(db.read_one(&Lab::row(1))).unwrap(),
        || runtime.block_on(by_hand()),
    );
    let rows = Reading::rows().sql(Dialect::Postgres).unwrap();
    let by_hand = async || {
        let client = pool.get().await.unwrap();
        let statement = client.prepare_cached(rows.text()).await.unwrap();
        let rows = client.query(&statement, &[]).await.unwrap();
        let each = rows.iter().map(|row| Reading {
            id: row.get(0),
            remark: row.get(1),
            fee: row.get(2),
            taken_on: row.get(3),
            analyst_id: row.get(4),
        });
        each.collect::<Vec<_>>()
    };
    twins(
        "read 1,000 rows, PostgreSQL",
        30,
        || runtime.block_on(db.read(&Reading::rows())).unwrap(),
        || runtime.block_on(by_hand()),
    );
}

fn mariadb(runtime: &Runtime, url: &str) {
    let db = runtime.block_on(prepared(url));
    let text = Lab::row(1).sql(Dialect::MariaDb).unwrap().text().to_owned();
    let options = mysql_async::Opts::from_url(url).unwrap();
    let pooled = mysql_async::PoolOpts::default()
        .with_constraints(mysql_async::PoolConstraints::new(1, 1).unwrap())
        .with_reset_connection(false);
    let options = mysql_async::OptsBuilder::from_opts(options)
        .prefer_socket(false)
        .pool_opts(pooled);
    let pool = runtime.block_on(async { mysql_async::Pool::new(options) });
    let by_hand = async || {
        let mut conn = pool.get_conn().await.unwrap();
        let fields: Option<(i64, String, Option<i64>)> =
            conn.exec_first(&text, (1,)).await.unwrap();
        let (id, name, visits) = fields.unwrap();
        Lab { id, name, visits }
    };
    twins(
        "async point query through a pool, MariaDB",
        QUERIES,
        || runtime.block_on(db.read_one(&Lab::row(1))).unwrap(),
        || runtime.block_on(by_hand()),
    );
    type Fields = (i64, String, String, mysql_async::Value, Option<i64>);
    let of_fields = |(id, remark, fee, taken_on, analyst_id): Fields| {
        let mysql_async::Value::Date(year, month, day, ..) = taken_on else { panic!("no date") };
        let taken_on = Date::new(year as i16, month as i8, day as i8).unwrap();
        Reading { id, remark, fee: fee.parse().unwrap(), taken_on, analyst_id }
    };
    let rows = Reading::rows().sql(Dialect::MariaDb).unwrap();
    let by_hand = async || {
        let mut conn = pool.get_conn().await.unwrap();
        let rows = conn.exec_map(rows.text(), (), of_fields).await.unwrap();
        drop(conn);
        rows
    };
    twins(
        "read 1,000 rows, MariaDB",
        30,
        || runtime.block_on(db.read(&Reading::rows())).unwrap(),
        || runtime.block_on(by_hand()),
    );
    runtime.block_on(async { drop(pool.clone().disconnect().await) });
}
