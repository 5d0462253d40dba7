//! `nepheline load`: the rows of a CSV file into a table.

mod guess;
mod source;
mod types;

use std::path::PathBuf;

use anyhow::{Result, anyhow, bail};
use clap::Args;
use nepheline::blocking::{Database, RunsQueries as _, Transaction};
use nepheline::{BindValue, Dialect, Error, SqlType};
use nepheline_live::blocking::LiveDatabase as _;
use nepheline_live::{LiveTables, NewRows, NewTable};

use self::guess::Guess;
use self::source::Source;
use self::types::{AskedType, ColumnReader, ColumnType};
use crate::database::DatabaseOptions;
use crate::query::Shown;
use crate::screen::{NULL, Screen};

#[derive(Debug, Args)]
pub(crate) struct LoadOptions {
    /// The CSV file. Its first line names the columns.
    #[arg(value_name = "FILE.csv")]
    file: PathBuf,

    #[command(flatten)]
    database: DatabaseOptions,

    /// Load into this table. Without it, the table has the name of the file.
    #[arg(long, value_name = "TABLE")]
    table: Option<String>,

    /// Create the table, with types that suit all values of the file.
    #[arg(long)]
    create: bool,

    /// The primary key of the new table: a column of the file, or else a new column that the database numbers.
    #[arg(long, value_name = "COLUMN", requires = "create")]
    key: Option<String>,

    /// Read a column as this type: depth_m=decimal. A question mark allows NULL: label=text?. Dates and times may have a form:
    /// taken_on=date:%d.%m.%Y.
    #[arg(long = "type", value_name = "COLUMN=TYPE")]
    types: Vec<AskedType>,

    /// The character between values; "tab" for a tab.
    #[arg(long, value_name = "CHARACTER", default_value = ",", value_parser = separator)]
    separator: u8,

    /// Read this text as NULL, as empty values are: n/a.
    #[arg(long = "null", value_name = "TEXT")]
    nulls: Vec<String>,

    /// Show the types and the CREATE TABLE, in this dialect or in that of the database, and load nothing.
    #[arg(long, value_enum, value_name = "DIALECT", num_args = 0..=1, default_missing_value = "own", requires = "create")]
    sql: Option<Shown>,
}

fn separator(text: &str) -> Result<u8, String> {
    match text.as_bytes() {
        [byte] => Ok(*byte),
        b"tab" | b"\\t" => Ok(b'\t'),
        _ => Err("expected one character, or tab".to_owned()),
    }
}

/// The number of rows that are in memory together.
const ROWS_AT_ONCE: usize = 10_000;

pub(crate) fn run(options: &LoadOptions, screen: &mut Screen) -> Result<()> {
    let source = Source::open(&options.file, options.separator, &options.nulls)?;
    let table = options.table.clone().unwrap_or_else(|| source.table());
    let db = match options.sql {
        // Nothing is loaded, so any database will do.
        Some(_) => options.database.open()?,
        None => options.database.open_lasting()?,
    };
    let tables = LiveTables::of(&db.catalog()?, db.dialect());
    let is_there = tables.names().any(|name| name == table);
    let target = match (options.create, is_there) {
        (true, true) if options.sql.is_none() => {
            bail!(
                "the table `{table}` is there already; without --create, the rows are added to it"
            )
        }
        (false, false) if options.table.is_none() => {
            bail!("there is no table `{table}`; --create makes it, and --table loads into another")
        }
        (true, _) => Target::created(options, &source, table, screen)?,
        (false, _) => {
            Target::existing(options, &source, table, &tables, db.dialect() == Dialect::Postgres)?
        }
    };
    if let (Some(shown), Some(new)) = (options.sql, &target.new) {
        screen.line("")?;
        return Ok(screen.plain(new.create(shown.dialect(db.dialect()))?.text())?);
    }
    let rows = target.load(&source, &db)?;
    let rows = match rows {
        1 => "1 row".to_owned(),
        rows => format!("{rows} rows"),
    };
    Ok(screen.line(&format!("{rows} loaded into `{}`", target.table))?)
}

/// The table that is loaded.
struct Target {
    table: String,
    /// The table, if it is created.
    new: Option<NewTable>,
    empty: NewRows,
    readers: Vec<ColumnReader>,
    columns: Vec<String>,
}

impl Target {
    /// Returns the new table for a file, and shows its columns.
    fn created(
        options: &LoadOptions,
        source: &Source,
        table: String,
        screen: &mut Screen,
    ) -> Result<Target> {
        let columns = source.new_names()?;
        let asked = asked(options, source, &columns)?;
        let mut guesses = vec![Guess::new(); columns.len()];
        source.each_row("looking at the types", |row| {
            for (guess, value) in guesses.iter_mut().zip(row.values()) {
                guess.see(value, row.line);
            }
            Ok(())
        })?;
        let (mut readers, mut shown) = (Vec::new(), Vec::new());
        let mut new = NewTable::named(&table);
        if let Some(key) = options.key.as_ref().filter(|key| !columns.contains(*key)) {
            new = new.generated_key(key);
            shown.push(
                [key, "integer", "key, numbered by the database", ""]
                    .map(str::to_owned)
                    .to_vec(),
            );
        }
        for (((column, heading), guess), asked) in columns
            .iter()
            .zip(&source.headings)
            .zip(&guesses)
            .zip(&asked)
        {
            let column_type = asked.map_or(guess.column_type(), |asked| asked.column_type);
            let nullable = guess.empty > 0 || asked.is_some_and(|asked| asked.nullable);
            let is_key = options.key.as_ref() == Some(column);
            new = match is_key {
                true => new.key(column, column_type.sql_type()),
                false => new.column(column, column_type.sql_type(), nullable),
            };
            readers.push(ColumnReader {
                sql_type: column_type.sql_type(),
                form: asked.and_then(|asked| asked.form.clone()),
                is_utc: false,
            });
            shown.push(vec![
                column.clone(),
                column_type.to_string(),
                told(guess, asked.is_some(), is_key, nullable),
                if heading == column { String::new() } else { heading.clone() },
            ]);
        }
        let mut headings = vec!["column", "type", "", "in the file"];
        if shown
            .iter()
            .all(|row| row.last().is_none_or(String::is_empty))
        {
            headings.pop();
            shown
                .iter_mut()
                .for_each(|row| row.truncate(headings.len()));
        }
        screen.whole_table(&headings, &shown)?;
        Ok(Target { table, empty: new.new_rows(), new: Some(new), readers, columns })
    }

    /// Returns the table of the database that has the columns of a file.
    fn existing(
        options: &LoadOptions,
        source: &Source,
        table: String,
        tables: &LiveTables,
        has_zones: bool,
    ) -> Result<Target> {
        // A heading is the name of its column, or becomes it as for a new table.
        let known: Vec<String> = tables
            .names_of(&table, "")?
            .map(|name| name.name().to_owned())
            .collect();
        let names = source.headings.iter().zip(source.new_names()?);
        let columns =
            names.map(|(heading, name)| match known.contains(heading) || !known.contains(&name) {
                true => heading.clone(),
                false => name,
            });
        let columns: Vec<String> = columns.collect();
        let empty = tables.new_rows(&table, &columns)?;
        let asked = asked(options, source, &columns)?;
        let readers = empty
            .columns()
            .zip(&asked)
            .map(|((name, sql_type, _), asked)| {
                if let Some(asked) = asked
                    && asked.column_type.sql_type() != sql_type
                {
                    bail!("the column `{name}` is of type {sql_type}, not {}", asked.column_type);
                }
                Ok(ColumnReader {
                    sql_type,
                    form: asked.and_then(|asked| asked.form.clone()),
                    is_utc: sql_type == SqlType::DateTime && !has_zones,
                })
            });
        let readers = readers.collect::<Result<_>>()?;
        Ok(Target { table, new: None, empty, readers, columns })
    }

    /// Loads all rows, or none.
    fn load(&self, source: &Source, db: &Database) -> Result<u64> {
        let scripts = match &self.new {
            Some(new) => Some((new.create(db.dialect())?, new.drop(db.dialect())?)),
            None => None,
        };
        // MariaDB and MySQL commit at each change of the schema.
        let is_apart = matches!(db.dialect(), Dialect::MariaDb | Dialect::MySql);
        if let (Some((create, _)), true) = (&scripts, is_apart) {
            db.run_script(create)?;
        }
        let loaded = db.transaction(|tx| {
            if let (Some((create, _)), false) = (&scripts, is_apart) {
                tx.run_script(create)?;
            }
            self.load_rows(source, tx)
        });
        if let (Err(_), Some((_, drop)), true) = (&loaded, &scripts, is_apart) {
            db.run_script(drop)?;
        }
        loaded
    }

    fn load_rows(&self, source: &Source, tx: &Transaction<'_>) -> Result<u64> {
        let mut chunk = Chunk { rows: self.empty.clone(), lines: Vec::new() };
        let doing = format!("loading into {}", self.table);
        let rows = source.each_row(&doing, |row| {
            let mut values = Vec::with_capacity(self.readers.len());
            for ((reader, text), column) in self.readers.iter().zip(row.values()).zip(&self.columns)
            {
                values.push(match text {
                    "" => BindValue::Null(reader.sql_type),
                    text => reader.read(text).map_err(|err| {
                        anyhow!("{}, line {}, column `{column}`: {err}", source.name(), row.line)
                    })?,
                });
            }
            chunk.rows.add(values)?;
            chunk.lines.push(row.line);
            if chunk.lines.len() == ROWS_AT_ONCE {
                self.write(source, tx, &mut chunk)?;
            }
            Ok(())
        })?;
        self.write(source, tx, &mut chunk)?;
        Ok(rows)
    }

    fn write(&self, source: &Source, tx: &Transaction<'_>, chunk: &mut Chunk) -> Result<()> {
        if chunk.lines.is_empty() {
            return Ok(());
        }
        let rows = std::mem::replace(&mut chunk.rows, self.empty.clone());
        let lines = std::mem::take(&mut chunk.lines);
        tx.write(&rows.insert()).map_err(|err| {
            let row = err
                .row()
                .and_then(|row| usize::try_from(row).ok()?.checked_sub(1));
            // A row that is written alone has no number.
            let alone = lines.first().filter(|_| lines.len() == 1);
            match row.and_then(|row| lines.get(row)).or(alone) {
                Some(line) => self.refused(source, *line, &err),
                None => err.into(),
            }
        })?;
        Ok(())
    }

    /// Returns the error for a row that the database refused, with the values of the columns that it names.
    fn refused(&self, source: &Source, line: u64, err: &Error) -> anyhow::Error {
        let summary = err.summary().to_string();
        let mut named = Vec::new();
        // A file that changed meanwhile only costs the values.
        let _ = source.each_row("", |row| {
            if row.line == line {
                let values = self.columns.iter().zip(row.values());
                let is_named = |column: &str| {
                    err.column() == Some(column) || summary.contains(&format!("`{column}`"))
                };
                let values = values.filter(|(column, _)| is_named(column));
                named = values
                    .map(|(column, value)| format!("{column} = {value}"))
                    .collect();
            }
            Ok(())
        });
        let named = match named.as_slice() {
            [] => String::new(),
            named => format!(" ({})", named.join(", ")),
        };
        anyhow!("{}, line {line}{named}: {summary}", source.name())
    }
}

/// Rows that are written together.
struct Chunk {
    rows: NewRows,
    /// The line of each row.
    lines: Vec<u64>,
}

/// Returns the type that was asked for each column, if one was.
fn asked<'o>(
    options: &'o LoadOptions,
    source: &Source,
    columns: &[String],
) -> Result<Vec<Option<&'o AskedType>>> {
    let of = |asked: &AskedType, column: &String, heading: &String| {
        asked.column == *column || asked.column == *heading
    };
    let places = || columns.iter().zip(&source.headings);
    if let Some(unknown) = options
        .types
        .iter()
        .find(|asked| !places().any(|(column, heading)| of(asked, column, heading)))
    {
        bail!(
            "{} has no column `{}`; it has: {}",
            source.name(),
            unknown.column,
            columns.join(", ")
        );
    }
    let types = places().map(|(column, heading)| {
        options
            .types
            .iter()
            .find(|asked| of(asked, column, heading))
    });
    Ok(types.collect())
}

/// Returns what was found out about a column besides its type.
fn told(guess: &Guess, is_asked: bool, is_key: bool, nullable: bool) -> String {
    let mut parts = Vec::new();
    if is_key {
        parts.push("key".to_owned());
    }
    if nullable {
        parts.push(match guess.empty {
            0 => NULL.to_owned(),
            1 => format!("{NULL} in 1 row"),
            empty => format!("{NULL} in {empty} rows"),
        });
    }
    if is_asked {
        parts.push("as asked".to_owned());
    } else if let (ColumnType::Text, Some((line, text))) = (guess.column_type(), &guess.became_text)
    {
        parts.push(format!("because of line {line}: {text}"));
    }
    parts.join("; ")
}
