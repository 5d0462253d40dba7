//! `nepheline draft`: Rust for the tables of a database.

use std::path::PathBuf;
use std::process::ExitCode;
use std::{fs, io};

use anyhow::{Context as _, Result, anyhow};
use clap::Args;
use nepheline_live::blocking::LiveDatabase;

use crate::database::DatabaseOptions;
use crate::screen::Screen;
use crate::survey::chosen;

#[derive(Debug, Args)]
pub(crate) struct DraftOptions {
    /// Draft these tables. Without a name, all of them.
    #[arg(value_name = "TABLE")]
    tables: Vec<String>,

    #[command(flatten)]
    database: DatabaseOptions,

    /// Look into this schema instead of that of the session.
    #[arg(long, value_name = "SCHEMA")]
    schema: Option<String>,

    /// Write into this file instead of to the standard output. If it is there already, what people wrote stays: new columns
    /// become fields, changed types are changed, new tables are added.
    #[arg(long, value_name = "FILE")]
    into: Option<PathBuf>,

    /// Say what would change, write nothing, and exit with 1 if anything would.
    #[arg(long, requires = "into")]
    check: bool,

    /// Also take out fields whose column is gone.
    #[arg(long, requires = "into")]
    remove_fields: bool,
}

pub(crate) fn run(options: &DraftOptions, screen: &mut Screen) -> Result<ExitCode> {
    let db = options.database.open()?;
    let schemas: Vec<&str> = options.schema.as_deref().into_iter().collect();
    let catalog = db.catalog_of(&schemas)?;
    let tables = match options.tables.as_slice() {
        [] => catalog.tables.iter().collect(),
        names => names
            .iter()
            .map(|name| chosen(&catalog, name))
            .collect::<Result<Vec<_>>>()?,
    };
    let existing = match &options.into {
        None => None,
        Some(path) => match fs::read_to_string(path) {
            Ok(text) => Some(text),
            Err(err) if err.kind() == io::ErrorKind::NotFound => None,
            Err(err) => return Err(anyhow!("cannot read {}: {err}", path.display())),
        },
    };
    let name = || {
        options
            .into
            .as_ref()
            .map_or(String::new(), |path| format!("{}: ", path.display()))
    };
    let drafted =
        nepheline_live::draft(db.dialect(), &tables, existing.as_deref(), options.remove_fields)
            .map_err(|err| anyhow!("{}{err}", name()))?;
    let Some(path) = &options.into else {
        screen.plain(drafted.text.trim_end())?;
        return Ok(ExitCode::SUCCESS);
    };
    for gone in &drafted.gone {
        screen.fault(&format!("{gone}; `--remove-fields` takes it out"))?;
    }
    for change in &drafted.changes {
        screen.line(change)?;
    }
    let is_same = existing.as_deref() == Some(drafted.text.as_str());
    if is_same {
        screen.line(&format!("{} is up to date", path.display()))?;
    } else if !options.check {
        fs::write(path, &drafted.text)
            .with_context(|| format!("cannot write {}", path.display()))?;
    }
    Ok(if options.check && !is_same { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}
