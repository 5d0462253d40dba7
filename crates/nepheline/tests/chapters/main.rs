//! Chapters of the documentation: for each question the Rust, the SQL, and the answer that SQLite,
//! PostgreSQL and MariaDB give alike.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

#[path = "../support/mod.rs"]
mod support;

use std::fmt::Debug;

use nepheline::Readable;
use nepheline::blocking::{Database, Handle};
use nepheline::prelude::*;
use nepheline::{Clock, Writes};
use nepheline_coreshed::guarded::AgencyId;
use support::chapter::{Chapter, Shows};
use support::shed::sheds;

/// What the handles of a chapter carry.
fn carried() -> Carried {
    Carried::new()
        .with(AgencyId(1))
        .with(Clock::fixed("2024-06-01T09:30:00Z".parse().unwrap()))
}

fn carrying(db: &Database) -> Database {
    let carried = carried();
    db.carrying(AgencyId(1))
        .carrying(carried.get::<Clock>().unwrap().clone())
}

/// Asks a question on every engine, and writes it down.
fn ask<Q>(chapter: &mut Chapter, what: &str, line: u32, query: &Q)
where
    Q: Readable<Row: Debug + PartialEq> + Shows,
{
    chapter.question(what, line);
    chapter.sql(&query.statements(Dialect::Postgres, &carried()).unwrap());
    let mut answers = sheds()
        .iter()
        .map(|(engine, db)| (engine, carrying(db).read(query).unwrap()));
    let (_, answer) = answers.next().unwrap();
    for (engine, other) in answers {
        assert_eq!(other, answer, "on {}: {what}", engine.name);
    }
    assert!(!answer.is_empty(), "{what}");
    chapter.answer(&answer);
}

/// Writes on every engine, tells how many rows that is, and undoes it.
fn wrote(chapter: &mut Chapter, what: &str, line: u32, write: &impl Writes, sql: nepheline::Sql) {
    chapter.question(what, line);
    chapter.sql(&[sql]);
    let told = sheds().iter().map(|(_, db)| {
        let mut told = None;
        let undone: Result<(), Error> = carrying(db).transaction(|tx| {
            told = Some(tx.write(write));
            Err(Error::closed())
        });
        undone.unwrap_err();
        match told.unwrap() {
            Ok(rows) => format!("{rows} rows"),
            Err(err) => format!("{:?}", err.kind()),
        }
    });
    let told: Vec<String> = told.collect();
    assert!(told.iter().all(|other| *other == told[0]), "{what}: {told:?}");
    chapter.append(&format!("```text\n{}\n```\n", told[0]));
}

macro_rules! wrote {
    ($chapter:expr, $what:literal, $write:expr $(,)?) => {{
        let write = $write;
        let sql = write.sql_carrying(Dialect::Postgres, &crate::carried());
        crate::wrote(&mut $chapter, $what, line!(), &write, sql.unwrap())
    }};
}

macro_rules! ask {
    ($chapter:expr, $what:literal, $query:expr $(,)?) => {
        crate::ask(&mut $chapter, $what, line!(), &$query)
    };
}

// After the macros, which they use.
mod policies;
mod relations;
mod totals;
mod writes;
