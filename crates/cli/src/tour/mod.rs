//! `nepheline tour`: questions to the demo data, each with its Rust, its SQL and its rows.

mod rows;
mod source;
mod steps;

use anyhow::Result;
use clap::{Args, ValueEnum};
use nepheline::blocking::Database;
use nepheline::prelude::*;
use nepheline::{Level, Readable, Sql, Tables};

use crate::screen::{ROWS_SHOWN, Screen, Tabular};
use steps::Step;

#[derive(Debug, Args)]
pub(crate) struct TourOptions {
    /// Use this database instead of an embedded one. The demo data is loaded into it, unless it is loaded
    /// already; other tables of the same names are an error, and stay as they are.
    // Read later than the other arguments, because the parser would print the URL, password and all.
    #[arg(long, value_name = "URL")]
    database: Option<String>,

    /// Show the SQL in this dialect instead of that of the database.
    #[arg(long, value_enum)]
    dialect: Option<Shown>,

    /// Show beside each clause the source line that asked for it.
    #[arg(long)]
    origins: bool,

    /// Run only these steps, in this order, separated by commas.
    #[arg(long, value_enum, value_delimiter = ',', value_name = "STEP")]
    steps: Vec<Step>,

    /// Leave out these parts of each step, separated by commas.
    #[arg(long, value_enum, value_delimiter = ',', value_name = "PART")]
    hide: Vec<Part>,
}

/// A part of a step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Part {
    /// The Rust that builds the query
    Rust,
    /// The SQL
    Sql,
    /// The values of its placeholders
    Binds,
    /// The rows
    Rows,
}

/// The dialects of the option.
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
        tour.run(*step)?;
    }
    Ok(())
}

/// The demo data, the options and the screen.
struct Tour<'a> {
    db: Database,
    options: &'a TourOptions,
    screen: &'a mut Screen,
}

impl Tour<'_> {
    fn run(&mut self, step: Step) -> Result<()> {
        let name = step
            .to_possible_value()
            .map(|value| value.get_name().to_owned());
        self.screen
            .heading(&format!("{}: {}", name.unwrap_or_default(), step.question()))?;
        if self.shows(Part::Rust) {
            self.screen.rust(&step.source())?;
        }
        step.answer(self)
    }

    fn shows(&self, part: Part) -> bool {
        !self.options.hide.contains(&part)
    }

    /// Shows the statements of a query with companions.
    fn show_all(&mut self, sql: impl Fn(Dialect) -> Result<Vec<Sql>, Error>) -> Result<()> {
        let statements = sql(self.db.dialect())?.len();
        for statement in 0..statements {
            self.show_each(|dialect| Ok(sql(dialect)?.swap_remove(statement)))?;
        }
        Ok(())
    }

    /// Shows the SQL of a query in the dialects of the options.
    fn show<T: Tables, R, L: Level>(&mut self, query: &Query<T, R, L>) -> Result<()> {
        self.show_each(|dialect| query.sql(dialect))
    }

    fn show_each(&mut self, sql: impl Fn(Dialect) -> Result<Sql, Error>) -> Result<()> {
        let dialects = match self.options.dialect {
            Some(shown) => shown.dialects(),
            None => vec![self.db.dialect()],
        };
        for &dialect in &dialects {
            let sql = sql(dialect)?;
            if !self.shows(Part::Sql) {
                continue;
            }
            self.screen.line("")?;
            if dialects.len() > 1 {
                self.screen.line(&format!("{dialect}:"))?;
            }
            self.screen
                .sql(&sql, self.options.origins, self.shows(Part::Binds))?;
        }
        Ok(())
    }

    /// Reads the rows of a query, and shows the first of them.
    fn values<Q: Readable>(
        &mut self,
        headings: &[&str],
        query: &Q,
        fields: impl Fn(Q::Row) -> Vec<String>,
    ) -> Result<()> {
        let rows: Vec<_> = self.db.read(query)?.into_iter().map(fields).collect();
        self.table(headings, &rows)
    }

    /// Shows the first of these rows.
    fn rows<R: Tabular>(&mut self, rows: &[R]) -> Result<()> {
        let rows: Vec<_> = rows.iter().map(Tabular::fields).collect();
        self.table(R::HEADINGS, &rows)
    }

    /// Shows the first of these rows, given as text.
    fn table(&mut self, headings: &[&str], rows: &[Vec<String>]) -> Result<()> {
        if self.shows(Part::Rows) {
            self.screen.line("")?;
            let shown = &rows[..rows.len().min(ROWS_SHOWN)];
            self.screen.table(headings, shown, rows.len())?;
        }
        Ok(())
    }

    /// Shows a result that is no table.
    fn note(&mut self, text: &str) -> Result<()> {
        if self.shows(Part::Rows) {
            self.screen.line(text)?;
        }
        Ok(())
    }

    /// Shows an error that a step is about.
    fn fault(&mut self, err: &Error) -> Result<()> {
        if self.shows(Part::Rows) {
            self.screen.line("")?;
            self.screen.fault(&format!("error: {err}"))?;
        }
        Ok(())
    }
}
