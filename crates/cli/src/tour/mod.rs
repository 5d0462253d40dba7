//! `nepheline tour`: questions to the demo data, each with its SQL and its answer.

mod rows;
mod steps;

use anyhow::Result;
use clap::{Args, ValueEnum};
use nepheline::blocking::Database;
use nepheline::prelude::*;
use nepheline::{Level, Readable, Sql, Tables};

use crate::screen::{ROWS_SHOWN, Screen};
use steps::Step;

#[derive(Debug, Args)]
pub(crate) struct TourOptions {
    /// Ask this database instead of an embedded one. The demo data is loaded into it, unless it
    /// is there already; tables of the same names that are not the demo's are left alone.
    // Read later than the other arguments, because the parser would print the URL, password and all.
    #[arg(long, value_name = "URL")]
    database: Option<String>,

    /// The dialect that the SQL is shown in, if not that of the database.
    #[arg(long, value_enum)]
    dialect: Option<Shown>,

    /// Show beside each clause the line of the tour's source that asked for it.
    #[arg(long)]
    origins: bool,

    /// Go through these steps only, in this order: names with commas between.
    #[arg(long, value_enum, value_delimiter = ',', value_name = "STEP")]
    steps: Vec<Step>,
}

/// The dialects, by the names that the option has for them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
#[value(rename_all = "lower")]
enum Shown {
    Sqlite,
    Postgres,
    MariaDb,
    MySql,
    All,
}

impl Shown {
    fn dialects(self) -> Vec<Dialect> {
        match self {
            Shown::Sqlite => vec![Dialect::Sqlite],
            Shown::Postgres => vec![Dialect::Postgres],
            Shown::MariaDb => vec![Dialect::MariaDb],
            Shown::MySql => vec![Dialect::MySql],
            Shown::All => Dialect::ALL.to_vec(),
        }
    }
}

pub(crate) fn run(options: &TourOptions, screen: &mut Screen) -> Result<()> {
    let db = match &options.database {
        Some(url) => Database::open(url)?,
        None => Database::open("sqlite::memory:")?,
    };
    nepheline_coreshed::load(&db)?;
    let mut tour = Tour { db, options, screen };
    let steps = match options.steps.as_slice() {
        [] => Step::value_variants(),
        some => some,
    };
    for (i, step) in steps.iter().enumerate() {
        if i > 0 {
            tour.screen.line("")?;
        }
        step.run(&mut tour)?;
    }
    Ok(())
}

/// What a step works with: the demo data, what to show, and where.
struct Tour<'a> {
    db: Database,
    options: &'a TourOptions,
    screen: &'a mut Screen,
}

impl Tour<'_> {
    /// Shows the statements of a query with others alongside.
    fn show_all(&mut self, sql: impl Fn(Dialect) -> Result<Vec<Sql>, Error>) -> Result<()> {
        let statements = sql(self.db.dialect())?.len();
        for statement in 0..statements {
            if statement > 0 {
                self.screen.line("")?;
            }
            self.show_each(|dialect| Ok(sql(dialect)?.swap_remove(statement)))?;
        }
        Ok(())
    }

    /// Shows the SQL of a query in the dialects that were asked for.
    fn show<T: Tables, R, L: Level>(&mut self, query: &Query<T, R, L>) -> Result<()> {
        self.show_each(|dialect| query.sql(dialect))
    }

    /// Reads the rows of a query and shows the first of them.
    fn values<Q: Readable>(
        &mut self,
        headings: &[&str],
        query: &Q,
        fields: impl Fn(Q::Row) -> Vec<String>,
    ) -> Result<()> {
        let rows = self.db.read(query)?;
        let all = rows.len();
        let shown: Vec<_> = rows.into_iter().take(ROWS_SHOWN).map(fields).collect();
        Ok(self.screen.table(headings, &shown, all)?)
    }

    fn show_each(&mut self, sql: impl Fn(Dialect) -> Result<Sql, Error>) -> Result<()> {
        let dialects = match self.options.dialect {
            Some(shown) => shown.dialects(),
            None => vec![self.db.dialect()],
        };
        for &dialect in &dialects {
            if dialects.len() > 1 {
                self.screen.line(&format!("{dialect}:"))?;
            }
            self.screen.sql(&sql(dialect)?, self.options.origins)?;
        }
        Ok(())
    }
}
