//! Blocking SQLite in memory.

use std::collections::HashMap;
use std::ops::ControlFlow;

use nepheline::blocking::Database;
use nepheline::prelude::*;
use nepheline::{Clock, Paging};
use rusqlite::types::ToSql;
use rusqlite::{Connection, Row};

use crate::twins;

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(children(assays: Assay by specimen_id))]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    borehole_id: i64,
    #[nepheline(by_code_point)]
    label: String,
    top_m: f64,
    analyst_id: Option<i64>,
}

#[derive(Debug, Clone, PartialEq, Table)]
struct Assay {
    #[nepheline(key)]
    id: i64,
    #[nepheline(references = Specimen)]
    specimen_id: i64,
    ppm: f64,
}

#[derive(Debug)]
struct AnalystId(i64);

fn own(s: GuardedColumns, analyst: &AnalystId) -> Condition {
    s.borehole_id.eq(analyst.0)
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "specimen", policies(own))]
struct Guarded {
    #[nepheline(key)]
    id: i64,
    borehole_id: i64,
    #[nepheline(by_code_point)]
    label: String,
    top_m: f64,
    analyst_id: Option<i64>,
}

fn own_stamped(s: StampedColumns, analyst: &AnalystId) -> Condition {
    s.borehole_id.eq(analyst.0)
}

/// The label is the time of the last write.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "specimen", policies(own_stamped))]
struct Stamped {
    #[nepheline(key)]
    id: i64,
    borehole_id: i64,
    #[nepheline(stamp = write)]
    label: Timestamp,
    top_m: f64,
    analyst_id: Option<i64>,
}

const COLUMNS: &str = "\"specimen\".\"id\", \"specimen\".\"borehole_id\", \"specimen\".\"label\", \
     \"specimen\".\"top_m\", \"specimen\".\"analyst_id\"";

fn specimens(from: i64, rows: i64) -> Vec<SpecimenToInsert> {
    let each = from..from + rows;
    each.map(|id| SpecimenToInsert {
        id,
        borehole_id: id / 50,
        label: format!("KP-{id}"),
        top_m: id as f64 * 0.25,
        analyst_id: (id % 3 > 0).then_some(id % 7),
    })
    .collect()
}

/// Two thousand specimens, each with five assays.
fn connection() -> Connection {
    let connection = Connection::open_in_memory().unwrap();
    connection
        .execute_batch(
            "CREATE TABLE specimen (id INTEGER PRIMARY KEY, borehole_id INTEGER NOT NULL, label TEXT NOT NULL,
             top_m REAL NOT NULL, analyst_id INTEGER);
             CREATE TABLE assay (id INTEGER PRIMARY KEY, specimen_id INTEGER NOT NULL, ppm REAL NOT NULL);
             CREATE INDEX assay_specimen ON assay (specimen_id);
             WITH RECURSIVE n (i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < 1999)
             INSERT INTO specimen SELECT i, i / 50, 'KP-' || i, i * 0.25, CASE WHEN i % 3 > 0 THEN i % 7 END FROM n;
             WITH RECURSIVE n (i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < 9999)
             INSERT INTO assay SELECT i, i % 2000, i * 0.01 FROM n;",
        )
        .unwrap();
    connection
}

fn specimen(row: &Row<'_>) -> Specimen {
    Specimen {
        id: row.get(0).unwrap(),
        borehole_id: row.get(1).unwrap(),
        label: row.get(2).unwrap(),
        top_m: row.get(3).unwrap(),
        analyst_id: row.get(4).unwrap(),
    }
}

fn one(connection: &Connection, text: &str, binds: &[&dyn ToSql]) -> Specimen {
    let mut statement = connection.prepare_cached(text).unwrap();
    statement.query_row(binds, |row| Ok(specimen(row))).unwrap()
}

fn all(connection: &Connection, text: &str, binds: &[&dyn ToSql]) -> Vec<Specimen> {
    let mut statement = connection.prepare_cached(text).unwrap();
    let mut rows = statement.query(binds).unwrap();
    let mut specimens = Vec::new();
    while let Some(row) = rows.next().unwrap() {
        specimens.push(specimen(row));
    }
    specimens
}

fn number(connection: &Connection, text: &str, binds: &[&dyn ToSql]) -> i64 {
    let mut statement = connection.prepare_cached(text).unwrap();
    statement.query_row(binds, |row| row.get(0)).unwrap()
}

pub(crate) fn measure() {
    let (db, by_hand) = (Database::over(connection()).unwrap(), connection());
    reads(&db, &by_hand);
    companions(&db, &by_hand);
    writes(&db, by_hand);
}

fn reads(db: &Database, by_hand: &Connection) {
    let text = format!("SELECT {COLUMNS} FROM \"specimen\" WHERE \"specimen\".\"id\" = ?1 LIMIT 2");
    let by_key = || one(by_hand, &text, &[&7]);
    twins("point query by key", 100, || db.read_one(&Specimen::row(7)).unwrap(), by_key);
    let query = Specimen::row(7);
    twins("the same query value again", 100, || db.read_one(&query).unwrap(), by_key);

    let prepared = <(i64,)>::prepare(|(id,)| Specimen::row(id));
    let read = || db.read_one(&prepared.bind((7,))).unwrap();
    twins("prepared point query by key", 100, read, by_key);

    let guarded = db.carrying(AnalystId(0));
    let under = format!(
        "SELECT {COLUMNS} FROM \"specimen\" WHERE \"specimen\".\"borehole_id\" = ?1 AND \"specimen\".\"id\" = ?2 LIMIT 2"
    );
    twins(
        "point query under a policy",
        100,
        || guarded.read_one(&Guarded::row(7)).unwrap(),
        || one(by_hand, &under, &[&0, &7]),
    );
    let filtered = || Specimen::row(7).filter(|s| s.borehole_id.eq(0));
    twins(
        "a policy, against the same condition as a filter",
        100,
        || guarded.read_one(&Guarded::row(7)).unwrap(),
        || db.read_one(&filtered()).unwrap(),
    );

    let rows = format!("SELECT {COLUMNS} FROM \"specimen\" LIMIT ?1");
    let thousand = Specimen::rows().limit(1_000);
    assert_eq!(db.read(&thousand).unwrap(), all(by_hand, &rows, &[&1_000]));
    let by_rows = || all(by_hand, &rows, &[&1_000]);
    twins("read 1,000 rows", 3, || db.read(&thousand).unwrap(), by_rows);
    let streamed = || {
        let mut rows = Vec::new();
        db.read_stream(&thousand, |row| {
            rows.push(row);
            ControlFlow::Continue(())
        })
        .unwrap();
        rows
    };
    twins("stream 1,000 rows", 3, streamed, by_rows);

    let counted = "SELECT COUNT(*) FROM \"specimen\" WHERE \"specimen\".\"id\" < ?1";
    twins(
        "count rows",
        100,
        || db.count(&Specimen::rows().filter(|s| s.id.lt(20))).unwrap(),
        || number(by_hand, counted, &[&20]),
    );
    let page = format!("{rows} OFFSET ?2");
    twins(
        "read a numbered page of 20",
        20,
        || {
            db.read_page(&Specimen::rows().filter(|s| s.id.lt(200)), Paging::page_size(20).page(2))
                .unwrap()
        },
        || {
            let counted = number(by_hand, counted, &[&200]);
            (counted, all(by_hand, &page, &[&20, &20]))
        },
    );
    let first = db.read_after(&Specimen::rows(), None, 20).unwrap();
    let after = format!(
        "SELECT {COLUMNS} FROM \"specimen\" WHERE \"specimen\".\"id\" > ?1 ORDER BY 1 LIMIT 21"
    );
    let after = || all(by_hand, &after, &[&19]);
    twins(
        "read 20 rows after a cursor",
        20,
        || db.read_after(&Specimen::rows(), first.after(), 20).unwrap(),
        after,
    );
    let prepared = <(f64,)>::prepare(|(top,)| Specimen::rows().filter(|s| s.top_m.ge(top)));
    let first = db.read_after(&prepared.bind((0.0,)), None, 20).unwrap();
    twins(
        "the same of a prepared query",
        20,
        || {
            db.read_after(&prepared.bind((0.0,)), first.after(), 20)
                .unwrap()
        },
        after,
    );
}

fn companions(db: &Database, by_hand: &Connection) {
    let parents =
        format!("SELECT {COLUMNS} FROM \"specimen\" WHERE \"specimen\".\"borehole_id\" = ?1");
    let children = "SELECT id, specimen_id, ppm FROM assay WHERE specimen_id IN (SELECT value FROM json_each(?1))";
    let put_together = |parents: &str, value: i64| {
        let specimens = all(by_hand, parents, &[&value]);
        let keys: Vec<String> = specimens.iter().map(|s| s.id.to_string()).collect();
        let mut statement = by_hand.prepare_cached(children).unwrap();
        let mut rows = statement.query([format!("[{}]", keys.join(","))]).unwrap();
        let mut by_specimen: HashMap<i64, Vec<Assay>> = HashMap::with_capacity(specimens.len());
        while let Some(row) = rows.next().unwrap() {
            let assay = Assay {
                id: row.get(0).unwrap(),
                specimen_id: row.get(1).unwrap(),
                ppm: row.get(2).unwrap(),
            };
            by_specimen
                .entry(assay.specimen_id)
                .or_default()
                .push(assay);
        }
        let each = specimens.into_iter().map(|s| {
            let own = by_specimen.remove(&s.id).unwrap_or_default();
            (s, own)
        });
        each.collect::<Vec<_>>()
    };
    let ours = || {
        let query = Specimen::rows().filter(|s| s.borehole_id.eq(3));
        db.read(&query.alongside(|s| s.assays())).unwrap()
    };
    let fifty = || put_together(&parents, 3);
    assert_eq!(ours().len(), fifty().len());
    twins("50 parents with 250 companions", 3, ours, fifty);
    let prepared = <(i64,)>::prepare(|(id,)| Specimen::row(id).alongside(|s| s.assays()));
    let one = format!("SELECT {COLUMNS} FROM \"specimen\" WHERE \"specimen\".\"id\" = ?1");
    twins(
        "a prepared query of a parent with 5 companions",
        20,
        || db.read(&prepared.bind((7,))).unwrap(),
        || put_together(&one, 7),
    );
}

fn writes(db: &Database, mut by_hand: Connection) {
    let update = "UPDATE \"specimen\" SET \"top_m\" = ?1 WHERE \"specimen\".\"id\" = ?2";
    let updated = |by_hand: &Connection| {
        by_hand
            .prepare_cached(update)
            .unwrap()
            .execute((1.5, 7))
            .unwrap()
    };
    twins(
        "update by key",
        100,
        || {
            db.write(&Specimen::row(7).update(|s| s.top_m.set(1.5)))
                .unwrap()
        },
        || updated(&by_hand),
    );
    let guarded = db
        .carrying(AnalystId(0))
        .carrying(Clock::stopped_at(Timestamp::UNIX_EPOCH));
    let guarded_update = "UPDATE \"specimen\" SET \"top_m\" = ?1, \"label\" = ?2 \
         WHERE \"specimen\".\"borehole_id\" = ?3 AND \"specimen\".\"id\" = ?4";
    twins(
        "update by key under a policy, with a time",
        100,
        || {
            guarded
                .write(&Stamped::row(7).update(|s| s.top_m.set(1.5)))
                .unwrap()
        },
        || {
            let mut update = by_hand.prepare_cached(guarded_update).unwrap();
            update
                .execute((1.5, "1970-01-01T00:00:00.000000Z", 0, 7))
                .unwrap()
        },
    );
    twins(
        "transaction of one update",
        100,
        || {
            let update = Specimen::row(7).update(|s| s.top_m.set(1.5));
            db.transaction(|tx| tx.write(&update)).unwrap()
        },
        || {
            by_hand.execute_batch("BEGIN IMMEDIATE").unwrap();
            updated(&by_hand);
            by_hand.execute_batch("COMMIT").unwrap();
        },
    );

    let insert = |rows: usize| {
        let values = vec!["(?, ?, ?, ?, ?)"; rows].join(", ");
        format!(
            "INSERT INTO \"specimen\" (\"id\", \"borehole_id\", \"label\", \"top_m\", \"analyst_id\") VALUES {values}"
        )
    };
    let bind = |insert: &mut rusqlite::Statement<'_>, at: usize, row: &SpecimenToInsert| {
        insert.raw_bind_parameter(at, row.id).unwrap();
        insert.raw_bind_parameter(at + 1, row.borehole_id).unwrap();
        insert.raw_bind_parameter(at + 2, &*row.label).unwrap();
        insert.raw_bind_parameter(at + 3, row.top_m).unwrap();
        insert.raw_bind_parameter(at + 4, row.analyst_id).unwrap();
    };
    let (single, many) = (insert(1), insert(200));
    let (mut next, mut next_by_hand) = (10_000, 10_000);
    twins(
        "insert a row",
        100,
        || {
            next += 1;
            let row = specimens(next, 1).pop().unwrap();
            db.write(&Specimen::insert(row)).unwrap()
        },
        || {
            next_by_hand += 1;
            let row = specimens(next_by_hand, 1).pop().unwrap();
            let mut insert = by_hand.prepare_cached(&single).unwrap();
            bind(&mut insert, 1, &row);
            insert.raw_execute().unwrap()
        },
    );
    let mut thousand_by_hand = |from: i64| {
        let tx = by_hand.transaction().unwrap();
        {
            let mut insert = tx.prepare_cached(&many).unwrap();
            for chunk in specimens(from, 1_000).chunks(200) {
                for (row, at) in chunk.iter().zip((1..).step_by(5)) {
                    bind(&mut insert, at, row);
                }
                insert.raw_execute().unwrap();
            }
        }
        tx.commit().unwrap();
    };
    let (mut from, mut from_by_hand) = (100_000, 100_000);
    twins(
        "insert 1,000 rows",
        3,
        || {
            from += 1_000;
            db.write(&Specimen::insert_all(specimens(from, 1_000)))
                .unwrap()
        },
        || {
            from_by_hand += 1_000;
            thousand_by_hand(from_by_hand);
        },
    );
    twins(
        "insert 1,000 rows of an iterator",
        3,
        || {
            from += 1_000;
            db.insert_stream(specimens(from, 1_000)).unwrap()
        },
        || {
            from_by_hand += 1_000;
            thousand_by_hand(from_by_hand);
        },
    );
}
