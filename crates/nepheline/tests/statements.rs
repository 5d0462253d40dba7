//! Whole statements of hand-written SQL, on every engine and handle.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::ops::ControlFlow;
use std::sync::{Arc, Mutex};

use nepheline::blocking::RunsQueries;
use nepheline::prelude::*;
use nepheline::{
    Decision, Interceptor, Operation, Paging, Script, StatementInfo, WholeStatement,
    from_statement, script, statement,
};
use nepheline_coreshed::{Borehole, Rock, Specimen};
use support::shed::sheds;
use support::{engines, servers};

#[derive(Debug, Clone, PartialEq, RowShape)]
struct Depth {
    #[nepheline(by_code_point)]
    borehole: String,
    metres: Option<f64>,
    specimens: i64,
}

#[derive(Debug, PartialEq, RowShape)]
struct Place {
    site_id: i64,
    rig: String,
}

#[derive(Debug, PartialEq, RowShape)]
struct Placed {
    name: String,
    #[nepheline(whole_row)]
    place: Place,
}

fn depths(site: i64) -> WholeStatement {
    statement!(
        "SELECT count(*) AS specimens, b.name AS borehole, max(s.base_m) AS metres \
         FROM borehole b LEFT JOIN specimen s ON s.borehole_id = b.id \
         WHERE b.site_id = {site} GROUP BY b.id, b.name ORDER BY b.name"
    )
}

#[test]
fn rows_are_read_by_the_names_of_their_columns() {
    for (engine, db) in sheds() {
        let name = engine.name;
        let expected: Vec<Depth> = db
            .read(
                &Borehole::rows()
                    .filter(|b| b.site_id.eq(1))
                    .order_by(|b| b.name.asc())
                    .select(|b| (b.name, b.specimens().max(|s| s.base_m), b.specimens().count())),
            )
            .unwrap()
            .into_iter()
            .map(|(borehole, metres, specimens)| Depth {
                borehole,
                metres,
                specimens: specimens.max(1),
            })
            .collect();
        let rows = depths(1).rows_as::<Depth>();
        assert_eq!(db.read(&rows).unwrap(), expected, "on {name}");
        assert_eq!(db.count(&rows).unwrap(), expected.len() as u64, "on {name}");
        assert!(db.exists(&rows).unwrap(), "on {name}");
        assert!(!db.exists(&depths(-1).rows_as::<Depth>()).unwrap(), "on {name}");
        assert_eq!(db.read_first(&rows).unwrap().as_ref(), expected.first(), "on {name}");
        assert_eq!(db.read_one(&rows).unwrap_err().kind(), ErrorKind::MoreThanOne, "on {name}");
        let page = db.read_page(&rows, Paging::page_size(2).page(2)).unwrap();
        assert_eq!(
            (page.rows(), page.total_rows()),
            (&expected[2..4], expected.len() as u64),
            "on {name}"
        );
        let mut streamed = Vec::new();
        db.read_stream(&rows, |row| {
            streamed.push(row);
            ControlFlow::Continue(())
        })
        .unwrap();
        assert_eq!(streamed, expected, "on {name}");
        // It is a table for typed queries too.
        let deep = from_statement(rows.clone())
            .filter(|d| d.metres.gt(300))
            .select(|d| (count(), max(d.metres)));
        let deepest = expected
            .iter()
            .filter_map(|d| d.metres)
            .filter(|metres| *metres > 300.0);
        let (deep_ones, deepest) = (deepest.clone().count() as i64, deepest.reduce(f64::max));
        assert_eq!(db.read_one(&deep).unwrap(), (deep_ones, deepest), "on {name}");
        // Tables, single values, tuples, whole rows in rows, and rows that may be missing.
        let labels =
            statement!("SELECT label FROM specimen WHERE id < 3 ORDER BY id").rows_as::<String>();
        assert_eq!(db.read(&labels).unwrap().len(), 2, "on {name}");
        let whole = statement!("SELECT * FROM borehole WHERE id = {}", 1_i64).rows_as::<Borehole>();
        assert_eq!(
            db.read_one(&whole).unwrap(),
            db.read_one(&Borehole::row(1)).unwrap(),
            "on {name}"
        );
        let both = statement!("SELECT b.*, 7 AS seven FROM borehole b WHERE b.id = 1")
            .rows_as::<(Borehole, i64)>();
        assert_eq!(db.read_one(&both).unwrap().1, 7, "on {name}");
        let placed =
            statement!("SELECT rig, site_id, name FROM borehole WHERE id = 1").rows_as::<Placed>();
        assert_eq!(db.read_one(&placed).unwrap().place.site_id, whole_site(db), "on {name}");
        let none =
            statement!("SELECT b.* FROM lab l LEFT JOIN borehole b ON b.id = -1 WHERE l.id = 1");
        assert_eq!(db.read_one(&none.rows_as::<Option<Borehole>>()).unwrap(), None, "on {name}");
        // Expressions and values of the program's types, and one text for each dialect.
        let rock = statement!(
            sqlite: "SELECT id FROM specimen WHERE rock = {0} ORDER BY id LIMIT 1",
            postgres: "SELECT id FROM specimen WHERE rock = {0} ORDER BY id FETCH FIRST 1 ROW ONLY",
            mysql: "SELECT id FROM specimen WHERE rock = {0} ORDER BY id LIMIT 1",
            Rock::Granite
        );
        let first = Specimen::rows()
            .filter(|s| s.rock.eq(Rock::Granite))
            .order_by(|s| s.id.asc())
            .limit(1);
        let first = db.read(&first.select(|s| s.id)).unwrap();
        assert_eq!(db.read(&rock.rows_as::<i64>()).unwrap(), first, "on {name}");
    }
}

fn whole_site(db: &nepheline::blocking::Database) -> i64 {
    db.read_one(&Borehole::row(1)).unwrap().site_id
}

#[test]
fn columns_that_do_not_fit_are_told_before_the_first_row() {
    for (engine, db) in sheds() {
        let told = |err: Error| {
            assert_eq!(err.kind(), ErrorKind::Mismatch, "on {}: {err}", engine.name);
            assert!(err.origin().is_some(), "on {}", engine.name);
            err.to_string()
                .split("; asked for")
                .next()
                .unwrap()
                .to_owned()
        };
        macro_rules! told {
            ($($statement:expr => $row:ty, $message:literal;)*) => {$(
                let rows = $statement.rows_as::<$row>();
                assert_eq!(told(db.read(&rows).unwrap_err()), concat!("the columns of the statement do not fit the row: ", $message), "on {}", engine.name);
                let streamed = db.read_stream(&rows, |_| -> ControlFlow<()> { panic!("a row was given out") });
                told(streamed.unwrap_err());
            )*};
        }
        told! {
            statement!("SELECT name AS borehole, depth_m AS metres FROM borehole") => Depth,
                "`specimens` is missing; wanted are `borehole`, `metres`, `specimens`, arrived are `borehole`, `metres`";
            statement!("SELECT name AS borehole, depth_m AS metres, 1 AS specimens, rig FROM borehole") => Depth,
                "`rig` is not wanted; wanted are `borehole`, `metres`, `specimens`, arrived are `borehole`, `metres`, `specimens`, `rig`";
            statement!("SELECT name AS borehole, rig AS borehole, 1.5 AS metres, 1 AS specimens FROM borehole") => Depth,
                "`borehole` is there twice; wanted are `borehole`, `metres`, `specimens`, arrived are `borehole`, `borehole`, `metres`, `specimens`";
            statement!("SELECT id, name FROM borehole") => i64, "1 columns are wanted; wanted are any, arrived are `id`, `name`";
            statement!("SELECT id FROM borehole") => (i64, String), "2 columns are wanted; wanted are any, any, arrived are `id`";
            statement!("SELECT 1 AS one, rig, site_id FROM borehole") => (i64, Place),
                "column 2 is `rig` instead of `site_id`, column 3 is `site_id` instead of `rig`; wanted are any, `site_id`, `rig`, arrived are `one`, `rig`, `site_id`";
        }
        let others = statement!(
            "SELECT rig, name AS borehole, depth_m AS metres, 1 AS specimens FROM borehole WHERE id = 1"
        );
        let others = others.rows_as::<Depth>().ignoring_other_columns();
        assert_eq!(db.read_one(&others).unwrap().specimens, 1, "on {}", engine.name);
        // The connection is as good as before, and a value of another type is an error of its row.
        let wrong = statement!("SELECT name FROM borehole").rows_as::<i64>();
        let err = db.read(&wrong).unwrap_err();
        assert_eq!((err.kind(), err.row()), (ErrorKind::Mismatch, Some(1)), "on {}", engine.name);
    }
}

/// Notes the operation of each statement.
#[derive(Clone, Default)]
struct Operations(Arc<Mutex<Vec<Operation>>>);

impl Interceptor for Operations {
    fn before(&self, info: &StatementInfo) -> Decision {
        self.0.lock().unwrap().push(info.operation());
        Decision::Pass
    }
}

#[test]
fn statements_write_and_change_the_schema() {
    for engine in engines() {
        let db = engine.open();
        db.write(&statement!("DROP TABLE IF EXISTS statement_tray"))
            .unwrap();
        db.write(&statement!(
            "CREATE TABLE statement_tray (id BIGINT PRIMARY KEY, grams BIGINT NOT NULL)"
        ))
        .unwrap();
        let (first, second) = (1_i64, 2_i64);
        let inserted = statement!("INSERT INTO statement_tray VALUES ({first}, 5), ({second}, 6)");
        assert_eq!(db.write(&inserted).unwrap(), 2, "on {}", engine.name);
        let heavier = |by: i64| {
            statement!("UPDATE statement_tray SET grams = grams + {by} WHERE id = {first}")
        };
        assert_eq!(db.write(&heavier(3)).unwrap(), 1, "on {}", engine.name);
        assert_eq!(
            db.write(&inserted).unwrap_err().kind(),
            ErrorKind::UniqueViolation,
            "on {}",
            engine.name
        );
        if engine.dialect() != Dialect::MySql {
            let deleted =
                statement!("DELETE FROM statement_tray WHERE id = {second} RETURNING grams, id");
            #[derive(Debug, PartialEq, RowShape)]
            struct Gone {
                id: i64,
                grams: i64,
            }
            let gone = db.write_returning(&deleted.rows_as::<Gone>()).unwrap();
            assert_eq!(gone, [Gone { id: 2, grams: 6 }], "on {}", engine.name);
        }
        // A rolled back change is undone, and a refused statement ends the transaction.
        let err = db.transaction(|tx| {
            tx.write(&heavier(100))?;
            tx.write(&inserted)
        });
        assert_eq!(err.unwrap_err().kind(), ErrorKind::UniqueViolation, "on {}", engine.name);
        let grams = || {
            db.read_one(
                &statement!("SELECT grams FROM statement_tray WHERE id = 1").rows_as::<i64>(),
            )
        };
        assert_eq!(grams().unwrap(), 8, "on {}", engine.name);
        // MariaDB would commit before a change of the schema.
        let altered = db.transaction(|tx| {
            tx.write(&heavier(1))?;
            tx.write(&statement!("ALTER TABLE statement_tray ADD COLUMN note BIGINT"))?;
            Err::<(), Error>(tx.read_one(&Specimen::row(-1)).unwrap_err())
        });
        let kind = altered.unwrap_err().kind();
        let refuses = engine.dialect() == Dialect::MariaDb;
        let expected = if refuses { ErrorKind::Unsupported } else { ErrorKind::NotFound };
        assert_eq!(kind, expected, "on {}", engine.name);
        assert_eq!(grams().unwrap(), 8, "on {}", engine.name);
        let refused = WholeStatement::trusting_text_made_at_run_time("  COMMIT");
        assert_eq!(
            db.write(&refused).unwrap_err().kind(),
            ErrorKind::InvalidQuery,
            "on {}",
            engine.name
        );
        // A read is known by its first word, or by what the program says.
        let seen = Operations::default();
        let seeing = db.intercepted_by(seen.clone());
        let text = || WholeStatement::trusting_text_made_at_run_time("SELECT 1");
        seeing.read(&text().rows_as::<i64>()).unwrap();
        seeing.read(&text().writing().rows_as::<i64>()).unwrap();
        let bracketed = WholeStatement::trusting_text_made_at_run_time("VALUES (1)").reading();
        seeing.read(&bracketed.rows_as::<i64>()).unwrap();
        let operations = seen.0.lock().unwrap().clone();
        assert_eq!(
            operations,
            [Operation::Read, Operation::HandWritten, Operation::Read],
            "on {}",
            engine.name
        );
        db.write(&statement!("DROP TABLE statement_tray")).unwrap();
    }
}

/// Policies do not reach into hand-written text, so a handle that requires them wants to be told.
#[test]
fn statements_stand_outside_policies_by_name_only() {
    struct AgencyId;
    for (engine, db) in sheds() {
        let db = db.policies_required::<AgencyId>();
        let count = || statement!("SELECT count(*) FROM borehole");
        let refused = db.read_one(&count().rows_as::<i64>()).unwrap_err();
        assert_eq!(refused.kind(), ErrorKind::PoliciesRequired, "on {}: {refused}", engine.name);
        assert!(
            refused.to_string().contains("`outside_policies()`"),
            "on {}: {refused}",
            engine.name
        );
        let written = db
            .write(&statement!("DELETE FROM borehole WHERE id = -1"))
            .unwrap_err();
        assert_eq!(written.kind(), ErrorKind::PoliciesRequired, "on {}", engine.name);
        assert!(
            db.read_one(&count().outside_policies().rows_as::<i64>())
                .unwrap()
                > 0,
            "on {}",
            engine.name
        );
        let from =
            from_statement(statement!("SELECT site_id, rig FROM borehole").rows_as::<Place>());
        assert_eq!(
            db.count(&from).unwrap_err().kind(),
            ErrorKind::PoliciesRequired,
            "on {}",
            engine.name
        );
    }
}

#[test]
fn async_handles_and_the_log_see_the_same() {
    let runtime = tokio::runtime::Runtime::new().unwrap();
    sheds();
    for engine in servers() {
        runtime.block_on(async {
            use nepheline::RunsQueries as _;
            let db = engine.open_async().await;
            let rows = db.read(&depths(1).rows_as::<Depth>()).await.unwrap();
            assert!(rows.len() > 2, "on {}", engine.name);
            let told = db
                .read(&statement!("SELECT id FROM borehole").rows_as::<Depth>())
                .await
                .unwrap_err();
            assert_eq!(told.kind(), ErrorKind::Mismatch, "on {}", engine.name);
            assert!(db.count(&Borehole::rows()).await.unwrap() > 2, "on {}", engine.name);
        });
    }
}

#[test]
fn scripts_run_whole_where_the_engine_can() {
    for engine in engines() {
        let db = engine.open();
        let name = engine.name;
        db.run_script(&script!(
            "DROP TABLE IF EXISTS script_note; DROP TABLE IF EXISTS script_tray;"
        ))
        .unwrap();
        let body = match engine.dialect() {
            Dialect::Sqlite => {
                "CREATE TRIGGER script_noted AFTER INSERT ON script_tray BEGIN \
                 INSERT INTO script_note VALUES (new.id, CASE WHEN new.grams > 5 THEN 'heavy; very' ELSE 'light' END); \
                 UPDATE script_note SET note = note || '.'; END;"
            }
            Dialect::Postgres => {
                "CREATE OR REPLACE FUNCTION script_noting() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN \
                 INSERT INTO script_note VALUES (new.id, CASE WHEN new.grams > 5 THEN 'heavy; very' ELSE 'light' END); \
                 UPDATE script_note SET note = note || '.'; RETURN new; END $$;
                 CREATE TRIGGER script_noted AFTER INSERT ON script_tray FOR EACH ROW EXECUTE FUNCTION script_noting();"
            }
            _ => {
                "CREATE TRIGGER script_noted AFTER INSERT ON script_tray FOR EACH ROW BEGIN \
                 IF new.grams > 5 THEN INSERT INTO script_note VALUES (new.id, 'heavy; very'); \
                 ELSE INSERT INTO script_note VALUES (new.id, 'light'); END IF; \
                 UPDATE script_note SET note = CONCAT(note, '.'); END;"
            }
        };
        let script = format!(
            "-- The tables; their trigger.\n\
             CREATE TABLE script_tray (id BIGINT PRIMARY KEY, grams BIGINT NOT NULL);\n\
             CREATE TABLE script_note (id BIGINT, note VARCHAR(40));\n{body}\n\
             INSERT INTO script_tray VALUES (1, 9);\n\n/* and; another */ INSERT INTO script_tray VALUES (2, 1)"
        );
        db.run_script(&Script::trusting_text_made_at_run_time(script))
            .unwrap();
        let notes = statement!("SELECT note FROM script_note ORDER BY id").rows_as::<String>();
        assert_eq!(db.read(&notes).unwrap(), ["heavy; very..", "light."], "on {name}");

        // The third statement fails: its number, its line and its text are told.
        let failing = script!(
            "CREATE TABLE script_lid (id BIGINT);
             INSERT INTO script_lid VALUES (1);

             INSERT INTO script_tray VALUES (1, 2);
             INSERT INTO script_lid VALUES (2)"
        );
        db.run_script(&script!("DROP TABLE IF EXISTS script_lid"))
            .unwrap();
        let err = db.run_script(&failing).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::UniqueViolation, "on {name}: {err}");
        assert!(
            err.to_string()
                .starts_with("statement 3 of the script, line 4: "),
            "on {name}: {err}"
        );
        assert_eq!(err.sql(), Some("INSERT INTO script_tray VALUES (1, 2)"), "on {name}");
        let lids = db.read_one(&statement!("SELECT count(*) FROM script_lid").rows_as::<i64>());
        match engine.dialect() {
            // The schema is committed at once there, and so is what stands before.
            Dialect::MariaDb => assert_eq!(lids.unwrap(), 1),
            _ => assert_eq!(lids.unwrap_err().kind(), ErrorKind::Database, "on {name}"),
        }
        // Inside a transaction it is part of it, or refused before anything runs.
        let inside = db.transaction(|tx| {
            tx.run_script(&script!("CREATE TABLE script_box (id BIGINT)"))?;
            tx.run_script(&script!("INSERT INTO script_box VALUES (1)"))?;
            Err::<(), Error>(tx.read_one(&Specimen::row(-1)).unwrap_err())
        });
        let expected = match engine.dialect() {
            Dialect::MariaDb => ErrorKind::Unsupported,
            _ => ErrorKind::NotFound,
        };
        let kind = inside.unwrap_err().kind();
        assert_eq!(kind, expected, "on {name}");
        let boxes = db.exists(&statement!("SELECT id FROM script_box").rows_as::<i64>());
        assert_eq!(boxes.unwrap_err().kind(), ErrorKind::Database, "on {name}");
        let ending = db
            .run_script(&script!("INSERT INTO script_tray VALUES (7, 7); COMMIT"))
            .unwrap_err();
        assert_eq!(ending.kind(), ErrorKind::InvalidQuery, "on {name}: {ending}");
        assert_eq!(
            db.read_one(&statement!("SELECT count(*) FROM script_tray").rows_as::<i64>())
                .unwrap(),
            2
        );
        struct AgencyId;
        let guarded = db.policies_required::<AgencyId>();
        let script = script!(
            "DROP TABLE script_note; DROP TABLE script_tray; DROP TABLE IF EXISTS script_lid"
        );
        assert_eq!(
            guarded.run_script(&script).unwrap_err().kind(),
            ErrorKind::PoliciesRequired,
            "on {name}"
        );
        guarded.run_script(&script.outside_policies()).unwrap();
    }
}
