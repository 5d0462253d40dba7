//! The library on in-memory SQLite against the same work written by hand with the same driver:
//! `cargo bench -p nepheline --bench sqlite`.
#![allow(
    missing_docs,
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stdout,
    reason = "a bench"
)]

mod support;

use std::fmt::Write;

use criterion::{Criterion, criterion_group, criterion_main};
use nepheline::blocking::Database;
use nepheline::prelude::*;
use nepheline::{BindValue, Sql};
use nepheline_coreshed::Specimen;
use nepheline_coreshed::scopes::{deeper_than, unassigned};
use rusqlite::{Connection, Row};
use support::{Scattered, against_by_hand};

const ROWS: i64 = 100_000;

#[derive(Debug, Clone, PartialEq, Table)]
struct Reading {
    #[nepheline(key)]
    id: i64,
    specimen_id: i64,
    #[nepheline(by_code_point)]
    element: String,
    #[nepheline(by_code_point)]
    remark: String,
    ppm: f64,
    error_ppm: f64,
    taken_on: Date,
    analyst_id: Option<i64>,
}

/// The parameters of a request.
struct Wanted {
    element: Option<&'static str>,
    above_ppm: Option<f64>,
    unassigned: bool,
}

fn query(wanted: &Wanted) -> Query<Reading> {
    Reading::rows()
        .filter(|r| wanted.element.map(|element| r.element.eq(element)))
        .filter(|r| wanted.above_ppm.map(|ppm| r.ppm.gt(ppm)))
        .filter(|r| wanted.unassigned.then(|| r.analyst_id.is_null()))
        .order_by(|r| (r.ppm.desc(), r.id.asc()))
        .limit(20)
}

/// The same text and binds as [`query`] compiles to, as somebody would write them.
fn query_by_hand(wanted: &Wanted) -> (String, Vec<BindValue>) {
    let (mut text, mut binds) = (String::new(), Vec::new());
    write!(
        text,
        "SELECT \"reading\".\"id\", \"reading\".\"specimen_id\", \"reading\".\"element\", \
         \"reading\".\"remark\", \"reading\".\"ppm\", \"reading\".\"error_ppm\", \
         \"reading\".\"taken_on\", \"reading\".\"analyst_id\" FROM \"reading\""
    )
    .unwrap();
    let mut joint = "WHERE";
    if let Some(element) = wanted.element {
        binds.push(BindValue::Text(element.into()));
        write!(text, " {joint} \"reading\".\"element\" = ${}", binds.len()).unwrap();
        joint = "AND";
    }
    if let Some(ppm) = wanted.above_ppm {
        binds.push(BindValue::Float(ppm));
        write!(text, " {joint} \"reading\".\"ppm\" > ${}", binds.len()).unwrap();
        joint = "AND";
    }
    if wanted.unassigned {
        write!(text, " {joint} \"reading\".\"analyst_id\" IS NULL").unwrap();
    }
    binds.push(BindValue::Int(20));
    write!(text, " ORDER BY \"reading\".\"ppm\" DESC, \"reading\".\"id\" LIMIT ${}", binds.len())
        .unwrap();
    (text, binds)
}

/// The list of a shed: scopes, an optional filter by a parent's column, a subquery over children, and an
/// order by a parent.
fn list(region: Option<&str>) -> Query<Specimen> {
    Specimen::rows()
        .filter(unassigned)
        .filter(deeper_than(50.0))
        .filter(|s| region.map(|region| s.borehole().site().region.eq(region)))
        .filter(|s| {
            s.assays()
                .filter(|a| a.element.eq("Nd") & a.ppm.ge(400.0))
                .exists()
        })
        .order_by(|s| (s.borehole().name.asc(), s.top_m.asc()))
        .limit(20)
}

/// The same text and binds as [`list`] compiles to, as somebody would write them.
fn list_by_hand(region: Option<&str>) -> (String, Vec<BindValue>) {
    let (mut text, mut binds) = (String::new(), Vec::new());
    write!(
        text,
        "SELECT \"specimen\".\"id\", \"specimen\".\"borehole_id\", \"specimen\".\"label\", \
         \"specimen\".\"rock\", \"specimen\".\"top_m\", \"specimen\".\"base_m\", \
         \"specimen\".\"taken_on\", \"specimen\".\"analyst_id\", \"specimen\".\"parent_id\", \
         \"specimen\".\"withdrawn_at\" FROM \"specimen\" \
         INNER JOIN \"borehole\" ON \"borehole\".\"id\" = \"specimen\".\"borehole_id\""
    )
    .unwrap();
    if region.is_some() {
        write!(text, " INNER JOIN \"site\" ON \"site\".\"id\" = \"borehole\".\"site_id\"").unwrap();
    }
    binds.push(BindValue::Float(50.0));
    write!(
        text,
        " WHERE \"specimen\".\"analyst_id\" IS NULL AND \"specimen\".\"top_m\" > ${}",
        binds.len()
    )
    .unwrap();
    if let Some(region) = region {
        binds.push(BindValue::Text(region.into()));
        write!(text, " AND \"site\".\"region\" = ${}", binds.len()).unwrap();
    }
    binds.push(BindValue::Text("Nd".into()));
    write!(
        text,
        " AND EXISTS (SELECT 1 FROM \"assay\" WHERE \"assay\".\"specimen_id\" = \"specimen\".\"id\" \
         AND \"assay\".\"element\" = ${}",
        binds.len()
    )
    .unwrap();
    binds.push(BindValue::Float(400.0));
    write!(text, " AND \"assay\".\"ppm\" >= ${})", binds.len()).unwrap();
    binds.push(BindValue::Int(20));
    write!(text, " ORDER BY \"borehole\".\"name\", \"specimen\".\"top_m\" LIMIT ${}", binds.len())
        .unwrap();
    (text, binds)
}

fn compiled(wanted: &Wanted) -> Sql {
    query(wanted).sql(Dialect::Postgres).unwrap()
}

fn connection() -> Connection {
    let mut connection = Connection::open_in_memory().unwrap();
    connection
        .execute_batch(
            "CREATE TABLE reading (id INTEGER PRIMARY KEY, specimen_id INTEGER NOT NULL, element TEXT NOT NULL,
             remark TEXT NOT NULL, ppm REAL NOT NULL, error_ppm REAL NOT NULL, taken_on TEXT NOT NULL,
             analyst_id INTEGER)",
        )
        .unwrap();
    let transaction = connection.transaction().unwrap();
    {
        let mut insert = transaction
            .prepare("INSERT INTO reading VALUES (?, ?, ?, ?, ?, ?, ?, ?)")
            .unwrap();
        for id in 0..ROWS {
            let element = ["Nd", "La", "Ce", "Zr"][(id % 4) as usize];
            let remark = format!("reading number {id} of the day");
            let taken_on = format!("20{:02}-{:02}-{:02}", id % 25, id % 12 + 1, id % 28 + 1);
            let analyst = (id % 3 > 0).then_some(id % 7);
            let ppm = id as f64 * 0.37;
            insert
                .execute((id, id / 5, element, remark, ppm, ppm / 100.0, taken_on, analyst))
                .unwrap();
        }
    }
    transaction.commit().unwrap();
    connection
}

fn read_all_by_hand(connection: &Connection, text: &str) -> Vec<Reading> {
    let mut statement = connection.prepare_cached(text).unwrap();
    let mut rows = statement.query([]).unwrap();
    let mut readings = Vec::new();
    while let Some(row) = rows.next().unwrap() {
        readings.push(row_by_hand(row));
    }
    readings
}

fn read_one_by_hand(connection: &Connection, text: &str, id: i64) -> Reading {
    let mut statement = connection.prepare_cached(text).unwrap();
    statement
        .query_row([id], |row| Ok(row_by_hand(row)))
        .unwrap()
}

fn row_by_hand(row: &Row<'_>) -> Reading {
    Reading {
        id: row.get(0).unwrap(),
        specimen_id: row.get(1).unwrap(),
        element: row.get(2).unwrap(),
        remark: row.get(3).unwrap(),
        ppm: row.get(4).unwrap(),
        error_ppm: row.get(5).unwrap(),
        taken_on: row.get_ref(6).unwrap().as_str().unwrap().parse().unwrap(),
        analyst_id: row.get(7).unwrap(),
    }
}

fn benches(criterion: &mut Criterion) {
    let wanted = Wanted { element: Some("Nd"), above_ppm: Some(400.0), unassigned: true };
    let (text, binds) = query_by_hand(&wanted);
    assert_eq!((compiled(&wanted).text(), compiled(&wanted).binds()), (&*text, &*binds));
    against_by_hand(
        criterion,
        ("build and compile", 3.0),
        20_000,
        || compiled(&wanted),
        || query_by_hand(&wanted),
    );

    let region = Some("Upper Tarn");
    let compiled_list = || list(region).sql(Dialect::Postgres).unwrap();
    let (text, binds) = list_by_hand(region);
    assert_eq!((compiled_list().text(), compiled_list().binds()), (&*text, &*binds));
    against_by_hand(
        criterion,
        ("build and compile, with relations", 3.0),
        20_000,
        compiled_list,
        || list_by_hand(region),
    );

    let (db, by_hand) = (Database::over(connection()).unwrap(), connection());
    let text = Reading::row(1)
        .sql(Dialect::Sqlite)
        .unwrap()
        .text()
        .to_owned();
    let (mut ours, mut theirs) = (Scattered::below(ROWS), Scattered::below(ROWS));
    against_by_hand(
        criterion,
        ("point query, built each time", 1.2),
        5_000,
        || db.read_one(&Reading::row(ours.next())).unwrap(),
        || read_one_by_hand(&by_hand, &text, theirs.next()),
    );

    let text = Reading::rows()
        .sql(Dialect::Sqlite)
        .unwrap()
        .text()
        .to_owned();
    assert_eq!(db.read(&Reading::rows()).unwrap(), read_all_by_hand(&by_hand, &text));
    against_by_hand(
        criterion,
        ("reading 100000 rows of 8 columns", 1.05),
        1,
        || db.read(&Reading::rows()).unwrap(),
        || read_all_by_hand(&by_hand, &text),
    );
}

criterion_group!(group, benches);
criterion_main!(group);
