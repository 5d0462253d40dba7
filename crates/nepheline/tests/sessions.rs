//! Sessions over connections that a program already has.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use futures_util::TryStreamExt;
use mysql_async::prelude::Queryable;
use nepheline::Handle;
use nepheline::prelude::*;
use nepheline_coreshed::{Lab, Specimen};
use support::server;

/// One function for whatever handle: a pool, a transaction, somebody's own connection.
async fn check(db: &impl Handle) {
    let labs = db
        .read(&Lab::rows().order_by(|l| l.id.asc()))
        .await
        .unwrap();
    assert_eq!(labs.len(), 5);
    assert_eq!(db.read_one(&Specimen::row(42)).await.unwrap().label, "O'Brien's piece");
    let listed = Lab::rows().filter(|l| l.id.one_of([1, 2, 99]));
    assert_eq!(db.count(&listed).await.unwrap(), 2);
    let streamed: Vec<Lab> = db.read_stream(&listed).try_collect().await.unwrap();
    assert_eq!(streamed.len(), 2);
    let err = db.read_one(&Specimen::row(9999)).await.unwrap_err();
    assert_eq!(err.kind(), ErrorKind::NotFound);
}

#[tokio::test]
async fn over_a_client_or_transaction_of_tokio_postgres() {
    let Some(engine) = server("PostgreSQL") else { return };
    let loaded = engine.clone();
    tokio::task::spawn_blocking(move || drop(loaded.demo()))
        .await
        .unwrap();
    let (mut client, connection) = tokio_postgres::connect(&engine.url, tokio_postgres::NoTls)
        .await
        .unwrap();
    tokio::spawn(connection);
    check(&nepheline::postgres::Session::over(&client).await.unwrap()).await;

    let transaction = client.transaction().await.unwrap();
    transaction
        .execute("UPDATE lab SET name = 'Renamed' WHERE id = 1", &[])
        .await
        .unwrap();
    let session = nepheline::postgres::Session::over(&transaction)
        .await
        .unwrap();
    assert_eq!(session.read_one(&Lab::row(1)).await.unwrap().name, "Renamed");
    transaction.rollback().await.unwrap();
    let zone = client.query_one("SHOW TIME ZONE", &[]).await.unwrap();
    assert_eq!(zone.get::<_, &str>(0), "UTC");
}

#[tokio::test]
async fn over_a_connection_of_mysql_async() {
    let Some(engine) = server("MariaDB") else { return };
    let loaded = engine.clone();
    tokio::task::spawn_blocking(move || drop(loaded.demo()))
        .await
        .unwrap();
    let mut conn = mysql_async::Conn::from_url(&engine.url).await.unwrap();
    conn.query_drop("SET SESSION sql_mode = 'ANSI_QUOTES,PIPES_AS_CONCAT'")
        .await
        .unwrap();
    let session = nepheline::mysql::Session::over(conn).await.unwrap();
    check(&session).await;
    let mut conn = session.into_inner().await.unwrap();
    let mode: Option<String> = conn.query_first("SELECT @@sql_mode").await.unwrap();
    assert!(!mode.unwrap().contains("ANSI_QUOTES"), "the session was set up");
    conn.disconnect().await.unwrap();
}

#[test]
fn over_a_connection_or_transaction_of_rusqlite() {
    use nepheline::blocking::{Database, Handle, Session};
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("own.db");
    let url = format!("sqlite:{}?mode=rwc", path.display());
    nepheline_coreshed::load(&Database::open(&url).unwrap()).unwrap();

    let mut connection = rusqlite::Connection::open(&path).unwrap();
    let session = Session::over(&connection).unwrap();
    assert_eq!(session.count(&Specimen::rows()).unwrap(), 600);
    let transaction = connection.transaction().unwrap();
    transaction
        .execute("UPDATE lab SET name = 'Renamed' WHERE id = 1", [])
        .unwrap();
    let session = Session::over(&transaction).unwrap();
    assert_eq!(session.read_one(&Lab::row(1)).unwrap().name, "Renamed");
    // A misspelt column in double quotes is an error now, also in the program's own SQL.
    assert!(transaction.prepare("SELECT \"nmae\" FROM lab").is_err());
}
