//! `nepheline compare`: where the structs of Rust files and a database differ.

use std::fs;
use std::path::PathBuf;
use std::process::ExitCode;

use anyhow::{Result, anyhow};
use clap::{Args, ValueEnum};
use nepheline_live::blocking::LiveDatabase;
use nepheline_live::compare_files;

use crate::database::DatabaseOptions;
use crate::screen::Screen;

#[derive(Debug, Args)]
pub(crate) struct CompareOptions {
    /// Rust files with structs that derive `Table`.
    #[arg(value_name = "FILE", required = true)]
    files: Vec<PathBuf>,

    #[command(flatten)]
    database: DatabaseOptions,

    /// Compare with this schema instead of that of the session.
    #[arg(long, value_name = "SCHEMA")]
    schema: Option<String>,

    /// The form of the answer.
    #[arg(long = "as", value_enum, value_name = "FORM", default_value = "table")]
    form: Form,
}

/// The forms of the answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Form {
    /// A line for each difference
    Table,
    /// One JSON document
    Json,
}

pub(crate) fn run(options: &CompareOptions, screen: &mut Screen) -> Result<ExitCode> {
    let name = |number: usize| {
        options
            .files
            .get(number)
            .map_or(String::new(), |path| path.display().to_string())
    };
    let texts = options.files.iter().map(|path| {
        fs::read_to_string(path).map_err(|err| anyhow!("cannot read {}: {err}", path.display()))
    });
    let texts: Vec<String> = texts.collect::<Result<_>>()?;
    let db = options.database.open()?;
    let schemas: Vec<&str> = options.schema.as_deref().into_iter().collect();
    let catalog = db.catalog_of(&schemas)?;
    let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
    let found = compare_files(db.dialect(), &catalog, &texts)
        .map_err(|(number, err)| anyhow!("{}: {err}", name(number)))?;
    match options.form {
        Form::Table => screen.plain(&found.to_string())?,
        Form::Json => screen.plain(&serde_json::to_string_pretty(&found)?)?,
    }
    Ok(if found.is_empty() { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}
