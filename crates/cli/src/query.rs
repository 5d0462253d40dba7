//! `nepheline query`: a question to a table, by the names of its columns and relations.

mod chart;

use std::path::PathBuf;
use std::{fs, io};

use anyhow::{Context as _, Result, bail};
use clap::{Args, ValueEnum};
use nepheline::blocking::{Database, RunsQueries as _};
use nepheline::{Dialect, NamedValues, Paging};
use nepheline_live::blocking::LiveDatabase as _;
use nepheline_live::{LiveQuery, LiveRows, LiveTables};
use serde_json::Value as Json;

use crate::database::DatabaseOptions;
use crate::screen::{NULL, Screen};

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

/// The question to a table.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct Question {
    /// Keep the rows for which this condition in CQL2 holds, such as "depth_m > 100 AND site.region LIKE 'Upper%'".
    #[arg(long = "where", value_name = "CQL2")]
    filter: Option<String>,

    /// Show these columns, and columns of relations: "label, borehole.site.region". Without it, all columns.
    #[arg(long, value_name = "NAMES", conflicts_with_all = ["per", "total"])]
    show: Option<String>,

    /// Group by these.
    #[arg(long, value_name = "NAMES")]
    per: Option<String>,

    /// Compute these for each group, or for all rows: "count, sum(depth_m) as metres".
    #[arg(long, value_name = "TOTALS")]
    total: Option<String>,

    /// Keep the groups for which this condition holds, by the names of the keys and totals.
    #[arg(long, value_name = "CQL2")]
    having: Option<String>,

    /// Sort by these; a minus sorts in descending order, as in --order=-depth_m,name.
    #[arg(long, value_name = "NAMES", allow_hyphen_values = true)]
    order: Option<String>,

    /// The most rows; 0 for all.
    #[arg(long, value_name = "ROWS", default_value_t = 50)]
    limit: u64,

    /// The number of the page, of as many rows as the limit.
    #[arg(long, value_name = "PAGE", default_value_t = 1)]
    page: u64,
}

/// The forms of the answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Form {
    /// A table for a terminal
    Table,
    /// One JSON array of objects
    Json,
    /// Comma-separated values, with a line of names
    Csv,
    /// A Markdown table
    Markdown,
    /// Bars for a terminal: the last number of each row under its key
    Chart,
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
    let db = options.database.open()?;
    let tables = LiveTables::of(&db.catalog()?, db.dialect());
    let query = options.question.asked(tables.table(&options.table)?)?;
    if let Some(shown) = options.sql {
        let sql = options.question.paged(query).sql(shown.dialect(&db))?;
        return Ok(screen.sql(&sql, false, true)?);
    }
    if options.plan {
        let plan = db.explain(&query)?;
        return Ok(screen.plain(plan.trim_end())?);
    }
    let (rows, all) = options.question.read(&db, &query)?;
    let names: Vec<&str> = query.names().collect();
    match &options.svg {
        Some(file) => {
            let svg = chart::svg(&names, &rows)?;
            fs::write(file, svg).with_context(|| format!("cannot write {}", file.display()))?;
            Ok(screen.line(&format!("{} rows drawn into {}", rows.len(), file.display()))?)
        }
        None => answer(&names, &rows, all, options.form, screen),
    }
}

impl Shown {
    pub(crate) fn dialect(self, db: &Database) -> Dialect {
        match self {
            Shown::Own => db.dialect(),
            Shown::Sqlite => Dialect::Sqlite,
            Shown::Postgres => Dialect::Postgres,
            Shown::MariaDb => Dialect::MariaDb,
            Shown::MySql => Dialect::MySql,
        }
    }
}

impl Question {
    /// Returns the query, without its limit.
    fn asked(&self, mut query: LiveQuery) -> Result<LiveRows> {
        if let Some(filter) = &self.filter {
            query = query.filter(filter);
        }
        if let Some(names) = &self.show {
            query = query.show(names);
        }
        if let Some(names) = &self.order {
            query = query.sort_by(names);
        }
        let totals = match (&self.per, &self.total) {
            (None, None) => None,
            (keys, totals) => {
                Some((keys.as_deref().unwrap_or(""), totals.as_deref().unwrap_or("count")))
            }
        };
        match (totals, &self.having) {
            (Some((keys, totals)), having) => {
                query = query.totals(keys, totals);
                if let Some(having) = having {
                    query = query.having(having);
                }
            }
            (None, Some(_)) => bail!("--having needs groups: give --per, --total or both"),
            (None, None) => {}
        }
        Ok(query.rows()?)
    }
}

impl Question {
    /// Reads the rows of the page, and the number of all rows.
    fn read(&self, db: &Database, query: &LiveRows) -> Result<(Vec<NamedValues>, usize)> {
        if self.limit == 0 {
            let rows = db.read(query)?;
            let all = rows.len();
            return Ok((rows, all));
        }
        let page = db.read_page(query, Paging::page_size(self.limit).page(self.page))?;
        let all = usize::try_from(page.total_rows()).unwrap_or(usize::MAX);
        Ok((page.into_rows(), all))
    }

    /// Limits the rows to those of the page.
    fn paged(&self, query: LiveRows) -> LiveRows {
        match self.limit {
            0 => query,
            limit => {
                let skipped = self.page.saturating_sub(1).saturating_mul(limit);
                let query = query.limit(limit);
                if skipped > 0 { query.offset(skipped) } else { query }
            }
        }
    }
}

/// Prints rows in a form; `all` is their number on all pages.
fn answer(
    names: &[&str],
    rows: &[NamedValues],
    all: usize,
    form: Form,
    screen: &mut Screen,
) -> Result<()> {
    match form {
        Form::Table => {
            let cells: Vec<Vec<String>> = rows.iter().map(|row| cells(row, NULL)).collect();
            Ok(screen.table(names, &cells, all)?)
        }
        Form::Json => Ok(screen.plain(&as_json(rows)?)?),
        Form::Csv => as_csv(names, rows),
        Form::Markdown => Ok(screen.plain(&as_markdown(names, rows))?),
        Form::Chart => Ok(screen.plain(&chart::of(rows, screen.width())?)?),
    }
}

/// Returns the values of a row as text.
fn cells(row: &NamedValues, null: &str) -> Vec<String> {
    let shown = row.iter().map(|(name, _)| match row.json(name) {
        None | Some(Json::Null) => null.to_owned(),
        Some(Json::String(text)) => text,
        Some(other) => other.to_string(),
    });
    shown.collect()
}

/// Returns one object a line, in an array.
fn as_json(rows: &[NamedValues]) -> Result<String> {
    let lines = rows.iter().map(serde_json::to_string);
    let lines: Vec<String> = lines.collect::<Result<_, _>>()?;
    Ok(match lines.is_empty() {
        true => "[]".to_owned(),
        false => format!("[\n  {}\n]", lines.join(",\n  ")),
    })
}

fn as_csv(names: &[&str], rows: &[NamedValues]) -> Result<()> {
    let mut writer = csv::Writer::from_writer(io::stdout().lock());
    writer.write_record(names)?;
    for row in rows {
        writer.write_record(cells(row, ""))?;
    }
    writer.flush()?;
    Ok(())
}

fn as_markdown(names: &[&str], rows: &[NamedValues]) -> String {
    let line = |cells: Vec<String>| {
        let cells = cells
            .iter()
            .map(|cell| cell.replace('|', r"\|").replace('\n', " "));
        format!("| {} |", cells.collect::<Vec<_>>().join(" | "))
    };
    let mut lines = vec![
        line(names.iter().map(|name| (*name).to_owned()).collect()),
        format!("|{}", "---|".repeat(names.len())),
    ];
    lines.extend(rows.iter().map(|row| line(cells(row, ""))));
    lines.join("\n")
}
