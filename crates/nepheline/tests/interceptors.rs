//! Interceptors: what they see, in which order, and what they may do.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::ops::ControlFlow;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use nepheline::blocking::{Database, RunsQueries};
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;
use nepheline::{
    BindValue, Decision, Interceptor, StatementInfo, StatementLog, StatementOutcome, TraceContext,
    TraceParent,
};
use support::{Engine, engines};

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "shown_shelf", children(drawers: Drawer by shelf_id))]
struct Shelf {
    #[nepheline(key)]
    id: i64,
    #[nepheline(by_code_point)]
    name: String,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "shown_drawer")]
struct Drawer {
    #[nepheline(key)]
    id: i64,
    #[nepheline(references = Shelf)]
    shelf_id: i64,
}

/// The tables are for one test at a time.
fn alone() -> MutexGuard<'static, ()> {
    static ALONE: Mutex<()> = Mutex::new(());
    ALONE.lock().unwrap_or_else(PoisonError::into_inner)
}

fn prepared(engine: &Engine) -> Database {
    let db = engine.open();
    let text = engine.pick("TEXT", "text COLLATE \"C\"", "VARCHAR(60) COLLATE utf8mb4_nopad_bin");
    for table in [
        format!("shown_shelf (id BIGINT PRIMARY KEY, name {text} NOT NULL)"),
        "shown_drawer (id BIGINT PRIMARY KEY, shelf_id BIGINT NOT NULL)".to_owned(),
    ] {
        let name = table.split(' ').next().unwrap();
        db.run_text(&format!("DROP TABLE IF EXISTS {name}"), vec![])
            .unwrap();
        db.run_text(&format!("CREATE TABLE {table}"), vec![])
            .unwrap();
    }
    db.write(&Shelf::insert_all(
        (1..=3).map(|id| ShelfToInsert { id, name: format!("shelf {id}") }),
    ))
    .unwrap();
    db
}

/// Notes all that it sees.
#[derive(Clone, Default)]
struct Notes {
    name: &'static str,
    lines: Arc<Mutex<Vec<String>>>,
}

impl Interceptor for Notes {
    fn before(&self, passing: &StatementInfo) -> Decision {
        let (name, operation) = (self.name, passing.operation());
        let (tables, binds) = (passing.tables().join("+"), passing.binds().len());
        let within = if passing.in_transaction() { " in a transaction" } else { "" };
        let line = format!("{name} before: {operation} {tables}, {binds} binds{within}");
        self.lines.lock().unwrap().push(line);
        Decision::Pass
    }

    fn after(&self, _: &StatementInfo, passed: &StatementOutcome<'_>) {
        let failed = passed.error().map(|err| format!(", {:?}", err.kind()));
        let end = if passed.completed() { "" } else { ", not completed" };
        let line = format!(
            "{} after: {} rows{end}{}",
            self.name,
            passed.rows(),
            failed.unwrap_or_default()
        );
        self.lines.lock().unwrap().push(line);
    }
}

#[test]
fn interceptors_see_every_statement_in_their_order() {
    let _alone = alone();
    let mut seen = Vec::new();
    for engine in engines() {
        let db = prepared(&engine);
        let outer = Notes { name: "outer", ..Notes::default() };
        let inner = Notes { name: "inner", lines: outer.lines.clone() };
        let db = db.intercepted_by(outer.clone()).intercepted_by(inner);
        let shelves = Shelf::rows().filter(|s| s.drawers().not_exists() & s.id.ge(2));
        assert_eq!(db.read(&shelves).unwrap().len(), 2);
        db.read_stream(&Shelf::rows(), |_| ControlFlow::Continue(()))
            .unwrap();
        let stored = db.transaction(|tx| {
            tx.write(&Drawer::insert(DrawerToInsert { id: 1, shelf_id: 2 }))?;
            tx.write(&Drawer::row(1).update(|d| d.shelf_id.set(3)))?;
            tx.write(&Drawer::row(1).delete())
        });
        assert_eq!(stored.unwrap(), 1);
        db.write(&Shelf::insert(ShelfToInsert { id: 1, name: "twice".into() }))
            .unwrap_err();
        let drawers = [7, 8].map(|id| DrawerToInsert { id, shelf_id: 1 });
        db.write(&Drawer::insert_all(drawers)).unwrap();
        seen.push(outer.lines.lock().unwrap().join("\n"));
    }
    assert!(seen.iter().all(|lines| *lines == seen[0]), "{}", seen.join("\n\n"));
    insta::assert_snapshot!(seen[0]);
}

/// Answers every read of a shelf, and takes writes for done.
struct Stub;

impl Interceptor for Stub {
    fn before(&self, passing: &StatementInfo) -> Decision {
        match passing.operation() {
            nepheline::Operation::Read => {
                let name = passing.tables().join(" ");
                Decision::Answer(vec![vec![BindValue::Int(7), BindValue::Text(name.into())]])
            }
            operation if operation.is_of_transaction() => Decision::Pass,
            _ => Decision::AnswerWritten(5),
        }
    }
}

#[test]
fn an_interceptor_answers_in_place_of_the_database() {
    let _alone = alone();
    for engine in engines() {
        let record = StatementLog::new();
        let db = engine.open().intercepted_by(Stub).logging_to(&record);
        let shelf = Shelf { id: 7, name: "shown_shelf".to_owned() };
        assert_eq!(db.read(&Shelf::rows()).unwrap().first(), Some(&shelf));
        assert_eq!(db.read_one(&Shelf::row(1)).unwrap(), shelf);
        let mut each = Vec::new();
        db.read_stream(&Shelf::rows(), |row| {
            each.push(row);
            ControlFlow::Continue(())
        })
        .unwrap();
        assert_eq!(each, [shelf]);
        assert_eq!(db.write(&Shelf::rows().delete().every_row()).unwrap(), 5);
        // The record stands behind it, and has seen nothing.
        assert!(record.is_empty());
        // The rows of an interceptor are checked like those of a database.
        let err = db.read(&Drawer::rows()).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Mismatch, "{err}");
    }
}

#[test]
fn interceptors_before_one_that_refuses_see_the_end() {
    let _alone = alone();
    let (notes, record) = (Notes { name: "notes", ..Notes::default() }, StatementLog::new());
    let behind = Notes { name: "behind", lines: notes.lines.clone() };
    let db = prepared(&engines()[0])
        .intercepted_by(notes.clone())
        .logging_to(&record);
    let refusing = db.budget(0).intercepted_by(behind);
    assert_eq!(refusing.count(&Shelf::rows()).unwrap_err().kind(), ErrorKind::Refused);
    let lines = notes.lines.lock().unwrap().join("\n");
    assert_eq!(
        lines,
        "notes before: SELECT shown_shelf, 0 binds\nnotes after: 0 rows, not completed, Refused",
    );
    assert!(record.is_empty(), "what was refused did not run");
}

/// Panics, before or after.
struct Panics(bool);

impl Interceptor for Panics {
    fn before(&self, passing: &StatementInfo) -> Decision {
        assert!(passing.operation().is_of_transaction() || !self.0, "before");
        Decision::Pass
    }

    fn after(&self, passing: &StatementInfo, _: &StatementOutcome<'_>) {
        assert!(passing.operation().is_of_transaction(), "after");
    }
}

#[test]
fn an_interceptor_that_panics_undoes_the_transaction() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine);
        for (before, told) in [(true, "0 rows, not completed"), (false, "1 rows")] {
            let notes = Notes { name: "outer", ..Notes::default() };
            // The first of them panics while the panic of the second is on its way.
            let panicking = db
                .intercepted_by(notes.clone())
                .intercepted_by(Panics(false))
                .intercepted_by(Panics(before));
            let work = || {
                panicking.transaction(|tx| {
                    tx.write(&Shelf::insert(ShelfToInsert { id: 9, name: String::new() }))
                })
            };
            assert!(catch_unwind(AssertUnwindSafe(work)).is_err());
            assert_eq!(db.count(&Shelf::rows()).unwrap(), 3, "on {}", engine.name);
            // Interceptors that have seen the statement see its end too.
            let lines = notes.lines.lock().unwrap();
            let seen = lines.iter().skip_while(|line| !line.contains("INSERT"));
            assert_eq!(
                seen.skip(1).collect::<Vec<_>>(),
                [&format!("outer after: {told}")],
                "on {}",
                engine.name
            );
        }
    }
}

/// Takes its time.
struct Slow(Duration);

impl Interceptor for Slow {
    fn before(&self, _: &StatementInfo) -> Decision {
        std::thread::sleep(self.0);
        Decision::Pass
    }
}

#[test]
fn what_a_slow_gate_takes_is_not_of_the_statement() {
    let _alone = alone();
    let (second, record) = (Duration::from_secs(1), StatementLog::new());
    // SQLite looks at the clock only every so many steps, so there have to be some.
    let long = Shelf::rows().filter(|s| {
        verbatim!(
            "(WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 20000) \
             SELECT max(i) FROM n) > {}",
            s.id
        )
        .condition()
    });
    for engine in engines() {
        prepared(&engine);
        let db = Database::open(&engine.with("statement_timeout=1s")).unwrap();
        let db = db.logging_to(&record).intercepted_by(Slow(second));
        assert_eq!(db.count(&long).unwrap(), 3, "on {}", engine.name);
    }
    assert!(record.all().iter().all(|ran| ran.took() < second));
}

#[test]
fn a_budget_names_what_used_it_up() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine).budget(3);
        db.count(&Shelf::rows()).unwrap();
        let outcome: Result<(), Error> = db.transaction(|tx| {
            tx.read(&Shelf::rows().alongside(|s| s.drawers()))?;
            tx.count(&Drawer::rows())?;
            Ok(())
        });
        let err = outcome.unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Refused);
        if engine.dialect() == Dialect::Sqlite {
            // Lines move with every edit.
            insta::with_settings!({filters => vec![(r"(\w+\.rs):\d+", "$1:N")]}, {
                insta::assert_snapshot!(err);
            });
        }
    }
}

#[test]
fn servers_are_told_of_the_trace() {
    let _alone = alone();
    let header = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01";
    for unfit in [
        "",
        "00-0af7*/; DROP TABLE site",
        &header.to_uppercase(),
        &header[..54],
        &header.replace("0af7651916cd43dd8448eb211c80319c", &"0".repeat(32)),
        &format!("ff{}", &header[2..]),
    ] {
        let err = unfit.parse::<TraceParent>().unwrap_err();
        assert_eq!(err.kind(), ErrorKind::RefusedValue, "{unfit}");
    }
    // The statements that the server reports.
    let sent = Shelf::row(1).select(|_| {
        verbatim!(
            sqlite: "'no log'",
            postgres: "current_query()",
            mysql: "(SELECT info FROM information_schema.processlist WHERE id = connection_id())"
        )
        .typed::<String>()
    });
    for engine in engines() {
        let (record, asked) = (StatementLog::new(), Arc::new(Mutex::new(0_u64)));
        let next = asked.clone();
        let trace = TraceContext::asking(move || {
            let mut asked = next.lock().unwrap();
            *asked += 1;
            let parent = format!("00-0af7651916cd43dd8448eb211c80319c-{:016x}-01", *asked);
            (*asked != 3).then(|| parent.parse().unwrap())
        });
        let db = prepared(&engine);
        let traced = db
            .logging_to(&record)
            .carrying(trace)
            .carrying("something else");
        for number in 1..=40 {
            let sent = traced.read_one(&sent).unwrap();
            let comment =
                format!("/*traceparent='00-0af7651916cd43dd8448eb211c80319c-{number:016x}-01'*/");
            let expected = engine.dialect() != Dialect::Sqlite && number != 3;
            assert_eq!(sent.ends_with(&comment), expected, "on {}: {sent}", engine.name);
            assert_eq!(sent.contains("/*"), expected, "on {}: {sent}", engine.name);
        }
        assert!(
            !record
                .all()
                .iter()
                .any(|ran| ran.sql().contains("traceparent")),
            "interceptors see the SQL without it"
        );
        let of_one = db.carrying(TraceContext::of(header.parse().unwrap()));
        let last = of_one.transaction(|tx| {
            tx.write(&Shelf::row(1).update(|s| s.name.set("first")))?;
            tx.read_one(&sent)
        });
        assert_eq!(last.unwrap().contains(header), engine.dialect() != Dialect::Sqlite);
        assert!(!db.read_one(&sent).unwrap().contains("traceparent"));
    }
}

/// Takes what `tracing` is told as lines of JSON.
#[cfg(feature = "tracing")]
#[derive(Clone, Default)]
struct Lines(Arc<Mutex<Vec<u8>>>);

#[cfg(feature = "tracing")]
impl std::io::Write for Lines {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.lock().unwrap().extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

#[test]
#[cfg(feature = "tracing")]
fn statements_are_told_under_the_names_of_the_conventions() {
    let _alone = alone();
    let lines = Lines::default();
    let down_to = |level: tracing::Level| {
        let writer = lines.clone();
        let lines = tracing_subscriber::fmt().json().with_max_level(level);
        lines.with_writer(move || writer.clone()).finish()
    };
    let db = prepared(&engines()[0]);
    let shown = db.intercepted_by(nepheline::Traced::new());
    tracing::subscriber::with_default(down_to(tracing::Level::DEBUG), || {
        shown
            .read(&Shelf::rows().filter(|s| s.name.eq("secret")))
            .unwrap();
        let slow = nepheline::Traced::new().slow(Duration::ZERO).with_values();
        db.intercepted_by(slow).count(&Shelf::row(2)).unwrap();
        shown
            .write(&Shelf::insert(ShelfToInsert { id: 1, name: "secret".into() }))
            .unwrap_err();
    });
    // Without the spans, what failed tells all that it needs.
    tracing::subscriber::with_default(down_to(tracing::Level::WARN), || {
        shown.read(&Shelf::rows()).unwrap();
        shown
            .write(&Shelf::insert(ShelfToInsert { id: 1, name: "secret".into() }))
            .unwrap_err();
    });
    let text = String::from_utf8(lines.0.lock().unwrap().clone()).unwrap();
    assert!(!text.contains("secret"), "{text}");
    let told: Vec<Json> = text
        .lines()
        .map(|line| serde_json::from_str(line).unwrap())
        .collect();
    let of = |line: usize, field: &str| told[line]["span"][field].clone();
    assert_eq!(
        told.iter()
            .map(|l| l["level"].as_str().unwrap())
            .collect::<Vec<_>>(),
        ["DEBUG", "WARN", "ERROR", "ERROR"]
    );
    assert_eq!(of(0, "db.system.name"), "sqlite");
    assert_eq!(of(0, "db.operation.name"), "SELECT");
    assert_eq!(of(0, "db.collection.name"), "shown_shelf");
    assert_eq!(of(0, "db.response.returned_rows"), 0);
    assert_eq!(of(0, "otel.name"), "SELECT shown_shelf");
    assert!(told[0]["fields"]["duration_ms"].as_f64().is_some());
    assert_eq!(of(1, "db.query.parameters"), "2");
    assert_eq!(of(2, "error.type"), "UniqueViolation");
    let alone = |field: &str| told[3]["fields"][field].clone();
    assert!(told[3]["span"].is_null(), "{}", told[3]);
    assert_eq!(alone("error.type"), "UniqueViolation");
    assert_eq!(alone("db.collection.name"), "shown_shelf");
    assert!(
        alone("db.query.text")
            .as_str()
            .unwrap()
            .starts_with("INSERT INTO")
    );
    assert!(
        alone("code.file.path")
            .as_str()
            .unwrap()
            .ends_with("interceptors.rs")
    );
}
