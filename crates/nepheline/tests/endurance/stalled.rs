//! A network that says nothing: the client's own limits end every wait, and nothing is left open.

use std::time::{Duration, Instant};

use nepheline::internal::RunText as _;
use nepheline::prelude::*;
use nepheline::{Database, blocking};

use crate::proxy::{Mode, Proxy};
use crate::support::own_server::OwnServer;
use crate::support::servers;

#[derive(Debug, Clone, PartialEq, Table)]
struct Reading {
    #[nepheline(key)]
    id: i64,
    metres: i64,
}

/// A table with one row, behind a network of its own.
async fn behind_a_network(server: &OwnServer) -> Proxy {
    let db = Database::open(&server.url()).await.unwrap();
    let create =
        "CREATE TABLE IF NOT EXISTS reading (id BIGINT PRIMARY KEY, metres BIGINT NOT NULL)";
    db.run_text(create, vec![]).await.unwrap();
    db.write(&Reading::rows().delete().every_row())
        .await
        .unwrap();
    db.write(&Reading::insert(ReadingToInsert { id: 1, metres: 0 }))
        .await
        .unwrap();
    Proxy::before(server.port).await
}

fn set_to(metres: i64) -> nepheline::Update<Reading> {
    Reading::row(1).update(move |r| r.metres.set(metres))
}

/// The outcome of a future that has to end within so many seconds.
async fn within<T>(seconds: f64, future: impl Future<Output = T>) -> T {
    let ended = tokio::time::timeout(Duration::from_secs_f64(seconds), future).await;
    ended.unwrap_or_else(|_| panic!("it hangs for more than {seconds} s"))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stalled_network_ends_at_the_time_limit() {
    if servers().is_empty() {
        return;
    }
    for server in OwnServer::each().await {
        let proxy = behind_a_network(&server).await;
        let url = server.url_at(proxy.port) + "?statement_timeout=500ms&pool_size=2&pool_wait=3s";
        let db = Database::open(&url).await.unwrap();

        // A read has no answer, and a write an outcome that nobody knows.
        let stalled = [Mode::Stall, Mode::SwallowAnswers];
        for mode in stalled {
            within(3.0, db.count(&Reading::rows())).await.unwrap();
            proxy.set(mode);
            let read = within(2.5, db.count(&Reading::rows())).await.unwrap_err();
            assert_eq!(read.kind(), ErrorKind::StatementTimeout, "{read:#}");
            proxy.set(Mode::Pass);
            assert_eq!(within(3.0, db.count(&Reading::rows())).await.unwrap(), 1);
            proxy.set(mode);
            let written = within(2.5, db.write(&set_to(7))).await.unwrap_err();
            assert_eq!(written.kind(), ErrorKind::TransactionResolutionUnknown, "{written:#}");
            proxy.set(Mode::Pass);
        }

        // A transaction is undone, but for one whose COMMIT was on its way.
        let begun = db.transaction(async |tx| {
            tx.write(&set_to(8)).await?;
            proxy.set(Mode::Stall);
            tx.count(&Reading::rows()).await
        });
        let undone = within(8.0, begun).await.unwrap_err();
        assert_eq!(undone.kind(), ErrorKind::StatementTimeout, "{undone:#}");
        proxy.set(Mode::Pass);
        // The server holds the row until it notices that the connection of that transaction is closed.
        let free = async { while db.write(&set_to(0)).await.is_err() {} };
        within(8.0, free).await;
        let committing = db.transaction(async |tx| {
            tx.write(&set_to(9)).await?;
            proxy.set(Mode::SwallowAnswers);
            Ok::<_, Error>(())
        });
        let unknown = within(3.0, committing).await.unwrap_err();
        assert_eq!(unknown.kind(), ErrorKind::TransactionResolutionUnknown, "{unknown:#}");
        proxy.set(Mode::Pass);
        let metres = within(3.0, db.read_one(&Reading::row(1)))
            .await
            .unwrap()
            .metres;
        assert_eq!(metres, 9, "the server has committed it all the same");

        // A call has a limit of its own, with the wait for a connection.
        let hurried = db.time_limit(Duration::from_millis(100));
        within(3.0, hurried.count(&Reading::rows())).await.unwrap();
        proxy.set(Mode::Stall);
        let began = Instant::now();
        within(1.6, hurried.count(&Reading::rows()))
            .await
            .unwrap_err();
        assert!(
            began.elapsed() > Duration::from_millis(1_000),
            "the server has a second to answer"
        );
        proxy.set(Mode::Pass);

        // Every connection that was given up is closed.
        drop((db, hurried));
        proxy.open_at_most(0, Duration::from_secs(7)).await;
    }
}

/// Before, PostgreSQL hung for good on each of them, and MariaDB for ten seconds.
#[tokio::test(flavor = "multi_thread")]
async fn a_connection_that_is_cut_while_it_is_opened_was_never_there() {
    if servers().is_empty() {
        return;
    }
    for server in OwnServer::each().await {
        let proxy = Proxy::before(server.port).await;
        let url = server.url_at(proxy.port);
        let mut bytes = 0;
        loop {
            proxy.set(Mode::CutAfter(bytes));
            let Err(err) = within(10.0, Database::open(&url)).await else { break };
            assert_eq!(err.kind(), ErrorKind::Connection, "after {bytes} bytes: {err:#}");
            bytes += 23;
        }
        assert!(bytes > 100, "{}: it was opened with {bytes} bytes of answers", server.name());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn dead_connections_are_replaced_within_the_wait_for_the_pool() {
    if servers().is_empty() {
        return;
    }
    for server in OwnServer::each().await {
        let proxy = behind_a_network(&server).await;
        let url = server.url_at(proxy.port) + "?pool_size=4&pool_wait=3s&statement_timeout=10s";
        let db = Database::open(&url).await.unwrap();
        // Each waits inside a transaction until all have a connection, so that none is lent twice.
        let fill = || async {
            let all = tokio::sync::Barrier::new(4);
            let count = async || {
                db.transaction(async |tx| {
                    let counted = tx.count(&Reading::rows()).await?;
                    all.wait().await;
                    Ok::<_, Error>(counted)
                })
                .await
            };
            let (a, b, c, d) = tokio::join!(count(), count(), count(), count());
            for counted in [a, b, c, d] {
                assert_eq!(counted.unwrap(), 1);
            }
        };
        fill().await;
        assert_eq!(db.pool_metrics().idle, 4);
        proxy.set_open(Mode::Stall);
        tokio::time::sleep(Duration::from_millis(1_100)).await;
        // The first finds out by asking; the others are not asked any more.
        let began = Instant::now();
        for _ in 0..8 {
            assert_eq!(within(3.0, db.count(&Reading::rows())).await.unwrap(), 1);
        }
        assert!(began.elapsed() < Duration::from_secs(4), "{:?}", began.elapsed());
        fill().await;
        let metrics = db.pool_metrics();
        assert_eq!((metrics.closed.lost, metrics.closed.total()), (4, 4), "{metrics:?}");

        // Where nothing can be replaced, the wait ends too.
        proxy.set(Mode::Stall);
        tokio::time::sleep(Duration::from_millis(1_100)).await;
        let began = Instant::now();
        let err = within(4.0, db.count(&Reading::rows())).await.unwrap_err();
        assert_eq!(err.kind(), ErrorKind::PoolExhausted, "{err:#}");
        assert!(began.elapsed() < Duration::from_millis(3_500), "{:?}", began.elapsed());
        assert_eq!(db.pool_metrics().waits_timed_out, 1);
        proxy.set(Mode::Pass);
        within(3.0, fill()).await;
    }
}

#[test]
fn a_blocking_handle_ends_at_the_time_limit_too() {
    if servers().is_empty() {
        return;
    }
    let runtime = tokio::runtime::Runtime::new().unwrap();
    for server in runtime.block_on(OwnServer::each()) {
        let proxy = runtime.block_on(behind_a_network(&server));
        let url = server.url_at(proxy.port) + "?pool_size=2&pool_wait=2s";
        let db = blocking::Database::open(&url)
            .unwrap()
            .time_limit(Duration::from_millis(300));
        assert_eq!(db.count(&Reading::rows()).unwrap(), 1);
        proxy.set(Mode::Stall);
        let began = Instant::now();
        let err = db.write(&set_to(3)).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::TransactionResolutionUnknown, "{err:#}");
        let err = db.count(&Reading::rows()).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::PoolExhausted, "{err:#}");
        assert!(began.elapsed() < Duration::from_secs(4), "{:?}", began.elapsed());
        proxy.set(Mode::Pass);
        assert_eq!(db.read_one(&Reading::row(1)).unwrap().metres, 0);
    }
}
