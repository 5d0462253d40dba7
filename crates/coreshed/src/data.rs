//! The data: CSV files in the program, and loading them into a database of any engine.

use std::collections::HashMap;

use anyhow::{Context, Result, bail};
use nepheline::blocking::{Database, RunsQueries, Session};
use nepheline::internal::BlockingRunText;
use nepheline::prelude::*;
use nepheline::{BindValue, Script, TableInfo, statement};
use rusqlite::Connection;

use crate::guarded::AuditEntry;
use crate::{
    Agency, Analyst, Assay, Borehole, Collar, Hazard, Invoice, InvoiceLine, Lab, Site, Specimen,
    SpecimenHazard,
};

/// Every table, parents before their children, with its rows as CSV.
///
/// The first line has the columns' names. A field `\N` is NULL; an empty field is empty text.
pub const TABLES: [(&TableInfo, &str); 12] = [
    (Agency::INFO, include_str!("../data/agency.csv")),
    (Site::INFO, include_str!("../data/site.csv")),
    (Borehole::INFO, include_str!("../data/borehole.csv")),
    (Collar::INFO, include_str!("../data/collar.csv")),
    (Analyst::INFO, include_str!("../data/analyst.csv")),
    (Specimen::INFO, include_str!("../data/specimen.csv")),
    (Lab::INFO, include_str!("../data/lab.csv")),
    (Assay::INFO, include_str!("../data/assay.csv")),
    (Invoice::INFO, include_str!("../data/invoice.csv")),
    (InvoiceLine::INFO, include_str!("../data/invoice_line.csv")),
    (Hazard::INFO, include_str!("../data/hazard.csv")),
    (SpecimenHazard::INFO, include_str!("../data/specimen_hazard.csv")),
];

/// The text of NULL in the CSV files.
pub const NULL: &str = r"\N";

/// Increases when the tables or the data change.
const EDITION: i64 = 3;

/// The number of rows of one INSERT.
const ROWS_AT_ONCE: usize = 100;

/// The mark that a database's tables are the core shed's own.
#[derive(Debug, Table)]
struct CoreShed {
    #[nepheline(key)]
    edition: i64,
}

/// Opens a database in memory that contains the core shed.
///
/// # Errors
///
/// Only if SQLite itself fails.
pub fn in_memory() -> Result<Database> {
    Ok(Database::over(loaded_connection()?)?)
}

/// Opens the same database for async code.
///
/// # Errors
///
/// Only if SQLite itself fails.
pub async fn in_memory_for_async() -> Result<nepheline::Database> {
    Ok(nepheline::Database::over(loaded_connection()?).await?)
}

fn loaded_connection() -> Result<Connection> {
    let mut connection = Connection::open_in_memory()?;
    let transaction = connection.transaction()?;
    let session = Session::over(&transaction)?;
    session.run_script(&Script::trusting_text_made_at_run_time(schema(Dialect::Sqlite)?))?;
    fill_all(&session, Dialect::Sqlite)?;
    drop(session);
    transaction.commit()?;
    Ok(connection)
}

/// Creates the tables of the core shed in a database and fills them, unless it contains them already.
///
/// # Errors
///
/// If another table has one of the names, or the database refuses a statement. The database is unchanged
/// then.
pub fn load(db: &Database) -> Result<()> {
    match db.read_first(&CoreShed::rows()) {
        Ok(Some(CoreShed { edition: EDITION })) => return Ok(()),
        Ok(_) => bail!("the database holds another edition of the core shed; {DROP_IT}"),
        // Without the mark, no table of these names may exist.
        Err(_) => {}
    }
    let mut tables = TABLES
        .iter()
        .map(|(table, _)| *table)
        .chain([AuditEntry::INFO]);
    if let Some(table) = tables.find(|table| exists(db, table)) {
        bail!(
            "the database has a table `{}` that is not the core shed's, so nothing is loaded; \
             name a database of its own",
            table.name()
        );
    }
    let schema = Script::trusting_text_made_at_run_time(schema(db.dialect())?);
    // MariaDB and MySQL commit at each change of the schema.
    let is_apart = matches!(db.dialect(), Dialect::MariaDb | Dialect::MySql);
    let created = if is_apart { db.run_script(&schema) } else { Ok(()) };
    let loaded = created.map_err(anyhow::Error::from).and_then(|()| {
        db.transaction(|tx| {
            if !is_apart {
                tx.run_script(&schema)?;
            }
            fill_all(tx, db.dialect())
        })
    });
    if loaded.is_err() {
        // Where DDL cannot be rolled back, the tables are dropped here.
        drop_tables(db);
    }
    loaded.context("the core shed cannot be loaded")
}

fn fill_all<H: RunsQueries + BlockingRunText>(tx: &H, dialect: Dialect) -> Result<()> {
    for (table, _) in TABLES {
        fill(tx, dialect, table)?;
    }
    tx.write(&statement!("INSERT INTO core_shed VALUES ({EDITION})"))?;
    Ok(())
}

const DROP_IT: &str = "drop its tables, or name another database";

fn exists(db: &Database, table: &TableInfo) -> bool {
    db.run_text(&format!("SELECT 1 FROM {} LIMIT 1", table.name()), Vec::new())
        .is_ok()
}

/// Drops the tables of the core shed with all their rows, whoever filled them.
pub fn drop_tables(db: &Database) {
    let tables = TABLES.iter().map(|(table, _)| *table).rev();
    // Tables of the program may refer to them.
    let cascade = if db.dialect() == Dialect::Postgres { " CASCADE" } else { "" };
    for table in [AuditEntry::INFO].into_iter().chain(tables) {
        // Dropping a table that was not created fails, which is fine.
        let _ = db.run_text(&format!("DROP TABLE {}{cascade}", table.name()), Vec::new());
    }
    let _ = db.run_text("DROP TABLE core_shed", Vec::new());
}

fn schema(dialect: Dialect) -> Result<String> {
    let mariadb = include_str!("../schema/mariadb.sql");
    Ok(match dialect {
        Dialect::Sqlite => include_str!("../schema/sqlite.sql").to_owned(),
        Dialect::Postgres => include_str!("../schema/postgres.sql").to_owned(),
        Dialect::MariaDb => mariadb.to_owned(),
        Dialect::MySql => mariadb.replace("utf8mb4_nopad_bin", "utf8mb4_0900_bin"),
        other => bail!("the demo has no tables for {other}"),
    })
}

fn fill<H: BlockingRunText>(tx: &H, dialect: Dialect, table: &TableInfo) -> Result<()> {
    let names: Vec<_> = table.columns().iter().map(|column| column.name()).collect();
    for rows in rows_of(table)?.chunks(ROWS_AT_ONCE) {
        let mut text = format!("INSERT INTO {} ({}) VALUES ", table.name(), names.join(", "));
        for (i, row) in rows.iter().enumerate() {
            let places: Vec<_> = (1..=row.len())
                .map(|place| match dialect {
                    Dialect::Postgres => format!("${}", i * row.len() + place),
                    _ => "?".to_owned(),
                })
                .collect();
            let comma = if i > 0 { ", " } else { "" };
            text += &format!("{comma}({})", places.join(", "));
        }
        tx.run_text(&text, rows.concat())?;
    }
    Ok(())
}

/// Returns the rows of a table of the core shed, each value with the type of its column.
///
/// # Errors
///
/// If `table` is not one of the core shed's.
pub fn rows_of(table: &TableInfo) -> Result<Vec<Vec<BindValue>>> {
    let Some((_, text)) = TABLES
        .iter()
        .find(|(known, _)| known.name() == table.name())
    else {
        bail!("the core shed has no table `{}`", table.name());
    };
    let mut reader = csv::Reader::from_reader(text.as_bytes());
    let positions: HashMap<String, usize> = reader
        .headers()?
        .iter()
        .enumerate()
        .map(|(i, name)| (name.to_owned(), i))
        .collect();
    let mut rows = Vec::new();
    for record in reader.records() {
        let record = record?;
        let mut row = Vec::with_capacity(table.columns().len());
        for column in table.columns() {
            let field = positions.get(column.name()).and_then(|&i| record.get(i));
            let field = field.with_context(|| format!("no column `{}`", column.name()))?;
            let value = value_of(field, column.sql_type());
            row.push(value.with_context(|| format!("`{field}` in `{}`", column.name()))?);
        }
        rows.push(row);
    }
    Ok(rows)
}

fn value_of(field: &str, sql_type: nepheline::SqlType) -> Result<BindValue> {
    use nepheline::SqlType;
    Ok(match sql_type {
        sql_type if field == NULL => BindValue::Null(sql_type),
        SqlType::Boolean => BindValue::Bool(field.parse()?),
        SqlType::BigInt => BindValue::Int(field.parse()?),
        SqlType::Double => BindValue::Float(field.parse()?),
        SqlType::Decimal => BindValue::Decimal(field.parse()?),
        SqlType::Text => BindValue::Text(field.into()),
        SqlType::Date => BindValue::Date(field.parse()?),
        SqlType::Timestamp => BindValue::Timestamp(field.parse()?),
        other => bail!("the core shed has no columns of type {other}"),
    })
}
