//! Rows with others alongside: the statements in every dialect, and what every engine puts together
//! against the same done to the rows in memory.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::fmt::{Debug, Write as _};
use std::ops::ControlFlow;
use std::sync::Arc;

use futures_util::TryStreamExt;
use nepheline::blocking::{Database, RunsQueries};
use nepheline::internal::BlockingRunText;
use nepheline::prelude::*;
use nepheline::{Readable, Sql, StatementLog, TransactionOptions};
use nepheline_coreshed::scopes::unassigned;
use nepheline_coreshed::{Analyst, Assay, Borehole, Hazard, Lab, Site, Specimen};
use support::engines;
use support::shed::{Shed, sheds};

/// Reads on every engine, expects what memory says and that it took so many statements.
fn ask<Q: Readable<Row: Debug + PartialEq>>(query: &Q, statements: usize, expected: &[Q::Row]) {
    assert!(!expected.is_empty(), "a question whose answer is nothing shows nothing");
    for (engine, db) in sheds() {
        let record = StatementLog::new();
        let db = db.logging_to(&record);
        assert_eq!(db.read(query).unwrap(), expected, "on {}", engine.name);
        assert_eq!(record.len(), statements, "on {}: {:#?}", engine.name, record.all());
        assert_eq!(db.count(query).unwrap(), expected.len() as u64, "on {}", engine.name);
        assert_eq!(db.exists(query).unwrap(), !expected.is_empty(), "on {}", engine.name);
        assert_eq!(db.read_first(query).unwrap().as_ref(), expected.first(), "on {}", engine.name);
    }
}

/// The statements in every dialect.
fn shown(sql: impl Fn(Dialect) -> Result<Vec<Sql>, Error>) -> String {
    let mut shown = String::new();
    for dialect in Dialect::ALL {
        for sql in sql(dialect).unwrap() {
            writeln!(shown, "-- {dialect}\n{}", sql.by_clause()).unwrap();
        }
    }
    shown
}

fn sorted<'r, R: Clone + 'r, K: PartialOrd>(
    rows: impl Iterator<Item = &'r R>,
    key: impl Fn(&R) -> K,
) -> Vec<R> {
    let mut rows: Vec<R> = rows.cloned().collect();
    rows.sort_by(|a, b| key(a).partial_cmp(&key(b)).unwrap());
    rows
}

#[test]
fn children_stand_beside_their_parents() {
    let shed = Shed::read();
    let query = Borehole::rows()
        .alongside(|b| b.specimens().filter(unassigned).order_by(|s| s.top_m.asc()))
        .filter(|b| b.depth_m.gt(300))
        .order_by(|b| b.name.asc());
    let deep = shed.boreholes.iter().filter(|b| b.depth_m > 300.0);
    let expected: Vec<(Borehole, Vec<Specimen>)> = sorted(deep, |b| b.name.clone())
        .into_iter()
        .map(|b| {
            let own = shed.specimens.iter();
            let own = own.filter(|s| s.borehole_id == b.id && s.analyst_id.is_none());
            let own = sorted(own, |s| s.top_m);
            (b, own)
        })
        .collect();
    ask(&query, 2, &expected);
    insta::assert_snapshot!("children", shown(|dialect| query.sql(dialect)));
}

#[test]
fn a_limit_is_for_each_parent_and_those_without_children_stay() {
    let shed = Shed::read();
    let query = Site::rows().order_by(|s| s.id.asc()).alongside(|s| {
        s.boreholes()
            .order_by(|b| (b.drilled_on.desc(), b.id.asc()))
            .limit(3)
            .offset(1)
    });
    let expected: Vec<(Site, Vec<Borehole>)> = sorted(shed.sites.iter(), |s| s.id)
        .into_iter()
        .map(|site| {
            let own = shed.boreholes.iter().filter(|b| b.site_id == site.id);
            let mut own = sorted(own, |b| b.id);
            own.sort_by_key(|b| std::cmp::Reverse(b.drilled_on));
            (site, own.into_iter().skip(1).take(3).collect())
        })
        .collect();
    assert!(expected.iter().any(|(_, boreholes)| boreholes.is_empty()));
    assert!(expected.iter().any(|(_, boreholes)| boreholes.len() == 3));
    ask(&query, 2, &expected);
    // Text, by which the parts are matched by code point.
    let query_by_name = Lab::rows().filter(|l| l.id.le(3)).alongside(|l| {
        Lab::rows()
            .filter(|other| other.name.eq(l.name))
            .select(|l| l.name)
            .limit(1)
    });
    let labs = shed.labs.iter().filter(|l| l.id <= 3);
    let expected: Vec<_> = labs.map(|l| (l.clone(), vec![l.name.clone()])).collect();
    ask(&query_by_name, 2, &expected);
    let sql = shown(|dialect| query.sql(dialect)) + &shown(|dialect| query_by_name.sql(dialect));
    insta::assert_snapshot!("limited", sql);
}

#[test]
fn several_relations_stand_alongside_and_one_inside_another() {
    let shed = Shed::read();
    #[derive(Debug, Clone, PartialEq)]
    struct Card {
        specimen: Specimen,
        assays: Vec<(String, f64)>,
        hazards: Vec<Hazard>,
    }
    let query = Borehole::rows()
        .filter(|b| b.id.le(6))
        .order_by(|b| b.id.asc())
        .alongside(|b| {
            b.specimens()
                .order_by(|s| s.id.asc())
                .limit(4)
                .alongside(|s| {
                    s.assays()
                        .order_by(|a| a.id.asc())
                        .select(|a| (a.element, a.ppm))
                })
                .alongside(|s| s.hazards().order_by(|h| h.id.asc()))
                .map_rows(|(specimen, assays, hazards)| Card { specimen, assays, hazards })
        })
        .alongside(|b| b.site());
    let expected: Vec<(Borehole, Vec<Card>, Arc<Site>)> = shed
        .boreholes
        .iter()
        .filter(|b| b.id <= 6)
        .map(|b| {
            let own = shed.specimens.iter().filter(|s| s.borehole_id == b.id);
            let cards = own.take(4).map(|s| {
                let assays = shed.assays(s).map(|a| (a.element.clone(), a.ppm));
                let hazards = sorted(shed.hazards(s), |h| h.id);
                Card { specimen: s.clone(), assays: assays.collect(), hazards }
            });
            (b.clone(), cards.collect(), Arc::new(shed.site(b).clone()))
        })
        .collect();
    assert!(
        expected
            .iter()
            .any(|(_, cards, _)| cards.iter().any(|card| !card.hazards.is_empty()))
    );
    ask(&query, 5, &expected);
    insta::assert_snapshot!("nested", shown(|dialect| query.sql(dialect)));
}

type Described = (Specimen, Option<Arc<Analyst>>, Arc<Site>, Vec<String>);

#[test]
fn parents_are_shared_and_null_leads_nowhere() {
    let shed = Shed::read();
    let query = Specimen::rows()
        .filter(|s| s.id.le(60))
        .order_by(|s| s.id.asc())
        .alongside(|s| s.analyst())
        .alongside(|s| s.borehole().site())
        .alongside(|s| {
            Analyst::rows()
                .filter(|a| s.analyst_id.eq(a.id))
                .select(|a| a.name)
        });
    let first = shed.specimens.iter().filter(|s| s.id <= 60);
    let expected: Vec<Described> = first
        .map(|s| {
            let analyst = shed.analyst(s).cloned();
            let name = analyst.iter().map(|a| a.name.clone()).collect();
            (s.clone(), analyst.map(Arc::new), Arc::new(shed.site(shed.borehole(s)).clone()), name)
        })
        .collect();
    assert!(expected.iter().any(|(_, analyst, ..)| analyst.is_none()));
    ask(&query, 4, &expected);
    for (_, db) in sheds() {
        let rows = db.read(&query).unwrap();
        let [(.., first, _), (.., second, _)] = &rows[..2] else { panic!("two at least") };
        assert!(Arc::ptr_eq(first, second), "two specimens of one site have one row of it");
    }
    insta::assert_snapshot!("parents", shown(|dialect| query.sql(dialect)));
}

#[test]
fn every_verb_reads_what_stands_alongside() {
    let parts = |key| Specimen::row(key).alongside(|s| s.assays().order_by(|a| a.id.asc()));
    for (engine, db) in sheds() {
        let all = db.read(&parts(46)).unwrap();
        assert!(!all[0].1.is_empty());
        assert_eq!(db.read_one(&parts(46)).unwrap(), all[0]);
        assert_eq!(db.read_at_most_one(&parts(46)).unwrap(), Some(all[0].clone()));
        assert_eq!(db.read_at_most_one(&parts(0)).unwrap(), None);
        let err = db.read_one(&parts(0)).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::NotFound);
        assert!(
            err.to_string()
                .contains("`specimen` has no row with `id` = 0"),
            "{err}"
        );

        // A stream reads the others for some hundred rows at a time; the caller may stop it.
        let every = Specimen::rows()
            .order_by(|s| s.id.asc())
            .alongside(|s| s.assays());
        let record = StatementLog::new();
        let recorded = db.logging_to(&record);
        let mut streamed = Vec::new();
        let seen = recorded.read_stream(&every, |row| {
            streamed.push(row);
            ControlFlow::Continue(())
        });
        seen.unwrap();
        assert_eq!(record.len(), 3, "on {}: the rows, and two chunks", engine.name);
        assert_eq!(streamed, db.read(&every).unwrap(), "on {}", engine.name);
        let mut taken = 0;
        let stopped = db.read_stream(&every, |_| {
            taken += 1;
            if taken == 7 { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        });
        stopped.unwrap();
        assert_eq!(taken, 7);

        let within = db.transaction(|tx| {
            let streamed = tx.read_stream(&every, |_| ControlFlow::Continue(()));
            Ok::<_, Error>((tx.read(&parts(46))?, streamed))
        });
        let (within, streamed) = within.unwrap();
        assert_eq!(within, all, "on {}", engine.name);
        match engine.name {
            "SQLite" => streamed.unwrap(),
            _ => assert_eq!(streamed.unwrap_err().kind(), ErrorKind::Unsupported),
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn async_handles_read_them_too() {
    for engine in engines() {
        let blocking = engine.clone();
        tokio::task::spawn_blocking(move || blocking.demo())
            .await
            .unwrap();
        let record = StatementLog::new();
        let db = engine.open_async().await.logging_to(&record);
        let query = Borehole::rows()
            .order_by(|b| b.id.asc())
            .alongside(|b| {
                b.specimens()
                    .order_by(|s| s.id.asc())
                    .alongside(|s| s.assays())
            })
            .alongside(|b| b.site());
        // On another task, which says that what runs can be sent there.
        let (db, rows, query) = tokio::spawn(async move {
            let rows = db.read(&query).await;
            (db, rows, query)
        })
        .await
        .unwrap();
        let rows = rows.unwrap();
        assert_eq!(record.len(), 4, "on {}", engine.name);
        let streamed: Vec<_> = db.read_stream(&query).try_collect().await.unwrap();
        assert_eq!(streamed, rows, "on {}", engine.name);
        let mark = record.mark();
        let options = TransactionOptions::new().read_only();
        let within = db
            .transaction_with(options, async |tx| {
                let none = tx.read_stream(&query).try_collect::<Vec<_>>().await;
                assert_eq!(none.unwrap_err().kind(), ErrorKind::Unsupported);
                tx.read_first(&query).await
            })
            .await
            .unwrap();
        assert_eq!(within.as_ref(), rows.first());
        let ran = record.since(mark);
        assert_eq!(ran.len(), 4, "on {}", engine.name);
        assert!(
            ran.iter()
                .all(|ran| ran.completed() && ran.origin().file().ends_with("alongside.rs"))
        );
        assert_eq!(ran[1].rows(), rows[0].1.len() as u64);
        assert!(ran[0].to_string().starts_with("1 row in "), "{}", ran[0]);
    }
}

/// A tray and its slots, which two columns relate; `tray_id` of a slot may be NULL, or lead nowhere.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "alongside_tray", children(slots: Slot by (rack, shelf)))]
struct Tray {
    #[nepheline(key)]
    rack: String,
    #[nepheline(key)]
    shelf: i64,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "alongside_slot", references(tray: Tray by (rack, shelf)))]
struct Slot {
    #[nepheline(key)]
    id: i64,
    rack: Option<String>,
    shelf: Option<i64>,
}

/// The same slots, said to be always in a tray.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "alongside_slot", references(tray: Tray by (rack, shelf)))]
struct SlotInTray {
    #[nepheline(key)]
    id: i64,
    rack: String,
    shelf: i64,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "alongside_absent")]
struct Absent {
    #[nepheline(key)]
    id: i64,
}

/// The number of trays: more than a list of placeholders could name.
const TRAYS: i64 = 50_000;

fn fill(db: &Database, text: &str) {
    let run = |sql: &str| db.run_text(sql, Vec::new()).unwrap();
    run("DROP TABLE IF EXISTS alongside_slot");
    run("DROP TABLE IF EXISTS alongside_tray");
    run(&format!(
        "CREATE TABLE alongside_tray (rack {text} NOT NULL, shelf BIGINT NOT NULL, PRIMARY KEY (rack, shelf))"
    ));
    run(&format!("CREATE TABLE alongside_slot (id BIGINT PRIMARY KEY, rack {text}, shelf BIGINT)"));
    let numbers = format!(
        "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {TRAYS})"
    );
    run(&format!(
        "INSERT INTO alongside_tray {numbers} SELECT CASE WHEN i % 2 = 0 THEN 'a' ELSE 'A ' END, i FROM n"
    ));
    run(
        "INSERT INTO alongside_slot SELECT shelf, rack, shelf FROM alongside_tray WHERE shelf % 3 = 0",
    );
    run(
        "INSERT INTO alongside_slot VALUES (-1, NULL, 1), (-2, 'a', NULL), (-3, NULL, NULL), (-4, 'a', 3)",
    );
}

#[test]
fn fifty_thousand_parents_take_one_further_statement() {
    for engine in engines() {
        let db = engine.open();
        fill(&db, engine.pick("TEXT", "TEXT", "VARCHAR(20)"));
        let record = StatementLog::new();
        let recorded = db.logging_to(&record);

        let trays = Tray::rows()
            .order_by(|t| t.shelf.asc())
            .alongside(|t| t.slots());
        let trays = recorded.read(&trays).unwrap();
        assert_eq!(record.len(), 2, "on {}", engine.name);
        assert_eq!(trays.len() as i64, TRAYS);
        for (tray, slots) in &trays {
            // 'a' and 'A ' are different racks, whatever the engine's collation says.
            let own: Vec<_> = slots
                .iter()
                .map(|slot| (slot.rack.clone(), slot.shelf))
                .collect();
            let expected =
                vec![(Some(tray.rack.clone()), Some(tray.shelf)); usize::from(tray.shelf % 3 == 0)];
            assert_eq!(own, expected, "on {}", engine.name);
        }

        // NULL in any of the columns leads nowhere, and so does a value that no row has.
        let slots = Slot::rows()
            .order_by(|s| s.id.asc())
            .limit(5)
            .alongside(|s| s.tray());
        let found = db
            .read(&slots)
            .unwrap()
            .into_iter()
            .map(|(slot, tray)| (slot.id, tray.is_some()));
        assert_eq!(
            found.collect::<Vec<_>>(),
            [(-4, false), (-3, false), (-2, false), (-1, false), (3, true)],
            "on {}",
            engine.name
        );
        let dangling = SlotInTray::rows()
            .filter(|s| s.id.eq(-4))
            .alongside(|s| s.tray());
        let err = db.read(&dangling).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::RequiredRowMissing, "on {}", engine.name);
        assert_eq!(
            err.to_string().split("; ").next(),
            Some(
                "table `alongside_slot`: the row with `id` = -4 refers to table `alongside_tray` by `rack` = 'a' \
                 and `shelf` = 3, but that table has no row with `rack` = 'a' and `shelf` = 3"
            )
        );

        let absent = Tray::rows()
            .limit(1)
            .alongside(|t| Absent::rows().filter(|other| other.id.eq(t.shelf)));
        let err = db.read(&absent).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Database, "on {}", engine.name);
        assert!(format!("{err:#}").contains("alongside_absent"), "on {}: {err:#}", engine.name);
    }
}

#[test]
fn what_cannot_stand_alongside_is_refused() {
    let refused = |sql: Result<Vec<Sql>, Error>| {
        let err = sql.unwrap_err();
        assert_eq!(err.kind(), ErrorKind::InvalidQuery);
        err.to_string()
    };
    let unrelated = Borehole::rows().alongside(|_| Assay::rows());
    let correlated =
        Borehole::rows().alongside(|b| b.specimens().filter(|s| s.base_m.gt(b.depth_m)));
    let itself = Borehole::rows().alongside(|b| b);
    insta::assert_snapshot!(
        [
            refused(unrelated.sql(Dialect::Sqlite)),
            refused(correlated.sql(Dialect::Sqlite)),
            refused(itself.sql(Dialect::Sqlite)),
        ]
        .map(|message| message.split("; asked for at").next().unwrap().to_owned())
        .join("\n")
    );
}
