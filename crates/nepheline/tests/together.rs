//! Several independent reads in one call.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::thread;
use std::time::Duration;

use nepheline::blocking::{Database, RunsQueries};
use nepheline::prelude::*;
use nepheline::{Isolation, Options, StatementLog, TransactionOptions, statement};
use nepheline_coreshed::{Borehole, Hazard, Lab, Specimen};
use support::shed::sheds;
use support::{server, servers};

#[test]
fn reads_together_are_the_same_as_reads_one_by_one() {
    for (engine, db) in sheds() {
        let name = engine.name;
        let log = StatementLog::new();
        let deep = Borehole::rows()
            .filter(|b| b.depth_m.gt(500))
            .order_by(|b| b.id.asc());
        let alongside = deep
            .clone()
            .limit(5)
            .alongside(|b| b.specimens().order_by(|s| s.id.asc()).limit(2));
        let labs = Lab::rows()
            .filter(|l| l.id.one_of([1, 2]))
            .order_by(|l| l.id.asc())
            .select(|l| l.name);
        let totals = Specimen::rows()
            .select(|s| (per(s.rock), count()))
            .order_by(|s| per(s.rock).asc());
        let written = statement!("SELECT name FROM hazard ORDER BY id").rows_as::<String>();
        let read = |db: &Database| {
            db.read_together((&deep, &alongside, &labs, &totals, &written))
                .unwrap()
        };
        let together = read(&db.logging_to(&log));
        assert_eq!(together.0, db.read(&deep).unwrap(), "on {name}");
        assert_eq!(together.1, db.read(&alongside).unwrap(), "on {name}");
        assert_eq!(together.2, db.read(&labs).unwrap(), "on {name}");
        assert_eq!(together.3, db.read(&totals).unwrap(), "on {name}");
        assert_eq!(together.4, db.read(&written).unwrap(), "on {name}");
        assert_eq!(log.len(), 6, "on {name}");
        assert_eq!(read(db), together, "on {name}");
        // One moment in time: in a serializable transaction.
        let options = TransactionOptions::new()
            .isolation(Isolation::Serializable)
            .read_only();
        let inside = db
            .transaction_with(options, |tx| tx.read_together((&deep, &labs)))
            .unwrap();
        assert_eq!(inside, (together.0, together.2), "on {name}");
        // A budget counts each, and is asked before any is sent.
        let log = StatementLog::new();
        let poor = db.logging_to(&log).budget(1);
        assert_eq!(
            poor.read_together((&deep, &labs)).unwrap_err().kind(),
            ErrorKind::Refused,
            "on {name}"
        );
        // The second fails; the connection and its transaction say so, and the next read gets its own answer.
        let broken = statement!("SELECT nothing FROM nowhere").rows_as::<String>();
        let err = db.read_together((&labs, &broken, &deep)).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Database, "on {name}: {err}");
        assert!(err.sql().is_some_and(|sql| sql.contains("nowhere")), "on {name}");
        let ended = db.transaction(|tx| {
            tx.read_together((&labs, &broken)).unwrap_err();
            tx.count(&Hazard::rows())
        });
        assert_eq!(ended.unwrap_err().kind(), ErrorKind::TransactionEnded, "on {name}");
        let unfit = statement!("SELECT name FROM hazard").rows_as::<i64>();
        let err = db.read_together((&unfit, &labs)).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Mismatch, "on {name}: {err}");
        assert_eq!(read(db).2, db.read(&labs).unwrap(), "on {name}");
    }
}

/// An answer that was sent ahead, and never read, is not taken for that of another statement.
#[test]
fn a_dropped_call_leaves_no_answers_behind() {
    sheds();
    let runtime = tokio::runtime::Runtime::new().unwrap();
    for engine in servers() {
        runtime.block_on(async {
            use nepheline::RunsQueries as _;
            let db = Options::from_url(&engine.url)
                .unwrap()
                .pool_size(1)
                .open()
                .await
                .unwrap();
            let of = |least: i64| {
                Borehole::rows()
                    .filter(move |b| b.id.ge(least))
                    .order_by(|b| b.id.asc())
            };
            for wait in [0, 1, 2, 5] {
                let (first, second, third) = (of(1), of(2), of(3));
                let together = db.read_together((&first, &second, &third));
                let _ = tokio::time::timeout(Duration::from_millis(wait), together).await;
                let rows = db.read(&of(4)).await.unwrap();
                assert_eq!(rows.first().unwrap().id, 4, "on {}", engine.name);
            }
            let dropped = db.transaction(async |tx| {
                let slow = || {
                    verbatim!(postgres: "pg_sleep(0.3) IS NOT NULL", mysql: "SLEEP(0.3) = 0")
                        .condition()
                };
                let (first, second) = (of(1).filter(|_| slow()).limit(1), of(2));
                let mut together = Box::pin(tx.read_together((&first, &second)));
                let polled = futures_util::poll!(together.as_mut());
                assert!(polled.is_pending(), "on {}", engine.name);
                drop(together);
                tx.count(&Borehole::rows()).await
            });
            assert_eq!(
                dropped.await.unwrap_err().kind(),
                ErrorKind::TransactionEnded,
                "on {}",
                engine.name
            );
        });
    }
}

/// Passes a connection on to a server, and counts how often the client sends after an answer of the server.
fn counting(to: &str) -> (u16, Arc<AtomicUsize>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let (port, to) = (listener.local_addr().unwrap().port(), to.to_owned());
    let turns = Arc::new(AtomicUsize::new(0));
    let counted = turns.clone();
    thread::spawn(move || {
        for client in listener.incoming() {
            let (client, server) = (client.unwrap(), TcpStream::connect(&to).unwrap());
            let answered = Arc::new(AtomicBool::new(true));
            let pipe = |mut from: TcpStream, mut into: TcpStream, of_client: bool| {
                let (answered, turns) = (answered.clone(), counted.clone());
                thread::spawn(move || {
                    let mut buffer = [0; 64 << 10];
                    while let Ok(mut read @ 1..) = from.read(&mut buffer) {
                        if of_client {
                            // Bytes that the client sends together are passed on together.
                            thread::sleep(Duration::from_millis(30));
                            from.set_nonblocking(true).unwrap();
                            while let Ok(more @ 1..) = from.read(&mut buffer[read..]) {
                                read += more;
                            }
                            from.set_nonblocking(false).unwrap();
                            turns.fetch_add(
                                usize::from(answered.swap(false, Ordering::SeqCst)),
                                Ordering::SeqCst,
                            );
                        }
                        answered.fetch_or(!of_client, Ordering::SeqCst);
                        if into.write_all(&buffer[..read]).is_err() {
                            return;
                        }
                    }
                });
            };
            pipe(client.try_clone().unwrap(), server.try_clone().unwrap(), true);
            pipe(server, client, false);
        }
    });
    (port, turns)
}

#[test]
fn on_postgres_they_take_one_round_trip() {
    let Some(engine) = server("PostgreSQL") else { return };
    sheds();
    let (port, turns) = counting("127.0.0.1:5432");
    let url = engine.url.replace("@127.0.0.1:5432/", "@127.0.0.1/");
    let url = url.replace("@127.0.0.1/", &format!("@127.0.0.1:{port}/"));
    let db = Database::open(&url).unwrap();
    let of = |id: i64| {
        Borehole::rows()
            .filter(move |b| b.id.eq(id))
            .select(|b| b.name)
    };
    let queries = [of(1), of(2), of(3), of(4), of(5)];
    let [first, second, third, fourth, fifth] = &queries;
    let read = || {
        db.read_together((first, second, third, fourth, fifth))
            .unwrap()
    };
    // The first call also prepares the statement.
    let names = read();
    let taken = |work: &dyn Fn()| {
        let before = turns.load(Ordering::SeqCst);
        work();
        turns.load(Ordering::SeqCst) - before
    };
    assert_eq!(taken(&|| assert_eq!(read(), names)), 1);
    assert_eq!(
        taken(&|| queries
            .iter()
            .for_each(|query| drop(db.read(query).unwrap()))),
        5
    );
}
