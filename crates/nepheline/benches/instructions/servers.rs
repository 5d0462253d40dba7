//! The client's side of async point queries, where a server is named as for the tests.

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

/// The number of queries that are counted together: an answer that arrives in two pieces costs a turn more.
const QUERIES: u32 = 300;

async fn prepared(url: &str) -> Database {
    let db = Database::open(&format!("{url}?pool_size=1")).await.unwrap();
    for text in [
        "DROP TABLE IF EXISTS instructions_lab",
        "CREATE TABLE instructions_lab (id BIGINT PRIMARY KEY, name VARCHAR(60) NOT NULL, visits BIGINT)",
        "INSERT INTO instructions_lab VALUES (1, 'Ostra Assays', 7), (2, 'Kern Lab', NULL)",
    ] {
        db.run_text(text, vec![]).await.unwrap();
    }
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
    runtime.block_on(async { drop(pool.clone().disconnect().await) });
}
