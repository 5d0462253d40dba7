//! Behind a pooler that gives each transaction whichever session of the server is free: pgbouncer in transaction mode.

use std::process::{Child, Command};
use std::time::{Duration, Instant};

use futures_util::TryStreamExt;
use nepheline::internal::RunText as _;
use nepheline::prelude::*;
use nepheline::{Database, blocking};

use crate::support::own_server::{OwnServer, as_user, free_port};
use crate::support::server;

#[derive(Debug, Clone, PartialEq, Table)]
struct Visit {
    #[nepheline(key)]
    id: i64,
    at: jiff::Timestamp,
    metres: i64,
}

struct Pooler {
    child: Child,
    port: u16,
    _folder: tempfile::TempDir,
}

impl Drop for Pooler {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A pooler with so many sessions of a server.
fn pooler(server: &OwnServer, sessions: usize) -> Pooler {
    if Command::new("pgbouncer").arg("--version").output().is_err() {
        panic!("no pgbouncer: install the package of that name");
    }
    let (folder, port) = (tempfile::tempdir().unwrap(), free_port());
    let settings = format!(
        "[databases]\npostgres = host=127.0.0.1 port={} user=shed\n\
         [pgbouncer]\nlisten_addr = 127.0.0.1\nlisten_port = {port}\nauth_type = any\n\
         unix_socket_dir =\npool_mode = transaction\ndefault_pool_size = {sessions}\nmax_client_conn = 500\n",
        server.port
    );
    let file = folder.path().join("pooler.ini");
    std::fs::write(&file, settings).unwrap();
    let child = as_user("pgbouncer", "postgres", folder.path())
        .arg(&file)
        .spawn()
        .unwrap();
    Pooler { child, port, _folder: folder }
}

async fn open(server: &OwnServer, pooler: &Pooler, parameters: &str) -> Database {
    let url = format!("{}?pooler=transaction&{parameters}", server.url_at(pooler.port));
    let until = Instant::now() + Duration::from_secs(20);
    loop {
        match Database::open(&url).await {
            Ok(db) => return db,
            Err(err) => assert!(Instant::now() < until, "{err:#}"),
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_verb_works_behind_a_pooler_of_transactions() {
    if server("PostgreSQL").is_none() {
        return;
    }
    let own = OwnServer::postgres(&["timezone=Asia/Tokyo"]).await;
    let direct = Database::open(&own.url()).await.unwrap();
    for text in [
        "CREATE TABLE visit (id bigint PRIMARY KEY, at timestamptz NOT NULL, metres bigint NOT NULL \
         CHECK (metres < 1000000), UNIQUE (at) DEFERRABLE INITIALLY DEFERRED)",
        "ALTER ROLE shed SET standard_conforming_strings TO off",
    ] {
        direct.run_text(text, vec![]).await.unwrap();
    }
    let pooler = pooler(&own, 3);
    let db = open(&own, &pooler, "pool_size=12&statement_timeout=2s").await;
    let at = |id: i64| jiff::Timestamp::from_second(1_790_000_000 + id).unwrap();
    let visit = |id: i64| VisitToInsert { id, at: at(id), metres: id };
    // Many rows, which are inserted instead of copied.
    assert_eq!(
        db.write(&Visit::insert_all((0..3_000).map(visit)))
            .await
            .unwrap(),
        3_000
    );

    // Twelve connections take turns on three sessions, each with texts that the others have not prepared.
    let tasks = (0..24_i64).map(|task| {
        let db = db.clone();
        async move {
            for round in 0..20 {
                let id = (task * 20 + round) % 3_000;
                let shaped = (0..round % 5).fold(Visit::row(id).filter(|v| v.id.ge(0)), |query, n| {
                    query.filter(move |v| v.metres.gt(-n - 1))
                });
                let read = db.read_one(&shaped).await.unwrap();
                assert_eq!((read.id, read.at), (id, at(id)));
                let zone = Visit::row(id).select(|_| {
                    verbatim!("concat_ws(' ', current_setting('timezone'), current_setting('statement_timeout'), \
                               current_setting('standard_conforming_strings'))").typed::<String>()
                });
                assert_eq!(db.read_one(&zone).await.unwrap(), "UTC 2s on");
                let moved: Result<(), Error> = db.transaction(async |tx| {
                    tx.write(&Visit::row(id).update(|v| v.metres.set(v.metres + 1))).await?;
                    assert_eq!(tx.read_one(&zone).await?, "UTC 2s on");
                    tx.transaction(async |inner| {
                        inner.write(&Visit::row(id).update(|v| v.metres.set(v.metres - 1))).await
                    }).await?;
                    Ok(())
                }).await;
                moved.unwrap();
            }
        }
    });
    futures_util::future::join_all(tasks).await;
    let streamed: Vec<Visit> = db
        .read_stream(&Visit::rows().order_by(|v| v.id.asc()))
        .try_collect()
        .await
        .unwrap();
    assert_eq!(streamed.len(), 3_000);
    assert!(streamed.iter().all(|visit| visit.metres == visit.id));

    // A failure leaves nothing open, on a read, a write, a stream, and a COMMIT that a deferred check fails.
    let failing = Visit::row(1).update(|v| v.metres.set(2_000_000));
    assert_eq!(db.write(&failing).await.unwrap_err().kind(), ErrorKind::CheckViolation);
    let failing = Visit::row(1).update(|v| v.at.set(at(2)));
    assert_eq!(db.write(&failing).await.unwrap_err().kind(), ErrorKind::UniqueViolation);
    let divided = Visit::rows().select(|v| verbatim!("100 / ({} - 5)", v.id).typed::<i64>());
    let streamed: Result<Vec<i64>, Error> = db.read_stream(&divided).try_collect().await;
    assert_eq!(streamed.unwrap_err().kind(), ErrorKind::Database);
    db.read(&divided).await.unwrap_err();
    let open = "SELECT coalesce(string_agg(query, '; '), 'none') FROM pg_stat_activity WHERE state LIKE 'idle in transaction%'";
    let (client, connection) = tokio_postgres::connect(&own.url(), tokio_postgres::NoTls)
        .await
        .unwrap();
    tokio::spawn(connection);
    assert_eq!(client.query_one(open, &[]).await.unwrap().get::<_, &str>(0), "none");
    let named = Visit::row(1)
        .select(|_| verbatim!("(SELECT count(*) FROM pg_prepared_statements)").typed::<i64>());
    for _ in 0..6 {
        assert_eq!(db.read_one(&named).await.unwrap(), 0);
    }

    // Limits of a call, and dropped calls.
    let slow =
        Visit::row(1).select(|v| verbatim!("(SELECT {} FROM pg_sleep(30))", v.id).typed::<i64>());
    let began = Instant::now();
    let hurried = db.time_limit(Duration::from_millis(200));
    assert_eq!(hurried.read_one(&slow).await.unwrap_err().kind(), ErrorKind::StatementTimeout);
    let inside = hurried.transaction(async |tx| tx.read_one(&slow).await);
    assert_eq!(inside.await.unwrap_err().kind(), ErrorKind::StatementTimeout);
    assert!(began.elapsed() < Duration::from_millis(1_100), "{:?}", began.elapsed());
    for _ in 0..6 {
        tokio::time::timeout(Duration::from_millis(30), db.read_one(&slow))
            .await
            .unwrap_err();
    }
    // The server sees that nobody waits any more.
    let running = "SELECT count(*) FROM pg_stat_activity WHERE query LIKE '%pg_sleep(30)%' AND pid <> pg_backend_pid()";
    let until = Instant::now() + Duration::from_secs(5);
    while client
        .query_one(running, &[])
        .await
        .unwrap()
        .get::<_, i64>(0)
        > 0
    {
        assert!(Instant::now() < until, "a dropped call runs on at the server");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let counts = (0..12).map(|_| async { db.count(&Visit::rows()).await.unwrap() });
    let counted =
        tokio::time::timeout(Duration::from_secs(5), futures_util::future::join_all(counts)).await;
    assert_eq!(counted.unwrap(), [3_000; 12]);

    let url = format!("{}?pooler=transaction", own.url_at(pooler.port));
    let blocking = tokio::task::spawn_blocking(move || {
        let db = blocking::Database::open(&url).unwrap();
        db.transaction(|tx| tx.write(&Visit::row(1).update(|v| v.metres.set(77))))?;
        db.read_one(&Visit::row(1))
    });
    assert_eq!(blocking.await.unwrap().unwrap().metres, 77);
}

#[test]
fn only_postgresql_has_poolers_of_transactions() {
    let err = blocking::Database::open("sqlite::memory:?pooler=transaction").unwrap_err();
    assert!(
        err.to_string()
            .contains("names a `pooler`, which only PostgreSQL has"),
        "{err}"
    );
}
