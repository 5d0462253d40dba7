//! Functions and procedures of the database, on every engine that has them.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::sync::Mutex;

use nepheline::blocking::{Database, RunsQueries};
use nepheline::prelude::*;
use nepheline::{Script, StatementLog, call, script, statement};
use nepheline_coreshed::{Analyst, Borehole, Specimen};
use support::shed::sheds;

/// The functions of PostgreSQL.
const POSTGRES: &str = "
    CREATE OR REPLACE FUNCTION call_specimens_of(rig_name text, above float8) RETURNS SETOF specimen LANGUAGE sql STABLE AS $$
        SELECT s.* FROM specimen s JOIN borehole b ON b.id = s.borehole_id WHERE b.rig = rig_name AND s.top_m < above $$;
    CREATE OR REPLACE FUNCTION call_in_feet(metres float8) RETURNS float8 LANGUAGE sql IMMUTABLE AS $$ SELECT metres * 3.28084 $$;
    CREATE OR REPLACE FUNCTION call_narrow(small smallint, medium integer, low real) RETURNS integer LANGUAGE sql IMMUTABLE AS
        $$ SELECT small + medium + low::integer $$;
    CREATE OR REPLACE FUNCTION call_span(borehole bigint) RETURNS TABLE (top float8, base float8) LANGUAGE sql STABLE AS
        $$ SELECT min(top_m), max(base_m) FROM specimen WHERE borehole_id = borehole $$;
    CREATE OR REPLACE PROCEDURE call_tally(site bigint, OUT boreholes bigint, INOUT metres float8) LANGUAGE plpgsql AS $$ BEGIN
        SELECT count(*), metres + COALESCE(sum(depth_m), 0) INTO boreholes, metres FROM borehole WHERE site_id = site; END $$;
    CREATE OR REPLACE PROCEDURE call_half(number bigint) LANGUAGE plpgsql AS $$ BEGIN
        INSERT INTO call_note VALUES (number); INSERT INTO call_note VALUES (number / 0); END $$;
    CREATE OR REPLACE PROCEDURE call_committing(number bigint) LANGUAGE plpgsql AS $$ BEGIN
        INSERT INTO call_note VALUES (number); COMMIT; END $$;
    CREATE OR REPLACE FUNCTION call_open_notes(lowest bigint) RETURNS refcursor LANGUAGE plpgsql AS $$
        DECLARE notes refcursor; BEGIN OPEN notes FOR SELECT number FROM call_note WHERE number >= lowest ORDER BY number; RETURN notes; END $$;
";

/// The procedures and functions of MariaDB.
const MARIADB: &str = "
    CREATE OR REPLACE FUNCTION call_in_feet(metres DOUBLE) RETURNS DOUBLE DETERMINISTIC RETURN metres * 3.28084;
    CREATE OR REPLACE PROCEDURE call_tally(site BIGINT, OUT boreholes BIGINT, INOUT metres DOUBLE) READS SQL DATA
        SELECT count(*), metres + COALESCE(sum(depth_m), 0) INTO boreholes, metres FROM borehole WHERE site_id = site;
    CREATE OR REPLACE PROCEDURE call_report(site BIGINT, OUT deepest DOUBLE) READS SQL DATA BEGIN
        SELECT * FROM borehole WHERE site_id = site ORDER BY id;
        SELECT name, depth_m FROM borehole WHERE site_id = -1;
        SELECT count(*) FROM specimen s JOIN borehole b ON b.id = s.borehole_id WHERE b.site_id = site;
        SELECT max(depth_m) INTO deepest FROM borehole WHERE site_id = site; END;
    CREATE OR REPLACE PROCEDURE call_half(number BIGINT) BEGIN
        INSERT INTO call_note VALUES (number); INSERT INTO call_note VALUES (number), (number); END;
    CREATE OR REPLACE PROCEDURE call_committing(number BIGINT) BEGIN INSERT INTO call_note VALUES (number); COMMIT; END;
    CREATE OR REPLACE PROCEDURE call_restarting(number BIGINT) BEGIN
        INSERT INTO call_note VALUES (number); COMMIT; START TRANSACTION; INSERT INTO call_note VALUES (number + 1); END;
";

/// Every engine with its routines, for one test at a time.
fn with_routines(test: impl Fn(&str, Dialect, &Database)) {
    static ALONE: Mutex<()> = Mutex::new(());
    let _alone = ALONE.lock().unwrap_or_else(|failed| failed.into_inner());
    for (engine, db) in sheds() {
        db.run_script(&script!(
            "DROP TABLE IF EXISTS call_note; CREATE TABLE call_note (number BIGINT PRIMARY KEY)"
        ))
        .unwrap();
        let routines = match engine.dialect() {
            Dialect::Postgres => POSTGRES,
            Dialect::MariaDb => MARIADB,
            _ => "",
        };
        db.run_script(&Script::trusting_text_made_at_run_time(routines))
            .unwrap();
        test(engine.name, engine.dialect(), db);
    }
}

fn notes(db: &impl RunsQueries) -> Vec<i64> {
    let notes = statement!("SELECT number FROM call_note ORDER BY number");
    db.read(&notes.rows_as::<i64>()).unwrap()
}

#[derive(Debug, PartialEq, RowShape)]
struct Span {
    top: Option<f64>,
    base: Option<f64>,
}

#[derive(Debug, PartialEq, RowShape)]
struct Tally {
    metres: f64,
    boreholes: i64,
}

#[test]
fn functions_are_tables_and_expressions() {
    with_routines(|name, dialect, db| {
        let feet = Borehole::rows()
            .filter(|b| b.id.eq(1))
            .select(|b| (b.depth_m, call!("call_in_feet"(b.depth_m)).typed::<f64>()));
        let deep =
            Borehole::rows().filter(|b| call!("call_in_feet"(b.depth_m)).typed::<f64>().gt(1000));
        if dialect == Dialect::Sqlite {
            // SQLite has no such function; its table-valued ones are tables too.
            assert_eq!(db.read(&feet).unwrap_err().kind(), ErrorKind::Database);
            #[derive(Debug, RowShape)]
            struct JsonEach {
                key: i64,
                value: i64,
            }
            let each = JsonEach::rows_from(call!("json_each"("[5, 6, 7]")))
                .filter(|e| e.value.gt(5))
                .select(|e| (e.key, e.value));
            assert_eq!(db.read(&each).unwrap(), [(1, 6), (2, 7)]);
            let near = Specimen::rows_from(call!("nowhere"(1_i64)));
            assert_eq!(db.read(&near).unwrap_err().kind(), ErrorKind::Database);
            return;
        }
        let (metres, feet) = db.read_one(&feet).unwrap();
        assert!((metres * 3.28084 - feet).abs() < 1e-9, "on {name}");
        let expected = Borehole::rows().filter(|b| b.depth_m.gt(1000.0 / 3.28084));
        assert_eq!(db.count(&deep).unwrap(), db.count(&expected).unwrap(), "on {name}");
        let near = |above: f64| Specimen::rows_from(call!("call_specimens_of"("Bora 40", above)));
        if dialect == Dialect::MariaDb {
            let err = db.read(&near(100.0)).unwrap_err();
            assert_eq!(err.kind(), ErrorKind::Unsupported, "on {name}");
            assert!(err.to_string().contains("a function that returns rows"), "on {name}: {err}");
            return;
        }
        // It is filtered, ordered, grouped and followed like a table.
        let typed = Specimen::rows().filter(|s| s.borehole().rig.eq("Bora 40") & s.top_m.lt(100));
        let [called, typed] = [near(100.0), typed].map(|query| {
            let query = query.filter(|s| s.analyst_id.is_not_null());
            let sites = query
                .clone()
                .select(|s| (per(s.borehole().site().region), count()));
            let sites = db
                .read(&sites.order_by(|s| per(s.borehole().site().region).asc()))
                .unwrap();
            (
                db.read(&query.clone().order_by(|s| s.id.asc())).unwrap(),
                db.count(&query).unwrap(),
                sites,
            )
        });
        assert_eq!(called, typed, "on {name}");
        // The types of arguments are those of Rust.
        let narrow = Analyst::rows().limit(1).select(|_| {
            (
                call!("call_narrow"(1_i16, 2_i32, 3_f32)).typed::<i32>(),
                verbatim!("call_narrow({}, {}, {})", 1_i16, 2_i32, 3_f32).typed::<i32>(),
            )
        });
        assert_eq!(db.read_one(&narrow).unwrap(), (6, 6), "on {name}");
        // A join can pass columns of the tables before it.
        let spans = Borehole::rows()
            .filter(|b| b.site_id.eq(1))
            .join(|b| Span::rows_from(call!("call_span"(b.id))))
            .order_by(|(b, _)| b.id.asc())
            .select(|(b, span)| (b.id, span.top, span.base));
        let expected = Borehole::rows()
            .filter(|b| b.site_id.eq(1))
            .order_by(|b| b.id.asc())
            .select(|b| (b.id, b.specimens().min(|s| s.top_m), b.specimens().max(|s| s.base_m)));
        assert_eq!(db.read(&spans).unwrap(), db.read(&expected).unwrap(), "on {name}");
        let unknown = Specimen::rows_from(call!("call_unknown"(1_i64)));
        let err = db.read(&unknown).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Database, "on {name}");
        assert!(err.to_string().contains("call_unknown"), "on {name}: {err}");
    });
}

#[test]
fn procedures_return_parameters_and_result_sets() {
    with_routines(|name, dialect, db| {
        let tally = || call!("call_tally"(1_i64, _, inout 0.5));
        if dialect == Dialect::Sqlite {
            let err = db.call(&tally().out::<(i64, f64)>()).unwrap_err();
            assert_eq!(err.kind(), ErrorKind::Unsupported, "{err}");
            assert!(err.to_string().contains("a procedure"), "{err}");
            return;
        }
        let holes = db
            .read(
                &Borehole::rows()
                    .filter(|b| b.site_id.eq(1))
                    .order_by(|b| b.id.asc()),
            )
            .unwrap();
        let metres = holes.iter().map(|b| b.depth_m).sum::<f64>() + 0.5;
        let (boreholes, sum) = db.call(&tally().out::<(i64, f64)>()).unwrap();
        assert_eq!(boreholes, holes.len() as i64, "on {name}");
        assert!((sum - metres).abs() < 1e-6, "on {name}");
        // The fields of a struct have the names of the parameters.
        let tallied = db.call(&tally().out::<Tally>()).unwrap();
        assert_eq!((tallied.boreholes, tallied.metres), (boreholes, sum), "on {name}");
        let inside = db
            .transaction(|tx| tx.call(&tally().out::<Tally>()))
            .unwrap();
        assert_eq!(inside, tallied, "on {name}");
        let err = db.call(&tally().out::<(i64,)>()).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::InvalidQuery, "on {name}: {err}");
        let err = db.call(&tally().out::<(String, f64)>()).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Mismatch, "on {name}: {err}");
        let err = db.call(&call!("call_nothing"())).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Database, "on {name}: {err}");
        assert!(err.to_string().contains("call_nothing"), "on {name}: {err}");

        let report = || call!("call_report"(1_i64)).result_sets::<(Borehole, (String, f64), i64)>();
        if dialect == Dialect::Postgres {
            let err = db.call(&report()).unwrap_err();
            assert_eq!(err.kind(), ErrorKind::Unsupported, "{err}");
            return;
        }
        let ((rows, none, counts), (deepest,)) = db.call(&report().out::<(f64,)>()).unwrap();
        assert_eq!((&rows, none.len(), counts.len()), (&holes, 0, 1), "on {name}");
        assert_eq!(Some(deepest), holes.iter().map(|b| b.depth_m).reduce(f64::max), "on {name}");
        // Fewer or more sets than there are, and columns that do not fit.
        let few = call!("call_report"(1_i64))
            .result_sets::<(Borehole,)>()
            .out::<(f64,)>();
        let err = db.call(&few).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Mismatch, "on {name}: {err}");
        let unfit = call!("call_report"(1_i64))
            .result_sets::<(Specimen, (String, f64), i64)>()
            .out::<(f64,)>();
        let err = db.call(&unfit).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Mismatch, "on {name}: {err}");
        // The connection is in step after each of them.
        assert_eq!(db.call(&tally().out::<Tally>()).unwrap(), tallied, "on {name}");
        // Results that nobody asks for are read away.
        db.call(&call!("call_report"(1_i64, _))).unwrap();
        assert_eq!(
            db.count(&Borehole::rows().filter(|b| b.site_id.eq(1)))
                .unwrap(),
            holes.len() as u64
        );
    });
}

#[test]
fn a_procedure_that_fails_or_commits_leaves_no_half() {
    with_routines(|name, dialect, db| {
        if dialect == Dialect::Sqlite {
            return;
        }
        // Half of it ran: in a transaction that half is undone.
        let err = db.transaction(|tx| {
            tx.call(&call!("call_half"(1_i64))).unwrap_err();
            tx.count(&Analyst::rows())
        });
        assert_eq!(err.unwrap_err().kind(), ErrorKind::TransactionEnded, "on {name}");
        assert!(notes(db).is_empty(), "on {name}");
        // Outside a transaction it may commit; inside, the transaction has ended, or the server refuses.
        db.call(&call!("call_committing"(2_i64))).unwrap();
        assert_eq!(notes(db), [2], "on {name}");
        let ended = db.transaction(|tx| {
            let called = tx.call(&call!("call_committing"(3_i64)));
            assert_eq!(called.is_ok(), dialect == Dialect::MariaDb, "on {name}");
            tx.count(&Analyst::rows())
        });
        assert_eq!(ended.unwrap_err().kind(), ErrorKind::TransactionEnded, "on {name}");
        let committed: &[i64] = if dialect == Dialect::MariaDb { &[2, 3] } else { &[2] };
        assert_eq!(notes(db), committed, "on {name}");
        if dialect == Dialect::MariaDb {
            // A transaction that it begins itself is not taken for the program's.
            let ended = db.transaction(|tx| tx.call(&call!("call_restarting"(5_i64))));
            assert_eq!(ended.unwrap_err().kind(), ErrorKind::TransactionEnded, "on {name}");
            assert_eq!(notes(db), [2, 3, 5], "on {name}");
            // A change of the schema is refused, also behind a comment.
            let text = "/* a box */ CREATE TABLE call_box (id BIGINT)";
            let text = nepheline::WholeStatement::trusting_text_made_at_run_time(text);
            let refused = db.transaction(|tx| tx.write(&text));
            assert_eq!(refused.unwrap_err().kind(), ErrorKind::Unsupported, "on {name}");
        }
        db.write(&statement!("DELETE FROM call_note")).unwrap();
        assert!(notes(db).is_empty(), "on {name}");
    });
}

#[test]
fn cursors_are_read_in_chunks_and_closed() {
    with_routines(|name, dialect, db| {
        let open = |least: i64| call!("call_open_notes"(least)).cursor_as::<i64>();
        if dialect != Dialect::Postgres {
            let err = db.call(&open(1)).unwrap_err();
            assert_eq!(err.kind(), ErrorKind::Unsupported, "on {name}: {err}");
            return;
        }
        db.write(&statement!("INSERT INTO call_note SELECT n FROM generate_series(1, 2500) n"))
            .unwrap();
        let log = StatementLog::new();
        let all: Vec<i64> = (1..=2500).collect();
        assert_eq!(db.logging_to(&log).call(&open(1)).unwrap(), all);
        let texts: Vec<String> = log.all().iter().map(|s| s.sql().to_owned()).collect();
        insta::assert_snapshot!(texts.join("\n"));
        let cursors = |db: &nepheline::blocking::Transaction<'_>| {
            db.read_one(
                &statement!("SELECT count(*) FROM pg_cursors WHERE name <> ''").rows_as::<i64>(),
            )
            .unwrap()
        };
        db.transaction(|tx| {
            assert_eq!(tx.call(&open(2000)).unwrap().len(), 501);
            // A row that does not fit ends the reading, and the cursor is closed all the same.
            let unfit = call!("call_open_notes"(1_i64)).cursor_as::<(i64, i64)>();
            assert_eq!(tx.call(&unfit).unwrap_err().kind(), ErrorKind::Mismatch);
            Ok::<(), Error>(())
        })
        .unwrap_or_else(|err| assert_eq!(err.kind(), ErrorKind::TransactionEnded));
        db.transaction(|tx| {
            assert_eq!(tx.call(&open(2000)).unwrap().len(), 501);
            assert_eq!(cursors(tx), 0);
            let unfit = call!("call_open_notes"(1_i64)).cursor_as::<String>();
            assert_eq!(tx.call(&unfit).unwrap_err().kind(), ErrorKind::Mismatch);
            assert_eq!(cursors(tx), 0);
            Ok::<(), Error>(())
        })
        .unwrap();
    });
}

#[test]
fn calls_stand_outside_policies_by_name_only() {
    struct AgencyId;
    with_routines(|name, dialect, db| {
        let db = db.policies_required::<AgencyId>();
        if dialect == Dialect::Sqlite {
            return;
        }
        let tally = || call!("call_tally"(1_i64, _, inout 0.5));
        let err = db.call(&tally().out::<Tally>()).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::PoliciesRequired, "on {name}: {err}");
        db.call(&tally().outside_policies().out::<Tally>()).unwrap();
        if dialect == Dialect::Postgres {
            let rows = || call!("call_specimens_of"("Bora 40", 100.0));
            let err = db.count(&Specimen::rows_from(rows())).unwrap_err();
            assert_eq!(err.kind(), ErrorKind::PoliciesRequired, "on {name}: {err}");
            db.count(&Specimen::rows_from(rows().outside_policies()))
                .unwrap();
        }
    });
}

/// A joined hand-written statement into several structs.
#[test]
fn several_structs_come_out_of_one_row() {
    for (engine, db) in sheds() {
        let name = engine.name;
        let (least, most) = (1_i64, 40_i64);
        let joined = statement!(
            "SELECT {columns of Specimen as s}, {columns of Analyst as a} FROM specimen s \
             LEFT JOIN analyst a ON a.id = s.analyst_id WHERE s.id BETWEEN {least} AND {most} ORDER BY s.id"
        );
        let typed = Specimen::rows()
            .filter(|s| s.id.between(least, most))
            .order_by(|s| s.id.asc())
            .join(|s| s.analyst());
        let pairs = joined.clone().rows_as::<(Specimen, Option<Analyst>)>();
        assert_eq!(db.read(&pairs).unwrap(), db.read(&typed).unwrap(), "on {name}");
        // A single list has the plain names of the columns, so that the statement can be a table.
        let one =
            statement!("SELECT {columns of Specimen as s} FROM specimen s WHERE s.id < {most}");
        let table =
            nepheline::from_statement(one.clone().rows_as::<Specimen>()).filter(|s| s.id.gt(30));
        assert_eq!(db.count(&table).unwrap(), 9, "on {name}");
        assert_eq!(db.read(&one.rows_as::<Specimen>()).unwrap().len(), 39, "on {name}");
        let swapped = joined.rows_as::<(Analyst, Specimen)>();
        assert_eq!(db.read(&swapped).unwrap_err().kind(), ErrorKind::Mismatch, "on {name}");
    }
}
