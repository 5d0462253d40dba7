//! Chapters of the documentation: for each question the Rust, the SQL, and the answer that SQLite,
//! PostgreSQL and MariaDB give alike.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

#[path = "../support/mod.rs"]
mod support;

use std::fmt::Debug;

use nepheline::Readable;
use nepheline::blocking::{Database, RunsQueries};
use nepheline::prelude::*;
use nepheline::{Clock, Writes};
use nepheline_coreshed::guarded::AgencyId;
use support::chapter::{Chapter, Shows};
use support::shed::sheds;

/// Returns the values that the handles of a chapter carry.
fn carried() -> Carried {
    Carried::new()
        .with(AgencyId(1))
        .with(Clock::stopped_at("2024-06-01T09:30:00Z".parse().unwrap()))
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
    let mut agreed: Option<Vec<Q::Row>> = None;
    for (engine, db) in sheds() {
        match (carrying(db).read(query), &agreed) {
            (Err(err), _) => chapter.fault(format!("{what} On {}: {err:#}", engine.name)),
            (Ok(answer), _) if answer.is_empty() => {
                chapter.fault(format!("{what} On {}: nothing", engine.name));
            }
            (Ok(answer), None) => agreed = Some(answer),
            (Ok(answer), Some(agreed)) if answer == *agreed => {}
            (Ok(answer), Some(agreed)) => {
                chapter.fault(format!("{what} On {}: {answer:?}, not {agreed:?}", engine.name));
            }
        }
    }
    chapter.answer(&agreed.unwrap_or_default());
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
    if told.iter().any(|other| *other != told[0]) {
        chapter.fault(format!("{what} {told:?}"));
    }
    chapter.append(&format!("```text\n{}\n```\n", told[0]));
}

macro_rules! wrote {
    ($chapter:expr, $what:literal, $write:expr $(,)?) => {{
        let write = $write;
        let sql = write.sql_carrying(Dialect::Postgres, &crate::carried());
        crate::wrote($chapter, $what, line!(), &write, sql.unwrap())
    }};
}

macro_rules! ask {
    ($chapter:expr, $what:literal, $query:expr $(,)?) => {
        crate::ask($chapter, $what, line!(), &$query)
    };
}

// After the macros, which they use.
mod money;
mod policies;
mod relations;
mod reports;
mod requests;
mod statements;
mod totals;
mod writes;
