//! Many rows at once: values of every type, and what PostgreSQL cannot copy and only insert.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::sync::{Mutex, MutexGuard, PoisonError};

use nepheline::blocking::{Database, RunsQueries};
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;
use nepheline::{BindValue, Cell, Mismatch, SqlType, StatementLog};
use support::engines;

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "bulk_every")]
struct Every {
    #[nepheline(key)]
    id: i64,
    small: i16,
    narrow: Option<i32>,
    grade: f64,
    rough: Option<f32>,
    label: Option<String>,
    seal: Option<Vec<u8>>,
    sealed: Option<bool>,
    taken_on: Option<Date>,
    opens_at: Option<Time>,
    written: Option<DateTime>,
    stored_at: Option<Timestamp>,
    code: Option<Uuid>,
    price: Option<Decimal>,
    notes: Option<Json>,
}

/// Every third row has NULL wherever there may be.
fn every(id: i64) -> Every {
    let there = id % 3 > 0;
    let day = jiff::civil::date(2024, 1, 1) + (id % 500).days();
    let time = jiff::civil::time(13, (id % 60) as i8, 7, 123_456_000);
    let written = day.to_datetime(time);
    Every {
        id,
        small: (id % 30_000) as i16 - 15_000,
        narrow: there.then_some(-(id as i32)),
        grade: id as f64 / 7.0,
        rough: there.then_some(id as f32 * 0.5),
        label: there.then(|| format!("KP-{id} '\"\\ ø")),
        seal: there.then(|| vec![0, 255, (id % 256) as u8]),
        sealed: there.then_some(id % 2 == 0),
        taken_on: there.then_some(day),
        opens_at: there.then_some(time),
        written: there.then_some(written),
        stored_at: there.then(|| {
            written
                .to_zoned(jiff::tz::TimeZone::UTC)
                .unwrap()
                .timestamp()
        }),
        code: there.then(|| Uuid::from_u128(id as u128 * 7_919)),
        price: there.then(|| Decimal::new(id, 2)),
        notes: there.then(|| serde_json::json!({ "of": id, "text": "ø\n" })),
    }
}

fn unsaved(row: Every) -> EveryToInsert {
    let Every { id, small, narrow, grade, rough, label, seal, sealed, taken_on, .. } = row;
    let Every { opens_at, written, stored_at, code, price, notes, .. } = every(id);
    EveryToInsert {
        id,
        small,
        narrow,
        grade,
        rough,
        label,
        seal,
        sealed,
        taken_on,
        opens_at,
        written,
        stored_at,
        code,
        price,
        notes,
    }
}

/// The tables are for one test at a time.
fn alone() -> MutexGuard<'static, ()> {
    static ALONE: Mutex<()> = Mutex::new(());
    ALONE.lock().unwrap_or_else(PoisonError::into_inner)
}

fn run(db: &Database, statements: &[&str]) {
    for statement in statements {
        db.run_text(statement, vec![]).unwrap();
    }
}

#[test]
fn rows_of_every_type_come_back_as_they_were() {
    let _alone = alone();
    for engine in engines() {
        let db = engine.open();
        let columns = engine.pick(
            "small INTEGER NOT NULL, narrow INTEGER, grade REAL NOT NULL, rough REAL, label TEXT, seal BLOB, \
             sealed INTEGER, taken_on TEXT, opens_at TEXT, written TEXT, stored_at TEXT, code TEXT, price TEXT, \
             notes TEXT",
            "small int2 NOT NULL, narrow int4, grade float8 NOT NULL, rough float4, label varchar(40), seal bytea, \
             sealed bool, taken_on date, opens_at time, written timestamp, stored_at timestamptz, code uuid, \
             price numeric, notes jsonb",
            "small SMALLINT NOT NULL, narrow INT, grade DOUBLE NOT NULL, rough FLOAT, \
             label VARCHAR(40) COLLATE utf8mb4_nopad_bin, seal VARBINARY(9), sealed BOOLEAN, taken_on DATE, \
             opens_at TIME(6), written DATETIME(6), stored_at DATETIME(6), code UUID, price DECIMAL(20, 2), notes JSON",
        );
        let create = format!("CREATE TABLE bulk_every (id BIGINT PRIMARY KEY, {columns})");
        run(&db, &["DROP TABLE IF EXISTS bulk_every", &create]);
        let record = StatementLog::new();
        let rows = Every::insert_all((1..=10_500).map(|id| unsaved(every(id))));
        assert_eq!(db.logging_to(&record).write(&rows).unwrap(), 10_500, "on {}", engine.name);
        if engine.name == "PostgreSQL" {
            assert_eq!(record.len(), 2);
            assert!(
                record.all()[0]
                    .sql()
                    .starts_with("COPY \"bulk_every\" (\"id\", ")
            );
        }
        let stored = db.read(&Every::rows().order_by(|e| e.id.asc())).unwrap();
        for (stored, id) in stored.iter().zip(1..) {
            assert_eq!(*stored, every(id), "on {}", engine.name);
        }
        assert_eq!(stored.len(), 10_500);

        // A value that no engine keeps is refused, and it is told of which row.
        let mut more: Vec<EveryToInsert> = (20_001..=22_000).map(|id| unsaved(every(id))).collect();
        more[1_776].grade = f64::NAN;
        let err = db.write(&Every::insert_all(more)).unwrap_err();
        let told = (err.kind(), err.row());
        assert_eq!(told, (ErrorKind::RefusedValue, Some(1_777)), "on {}", engine.name);
        assert_eq!(db.count(&Every::rows()).unwrap(), 10_500);
    }
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "bulk_narrow")]
struct Narrow {
    #[nepheline(key)]
    id: i64,
    width: i64,
    depth: f64,
    label: String,
    lot_id: i64,
    state: State,
}

/// A value with a database type of its own.
#[derive(Debug, Clone, PartialEq)]
struct State(String);

impl Storable for State {
    const SQL_TYPE: SqlType = SqlType::Text;

    fn to_bind(&self) -> BindValue {
        self.0.to_bind()
    }

    fn from_cell(cell: Cell<'_>) -> Result<State, Mismatch> {
        String::from_cell(cell).map(State)
    }
}

fn narrow(id: i64) -> NarrowToInsert {
    let (label, state) = (format!("N{id}"), State("kept".into()));
    NarrowToInsert { id, width: id % 100, depth: 0.5, label, lot_id: id % 3, state }
}

/// A change to one row that the table does not take, and of which kind that is.
type Fault = (&'static str, fn(&mut NarrowToInsert), ErrorKind);

#[test]
fn what_cannot_be_copied_is_inserted() {
    let _alone = alone();
    for engine in engines()
        .iter()
        .filter(|engine| engine.name == "PostgreSQL")
    {
        let record = StatementLog::new();
        let db = engine.open().logging_to(&record);
        let clear = [
            "DROP TABLE IF EXISTS bulk_narrow_rows CASCADE",
            "DROP TABLE IF EXISTS bulk_narrow CASCADE",
            "DROP TABLE IF EXISTS bulk_lot",
            "CREATE TABLE bulk_lot (id int8 PRIMARY KEY)",
            "INSERT INTO bulk_lot VALUES (0), (1), (2)",
            "CREATE TABLE bulk_narrow (id int8 PRIMARY KEY, width int2 NOT NULL CHECK (width <= 5000), \
             depth float4 NOT NULL, label varchar(5) NOT NULL UNIQUE, lot_id int4 NOT NULL REFERENCES bulk_lot, \
             state text NOT NULL)",
        ];
        run(&db, &clear);
        let rows = |fault: Option<&Fault>| {
            let mut rows: Vec<NarrowToInsert> = (1..=1_500).map(narrow).collect();
            if let Some((_, change, _)) = fault {
                change(&mut rows[1_233]);
            }
            Narrow::insert_all(rows)
        };
        // One row at fault: nothing is stored, and its number and the kind are told, however it was found.
        let faults: [Fault; 7] = [
            ("unique", |row| row.label = "N7".into(), ErrorKind::UniqueViolation),
            ("check", |row| row.width = 5_001, ErrorKind::CheckViolation),
            ("foreign key", |row| row.lot_id = 9, ErrorKind::ParentNotFound),
            ("too long", |row| row.label = "N-1234567".into(), ErrorKind::Database),
            ("out of range", |row| row.width = 70_000, ErrorKind::Database),
            ("out of range", |row| row.lot_id = 1 << 40, ErrorKind::Database),
            ("beyond a float", |row| row.depth = 1e300, ErrorKind::Database),
        ];
        for fault in &faults {
            let err = db.write(&rows(Some(fault))).unwrap_err();
            assert_eq!((err.kind(), err.row()), (fault.2, Some(1_234)), "{}: {err:#}", fault.0);
            assert_eq!(db.count(&Narrow::rows()).unwrap(), 0, "{}", fault.0);
        }

        let operations = |from: usize| -> Vec<bool> {
            record.all()[from..]
                .iter()
                .map(|ran| ran.sql().starts_with("COPY"))
                .collect()
        };
        let ran = record.len();
        assert_eq!(db.write(&rows(None)).unwrap(), 1_500);
        assert_eq!(operations(ran), [true]);
        assert_eq!(
            db.count(&Narrow::rows().filter(|n| n.depth.eq(0.5)))
                .unwrap(),
            1_500
        );

        // Row security, a view, and rows that are wanted back.
        let protected = [
            "DELETE FROM bulk_narrow",
            "ALTER TABLE bulk_narrow ENABLE ROW LEVEL SECURITY",
            "ALTER TABLE bulk_narrow FORCE ROW LEVEL SECURITY",
            "CREATE POLICY of_all ON bulk_narrow USING (true)",
        ];
        let viewed = [
            "DROP TABLE bulk_narrow",
            "CREATE TABLE bulk_narrow_rows (id int8, width int2, depth float4, label text, lot_id int4, state text)",
            "CREATE VIEW bulk_narrow AS SELECT * FROM bulk_narrow_rows",
        ];
        let divided = [
            "DROP TABLE bulk_narrow_rows CASCADE",
            "CREATE TABLE bulk_narrow (id int8, width int2, depth float4, label text, lot_id int4, state text) \
             PARTITION BY HASH (id)",
            "CREATE TABLE bulk_narrow_rows PARTITION OF bulk_narrow FOR VALUES WITH (MODULUS 1, REMAINDER 0)",
        ];
        let (inserted, copied) = (&[false, false][..], &[true][..]);
        for (changed, expected) in
            [(&protected[..], inserted), (&viewed[..], inserted), (&divided[..], copied)]
        {
            run(&db, changed);
            let ran = record.len();
            assert_eq!(db.write(&rows(None)).unwrap(), 1_500);
            // A COPY that the server would refuse is not sent.
            assert_eq!(operations(ran), expected);
            assert_eq!(db.count(&Narrow::rows()).unwrap(), 1_500);
        }
        run(&db, &["DELETE FROM bulk_narrow"]);
        assert_eq!(db.write_returning(&rows(None)).unwrap().len(), 1_500);
    }
}
