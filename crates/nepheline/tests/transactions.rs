//! Transactions on every engine: what is kept, what is undone, and what others may see.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::panic::AssertUnwindSafe;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use futures_util::FutureExt;
use nepheline::internal::{BlockingRunText as _, RunText as _};
use nepheline::prelude::*;
use nepheline::{Database, Isolation, Transaction, TransactionOptions, blocking};
use support::{Engine, engines, servers};
use tokio::sync::Barrier;

#[derive(Debug, Clone, PartialEq, Table)]
struct Ledger {
    #[nepheline(key)]
    id: i64,
    metres: i64,
}

/// A database with a table of its own for a test, holding rows 1 and 2 with 100 metres each.
async fn ledger(engine: &Engine) -> Database {
    let db = engine.open_async().await;
    db.run_text("DROP TABLE IF EXISTS ledger", vec![])
        .await
        .unwrap();
    let text = "CREATE TABLE ledger (id BIGINT PRIMARY KEY, metres BIGINT NOT NULL)";
    db.run_text(text, vec![]).await.unwrap();
    db.run_text("INSERT INTO ledger VALUES (1, 100), (2, 100)", vec![])
        .await
        .unwrap();
    db
}

async fn add(tx: &Transaction, id: i64, metres: i64) -> Result<(), Error> {
    tx.run_text(&format!("UPDATE ledger SET metres = metres + {metres} WHERE id = {id}"), vec![])
        .await
}

async fn metres(db: &Database) -> Vec<i64> {
    let rows = db
        .read(&Ledger::rows().order_by(|l| l.id.asc()))
        .await
        .unwrap();
    rows.into_iter().map(|row| row.metres).collect()
}

/// The tests share one table, so they take turns.
static TURN: tokio::sync::Mutex<()> = tokio::sync::Mutex::const_new(());

#[tokio::test(flavor = "multi_thread")]
async fn ok_commits_and_everything_else_undoes() {
    let _turn = TURN.lock().await;
    for engine in engines() {
        let db = ledger(&engine).await;
        let seen = db
            .transaction(async |tx| {
                add(&tx, 1, 5).await?;
                tx.read_one(&Ledger::row(1)).await
            })
            .await;
        assert_eq!(seen.unwrap().metres, 105, "on {}", engine.name);
        assert_eq!(metres(&db).await, [105, 100]);

        let failed: Result<(), Error> = db
            .transaction(async |tx| {
                add(&tx, 1, 1_000).await?;
                tx.read_one(&Ledger::row(77)).await.map(drop)
            })
            .await;
        assert_eq!(failed.unwrap_err().kind(), ErrorKind::NotFound, "the work's own error");
        assert_eq!(metres(&db).await, [105, 100], "Err undoes, on {}", engine.name);

        let panicked = AssertUnwindSafe(db.transaction(async |tx| {
            add(&tx, 1, 1_000).await?;
            if add(&tx, 2, 1_000).await.is_ok() {
                panic!("on purpose");
            }
            Ok::<(), Error>(())
        }))
        .catch_unwind()
        .await;
        assert!(panicked.is_err());
        assert_eq!(metres(&db).await, [105, 100], "a panic undoes, on {}", engine.name);

        let dropped = db.transaction(async |tx| {
            add(&tx, 1, 1_000).await?;
            std::future::pending::<Result<(), Error>>().await
        });
        assert!(
            tokio::time::timeout(Duration::from_millis(300), dropped)
                .await
                .is_err()
        );
        assert_eq!(metres(&db).await, [105, 100], "a dropped future undoes, on {}", engine.name);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn inner_transactions_are_kept_or_undone_alone() {
    let _turn = TURN.lock().await;
    for engine in engines() {
        let db = ledger(&engine).await;
        let outcome: Result<(), Error> = db
            .transaction(async |tx| {
                add(&tx, 1, 1).await?;
                let undone: Result<(), Error> = tx
                    .transaction(async |inner| {
                        add(&inner, 1, 1_000).await?;
                        // A failed statement inside does not spoil the outer one on any engine.
                        inner.run_text("SELECT nonsense FROM nowhere", vec![]).await
                    })
                    .await;
                assert_eq!(undone.unwrap_err().kind(), ErrorKind::Database);
                tx.transaction(async |inner| {
                    add(&inner, 2, 10).await?;
                    inner
                        .transaction(async |innermost| add(&innermost, 2, 20).await)
                        .await
                })
                .await
            })
            .await;
        outcome.unwrap();
        assert_eq!(metres(&db).await, [101, 130], "on {}", engine.name);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_read_only_transaction_refuses_to_write_and_leaves_no_trace() {
    let _turn = TURN.lock().await;
    for engine in engines() {
        let db = ledger(&engine).await;
        let options = TransactionOptions::new()
            .read_only()
            .isolation(Isolation::Serializable);
        let outcome = db
            .transaction_with(options, async |tx| add(&tx, 1, 1).await)
            .await;
        assert_eq!(outcome.unwrap_err().kind(), ErrorKind::Database, "on {}", engine.name);
        let count = db
            .transaction_with(options, async |tx| tx.count(&Ledger::rows()).await)
            .await;
        assert_eq!(count.unwrap(), 2);
        // The connection writes again afterwards.
        for _ in 0..3 {
            db.transaction(async |tx| add(&tx, 1, 1).await)
                .await
                .unwrap();
        }
        assert_eq!(metres(&db).await, [103, 100], "on {}", engine.name);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_conflict_is_told_apart_and_attempts_overcome_it() {
    let _turn = TURN.lock().await;
    for engine in servers() {
        let db = ledger(&engine).await;
        // Each takes the row that the other wants next: a deadlock on every server.
        let meet = std::sync::Arc::new(Barrier::new(2));
        let cross = |first: i64, second: i64, attempts: u32| {
            let (db, meet) = (db.clone(), meet.clone());
            async move {
                let tries = AtomicU32::new(0);
                let outcome = db
                    .transaction_attempts(attempts, TransactionOptions::new(), async |tx| {
                        let first_try = tries.fetch_add(1, Ordering::Relaxed) == 0;
                        add(&tx, first, 1).await?;
                        if first_try {
                            meet.wait().await;
                        }
                        let met = add(&tx, second, 1).await;
                        if let Err(err) = &met
                            && err.kind() == ErrorKind::Conflict
                        {
                            let after = tx.count(&Ledger::rows()).await.unwrap_err();
                            assert_eq!(after.kind(), ErrorKind::TransactionEnded);
                        }
                        met
                    })
                    .await;
                (outcome, tries.into_inner())
            }
        };
        let ((one, _), (other, _)) = tokio::join!(
            tokio::spawn(cross(1, 2, 1)).map(Result::unwrap),
            tokio::spawn(cross(2, 1, 1)).map(Result::unwrap)
        );
        let failures: Vec<_> = [one, other].into_iter().filter_map(Result::err).collect();
        assert_eq!(failures.len(), 1, "one of two on {}", engine.name);
        assert_eq!(failures[0].kind(), ErrorKind::Conflict);
        assert_eq!(metres(&db).await, [101, 101], "and only the other is kept");

        let ((one, tries), (other, other_tries)) = tokio::join!(
            tokio::spawn(cross(1, 2, 5)).map(Result::unwrap),
            tokio::spawn(cross(2, 1, 5)).map(Result::unwrap)
        );
        one.unwrap();
        other.unwrap();
        assert!(tries + other_tries >= 3, "somebody had to try again on {}", engine.name);
        assert_eq!(metres(&db).await, [103, 103]);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn serializable_transactions_do_not_decide_on_stale_facts() {
    let _turn = TURN.lock().await;
    for engine in servers() {
        let db = ledger(&engine).await;
        let options = TransactionOptions::new().isolation(Isolation::Serializable);
        let meet = std::sync::Arc::new(Barrier::new(2));
        // Each takes 150 metres if both rows together have them, as they have once.
        let take = |id: i64| {
            let (db, meet) = (db.clone(), meet.clone());
            async move {
                let tries = AtomicU32::new(0);
                db.transaction_attempts(5, options, async |tx| {
                    let rows = tx.read(&Ledger::rows()).await?;
                    if tries.fetch_add(1, Ordering::Relaxed) == 0 {
                        meet.wait().await;
                    }
                    match rows.iter().map(|row| row.metres).sum::<i64>() >= 150 {
                        true => add(&tx, id, -150).await.map(|()| true),
                        false => Ok::<_, Error>(false),
                    }
                })
                .await
            }
        };
        let (one, other) = tokio::join!(
            tokio::spawn(take(1)).map(Result::unwrap),
            tokio::spawn(take(2)).map(Result::unwrap)
        );
        assert_ne!(one.unwrap(), other.unwrap(), "only one takes them, on {}", engine.name);
        assert_eq!(metres(&db).await.iter().sum::<i64>(), 50);
    }
}

#[test]
fn blocking_transactions_do_the_same() {
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let _turn = TURN.blocking_lock();
    for engine in engines() {
        runtime.block_on(ledger(&engine));
        let db = engine.open();
        let add = |tx: &blocking::Transaction<'_>, id: i64, metres: i64| {
            tx.run_text(
                &format!("UPDATE ledger SET metres = metres + {metres} WHERE id = {id}"),
                vec![],
            )
        };
        let metres = || -> Vec<i64> {
            let rows = db.read(&Ledger::rows().order_by(|l| l.id.asc())).unwrap();
            rows.into_iter().map(|row| row.metres).collect()
        };
        db.transaction(|tx| {
            add(tx, 1, 5)?;
            let undone: Result<(), Error> = tx.transaction(|inner| {
                add(inner, 1, 1_000)?;
                inner.run_text("SELECT nonsense FROM nowhere", vec![])
            });
            assert!(undone.is_err());
            tx.transaction(|inner| add(inner, 2, 7))
        })
        .unwrap();
        assert_eq!(metres(), [105, 107], "on {}", engine.name);

        let failed = db.transaction(|tx| {
            add(tx, 1, 1_000)?;
            tx.read_one(&Ledger::row(77))
        });
        assert_eq!(failed.unwrap_err().kind(), ErrorKind::NotFound);
        let panicked = std::panic::catch_unwind(AssertUnwindSafe(|| {
            db.transaction(|tx| -> Result<(), Error> {
                add(tx, 1, 1_000)?;
                panic!("on purpose");
            })
        }));
        assert!(panicked.is_err());
        assert_eq!(metres(), [105, 107], "undone on {}", engine.name);

        let options = TransactionOptions::new().read_only();
        assert!(db.transaction_with(options, |tx| add(tx, 1, 1)).is_err());
        db.transaction(|tx| add(tx, 1, 1)).unwrap();
        assert_eq!(metres(), [106, 107], "on {}", engine.name);
    }
}
