//! Settings and figures of operators: pool limits and metrics, credentials that change, closing, work after a commit.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use futures_util::FutureExt;
use nepheline::internal::{BlockingRunText as _, RunText as _};
use nepheline::prelude::*;
use nepheline::{Credentials, Database, Options, blocking};

use crate::support::{Engine, engines_with, servers};

#[derive(Debug, Clone, PartialEq, Table)]
struct Shelf {
    #[nepheline(key)]
    id: i64,
}

/// A table of its own, and a handle of so many connections.
async fn shelves(engine: &Engine, parameters: &str) -> Database {
    let db = Database::open(&engine.with(parameters)).await.unwrap();
    let plain = engine.open_async().await;
    plain
        .run_text("CREATE TABLE IF NOT EXISTS shelf (id BIGINT PRIMARY KEY)", vec![])
        .await
        .unwrap();
    plain
        .write(&Shelf::rows().delete().every_row())
        .await
        .unwrap();
    db
}

/// The tests share one table, so they take turns.
static TURN: tokio::sync::Mutex<()> = tokio::sync::Mutex::const_new(());

#[tokio::test(flavor = "multi_thread")]
async fn work_after_a_commit_is_done_only_after_a_commit() {
    let _turn = TURN.lock().await;
    for engine in engines_with("operator") {
        let db = shelves(&engine, "pool_size=1").await;
        let (done, told) = std::sync::mpsc::channel();
        let note = |number: i64| {
            let done = done.clone();
            move || done.send(number).unwrap()
        };
        let kept: Result<(), Error> = db
            .transaction(async |tx| {
                tx.after_commit(note(1));
                tx.write(&Shelf::insert(ShelfToInsert { id: 1 })).await?;
                tx.transaction(async |inner| {
                    inner.after_commit(note(2));
                    inner
                        .transaction(async |innermost| {
                            innermost.after_commit(note(3));
                            Ok::<_, Error>(())
                        })
                        .await
                })
                .await?;
                let undone: Result<(), Error> = tx
                    .transaction(async |inner| {
                        inner.after_commit(note(-1));
                        inner
                            .transaction(async |innermost| {
                                innermost.after_commit(note(-2));
                                Ok::<_, Error>(())
                            })
                            .await?;
                        inner.write(&Shelf::insert(ShelfToInsert { id: 1 })).await?;
                        Ok(())
                    })
                    .await;
                assert_eq!(undone.unwrap_err().kind(), ErrorKind::UniqueViolation);
                tx.after_commit(note(4));
                Ok(())
            })
            .await;
        kept.unwrap();
        assert_eq!(told.try_iter().collect::<Vec<_>>(), [1, 2, 3, 4], "{}", engine.name);

        // Undone by an error, by a failed statement that was ignored, by a panic, and by a drop.
        let failed: Result<(), Error> = db
            .transaction(async |tx| {
                tx.after_commit(note(-3));
                let _ = tx.write(&Shelf::insert(ShelfToInsert { id: 1 })).await;
                Ok(())
            })
            .await;
        assert_eq!(failed.unwrap_err().kind(), ErrorKind::TransactionEnded);
        let panicked = db.transaction(async |tx| -> Result<(), Error> {
            tx.after_commit(note(-4));
            panic!("on purpose")
        });
        assert!(
            std::panic::AssertUnwindSafe(panicked)
                .catch_unwind()
                .await
                .is_err()
        );
        let mut dropped = Box::pin(db.transaction(async |tx| -> Result<(), Error> {
            tx.after_commit(note(-5));
            std::future::pending().await
        }));
        assert!(futures_util::poll!(&mut dropped).is_pending());
        tokio::time::timeout(Duration::from_millis(50), &mut dropped)
            .await
            .unwrap_err();
        drop(dropped);
        assert_eq!(told.try_iter().next(), None, "{}", engine.name);

        // The pool has its one connection back, so that the work may use it.
        let (counted, counts) = std::sync::mpsc::channel();
        let other = db.clone();
        let runtime = tokio::runtime::Handle::current();
        let kept = db.transaction(async |tx| {
            tx.after_commit(move || {
                let counting = async move { other.count(&Shelf::rows()).await };
                counted
                    .send(tokio::task::block_in_place(|| runtime.block_on(counting)))
                    .unwrap();
            });
            Ok::<_, Error>(())
        });
        kept.await.unwrap();
        assert_eq!(counts.recv().unwrap().unwrap(), 1);
    }
}

#[test]
fn work_after_a_blocking_commit_is_done_only_after_a_commit() {
    let _turn = TURN.blocking_lock();
    for engine in engines_with("operator_blocking") {
        let db = engine.open();
        let done = Arc::new(Mutex::new(Vec::new()));
        let note = |number: i64| {
            let done = done.clone();
            move || done.lock().unwrap().push(number)
        };
        let kept: Result<(), Error> = db.transaction(|tx| {
            tx.after_commit(note(1));
            let _ = tx.transaction(|inner| {
                inner.after_commit(note(-1));
                Err::<(), Error>(inner.read_one(&Shelf::row(-7)).unwrap_err())
            });
            tx.transaction(|inner| {
                inner.after_commit(note(2));
                Ok(())
            })
        });
        kept.unwrap();
        let _: Result<(), Error> = db.transaction(|tx| {
            tx.after_commit(note(-2));
            Err(tx.read_one(&Shelf::row(-7)).unwrap_err())
        });
        assert_eq!(*done.lock().unwrap(), [1, 2], "{}", engine.name);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn metrics_tell_what_the_pool_does_and_closing_waits_for_what_runs() {
    let _turn = TURN.lock().await;
    for engine in engines_with("operator") {
        let db = shelves(&engine, "pool_size=2&pool_wait=100ms").await;
        let lent = async |tx: nepheline::Transaction| {
            tokio::time::sleep(Duration::from_millis(300)).await;
            tx.write(&Shelf::insert(ShelfToInsert { id: 1 })).await
        };
        let mut held = Box::pin(db.transaction(lent));
        let mut other = Box::pin(
            db.transaction(async |_| -> Result<(), Error> { std::future::pending().await }),
        );
        for _ in 0..20 {
            let _ = tokio::time::timeout(Duration::from_millis(1), &mut held).await;
            let _ = tokio::time::timeout(Duration::from_millis(1), &mut other).await;
        }
        // SQLite's second transaction waits for the first to end its own.
        let metrics = db.pool_metrics();
        assert_eq!((metrics.most, metrics.connections, metrics.idle), (2, 2, 0), "{metrics:?}");
        let all = Shelf::rows();
        let mut waiting = Box::pin(db.count(&all).map(|counted| counted.unwrap_err()));
        assert!(futures_util::poll!(&mut waiting).is_pending());
        assert_eq!(db.pool_metrics().waiting, 1);
        assert_eq!(waiting.await.kind(), ErrorKind::PoolExhausted);
        assert_eq!(db.pool_metrics().waits_timed_out, 1);
        drop(other);

        let closing = {
            let db = db.clone();
            tokio::spawn(async move { db.close().await })
        };
        assert_eq!(held.await.unwrap(), 1, "what runs goes on to its end");
        tokio::time::timeout(Duration::from_secs(8), closing)
            .await
            .unwrap()
            .unwrap();
        let metrics = db.pool_metrics();
        assert_eq!((metrics.connections, metrics.idle, metrics.waiting), (0, 0, 0), "{metrics:?}");
        assert_eq!(metrics.opened, metrics.closed.total(), "{metrics:?}");
        assert!(metrics.closed.with_handle >= 1, "{metrics:?}");
        let err = db.clone().count(&Shelf::rows()).await.unwrap_err();
        assert_eq!((err.kind(), err.to_string().contains("closed")), (ErrorKind::Connection, true));
        let err = db
            .transaction(async |_| Ok::<_, Error>(()))
            .await
            .unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Connection);
        assert_eq!(
            engine
                .open_async()
                .await
                .count(&Shelf::rows())
                .await
                .unwrap(),
            1
        );

        let engine = engine.clone();
        let blocking = tokio::task::spawn_blocking(move || {
            let db = engine.open();
            assert_eq!(db.pool_metrics().connections, 1);
            db.clone().close();
            assert_eq!((db.pool_metrics().most, db.pool_metrics().connections), (0, 0));
            db.count(&Shelf::rows()).unwrap_err()
        });
        assert_eq!(blocking.await.unwrap().kind(), ErrorKind::Connection);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn connections_that_rest_or_live_for_too_long_are_closed() {
    let _turn = TURN.lock().await;
    for engine in engines_with("operator") {
        let db = shelves(&engine, "pool_size=3&idle_limit=200ms").await;
        let count = async || db.count(&Shelf::rows()).await.unwrap();
        tokio::join!(count(), count(), count());
        let until = Instant::now() + Duration::from_secs(5);
        while db.pool_metrics().connections > 0 {
            assert!(Instant::now() < until, "{:?}", db.pool_metrics());
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        let metrics = db.pool_metrics();
        assert_eq!(metrics.closed.idle, metrics.opened, "{metrics:?}");
        assert_eq!(count().await, 0);

        // One that is always in use is replaced when it comes back.
        let db = shelves(&engine, "pool_size=1&life_limit=150ms&idle_limit=never").await;
        let until = Instant::now() + Duration::from_millis(700);
        while Instant::now() < until {
            assert_eq!(db.count(&Shelf::rows()).await.unwrap(), 0);
        }
        let metrics = db.pool_metrics();
        assert!((2..=6).contains(&metrics.closed.old), "{metrics:?}");
        assert_eq!(metrics.closed.old, metrics.closed.total(), "{metrics:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn credentials_are_asked_for_at_each_connect() {
    for engine in servers() {
        let mut url = url::Url::parse(&engine.url).unwrap();
        let (user, password) = (url.username().to_owned(), url.password().unwrap().to_owned());
        url.set_password(None).unwrap();
        url.set_username("nobody").unwrap();
        let is_right = Arc::new(AtomicBool::new(false));
        let asked = is_right.clone();
        let options = Options::from_url(url.as_str())
            .unwrap()
            .pool_size(1)
            .credentials_from(move || {
                let (user, password, is_right) = (user.clone(), password.clone(), asked.clone());
                async move {
                    match is_right.load(Ordering::SeqCst) {
                        true => Ok(Credentials::new(user, password)),
                        false => Err("the vault is locked".into()),
                    }
                }
            });
        let err = options.clone().open().await.unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Connection);
        assert!(format!("{err:#}").ends_with("the vault is locked"), "{err:#}");
        is_right.store(true, Ordering::SeqCst);
        let db = options
            .clone()
            .idle_limit(Some(Duration::from_millis(50)))
            .open()
            .await
            .unwrap();
        db.run_text("SELECT 1", vec![]).await.unwrap();
        is_right.store(false, Ordering::SeqCst);
        tokio::time::sleep(Duration::from_millis(300)).await;
        let err = db.run_text("SELECT 1", vec![]).await.unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Connection);
        is_right.store(true, Ordering::SeqCst);
        db.run_text("SELECT 1", vec![]).await.unwrap();
        assert!(!format!("{:?} {options:?}", Credentials::new("a", "hidden")).contains("hidden"));
        let blocking = tokio::task::spawn_blocking(move || {
            options
                .open_blocking()
                .unwrap()
                .run_text("SELECT 1", vec![])
        });
        blocking.await.unwrap().unwrap();
    }
}

#[test]
fn a_runtime_that_ends_in_the_middle_neither_hangs_nor_panics() {
    let _turn = TURN.blocking_lock();
    for engine in engines_with("operator") {
        let slow = engine.pick(
            "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT count(*) FROM n",
            "SELECT pg_sleep(60)",
            "SELECT SLEEP(60)",
        );
        for threads in [false, true] {
            let mut builder = match threads {
                true => tokio::runtime::Builder::new_multi_thread(),
                false => tokio::runtime::Builder::new_current_thread(),
            };
            let runtime = builder.enable_all().build().unwrap();
            let db = runtime.block_on(shelves(&engine, "pool_size=2"));
            let (running, in_transaction) = (db.clone(), db.clone());
            let query = runtime.spawn(async move { running.run_text(slow, vec![]).await });
            let transaction = runtime.spawn(async move {
                in_transaction
                    .transaction(async |tx| {
                        tx.write(&Shelf::insert(ShelfToInsert { id: 7 })).await?;
                        std::future::pending::<Result<(), Error>>().await
                    })
                    .await
            });
            runtime.block_on(async { tokio::time::sleep(Duration::from_millis(200)).await });
            let began = Instant::now();
            drop(runtime);
            drop((query, transaction));
            drop(db);
            assert!(
                began.elapsed() < Duration::from_secs(7),
                "{}: {:?}",
                engine.name,
                began.elapsed()
            );
            // Nothing of it is stored, and nothing holds the table.
            let db = blocking::Database::open(&engine.with("lock_timeout=8s")).unwrap();
            db.write(&Shelf::insert(ShelfToInsert { id: 7 })).unwrap();
            db.write(&Shelf::rows().delete().every_row()).unwrap();
        }
    }
}
