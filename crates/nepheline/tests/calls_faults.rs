//! Hand-written SQL that fails, or whose caller goes away: nothing is lost, half written, or mixed up.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::time::Duration;

use nepheline::prelude::*;
use nepheline::{
    Database, Options, RunsQueries, Script, StatementRows, WholeStatement, call, script, statement,
};
use support::{Engine, engines_with, server, servers};

fn text(text: impl Into<String>) -> WholeStatement {
    WholeStatement::trusting_text_made_at_run_time(text)
}

/// A database with one connection, and an empty table.
async fn prepared(engine: &Engine, table: &str) -> Database {
    let db = Options::from_url(&engine.url)
        .unwrap()
        .pool_size(1)
        .open()
        .await
        .unwrap();
    db.write(&text(format!("DROP TABLE IF EXISTS {table}")))
        .await
        .unwrap();
    db.write(&text(format!("CREATE TABLE {table} (number BIGINT PRIMARY KEY)")))
        .await
        .unwrap();
    db
}

fn numbers(table: &str) -> StatementRows<i64> {
    text(format!("SELECT number FROM {table} ORDER BY number")).rows_as::<i64>()
}

#[tokio::test]
async fn a_column_that_changed_its_type_is_told_or_read() {
    for engine in engines_with("changed") {
        let db = prepared(&engine, "fault_changed").await;
        let name = engine.name;
        db.write(&statement!("INSERT INTO fault_changed VALUES (7)"))
            .await
            .unwrap();
        let read = statement!("SELECT number FROM fault_changed").rows_as::<i64>();
        // Often enough that the server and the driver have cached everything they cache.
        for _ in 0..7 {
            assert_eq!(db.read(&read).await.unwrap(), [7], "on {name}");
        }
        let changes = match engine.dialect() {
            Dialect::Sqlite => {
                "DROP TABLE fault_changed; CREATE TABLE fault_changed (number TEXT); INSERT INTO fault_changed VALUES ('seven')"
            }
            Dialect::Postgres => {
                "ALTER TABLE fault_changed ALTER COLUMN number TYPE text; UPDATE fault_changed SET number = 'seven'"
            }
            _ => {
                "ALTER TABLE fault_changed MODIFY number VARCHAR(20); UPDATE fault_changed SET number = 'seven'"
            }
        };
        db.run_script(&Script::trusting_text_made_at_run_time(changes))
            .await
            .unwrap();
        let err = db.read(&read).await.unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Mismatch, "on {name}: {err}");
        let as_text = statement!("SELECT number FROM fault_changed").rows_as::<String>();
        assert_eq!(db.read(&as_text).await.unwrap(), ["seven"], "on {name}");
        // A column that is gone, too.
        db.write(&text("ALTER TABLE fault_changed RENAME COLUMN number TO amount"))
            .await
            .unwrap();
        let err = db.read(&as_text).await.unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Database, "on {name}: {err}");
    }
}

#[tokio::test]
async fn a_dropped_call_stops_at_the_server_and_undoes_its_transaction() {
    for engine in servers() {
        let db = prepared(&engine, "fault_dropped").await;
        let name = engine.name;
        let routines = engine.pick(
            "",
            "CREATE OR REPLACE PROCEDURE fault_slow(number bigint) LANGUAGE plpgsql AS $$ BEGIN
                INSERT INTO fault_dropped VALUES (number); PERFORM pg_sleep(20); END $$;
             CREATE OR REPLACE FUNCTION fault_slow_cursor() RETURNS refcursor LANGUAGE plpgsql AS $$
                DECLARE rows refcursor; BEGIN OPEN rows FOR SELECT number, pg_sleep(20)::text FROM fault_dropped; RETURN rows; END $$",
            "CREATE OR REPLACE PROCEDURE fault_slow(number BIGINT) BEGIN
                INSERT INTO fault_dropped VALUES (number); DO SLEEP(20); SELECT 1; END",
        );
        db.run_script(&Script::trusting_text_made_at_run_time(routines))
            .await
            .unwrap();
        let slow = engine.pick("", "SELECT pg_sleep(20)", "SELECT SLEEP(20)");
        let inserting =
            script!("INSERT INTO fault_dropped VALUES (3); INSERT INTO fault_dropped VALUES (4)");
        let slow_script = Script::trusting_text_made_at_run_time(format!(
            "INSERT INTO fault_dropped VALUES (2); {slow}"
        ));
        let soon = Duration::from_millis(300);
        let begun = std::time::Instant::now();
        // Each in a transaction, whose later statements are refused, and which leaves nothing.
        let dropped = db.transaction(async |tx| {
            assert!(
                tokio::time::timeout(soon, tx.call(&call!("fault_slow"(1_i64))))
                    .await
                    .is_err()
            );
            tx.write(&statement!("INSERT INTO fault_dropped VALUES (9)"))
                .await
        });
        assert_eq!(dropped.await.unwrap_err().kind(), ErrorKind::TransactionEnded, "on {name}");
        let dropped = db.transaction(async |tx| {
            tx.write(&statement!("INSERT INTO fault_dropped VALUES (8)"))
                .await?;
            assert!(
                tokio::time::timeout(soon, tx.write(&text(slow)))
                    .await
                    .is_err()
            );
            tx.read(&numbers("fault_dropped")).await.map(drop)
        });
        assert_eq!(dropped.await.unwrap_err().kind(), ErrorKind::TransactionEnded, "on {name}");
        assert!(db.read(&numbers("fault_dropped")).await.unwrap().is_empty(), "on {name}");
        // And alone: a script is one transaction where the engine can, and the rest never runs.
        assert!(
            tokio::time::timeout(soon, db.run_script(&slow_script))
                .await
                .is_err()
        );
        let kept: &[i64] = if engine.dialect() == Dialect::MariaDb { &[2] } else { &[] };
        assert_eq!(db.read(&numbers("fault_dropped")).await.unwrap(), kept, "on {name}");
        assert!(
            tokio::time::timeout(soon, db.call(&call!("fault_slow"(5_i64))))
                .await
                .is_err()
        );
        db.run_script(&inserting).await.unwrap();
        let stored = db.read(&numbers("fault_dropped")).await.unwrap();
        assert!(stored.ends_with(&[3, 4]) || stored.ends_with(&[3, 4, 5]), "on {name}: {stored:?}");
        if engine.dialect() == Dialect::Postgres {
            let cursor = || call!("fault_slow_cursor"()).cursor_as::<(i64, String)>();
            assert!(
                tokio::time::timeout(soon, db.call(&cursor()))
                    .await
                    .is_err()
            );
            let open = statement!("SELECT count(*) FROM pg_cursors WHERE name LIKE '<unnamed%'")
                .rows_as::<i64>();
            assert_eq!(db.read_one(&open).await.unwrap(), 0, "on {name}");
        }
        // Nobody waited for a whole call.
        assert!(begun.elapsed() < Duration::from_secs(20), "on {name}");
    }
}

#[tokio::test]
async fn a_cursor_without_its_transaction_is_an_error_and_no_more() {
    let Some(engine) = server("PostgreSQL") else { return };
    let db = prepared(&engine, "fault_cursor").await;
    db.run_script(&script!(
        "CREATE OR REPLACE FUNCTION fault_no_cursor() RETURNS refcursor LANGUAGE plpgsql AS $$ BEGIN RETURN 'nowhere'; END $$;
         CREATE OR REPLACE FUNCTION fault_null_cursor() RETURNS refcursor LANGUAGE plpgsql AS $$ BEGIN RETURN NULL; END $$;
         CREATE OR REPLACE FUNCTION fault_late_cursor() RETURNS refcursor LANGUAGE plpgsql AS $$
             DECLARE rows refcursor; BEGIN OPEN rows FOR SELECT 100 / (1500 - n) FROM generate_series(1, 3000) n; RETURN rows; END $$"
    ))
    .await
    .unwrap();
    let missing = call!("fault_no_cursor"()).cursor_as::<i64>();
    let late = call!("fault_late_cursor"()).cursor_as::<i32>();
    for _ in 0..2 {
        let err = db.call(&missing).await.unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Database, "{err}");
        assert!(err.to_string().contains("nowhere"), "{err}");
        // The second chunk fails, after a thousand rows.
        let err = db.call(&late).await.unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Database, "{err}");
    }
    let none = call!("fault_null_cursor"()).cursor_as::<i64>();
    assert!(db.call(&none).await.unwrap().is_empty());
    // Inside, it ends the transaction that the program opened, like any failed statement.
    let ended = db.transaction(async |tx| {
        tx.write(&statement!("INSERT INTO fault_cursor VALUES (1)"))
            .await?;
        tx.call(&late).await.unwrap_err();
        tx.call(&none).await
    });
    assert_eq!(ended.await.unwrap_err().kind(), ErrorKind::TransactionEnded);
    let inner = db.transaction(async |tx| {
        tx.write(&statement!("INSERT INTO fault_cursor VALUES (2)"))
            .await?;
        let inner = tx.transaction(async |tx| tx.call(&missing).await).await;
        assert_eq!(inner.unwrap_err().kind(), ErrorKind::Database);
        tx.call(&none).await
    });
    assert!(inner.await.unwrap().is_empty());
    assert_eq!(db.read(&numbers("fault_cursor")).await.unwrap(), [2]);
}
