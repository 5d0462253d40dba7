//! Writes that interceptors add: in the transaction of the program's write, or not at all.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::sync::{Mutex, MutexGuard, PoisonError};

use nepheline::blocking::{Database, RunsQueries};
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;
use nepheline::{AddedWrite, BindValue, CompletedWrite, Interceptor, Operation, StatementLog};
use support::{Engine, engines};

#[derive(Debug, Clone, Copy, PartialEq)]
struct UserId(i64);

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "adding_tray", retire(gone_at))]
struct Tray {
    #[nepheline(key)]
    id: i64,
    grams: i64,
    gone_at: Option<Timestamp>,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "adding_entry", policies(own_entries))]
struct Entry {
    #[nepheline(key)]
    number: i64,
    user_id: i64,
    #[nepheline(by_code_point)]
    note: String,
}

fn own_entries(e: EntryColumns, user: &UserId) -> Condition {
    e.user_id.eq(user.0)
}

/// Notes each write in an entry of the user. From this number of rows on, the table refuses the entry.
struct Notes(u64);

impl Interceptor for Notes {
    fn adds_writes(&self) -> bool {
        true
    }

    fn added_writes(&self, write: &CompletedWrite<'_>) -> Vec<AddedWrite> {
        let operations = write.statements().iter().map(|statement| {
            let keys = statement
                .binds()
                .iter()
                .filter(|bind| matches!(bind, BindValue::Int(_)));
            format!("{} {}", statement.operation(), keys.count())
        });
        let opening = if write.rows() < self.0 { "note" } else { "refused" };
        let note = format!(
            "{} {}: {} {}",
            opening,
            write.table(),
            write.rows(),
            operations.collect::<Vec<_>>().join(", ")
        );
        let user_id = write.carried::<UserId>().map_or(0, |user| user.0);
        let next = Entry::rows().select(|e| max(e.number)).value();
        let numbered = Entry::rows().waive_every_policy().limit(1).select(|_| {
            shape!(NewEntry {
                number: next.coalesce(0) + 1,
                user_id: bind(user_id),
                note: bind(note)
            })
        });
        vec![numbered.insert_into::<Entry>().into()]
    }
}

#[derive(Debug, RowShape)]
#[allow(dead_code, reason = "only the database reads it")]
struct NewEntry {
    number: i64,
    user_id: i64,
    #[nepheline(by_code_point)]
    note: String,
}

/// The tables are for one test at a time.
fn alone() -> MutexGuard<'static, ()> {
    static ALONE: Mutex<()> = Mutex::new(());
    ALONE.lock().unwrap_or_else(PoisonError::into_inner)
}

fn prepared(engine: &Engine) -> Database {
    let db = engine.open();
    let text = engine.pick("TEXT", "text COLLATE \"C\"", "VARCHAR(90) COLLATE utf8mb4_nopad_bin");
    let time = engine.pick("TEXT", "timestamptz", "DATETIME(6)");
    for statement in [
        "DROP TABLE IF EXISTS adding_tray",
        "DROP TABLE IF EXISTS adding_entry",
        &format!(
            "CREATE TABLE adding_tray (id BIGINT PRIMARY KEY, grams BIGINT NOT NULL, gone_at {time})"
        ),
        &format!(
            "CREATE TABLE adding_entry (number BIGINT PRIMARY KEY, user_id BIGINT NOT NULL, note {text} NOT NULL, \
             CHECK (note NOT LIKE 'refused%'))"
        ),
        "INSERT INTO adding_entry VALUES (0, 7, 'first')",
    ] {
        db.run_text(statement, vec![]).unwrap();
    }
    db.carrying(UserId(7))
}

fn tray(id: i64) -> TrayToInsert {
    TrayToInsert { id, grams: 5, gone_at: None }
}

fn notes(db: &Database) -> Vec<String> {
    let notes = Entry::rows()
        .filter(|e| e.number.gt(0))
        .order_by(|e| e.number.asc());
    db.read(&notes.select(|e| e.note)).unwrap()
}

#[test]
fn a_write_and_what_is_added_to_it_are_one() {
    let _alone = alone();
    for engine in engines() {
        let free = prepared(&engine);
        // The budget counts the program's writes only.
        let db = free.intercepted_by(Notes(u64::MAX)).budget(6);
        assert_eq!(db.write(&Tray::insert(tray(1))).unwrap(), 1);
        assert_eq!(db.write(&Tray::insert_all((2..6).map(tray))).unwrap(), 4);
        let heavier = Tray::row(1).update(|t| t.grams.set(t.grams + 1));
        assert_eq!(db.write_returning_one(&heavier).unwrap().grams, 6, "on {}", engine.name);
        let upsert = Tray::insert_all([tray(1), tray(9)])
            .or_update(|t| t.id, |t, new| t.grams.set(new.grams));
        assert_eq!(db.write_upsert(&upsert).unwrap().inserted, 1, "on {}", engine.name);
        assert_eq!(db.write(&Tray::row(2).delete()).unwrap(), 1);
        assert_eq!(db.insert_stream((20..23).map(tray)).unwrap(), 3);
        assert_eq!(db.write(&Tray::row(2).delete()).unwrap_err().kind(), ErrorKind::Refused);
        let told = notes(&free);
        let rows: Vec<&str> = told
            .iter()
            .map(|note| note.split_inclusive(char::is_numeric).next().unwrap())
            .collect();
        assert_eq!(
            rows,
            [
                "note adding_tray: 1",
                "note adding_tray: 4",
                "note adding_tray: 1",
                "note adding_tray: 2",
                "note adding_tray: 1",
                "note adding_tray: 3"
            ],
            "on {}",
            engine.name
        );
        // The statements and the values that were bound are seen.
        assert_eq!(told[0], "note adding_tray: 1 INSERT 2", "on {}", engine.name);
        assert!(told[4].contains("UPDATE"), "on {}: a soft delete: {}", engine.name, told[4]);
    }
}

#[test]
fn what_cannot_be_added_undoes_the_write() {
    let _alone = alone();
    for engine in engines() {
        let free = prepared(&engine);
        let log = StatementLog::new();
        let db = free
            .intercepted_by(Notes(u64::MAX))
            .intercepted_by(Notes(1))
            .logging_to(&log);
        let stored = || free.count(&Tray::rows()).unwrap();
        for write in [Tray::insert(tray(1)), Tray::insert_all((1..9).map(tray))] {
            let err = db.write(&write).unwrap_err();
            assert_eq!(err.kind(), ErrorKind::CheckViolation, "on {}: {err:#}", engine.name);
            assert_eq!((stored(), notes(&free).len()), (0, 0), "on {}", engine.name);
        }
        db.insert_stream((1..5).map(tray)).unwrap_err();
        assert_eq!((stored(), notes(&free).len()), (0, 0), "on {}", engine.name);
        // In a transaction, it ends the innermost one, as any refused statement does.
        let kept = free.intercepted_by(Notes(2)).transaction(|tx| {
            tx.write(&Tray::insert(tray(1)))?;
            let refused = tx.transaction(|tx| tx.write(&Tray::insert_all([tray(2), tray(3)])));
            assert_eq!(
                refused.unwrap_err().kind(),
                ErrorKind::CheckViolation,
                "on {}",
                engine.name
            );
            Ok::<_, Error>(())
        });
        kept.unwrap();
        assert_eq!((stored(), notes(&free).len()), (1, 1), "on {}", engine.name);
        // A transaction that is rolled back leaves no entry.
        let gone = free.intercepted_by(Notes(9)).transaction(|tx| {
            tx.write(&Tray::insert(tray(3)))?;
            Err::<(), Error>(tx.read_one(&Tray::row(99)).unwrap_err())
        });
        assert_eq!(gone.unwrap_err().kind(), ErrorKind::NotFound);
        assert_eq!((stored(), notes(&free).len()), (1, 1), "on {}", engine.name);
        // An entry of another user is refused by the policy of entries.
        let other = free.carrying(UserId(8)).intercepted_by(ForUser(7));
        let err = other.write(&Tray::insert(tray(4))).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::PolicyViolation, "on {}", engine.name);
        assert_eq!(stored(), 1, "on {}", engine.name);
    }
}

/// Notes each write for this user, whoever writes.
struct ForUser(i64);

impl Interceptor for ForUser {
    fn adds_writes(&self) -> bool {
        true
    }

    fn added_writes(&self, write: &CompletedWrite<'_>) -> Vec<AddedWrite> {
        let inserted = write
            .statements()
            .iter()
            .filter(|statement| statement.operation() == Operation::Insert);
        let (number, note) = (50 + inserted.count() as i64, "for another".to_owned());
        vec![Entry::insert(EntryToInsert { number, user_id: self.0, note }).into()]
    }
}
