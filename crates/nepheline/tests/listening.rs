//! Notifications of PostgreSQL channels.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::time::Duration;

use futures_util::StreamExt;
use nepheline::prelude::*;
use nepheline::{Database, Notification, Notifications, RunsQueries, WholeStatement, statement};
use support::{engines, server};

async fn next(notifications: &mut Notifications<i64>) -> Result<Notification<i64>, Error> {
    let next = tokio::time::timeout(Duration::from_secs(20), notifications.next());
    next.await.unwrap().unwrap()
}

fn notify(channel: &str, payload: &str) -> WholeStatement {
    statement!("SELECT pg_notify({channel}, {payload})").writing()
}

async fn count(db: &Database, text: WholeStatement) -> i64 {
    db.read_one(&text.rows_as::<i64>()).await.unwrap()
}

#[tokio::test]
async fn notifications_arrive_after_the_commit_and_after_a_lost_connection() {
    for engine in engines()
        .into_iter()
        .filter(|engine| engine.dialect() != Dialect::Postgres)
    {
        let db = engine.open_async().await;
        let err = db.listen::<i64>("measured").await.unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Unsupported, "on {}: {err}", engine.name);
    }
    let Some(engine) = server("PostgreSQL") else { return };
    let db = engine.open_async().await;
    let channel = "listening \"Odd\"";
    let mut arriving = db.listen::<i64>(channel).await.unwrap();
    db.transaction(async |tx| {
        tx.write(&notify(channel, "1")).await?;
        let early = tokio::time::timeout(Duration::from_millis(200), arriving.next()).await;
        assert!(early.is_err(), "it arrived before the commit");
        Ok::<_, Error>(())
    })
    .await
    .unwrap();
    assert_eq!(next(&mut arriving).await.unwrap(), Notification::Arrived(1));
    db.write(&notify(channel, "two")).await.unwrap();
    db.write(&notify(channel, "3")).await.unwrap();
    let unfit = next(&mut arriving).await.unwrap_err();
    assert_eq!(unfit.kind(), ErrorKind::Mismatch, "{unfit}");
    assert!(unfit.to_string().contains("\"two\""), "{unfit}");
    assert_eq!(next(&mut arriving).await.unwrap(), Notification::Arrived(3));
    // The server ends the connection; what is sent meanwhile is missed, and that is reported.
    let of_listener = || {
        statement!(
            "SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity \
             WHERE datname = current_database() AND query LIKE 'LISTEN \"listening %'"
        )
    };
    assert_eq!(count(&db, of_listener()).await, 1);
    assert_eq!(next(&mut arriving).await.unwrap(), Notification::Reconnected);
    db.write(&notify(channel, "4")).await.unwrap();
    assert_eq!(next(&mut arriving).await.unwrap(), Notification::Arrived(4));
    // A dropped stream ends its connection.
    drop(arriving);
    let left = || {
        statement!(
            "SELECT count(*) FROM pg_stat_activity \
             WHERE datname = current_database() AND query LIKE 'LISTEN \"listening %'"
        )
    };
    for _ in 0..50 {
        if count(&db, left()).await == 0 {
            return;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    panic!("the connection of the listener is still open");
}
