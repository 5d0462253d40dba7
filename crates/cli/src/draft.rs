//! `nepheline draft`: Rust for the tables of a database.

use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::{fs, io};

use anyhow::{Context as _, Result, anyhow};
use clap::Args;
use nepheline::blocking::RunsQueries;
use nepheline_live::blocking::LiveDatabase;
use nepheline_live::{CatalogTable, DraftOptions as Drafting, FolderDraft, draft, draft_folder};

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

    /// Look into this schema instead of that of the session; new structs name it.
    #[arg(long, value_name = "SCHEMA")]
    schema: Option<String>,

    /// Write into this file, or into this folder with a file for each table, instead of to the standard output. In files that are
    /// there already, what people wrote stays: new columns become fields, changed types are changed, new tables and values of enums
    /// are added.
    #[arg(long, value_name = "PATH")]
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
    let drafting =
        Drafting { remove_fields: options.remove_fields, schema: options.schema.clone() };
    let Some(path) = &options.into else {
        let drafted = draft(db.dialect(), &tables, None, &drafting)?;
        screen.plain(drafted.text.trim_end())?;
        return Ok(ExitCode::SUCCESS);
    };
    let is_file = path.extension().is_some_and(|extension| extension == "rs");
    let drafted = match is_file && !path.is_dir() {
        true => into_file(&db, &tables, path, &drafting)?,
        false => into_folder(&db, &tables, path, &drafting)?,
    };
    for gone in &drafted.gone {
        screen.fault(&format!("{gone}; `--remove-fields` takes it out"))?;
    }
    for change in &drafted.changes {
        screen.line(change)?;
    }
    if drafted.files.is_empty() {
        screen.line(&format!("{} is up to date", path.display()))?;
        return Ok(ExitCode::SUCCESS);
    }
    if options.check {
        return Ok(ExitCode::FAILURE);
    }
    let folder = if is_file { path.parent() } else { Some(path.as_path()) };
    if let Some(folder) = folder {
        fs::create_dir_all(folder).with_context(|| format!("cannot make {}", folder.display()))?;
    }
    for (name, text) in &drafted.files {
        let file = folder.map_or_else(|| PathBuf::from(name), |folder| folder.join(name));
        fs::write(&file, text).with_context(|| format!("cannot write {}", file.display()))?;
    }
    Ok(ExitCode::SUCCESS)
}

fn into_file(
    db: &impl RunsQueries,
    tables: &[&CatalogTable],
    path: &Path,
    drafting: &Drafting,
) -> Result<Changed> {
    let existing = match fs::read_to_string(path) {
        Ok(text) => Some(text),
        Err(err) if err.kind() == io::ErrorKind::NotFound => None,
        Err(err) => return Err(anyhow!("cannot read {}: {err}", path.display())),
    };
    let drafted = draft(db.dialect(), tables, existing.as_deref(), drafting)
        .map_err(|err| anyhow!("{}: {err}", path.display()))?;
    let name = path
        .file_name()
        .unwrap_or_default()
        .to_string_lossy()
        .into_owned();
    let is_same = existing.as_deref() == Some(drafted.text.as_str());
    let files = if is_same { Vec::new() } else { vec![(name, drafted.text)] };
    Ok(Changed { files, changes: drafted.changes, gone: drafted.gone })
}

fn into_folder(
    db: &impl RunsQueries,
    tables: &[&CatalogTable],
    path: &Path,
    drafting: &Drafting,
) -> Result<Changed> {
    let mut existing = Vec::new();
    if path.is_dir() {
        let entries =
            fs::read_dir(path).with_context(|| format!("cannot read {}", path.display()))?;
        for entry in entries {
            let file = entry?.path();
            if file.extension().is_some_and(|extension| extension == "rs") {
                let text = fs::read_to_string(&file)
                    .with_context(|| format!("cannot read {}", file.display()))?;
                existing.push((
                    file.file_name()
                        .unwrap_or_default()
                        .to_string_lossy()
                        .into_owned(),
                    text,
                ));
            }
        }
        existing.sort();
    }
    let drafted = draft_folder(db.dialect(), tables, &existing, drafting)
        .map_err(|(name, err)| anyhow!("{}: {err}", path.join(name).display()))?;
    let FolderDraft { files, changes, gone, .. } = drafted;
    Ok(Changed { files, changes, gone })
}

/// The files that change, by their names, and why.
struct Changed {
    files: Vec<(String, String)>,
    changes: Vec<String>,
    gone: Vec<String>,
}
