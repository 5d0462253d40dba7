//! The statements of checked writes, their errors, and what is not checked.

use nepheline::blocking::{Database, RunsQueries};
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;
use nepheline::{StatementLog, Writes};

use crate::alone;
use crate::support::{Engine, engines};
use crate::world::*;

/// The rows of one agency and of another, with foreign keys.
pub(crate) fn worlds(engine: &Engine) -> (Database, StatementLog) {
    let log = StatementLog::new();
    let db = prepared(engine);
    let text = |text: &str| {
        db.run_text(text, vec![]).unwrap();
    };
    text("INSERT INTO guard_site VALUES (1, 1, 'North', NULL, 0), (2, 2, 'South', NULL, 0)");
    text("INSERT INTO guard_site VALUES (3, 1, 'West', '2021-05-01', 0)");
    text("INSERT INTO guard_borehole VALUES (1, 1, 10, 0), (2, 2, 10, 0)");
    text("INSERT INTO guard_specimen VALUES (1, 'A', 1, NULL, NULL, 5, NULL, 0)");
    text("INSERT INTO guard_specimen VALUES (2, 'B', 2, NULL, NULL, 5, NULL, 0)");
    text("INSERT INTO guard_assay VALUES (1, 1, 'Nd', 7, 0), (2, 2, 'Nd', 7, 0)");
    (db.logging_to(&log), log)
}

/// Writes, and returns the outcome with the kinds of its statements.
fn written<W: Writes>(db: &Database, log: &StatementLog, write: W) -> (String, String) {
    let mark = log.mark();
    let outcome = match db.write(&write) {
        Ok(rows) => rows.to_string(),
        Err(err) => {
            let text = err.to_string();
            format!("{:?}: {}", err.kind(), text.split("; ").next().unwrap_or_default())
        }
    };
    let statements = log.since(mark);
    // Not every engine shows the statements of the library's own transactions.
    let words = statements.iter().filter_map(|statement| {
        match statement.sql().split(' ').next().unwrap_or_default() {
            "SELECT" => Some("read"),
            "INSERT" => Some("insert"),
            "UPDATE" => Some("update"),
            _ => None,
        }
    });
    (outcome, words.collect::<Vec<_>>().join(" "))
}

#[test]
fn checks_cost_what_they_must() {
    let _alone = alone();
    for engine in engines() {
        let (db, log) = worlds(&engine);
        let assay = |id: i64, specimen_id: i64| AssayToInsert {
            id,
            specimen_id,
            element: "Zr".to_owned(),
            ppm: 1,
            secret: 0,
        };
        let site = |id: i64, agency_id: i64| SiteToInsert {
            id,
            agency_id,
            region: "East".to_owned(),
            closed_on: None,
            secret: 0,
        };
        let hidden = "ParentNotFound: a row of `guard_assay` refers by `specimen_id` to a row that does not exist or is hidden";
        let violation = "PolicyViolation: a written row of `guard_site` would not satisfy its policy `own_agency`; write rows that this handle may see, or use `waive_check`";
        macro_rules! expect {
            ($($write:expr => $outcome:expr, $statements:literal;)*) => {$(
                let (outcome, statements) = written(&db, &log, $write);
                let about = format!("on {}: {}", engine.name, stringify!($write));
                assert_eq!(outcome.split("; write").next(), $outcome.split("; write").next(), "{about}");
                assert_eq!(statements, $statements, "{about}");
            )*};
        }
        expect! {
            // The values themselves tell that the policy holds, or does not.
            Site::insert(site(11, 1)) => "1", "insert";
            Site::insert(site(12, 2)) => violation, "";
            Site::insert_all([site(12, 1), site(13, 2)]) => violation, "";
            // One statement looks up the parents of all rows.
            Assay::insert(assay(11, 1)) => "1", "read insert";
            Assay::insert_all([assay(12, 1), assay(13, 1)]) => "2", "read insert";
            Assay::insert_all([assay(14, 1), assay(15, 2)]) => hidden, "read";
            Assay::insert(assay(14, 99)) => hidden, "read";
            // A column that matters to no policy costs nothing.
            Assay::row(1).update(|a| a.ppm.set(8)) => "1", "update";
            Site::row(1).update(|s| s.closed_on.set_null()) => "1", "update";
            // Closing is what updates are for: a policy about state is not checked.
            Site::row(11).update(|s| s.closed_on.set(Date::constant(2024, 5, 1))) => "1", "update";
            Assay::row(1).update(|a| a.specimen_id.set(1)) => "1", "read update";
            Assay::row(1).update(|a| a.specimen_id.set(2)) => hidden, "read read";
            // An update that finds nothing writes nothing.
            Assay::row(2).update(|a| a.specimen_id.set(2)) => "0", "read read";
            // Where an expression decides, the stored row is looked at.
            Assay::row(1).update(|a| a.specimen_id.set(a.specimen_id + 1)) =>
                "ParentNotFound: a row of `guard_assay` refers to a row that does not exist or is hidden",
                "read update read";
            Site::row(1).update(|s| s.agency_id.set(s.agency_id + 1)) => violation, "read update read";
            Site::row(1).update(|s| s.agency_id.set(2)) => violation, "read update read";
            // Waived.
            Site::row(12).update(|s| s.agency_id.set(2)).waive_check(own_agency) => "0", "update";
            Site::insert(site(14, 2)).waive_check(own_agency) => "1", "insert";
        }
        let stored = db
            .read(&Site::rows().waive_every_policy().filter(|s| s.id.eq(1)))
            .unwrap();
        assert_eq!(stored[0].agency_id, 1);
    }
}

/// A refused write ends its transaction, as one that the database refuses does; inner ones go on being the way out.
#[test]
fn a_violation_ends_the_transaction() {
    let _alone = alone();
    for engine in engines() {
        let (db, _) = worlds(&engine);
        let theirs = || Specimen::row(1).update(|s| s.borehole_id.set(2));
        let ended = db.transaction(|tx| {
            tx.write(&Specimen::row(1).update(|s| s.grams.set(6)))?;
            let refused = tx.write(&theirs()).unwrap_err();
            assert_eq!(refused.kind(), ErrorKind::ParentNotFound, "on {}", engine.name);
            let after = tx.count(&Specimen::rows()).unwrap_err();
            assert_eq!(after.kind(), ErrorKind::TransactionEnded, "on {}", engine.name);
            Ok::<_, Error>(())
        });
        assert_eq!(ended.unwrap_err().kind(), ErrorKind::TransactionEnded, "on {}", engine.name);
        let kept = db.transaction(|tx| {
            tx.write(&Specimen::row(1).update(|s| s.grams.set(6)))?;
            let refused = tx.transaction(|tx| tx.write(&theirs())).unwrap_err();
            assert_eq!(refused.kind(), ErrorKind::ParentNotFound, "on {}", engine.name);
            tx.write(&Specimen::row(1).update(|s| s.grams.set(7)))
        });
        assert_eq!(kept.unwrap(), 1);
        assert_eq!(db.read_one(&Specimen::row(1)).unwrap().grams, 7);
    }
}

/// A parent that was checked cannot be moved elsewhere before the write is committed.
#[test]
fn checked_parents_stay_where_they_are() {
    let _alone = alone();
    for engine in engines()
        .into_iter()
        .filter(|engine| engine.dialect() != Dialect::Sqlite)
    {
        let (db, _) = worlds(&engine);
        let other = engine.open();
        let wait =
            engine.pick("", "SET LOCAL lock_timeout = 100", "SET innodb_lock_wait_timeout = 1");
        db.transaction(|tx| {
            let assay = AssayToInsert {
                id: 21,
                specimen_id: 1,
                element: "Zr".to_owned(),
                ppm: 1,
                secret: 0,
            };
            tx.write(&Assay::insert(assay))?;
            let moved = other.transaction(|tx| {
                tx.run_text(wait, vec![])?;
                tx.run_text("UPDATE guard_specimen SET borehole_id = 2 WHERE id = 1", vec![])
            });
            assert_eq!(moved.unwrap_err().kind(), ErrorKind::Locked, "on {}", engine.name);
            Ok::<_, Error>(())
        })
        .unwrap();
    }
}

/// A rack, which has no policies of its own.
#[derive(Debug, Table)]
#[nepheline(table = "guard_rack")]
struct Rack {
    #[nepheline(key)]
    id: i64,
    agency_id: i64,
}

#[derive(Debug, Table)]
#[nepheline(table = "guard_bin", policies(in_own_rack))]
struct Bin {
    #[nepheline(key)]
    id: i64,
    #[nepheline(references = Rack)]
    rack_id: i64,
}

fn in_own_rack(b: BinColumns, agency: &AgencyId) -> Condition {
    b.rack().agency_id.eq(agency.0)
}

/// A policy that reads nothing but a reference is checked in the statement that looks the parent up.
#[test]
fn a_policy_of_the_row_is_checked_with_its_parent() {
    for engine in engines() {
        let log = StatementLog::new();
        let free = engine.open();
        for text in [
            "DROP TABLE IF EXISTS guard_bin",
            "DROP TABLE IF EXISTS guard_rack",
            "CREATE TABLE guard_rack (id BIGINT PRIMARY KEY, agency_id BIGINT)",
            "CREATE TABLE guard_bin (id BIGINT PRIMARY KEY, rack_id BIGINT)",
            "INSERT INTO guard_rack VALUES (1, 1), (2, 2)",
        ] {
            free.run_text(text, vec![]).unwrap();
        }
        let db = free.logging_to(&log).carrying(AgencyId(1));
        let bins = |racks: [i64; 2]| {
            let made = racks
                .into_iter()
                .zip(10..)
                .map(|(rack_id, id)| BinToInsert { id, rack_id });
            Bin::insert_all(made.collect::<Vec<_>>())
        };
        let refused = "PolicyViolation: a written row of `guard_bin` would not satisfy its policy `in_own_rack`";
        for (racks, outcome, statements) in
            [([1, 2], refused, "read"), ([1, 1], "2", "read insert")]
        {
            let (found, sent) = written(&db, &log, bins(racks));
            assert_eq!(found.split("; write").next(), Some(outcome), "on {}", engine.name);
            assert_eq!(sent, statements, "on {}", engine.name);
        }
        let (moved, _) = written(&db, &log, Bin::row(10).update(|b| b.rack_id.set(2)));
        assert_eq!(moved.split("; write").next(), Some(refused), "on {}", engine.name);
        let waived = Bin::row(10)
            .update(|b| b.rack_id.set(2))
            .waive_check(in_own_rack);
        assert_eq!(
            written(&db, &log, waived),
            ("1".to_owned(), "update".to_owned()),
            "on {}",
            engine.name
        );
    }
}

mod told {
    //! Tables that say themselves which policies check their writes.

    use nepheline::prelude::*;

    use crate::world::AgencyId;

    #[derive(Debug, Table)]
    #[nepheline(policies(own, open), write_checks(open))]
    pub(super) struct Ledger {
        #[nepheline(key)]
        pub(super) id: i64,
        pub(super) agency_id: i64,
        pub(super) closed: bool,
    }

    #[derive(Debug, Table)]
    #[nepheline(policies(mine), write_checks())]
    pub(super) struct Draft {
        #[nepheline(key)]
        pub(super) id: i64,
        pub(super) agency_id: i64,
    }

    pub(super) fn own(l: LedgerColumns, agency: &AgencyId) -> Condition {
        l.agency_id.eq(agency.0)
    }

    pub(super) fn open(l: LedgerColumns) -> Condition {
        l.closed.eq(false)
    }

    pub(super) fn mine(d: DraftColumns, agency: &AgencyId) -> Condition {
        d.agency_id.eq(agency.0)
    }
}

/// The checks of a write are listed beside the policies of its rows.
#[test]
fn checks_are_told() {
    let carried = Carried::new().with(AgencyId(1));
    let told = |sql: Result<nepheline::Sql, Error>| {
        let sql = sql.unwrap();
        let met = sql.policies().iter().map(|met| format!("\n  {met}"));
        format!("{}{}", sql.text(), met.collect::<String>())
    };
    macro_rules! told {
        ($($write:expr;)*) => {[$(told($write.sql_carrying(Dialect::Postgres, &carried))),*]};
    }
    let assay = || AssayToInsert { id: 1, specimen_id: 1, element: "Zr".into(), ppm: 1, secret: 0 };
    let shown = told![
        Assay::insert(assay());
        Assay::insert(assay()).waive_check(of_specimen);
        Assay::row(1).update(|a| a.ppm.set(3));
        Assay::row(1).update(|a| a.specimen_id.set(3));
        Site::row(1).update(|s| s.agency_id.set(3));
        Site::row(1).update(|s| s.agency_id.set(3)).waive_check(own_agency);
        told::Ledger::insert(told::LedgerToInsert { id: 1, agency_id: 2, closed: false });
        told::Draft::insert(told::DraftToInsert { id: 1, agency_id: 2 });
    ];
    insta::assert_snapshot!(shown.join("\n\n"));
}
