//! `nepheline survey`: the tables of a database, or some of them in depth.

mod markdown;
mod mermaid;

use anyhow::{Result, anyhow};
use clap::{Args, ValueEnum};
use nepheline_live::blocking::LiveDatabase;
use nepheline_live::{Catalog, CatalogColumn, CatalogTable, Generated, Profile};
use serde_json::{Value, json};

use crate::database::DatabaseOptions;
use crate::screen::{NULL, Screen};

#[derive(Debug, Args)]
pub(crate) struct SurveyOptions {
    /// Show these tables in depth: columns, rows, and what each column holds. Without a name, all tables are listed.
    #[arg(value_name = "TABLE")]
    tables: Vec<String>,

    #[command(flatten)]
    database: DatabaseOptions,

    /// Look into this schema instead of that of the session; may be given several times.
    #[arg(long, value_name = "SCHEMA")]
    schema: Vec<String>,

    /// The form of the answer.
    #[arg(long = "as", value_enum, value_name = "FORM", default_value = "table")]
    form: Form,

    /// The number of rows that are shown of a table.
    #[arg(long, value_name = "ROWS", default_value_t = 5)]
    sample: u32,
}

/// The forms of the answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Form {
    /// Tables for a terminal
    Table,
    /// One JSON document
    Json,
    /// Markdown
    Markdown,
    /// An entity diagram for Mermaid
    Mermaid,
}

/// The estimate from which on rows are not counted.
const COUNTED_BELOW: i64 = 100_000;

/// A table, with what it holds where that is asked for.
struct Surveyed<'c> {
    table: &'c CatalogTable,
    /// The number of rows in a list, counted where the database has no estimate.
    rows: String,
    profile: Option<Profile>,
}

pub(crate) fn run(options: &SurveyOptions, screen: &mut Screen) -> Result<()> {
    let db = options.database.open()?;
    let schemas: Vec<&str> = options.schema.iter().map(String::as_str).collect();
    let catalog = db.catalog_of(&schemas)?;
    let is_whole = options.tables.is_empty();
    let tables: Vec<&CatalogTable> = match is_whole {
        true => catalog.tables.iter().collect(),
        false => options
            .tables
            .iter()
            .map(|name| chosen(&catalog, name))
            .collect::<Result<_>>()?,
    };
    // A diagram shows the tables alone.
    let profiled = !is_whole && options.form != Form::Mermaid;
    let surveyed = tables.into_iter().map(|table| {
        let profile = profiled
            .then(|| db.profile(table, options.sample))
            .transpose()?;
        let rows = match table.estimated_rows {
            _ if !is_whole || !matches!(options.form, Form::Table | Form::Markdown) => {
                String::new()
            }
            _ if table.is_view => String::new(),
            Some(rows) if rows >= COUNTED_BELOW => format!("~{rows}"),
            _ => db.count_rows(table)?.to_string(),
        };
        Ok(Surveyed { table, rows, profile })
    });
    let surveyed: Vec<Surveyed<'_>> = surveyed.collect::<Result<_>>()?;
    match options.form {
        Form::Table => as_tables(&surveyed, screen),
        Form::Json => Ok(screen.plain(&as_json(&catalog, &surveyed, is_whole)?)?),
        Form::Markdown => Ok(screen.plain(&markdown::of(&surveyed))?),
        Form::Mermaid => Ok(screen.plain(&mermaid::of(&surveyed))?),
    }
}

/// Returns the table with a name, which may have a schema before a point.
pub(crate) fn chosen<'c>(catalog: &'c Catalog, name: &str) -> Result<&'c CatalogTable> {
    let of_schema = || {
        let (schema, name) = name.split_once('.')?;
        let mut tables = catalog.tables.iter();
        tables.find(|table| table.name == name && table.schema.as_deref() == Some(schema))
    };
    catalog.table(name).or_else(of_schema).ok_or_else(|| {
        let known: Vec<&str> = catalog
            .tables
            .iter()
            .map(|table| table.name.as_str())
            .collect();
        let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
        anyhow!("the database has no table `{name}`; its tables are: {known}")
    })
}

fn as_tables(surveyed: &[Surveyed<'_>], screen: &mut Screen) -> Result<()> {
    if surveyed.iter().all(|of| of.profile.is_none()) {
        let rows: Vec<Vec<String>> = surveyed.iter().map(listed).collect();
        screen.table(&HEADINGS, &rows, rows.len())?;
        return Ok(());
    }
    for (number, Surveyed { table, profile, .. }) in surveyed.iter().enumerate() {
        if number > 0 {
            screen.line("")?;
        }
        screen.heading(&headline(table))?;
        let rows: Vec<Vec<String>> = described(table, profile.as_ref());
        screen.whole_table(&COLUMN_HEADINGS, &rows)?;
        for sentence in sentences(table) {
            screen.line(&sentence)?;
        }
        if let Some(profile) = profile {
            screen.line("")?;
            let names: Vec<&str> = table
                .columns
                .iter()
                .map(|column| column.name.as_str())
                .collect();
            let all = usize::try_from(profile.rows).unwrap_or(usize::MAX);
            screen.table(&names, &shown_rows(profile), all)?;
        }
    }
    Ok(())
}

const HEADINGS: [&str; 5] = ["table", "columns", "key", "refers to", "rows"];

/// Returns a table as one row.
fn listed(of: &Surveyed<'_>) -> Vec<String> {
    let table = of.table;
    // A table may refer to another by several columns.
    let mut targets: Vec<&str> = table
        .references
        .iter()
        .map(|reference| reference.target.as_str())
        .collect();
    targets.dedup();
    let kind = if table.is_view { " (view)" } else { "" };
    vec![
        format!("{}{kind}", table.name),
        table.columns.len().to_string(),
        table.key.join(", "),
        targets.join(", "),
        of.rows.clone(),
    ]
}

fn headline(table: &CatalogTable) -> String {
    let kind = if table.is_view { "view" } else { "table" };
    match &table.comment {
        Some(comment) => format!("{kind} {}: {comment}", table.name),
        None => format!("{kind} {}", table.name),
    }
}

const COLUMN_HEADINGS: [&str; 6] = ["column", "type", "Rust", "nullable", "NULLs", "distinct"];

/// Returns each column as a row.
fn described(table: &CatalogTable, profile: Option<&Profile>) -> Vec<Vec<String>> {
    let each = table.columns.iter().enumerate().map(|(place, column)| {
        let held = profile.and_then(|profile| profile.columns.get(place));
        let count = |of: fn(&nepheline_live::ColumnProfile) -> i64| {
            held.map_or(String::new(), |held| of(held).to_string())
        };
        vec![
            marked(table, column),
            column.database_type.clone(),
            rust_type(column),
            if column.nullable { "yes" } else { "no" }.to_owned(),
            count(|held| held.nulls),
            count(|held| held.distinct),
        ]
    });
    each.collect()
}

/// Returns the name of a column with what it is.
fn marked(table: &CatalogTable, column: &CatalogColumn) -> String {
    let mut marks = Vec::new();
    if table.key.contains(&column.name) {
        marks.push("key");
    }
    match column.generated {
        Generated::Never => {}
        Generated::Identity => marks.push("generated"),
        Generated::Computed => marks.push("computed"),
    }
    match marks.is_empty() {
        true => column.name.clone(),
        false => format!("{} ({})", column.name, marks.join(", ")),
    }
}

/// Returns the Rust type with its `Option`.
fn rust_type(column: &CatalogColumn) -> String {
    match (&column.rust_type, column.nullable) {
        (None, _) => "none".to_owned(),
        (Some(rust), true) => format!("Option<{rust}>"),
        (Some(rust), false) => rust.clone(),
    }
}

/// Returns the references, unique sets, indexes and checks of a table, a sentence for each.
fn sentences(table: &CatalogTable) -> Vec<String> {
    let when = |condition: &Option<String>| match condition {
        Some(condition) => format!(" where {condition}"),
        None => String::new(),
    };
    let references = table.references.iter().map(|reference| {
        let action = match reference.on_delete.as_str() {
            "NO ACTION" | "RESTRICT" => String::new(),
            action => format!(", on delete {}", action.to_lowercase()),
        };
        let (own, theirs) = (reference.columns.join(", "), reference.target_columns.join(", "));
        format!("refers: {own} to {} ({theirs}){action}", reference.target)
    });
    let unique = table
        .unique
        .iter()
        .map(|unique| format!("unique: {}{}", unique.columns.join(", "), when(&unique.condition)));
    let indexes = table
        .indexes
        .iter()
        .map(|index| format!("index: {}{}", index.columns.join(", "), when(&index.condition)));
    let checks = table
        .checks
        .iter()
        .map(|check| format!("check: {}", check.condition));
    references
        .chain(unique)
        .chain(indexes)
        .chain(checks)
        .collect()
}

fn shown_rows(profile: &Profile) -> Vec<Vec<String>> {
    const LONGEST: usize = 40;
    let shown = |value: &Option<String>| match value {
        None => NULL.to_owned(),
        Some(text) if text.chars().count() > LONGEST => {
            format!("{}…", text.chars().take(LONGEST - 1).collect::<String>())
        }
        Some(text) => text.clone(),
    };
    profile
        .sample
        .iter()
        .map(|row| row.iter().map(shown).collect())
        .collect()
}

fn as_json(catalog: &Catalog, surveyed: &[Surveyed<'_>], is_whole: bool) -> Result<String> {
    if is_whole {
        return Ok(serde_json::to_string_pretty(catalog)?);
    }
    let each = surveyed.iter().map(|Surveyed { table, profile, .. }| {
        let mut table = serde_json::to_value(table)?;
        if let (Value::Object(fields), Some(profile)) = (&mut table, profile) {
            fields.insert("profile".into(), json!(profile));
        }
        Ok(table)
    });
    let each: Vec<Value> = each.collect::<Result<_>>()?;
    Ok(serde_json::to_string_pretty(&json!({ "tables": each }))?)
}
