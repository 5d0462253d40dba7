//! The data: CSV files that are part of the program, and how they get into a database.

use std::collections::HashMap;

use anyhow::{Context, Result, bail};
use nepheline::blocking::Database;
use nepheline::prelude::*;
use nepheline::{BindValue, TableInfo};
use rusqlite::Connection;
use rusqlite::types::Value;

use crate::{
    Agency, Analyst, Assay, Borehole, Collar, Hazard, Lab, Site, Specimen, SpecimenHazard,
};

/// Every table, parents before their children, with its rows as CSV.
///
/// The first line has the columns' names. A field `\N` is NULL; an empty field is empty text.
pub const TABLES: [(&TableInfo, &str); 10] = [
    (Agency::INFO, include_str!("../data/agency.csv")),
    (Site::INFO, include_str!("../data/site.csv")),
    (Borehole::INFO, include_str!("../data/borehole.csv")),
    (Collar::INFO, include_str!("../data/collar.csv")),
    (Analyst::INFO, include_str!("../data/analyst.csv")),
    (Specimen::INFO, include_str!("../data/specimen.csv")),
    (Lab::INFO, include_str!("../data/lab.csv")),
    (Assay::INFO, include_str!("../data/assay.csv")),
    (Hazard::INFO, include_str!("../data/hazard.csv")),
    (SpecimenHazard::INFO, include_str!("../data/specimen_hazard.csv")),
];

/// How NULL is written in the CSV files.
pub const NULL: &str = r"\N";

const SQLITE_SCHEMA: &str = include_str!("../schema/sqlite.sql");

/// A database in memory that holds the core shed.
///
/// # Errors
///
/// Only if SQLite itself fails.
pub fn in_memory() -> Result<Database> {
    let mut connection = Connection::open_in_memory()?;
    load(&mut connection)?;
    Ok(Database::over(connection)?)
}

/// Makes the tables in an empty SQLite database and fills them, all or nothing.
///
/// # Errors
///
/// If a table of the same name is there already, or SQLite fails.
pub fn load(connection: &mut Connection) -> Result<()> {
    let transaction = connection.transaction()?;
    transaction.execute_batch(SQLITE_SCHEMA).context("the core shed's tables cannot be made")?;
    for (table, _) in TABLES {
        let names: Vec<_> = table.columns().iter().map(|column| column.name()).collect();
        let places = vec!["?"; names.len()].join(", ");
        let text = format!("INSERT INTO {} ({}) VALUES ({places})", table.name(), names.join(", "));
        let mut insert = transaction.prepare(&text)?;
        for row in rows_of(table)? {
            insert.execute(rusqlite::params_from_iter(row.into_iter().map(sqlite_value)))?;
        }
    }
    transaction.commit()?;
    Ok(())
}

/// The rows of a table of the core shed, each value typed as its column is.
///
/// # Errors
///
/// If `table` is none of the core shed's.
pub fn rows_of(table: &TableInfo) -> Result<Vec<Vec<BindValue>>> {
    let Some((_, text)) = TABLES.iter().find(|(known, _)| known.name() == table.name()) else {
        bail!("the core shed has no table `{}`", table.name());
    };
    let mut reader = csv::Reader::from_reader(text.as_bytes());
    let positions: HashMap<String, usize> =
        reader.headers()?.iter().enumerate().map(|(i, name)| (name.to_owned(), i)).collect();
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
        SqlType::Text => BindValue::Text(field.into()),
        SqlType::Date => BindValue::Date(field.parse()?),
        SqlType::Timestamp => BindValue::Timestamp(field.parse()?),
        other => bail!("the core shed has no columns of type {other}"),
    })
}

fn sqlite_value(value: BindValue) -> Value {
    match value {
        BindValue::Bool(value) => Value::Integer(i64::from(value)),
        BindValue::Int(value) => Value::Integer(value),
        BindValue::Float(value) => Value::Real(value),
        BindValue::Text(text) => Value::Text(text.into()),
        other => other.plain_text().map_or(Value::Null, Value::Text),
    }
}
