//! Policies hide rows completely. Generated queries of every kind run on a database with hidden rows, and
//! again, with every policy waived, when these rows are deleted. Both results must be equal, to the last
//! total and the last page.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod checks;
mod collation;
mod identity;
mod questions;
mod required;
#[path = "../support/mod.rs"]
mod support;
mod told;
mod world;
mod writes;

use std::sync::{Mutex, MutexGuard, PoisonError};

use nepheline::blocking::RunsQueries;
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;
use questions::{Kind, Question, asked, questions};
use support::{Engine, engines};
use world::*;

#[test]
fn nobody_learns_of_hidden_rows() {
    let _alone = alone();
    std::thread::scope(|scope| {
        for engine in engines() {
            scope.spawn(move || hides_all_that_is_hidden(&engine, 2));
        }
    });
}

/// The long form, on each engine: `READS=10000 WRITES=5000 cargo test --release --all-features --test policies -- --ignored`.
#[test]
#[ignore = "it takes minutes"]
fn nobody_learns_or_writes_in_the_long_run() {
    let number = |name: &str, usual: usize| {
        let given = std::env::var(name)
            .ok()
            .map(|number| number.parse().unwrap());
        given.unwrap_or(usual)
    };
    let (reads, writes) = (number("READS", 10_000), number("WRITES", 5_000));
    let _alone = alone();
    std::thread::scope(|scope| {
        for engine in engines() {
            scope.spawn(move || {
                let began = std::time::Instant::now();
                let read = hides_all_that_is_hidden(&engine, reads.div_ceil(QUESTIONS));
                let written = writes::writes_stay_inside(&engine, writes.div_ceil(writes::EACH));
                let took = began.elapsed().as_secs();
                println!("{}: {read} reads, {written} writes, {took} s", engine.name);
            });
        }
    });
}

/// The number of questions to each world.
const QUESTIONS: usize = 540;

/// Asks generated questions, and returns their number.
fn hides_all_that_is_hidden(engine: &Engine, worlds: usize) -> usize {
    let db = prepared(engine);
    let mut runner = TestRunner::deterministic();
    let mut hiding = [0; Kind::ALL.len()];
    for _ in 0..worlds {
        let world = World::of(|below| (0..below).new_tree(&mut runner).unwrap().current());
        let drawn = (0..QUESTIONS).map(|_| questions().new_tree(&mut runner).unwrap().current());
        let questions: Vec<Question> = drawn.collect();
        let openly =
            |question: &Question| asked(&db, Question { mode: Mode::AllWaived, ..*question });
        world.fill(engine, &db);
        let guarded: Vec<String> = questions.iter().map(|q| asked(&db, *q)).collect();
        // Some of these queries show that there is something to hide.
        let plain = questions
            .iter()
            .zip(&guarded)
            .filter(|(question, _)| !question.computes);
        for (question, guarded) in plain.step_by(2) {
            hiding[question.kind as usize] += usize::from(openly(question) != *guarded);
        }
        for mode in [Mode::AllOn, Mode::OtherAgencies, Mode::Withdrawn, Mode::Closed] {
            world.clone().visible(mode).fill(engine, &db);
            let in_mode = questions
                .iter()
                .zip(&guarded)
                .filter(|(q, _)| q.mode == mode);
            for (question, guarded) in in_mode {
                assert_eq!(*guarded, openly(question), "on {}: {question:?}", engine.name);
            }
        }
    }
    // Where nothing was hidden, nothing was proved.
    let mut kinds = Kind::ALL.into_iter().zip(hiding);
    assert_eq!(kinds.find(|(_, hidden)| *hidden == 0), None, "a kind of question that hid nothing");
    worlds * QUESTIONS
}

/// Updates and deletes leave hidden rows unchanged.
#[test]
fn nobody_writes_to_hidden_rows() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine);
        let mut runner = TestRunner::deterministic();
        let mut number = |below: i64| (0..below).new_tree(&mut runner).unwrap().current();
        for round in 0..24 {
            let world = World::of(&mut number);
            world.fill(&engine, &db);
            let mode = [Mode::AllOn, Mode::OtherAgencies, Mode::Withdrawn, Mode::Closed][round % 4];
            let visible = world.clone().visible(mode);
            let (least, few) = (number(100), number(8) as u64 + 1);
            let heavy = |s: &Specimen| s.grams >= least;
            let deep = |s: &Specimen| {
                let borehole = world.boreholes.iter().find(|b| b.id == s.borehole_id);
                borehole.is_some_and(|b| b.depth_m >= 400.0)
            };
            let query = mode.of(Specimen::rows());
            let mut expected = world.specimens.clone();
            let mut changed = Vec::new();
            let hit: Vec<i64> = match round / 4 % 3 {
                0 => {
                    let query = query.filter(|s| s.grams.ge(least));
                    changed = db
                        .write_returning(&query.update(|s| s.grams.set(s.grams + 1_000)))
                        .unwrap();
                    visible
                        .specimens
                        .iter()
                        .filter(|s| heavy(s))
                        .map(|s| s.id)
                        .collect()
                }
                1 => {
                    let query = query.filter(|s| s.borehole().depth_m.ge(400));
                    changed = db
                        .write_returning(&query.update(|s| s.grams.set(s.grams + 1_000)))
                        .unwrap();
                    visible
                        .specimens
                        .iter()
                        .filter(|s| deep(s))
                        .map(|s| s.id)
                        .collect()
                }
                _ => {
                    let query = query.order_by(|s| s.id.asc()).limit(few);
                    assert!(db.write(&query.delete()).unwrap() <= few);
                    let hit = visible.specimens.iter().take(few as usize).map(|s| s.id);
                    let hit: Vec<i64> = hit.collect();
                    expected.retain(|s| !hit.contains(&s.id));
                    Vec::new()
                }
            };
            // Nor does what comes back tell of them.
            changed.sort_by_key(|s| s.id);
            assert_eq!(changed.iter().map(|s| s.id).collect::<Vec<_>>(), hit, "on {}", engine.name);
            for specimen in expected.iter_mut().filter(|s| hit.contains(&s.id)) {
                specimen.grams += 1_000;
            }
            let all = Specimen::rows()
                .waive_every_policy()
                .order_by(|s| s.id.asc());
            assert_eq!(db.read(&all).unwrap(), expected, "on {}: {mode:?}", engine.name);

            // Nor does an insert of what a query finds copy any.
            let copies = mode.of(Specimen::rows()).select(|s| {
                let (id, element) = (s.id + 1_000, bind("Zr"));
                shape!(Copied { id, specimen_id: s.id, element, ppm: s.grams, secret: s.secret })
            });
            let copies = copies.insert_into::<Assay>().waive_check(own_agency);
            db.write(&copies.waive_check(not_withdrawn).waive_check(not_closed))
                .unwrap();
            let copied = Assay::rows()
                .waive_every_policy()
                .filter(|a| a.id.gt(1_000));
            let copied = copied.order_by(|a| a.id.asc()).select(|a| a.specimen_id);
            let seen = visible.specimens.iter().map(|s| s.id);
            let there = seen.filter(|id| expected.iter().any(|s| s.id == *id));
            assert_eq!(
                db.read(&copied).unwrap(),
                there.collect::<Vec<_>>(),
                "on {}: {mode:?}",
                engine.name
            );
        }
    }
}

/// An assay as a query makes it.
#[derive(Debug, RowShape)]
#[allow(dead_code, reason = "only the database reads it")]
struct Copied {
    id: i64,
    specimen_id: i64,
    element: String,
    ppm: i64,
    secret: i64,
}

/// A failing query reveals a row too. Policies stand first, so an engine that evaluates conditions in order
/// computes nothing from a hidden row.
#[test]
fn nothing_is_computed_of_hidden_rows() {
    #[derive(Debug, Clone, PartialEq, Table)]
    #[nepheline(table = "guard_vault", policies(own_or_shared))]
    struct Vault {
        #[nepheline(key)]
        id: i64,
        agency_id: i64,
        lent_to: i64,
    }

    fn own_or_shared(v: VaultColumns, agency: &AgencyId) -> Condition {
        v.agency_id.eq(agency.0) | v.lent_to.eq(agency.0)
    }

    for engine in engines() {
        let db = engine.open().carrying(AgencyId(1));
        for text in [
            "DROP TABLE IF EXISTS guard_vault",
            "CREATE TABLE guard_vault (id BIGINT, agency_id BIGINT, lent_to BIGINT)",
        ] {
            db.run_text(text, vec![]).unwrap();
        }
        let (ours, theirs) = (
            VaultToInsert { id: 1, agency_id: 1, lent_to: 0 },
            VaultToInsert { id: i64::MAX, agency_id: 2, lent_to: 2 },
        );
        db.write(&Vault::insert_all([ours, theirs]).waive_check(own_or_shared))
            .unwrap();
        let after = Vault::rows().filter(|v| (v.id + 1).gt(0));
        let ours = Vault { id: 1, agency_id: 1, lent_to: 0 };
        assert_eq!(db.read(&after).unwrap(), [ours], "on {}", engine.name);
        assert_eq!(db.count(&after).unwrap(), 1, "on {}", engine.name);
        assert_eq!(
            db.write(&after.clone().update(|v| v.lent_to.set(3)))
                .unwrap(),
            1
        );
        // On SQLite a sum that is too large goes on as a float.
        if engine.dialect() != Dialect::Sqlite {
            let err = db.count(&after.waive(own_or_shared)).unwrap_err();
            assert_eq!(err.kind(), ErrorKind::Database, "on {}", engine.name);
        }
    }
}

/// Upserts leave hidden rows unchanged, and do not insert them again.
#[test]
fn nobody_upserts_hidden_rows() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine);
        let mut runner = TestRunner::deterministic();
        let mut number = |below: i64| (0..below).new_tree(&mut runner).unwrap().current();
        for round in 0..12 {
            let world = World::of(&mut number);
            world.fill(&engine, &db);
            let seen = world.clone().visible(Mode::AllOn);
            let (Some(specimen), visible) = (seen.specimens.first(), seen.assays) else { continue };
            let specimen_id = specimen.id;
            // Half of them are there already.
            let first = 60 + number(60);
            let new = (first..first + 120).map(|id| AssayToInsert {
                id,
                specimen_id,
                element: "Zr".to_owned(),
                ppm: 5,
                secret: 0,
            });
            let new = Assay::insert_all(new.collect::<Vec<_>>());
            let there = world.assays.iter().filter(|a| a.id >= first).count() as u64;
            let seen = |a: &Assay| a.id >= first && visible.iter().any(|v| v.id == a.id);
            let known = visible.iter().filter(|a| a.id >= first).count() as u64;
            let keeps = round % 3 == 0;
            let upsert = match keeps {
                true => new.or_keep(|a| a.id),
                false => new.or_update(|a| a.id, |a, new| a.ppm.set(a.ppm + new.ppm + 1_000)),
            };
            let updated = if keeps { 0 } else { known };
            if round % 2 == 0 {
                let told = db.write_upsert(&upsert).unwrap();
                let told = [told.inserted, told.updated, told.kept];
                assert_eq!(told, [120 - there, updated, there - updated], "on {}", engine.name);
            } else {
                assert_eq!(db.write(&upsert).unwrap(), 120 - there + updated, "on {}", engine.name);
            }
            let mut expected = world.assays.clone();
            for assay in expected.iter_mut().filter(|a| !keeps && seen(a)) {
                assay.ppm += 1_005;
            }
            let old = Assay::rows()
                .waive_every_policy()
                .filter(|a| a.id.le(120))
                .order_by(|a| a.id.asc());
            assert_eq!(db.read(&old).unwrap(), expected, "on {}", engine.name);
            assert_eq!(db.count(&Assay::rows().waive_every_policy()).unwrap(), 240 - there);
        }
    }
}

/// The tables are for one test at a time.
fn alone() -> MutexGuard<'static, ()> {
    static ALONE: Mutex<()> = Mutex::new(());
    ALONE.lock().unwrap_or_else(PoisonError::into_inner)
}

/// The SQL that runs is the SQL that is shown, however the policies are applied.
#[test]
fn what_is_shown_is_what_runs() {
    let _alone = alone();
    let record = nepheline::StatementLog::new();
    let db = prepared(&engines()[0]).logging_to(&record);
    let carried = Carried::new().with(AgencyId(1));
    let shown_and_run = |query: nepheline::Query<Site>| {
        let mark = record.mark();
        db.read(&query).unwrap();
        let shown = query.sql_carrying(Dialect::Sqlite, &carried).unwrap();
        assert_eq!(record.since(mark)[0].sql(), shown.text());
    };
    shown_and_run(Site::rows());
    // The same condition by the policy and by the query stands there once.
    shown_and_run(
        Site::rows()
            .filter(not_closed)
            .filter(|s| s.region.eq("North")),
    );
    shown_and_run(Site::rows().waive(not_closed).filter(not_closed));
    shown_and_run(
        Site::rows()
            .filter(|s| s.boreholes().exists())
            .order_by(|s| s.id.asc()),
    );
    shown_and_run(Site::row(3).waive_every_policy());
}

/// A policy of the database itself sees who is asking, in transactions of a handle that session_settings it.
#[test]
fn the_database_sees_who_is_asking() {
    #[derive(Debug, Clone, Copy)]
    struct CompileContext(i64);

    impl std::fmt::Display for CompileContext {
        fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
            write!(f, "{}", self.0)
        }
    }

    #[derive(Debug, PartialEq, Table)]
    #[nepheline(table = "row_secured")]
    struct Secured {
        #[nepheline(key)]
        id: i64,
        agency_id: i64,
    }

    let rows = |ids: [i64; 2]| {
        Secured::insert_all(ids.map(|id| SecuredToInsert { id, agency_id: id % 2 + 1 }))
    };
    for engine in engines() {
        let db = engine.open();
        if engine.dialect() != Dialect::Postgres {
            let session_setting = db
                .carrying(CompileContext(1))
                .session_setting::<CompileContext>("shed.agency");
            let err = session_setting
                .transaction(|tx| tx.count(&Secured::rows()))
                .unwrap_err();
            assert_eq!(err.kind(), ErrorKind::Unsupported, "on {}: {err}", engine.name);
            continue;
        }
        for text in [
            "DROP TABLE IF EXISTS row_secured",
            "CREATE TABLE row_secured (id bigint PRIMARY KEY, agency_id bigint NOT NULL)",
            "ALTER TABLE row_secured ENABLE ROW LEVEL SECURITY",
            // The owner too, who runs the tests.
            "ALTER TABLE row_secured FORCE ROW LEVEL SECURITY",
            "CREATE POLICY own ON row_secured \
             USING (agency_id = nullif(current_setting('shed.agency', true), '')::bigint)",
        ] {
            db.run_text(text, vec![]).unwrap();
        }
        let of = |agency: i64| {
            db.carrying(CompileContext(agency))
                .session_setting::<CompileContext>("shed.agency")
        };
        let seen = |agency: i64| of(agency).transaction(|tx| tx.read(&Secured::rows()));
        of(1).transaction(|tx| tx.write(&rows([2, 4]))).unwrap();
        of(2).transaction(|tx| tx.write(&rows([1, 3]))).unwrap();
        assert_eq!(
            seen(1)
                .unwrap()
                .iter()
                .map(|row| row.id)
                .collect::<Vec<_>>(),
            [2, 4]
        );
        assert_eq!(
            seen(2)
                .unwrap()
                .iter()
                .map(|row| row.id)
                .collect::<Vec<_>>(),
            [1, 3]
        );
        // A row of somebody else's is refused by the database, and nothing outlives the transaction.
        of(1).transaction(|tx| tx.write(&rows([5, 7]))).unwrap_err();
        assert_eq!(db.count(&Secured::rows()).unwrap(), 0);
        let nobody = db.session_setting::<CompileContext>("shed.agency");
        let err = nobody
            .transaction(|tx| tx.count(&Secured::rows()))
            .unwrap_err();
        assert_eq!(err.kind(), ErrorKind::MissingCarried);
        let outside = of(1).count(&Secured::rows()).unwrap_err();
        assert_eq!(outside.kind(), ErrorKind::Unsupported, "{outside}");
    }
}
