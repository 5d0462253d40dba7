//! Servers that are full, and rows that are large.

use std::time::Duration;

use mysql_async::prelude::Queryable;
use nepheline::internal::RunText as _;
use nepheline::prelude::*;
use nepheline::{Database, Upserted, blocking};

use crate::support::own_server::OwnServer;
use crate::support::{engines_with, server};

#[derive(Debug, Clone, PartialEq, Table)]
struct Photo {
    #[nepheline(key)]
    id: i64,
    caption: String,
    pixels: Vec<u8>,
}

fn photo(id: i64, bytes: usize) -> PhotoToInsert {
    PhotoToInsert { id, caption: format!("photo {id}"), pixels: vec![id as u8; bytes] }
}

const CREATE: &str = "CREATE TABLE photo (id BIGINT PRIMARY KEY, caption VARCHAR(100) NOT NULL, pixels BYTES NOT NULL)";

async fn prepared(conn: &mut mysql_async::Conn) -> u64 {
    let row: Option<(String, u64)> = conn
        .query_first("SHOW GLOBAL STATUS LIKE 'Prepared_stmt_count'")
        .await
        .unwrap();
    row.unwrap().1
}

/// At the limit 2,387 of 3,200 queries failed.
#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_takes_no_more_prepared_statements_is_asked_all_the_same() {
    if server("MariaDB").is_none() {
        return;
    }
    const MOST: u64 = 60;
    let own = OwnServer::mariadb(&[&format!("--max-prepared-stmt-count={MOST}")]).await;
    let db = Database::open(&(own.url() + "?pool_size=4")).await.unwrap();
    db.run_text(&CREATE.replace("BYTES", "LONGBLOB"), vec![])
        .await
        .unwrap();
    db.write(&Photo::insert(photo(1, 3))).await.unwrap();
    let mut other = mysql_async::Conn::from_url(own.url() + "?stmt_cache_size=200")
        .await
        .unwrap();

    // Each shape has a text of its own, and each of 4 connections would cache 128 of them.
    let shape = |number: usize| {
        (0..number).fold(Photo::rows(), |query, n| query.filter(move |p| p.id.gt(-(n as i64) - 1)))
    };
    let ask = async |db: &Database, task: usize| {
        for round in 0..100 {
            let counted = db.count(&shape((round * 7 + task * 13) % 100)).await;
            assert_eq!(counted.unwrap(), 1, "round {round}");
        }
    };
    let eight = async |db: &Database| {
        let tasks = (0..8).map(|task| ask(db, task));
        futures_util::future::join_all(tasks).await;
    };
    eight(&db).await;
    assert!(prepared(&mut other).await <= MOST);

    // The rest is somebody else's, and what this pool has is cached by a connection that is idle.
    db.close().await;
    let db = Database::open(&(own.url() + "?pool_size=2")).await.unwrap();
    for number in 0..30 {
        assert_eq!(db.count(&shape(number)).await.unwrap(), 1);
    }
    let mut held = Vec::new();
    while prepared(&mut other).await < MOST {
        held.push(other.prep(format!("SELECT {}", held.len())).await.unwrap());
    }
    let (first, second) = (tokio::sync::oneshot::channel(), tokio::sync::oneshot::channel());
    let holding = db.clone();
    let holder = tokio::spawn(async move {
        let outcome: Result<(), Error> = holding
            .transaction(async |_| {
                first.0.send(()).unwrap();
                second.1.await.unwrap();
                Ok(())
            })
            .await;
        outcome.unwrap();
    });
    first.1.await.unwrap();
    let on_another = db.transaction(async |tx| {
        second.0.send(()).unwrap();
        holder.await.unwrap();
        tx.count(&shape(90)).await
    });
    assert_eq!(on_another.await.unwrap(), 1);
    let metrics = db.pool_metrics();
    assert_eq!((metrics.closed.relief, metrics.closed.total()), (1, 1), "{metrics:?}");

    // Somebody else has them all: it is waited for, and then the error says what to do.
    db.close().await;
    let newcomer = Database::open(&(own.url() + "?pool_size=1")).await.unwrap();
    while prepared(&mut other).await < MOST {
        held.push(other.prep(format!("SELECT {}", held.len())).await.unwrap());
    }
    let err = newcomer.count(&shape(102)).await.unwrap_err();
    assert!(err.to_string().contains("`max_prepared_stmt_count`"), "{err}");
    let (query, asking) = (shape(103), newcomer.clone());
    let waiting = tokio::spawn(async move { asking.count(&query).await });
    tokio::time::sleep(Duration::from_millis(200)).await;
    for statement in held {
        other.close(statement).await.unwrap();
    }
    assert_eq!(waiting.await.unwrap().unwrap(), 1);
    // A statement that fails is cached too, and does not fill the server.
    for _ in 0..100 {
        newcomer
            .write(&Photo::insert(photo(1, 3)))
            .await
            .unwrap_err();
    }
    assert!(prepared(&mut other).await < 10);
}

/// 300 rows of 200 kB were refused as more than one packet.
#[tokio::test(flavor = "multi_thread")]
async fn large_rows_are_split_by_their_size() {
    for engine in engines_with("large") {
        let db = engine.open_async().await;
        let bytes = engine.pick("BLOB", "bytea", "LONGBLOB");
        db.run_text("DROP TABLE IF EXISTS photo", vec![])
            .await
            .unwrap();
        db.run_text(&CREATE.replace("BYTES", bytes), vec![])
            .await
            .unwrap();
        let photos = |ids: std::ops::Range<i64>| ids.map(|id| photo(id, 200_000));
        assert_eq!(db.write(&Photo::insert_all(photos(0..120))).await.unwrap(), 120);
        assert_eq!(db.insert_stream(photos(120..240)).await.unwrap(), 120);
        let given_back = db
            .write_returning(&Photo::insert_all(photos(240..246)))
            .await;
        assert_eq!(given_back.unwrap().len(), 6);
        let upsert = Photo::insert_all(photos(244..250))
            .or_update(|p| p.id, |p, new| p.caption.set(new.caption));
        let Upserted { inserted, updated, .. } = db.write_upsert(&upsert).await.unwrap();
        assert_eq!((inserted, updated), (4, 2));
        assert_eq!(db.count(&Photo::rows()).await.unwrap(), 250);
        let stored = db
            .read(&Photo::rows().filter(|p| p.id.one_of([0, 119, 239, 249])))
            .await
            .unwrap();
        for Photo { id, pixels, .. } in &stored {
            assert_eq!((pixels.len(), pixels[0]), (200_000, *id as u8));
        }
        assert_eq!(stored.len(), 4);
        // The row at fault is told, whichever statement it is in.
        let err = db
            .write(&Photo::insert_all(photos(300..320).chain(photos(7..8))))
            .await
            .unwrap_err();
        assert_eq!((err.kind(), err.row()), (ErrorKind::UniqueViolation, Some(21)), "{err:#}");
        assert_eq!(db.count(&Photo::rows()).await.unwrap(), 250);
    }
}

/// 20,000 rows of 50 kB peaked at 483 MB.
#[test]
fn large_rows_of_an_iterator_take_a_constant_memory() {
    let folder = tempfile::tempdir().unwrap();
    let db = blocking::Database::open(&format!(
        "sqlite:{}?mode=rwc",
        folder.path().join("large.db").display()
    ))
    .unwrap();
    nepheline::internal::BlockingRunText::run_text(&db, &CREATE.replace("BYTES", "BLOB"), vec![])
        .unwrap();
    let peak = allocation_counter::measure(|| {
        assert_eq!(
            blocking::RunsQueries::insert_stream(&db, (0..2_000).map(|id| photo(id, 50_000)))
                .unwrap(),
            2_000
        );
    });
    assert!(peak.bytes_max < 12 << 20, "{} bytes at once", peak.bytes_max);
}
