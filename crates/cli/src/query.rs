//! `nepheline query`: a question to a table, by the names of its columns and relations.

use std::fs;
use std::path::PathBuf;

use anyhow::{Context as _, Result};
use clap::{Args, ValueEnum};
use nepheline::{Dialect, RunsQueries as _};
use nepheline_live::{LiveDatabase as _, LiveTables};

use crate::answer::Form;
use crate::database::DatabaseOptions;
use crate::question::Question;
use crate::screen::Screen;

#[derive(Debug, Args)]
pub(crate) struct QueryOptions {
    /// The table or view.
    #[arg(value_name = "TABLE")]
    table: String,

    #[command(flatten)]
    database: DatabaseOptions,

    #[command(flatten)]
    question: Question,

    /// Show the SQL instead of running it: in this dialect, or in that of the database.
    #[arg(long, value_enum, value_name = "DIALECT", num_args = 0..=1, default_missing_value = "own")]
    sql: Option<Shown>,

    /// Show the plan of the database instead of the rows.
    #[arg(long, conflicts_with = "sql")]
    plan: bool,

    /// Draw the answer into this file, as an SVG chart: a bar for the last value of each row.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["sql", "plan", "form"])]
    svg: Option<PathBuf>,

    /// The form of the answer.
    #[arg(long = "as", value_enum, value_name = "FORM", default_value = "table")]
    form: Form,
}

/// The dialects of the option.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
#[value(rename_all = "lower")]
pub(crate) enum Shown {
    /// The dialect of the database
    Own,
    Sqlite,
    Postgres,
    MariaDb,
    MySql,
}

pub(crate) fn run(options: &QueryOptions, screen: &mut Screen) -> Result<()> {
    let served = options.database.serve()?;
    let (db, question) = (served.database(), &options.question);
    let tables = LiveTables::of(&served.wait(db.catalog())?, db.dialect());
    let query = question.asked(tables.table(&options.table)?)?;
    if let Some(shown) = options.sql {
        let sql = question.paged(query).sql(shown.dialect(db.dialect()))?;
        return Ok(screen.sql(&sql, false, true)?);
    }
    if options.plan {
        let plan = served.wait(db.explain(&query))?;
        return Ok(screen.plain(plan.trim_end())?);
    }
    let answer = served.wait(question.read(db, &query))?;
    match &options.svg {
        Some(file) => {
            let svg = answer.svg()?;
            fs::write(file, svg).with_context(|| format!("cannot write {}", file.display()))?;
            Ok(screen.line(&format!("{} rows drawn into {}", answer.rows.len(), file.display()))?)
        }
        None => answer.print(options.form, screen),
    }
}

impl Shown {
    pub(crate) fn dialect(self, own: Dialect) -> Dialect {
        match self {
            Shown::Own => own,
            Shown::Sqlite => Dialect::Sqlite,
            Shown::Postgres => Dialect::Postgres,
            Shown::MariaDb => Dialect::MariaDb,
            Shown::MySql => Dialect::MySql,
        }
    }
}
