//! A server of the test's own, with settings that nobody else wants.

use nepheline::Database;
use nepheline::internal::RunText as _;
use nepheline::prelude::*;

use crate::support::own_server::OwnServer;
use crate::support::server;

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "timed_out")]
struct Held {
    #[nepheline(key)]
    id: i64,
    metres: i64,
}

/// The server undid the whole transaction, the work went on, and the first write was lost with `Ok`.
#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_undoes_all_at_a_lock_timeout_loses_no_write_unnoticed() {
    if server("MariaDB").is_none() {
        return;
    }
    let own = OwnServer::mariadb(&["--innodb-rollback-on-timeout=ON"]).await;
    let url = own.url() + "?lock_timeout=1s";
    let db = Database::open(&url).await.unwrap();
    let create = "CREATE TABLE timed_out (id BIGINT PRIMARY KEY, metres BIGINT NOT NULL)";
    db.run_text(create, vec![]).await.unwrap();
    let rows = (1..=3).map(|id| HeldToInsert { id, metres: 0 });
    db.write(&Held::insert_all(rows)).await.unwrap();
    let set = |id: i64| Held::row(id).update(|r| r.metres.set(1));
    let holder = Database::open(&url).await.unwrap();
    let outcome: Result<(), Error> = holder
        .transaction(async |holding| {
            holding.write(&set(1)).await?;
            let (victim, lock, first, last) = (db.clone(), set(1), set(2), set(3));
            let outer: Result<(), Error> = tokio::spawn(async move {
                victim
                    .transaction(async |tx| {
                        tx.write(&first).await?;
                        let err = tx
                            .transaction(async |inner| inner.write(&lock).await)
                            .await
                            .unwrap_err();
                        assert_eq!(err.kind(), ErrorKind::Locked);
                        // The savepoint is gone with all the rest, so that nothing can go on.
                        let err = tx.write(&last).await.unwrap_err();
                        assert_eq!(err.kind(), ErrorKind::TransactionEnded, "{err}");
                        Ok(())
                    })
                    .await
            })
            .await
            .unwrap();
            assert_eq!(outer.unwrap_err().kind(), ErrorKind::TransactionEnded);
            Ok(())
        })
        .await;
    outcome.unwrap();
    let metres = db
        .read(&Held::rows().select(|r| r.metres).order_by(|r| r.id.asc()))
        .await
        .unwrap();
    assert_eq!(metres, [1, 0, 0]);
}
