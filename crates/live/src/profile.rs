//! The contents of a table: how many rows, a few of them, and how many distinct values and NULLs each column has.

use nepheline::{Dialect, Error, ErrorKind, StatementRows, WholeStatement};
use serde::Serialize;

use crate::catalog::{CatalogColumn, CatalogTable};

/// The contents of a table.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Profile {
    /// The number of rows.
    pub rows: i64,
    /// The contents of each column, in the order of the table's columns.
    pub columns: Vec<ColumnProfile>,
    /// Some rows as the database writes their values; `None` is NULL.
    pub sample: Vec<Vec<Option<String>>>,
}

/// The contents of a column.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct ColumnProfile {
    /// The name.
    pub name: String,
    /// The number of rows with NULL.
    pub nulls: i64,
    /// The number of distinct values, NULL aside.
    pub distinct: i64,
}

/// Returns the statement that counts the rows of a table.
pub(crate) fn count(dialect: Dialect, table: &CatalogTable) -> StatementRows<i64> {
    let text = format!("SELECT count(*) AS counted FROM {}", from_clause(dialect, table));
    WholeStatement::trusting_text_made_at_run_time(text)
        .outside_policies()
        .rows_as()
}

/// The statements of a profile. Each row is one JSON array, because the columns are known at run time only.
pub(crate) struct ProfileQueries {
    pub(crate) counts: StatementRows<String>,
    pub(crate) sample: StatementRows<String>,
}

impl ProfileQueries {
    pub(crate) fn of(dialect: Dialect, table: &CatalogTable, sample: u32) -> ProfileQueries {
        let from = from_clause(dialect, table);
        let texts: Vec<String> = table
            .columns
            .iter()
            .map(|column| as_text(dialect, column))
            .collect();
        let counts = texts
            .iter()
            .flat_map(|text| [format!("count({text})"), format!("count(DISTINCT {text})")]);
        let counts: Vec<String> = std::iter::once("count(*)".to_owned())
            .chain(counts)
            .collect();
        let rows = |items: &[String], end: &str| {
            // PostgreSQL's functions take at most 100 arguments.
            let array = match dialect {
                Dialect::Sqlite => format!("json_array({})", items.join(", ")),
                Dialect::Postgres => {
                    let parts = items
                        .chunks(100)
                        .map(|part| format!("jsonb_build_array({})", part.join(", ")));
                    format!("CAST({} AS text)", parts.collect::<Vec<_>>().join(" || "))
                }
                _ => format!("JSON_ARRAY({})", items.join(", ")),
            };
            let text = format!("SELECT {array} AS profile FROM {from}{end}");
            WholeStatement::trusting_text_made_at_run_time(text)
                .outside_policies()
                .rows_as::<String>()
        };
        ProfileQueries {
            counts: rows(&counts, ""),
            sample: rows(&texts, &format!(" LIMIT {sample}")),
        }
    }
}

impl Profile {
    pub(crate) fn of(
        table: &CatalogTable,
        counts: &str,
        sample: &[String],
    ) -> Result<Profile, Error> {
        let malformed = || {
            Error::of_driver(
                ErrorKind::Mismatch,
                "the database returned no array of JSON for a profile",
            )
        };
        let counts: Vec<i64> = serde_json::from_str(counts).map_err(|_| malformed())?;
        let (&rows, of_columns) = counts.split_first().ok_or_else(malformed)?;
        let columns = table
            .columns
            .iter()
            .zip(of_columns.chunks(2))
            .map(|(column, counts)| ColumnProfile {
                name: column.name.clone(),
                nulls: rows - counts.first().copied().unwrap_or(rows),
                distinct: counts.get(1).copied().unwrap_or(0),
            });
        let sample = sample
            .iter()
            .map(|row| serde_json::from_str(row).map_err(|_| malformed()));
        Ok(Profile { rows, columns: columns.collect(), sample: sample.collect::<Result<_, _>>()? })
    }
}

/// Returns a column as text. The values of some types cannot be compared otherwise.
fn as_text(dialect: Dialect, column: &CatalogColumn) -> String {
    let name = quoted(dialect, &column.name);
    match dialect {
        Dialect::Sqlite => format!(
            "CASE typeof({name}) WHEN 'blob' THEN hex({name}) ELSE CAST({name} AS TEXT) END"
        ),
        Dialect::Postgres => format!("CAST({name} AS text)"),
        _ if ["binary", "blob", "bit"]
            .iter()
            .any(|part| column.database_type.contains(part)) =>
        {
            format!("HEX({name})")
        }
        _ => format!("CAST({name} AS CHAR) COLLATE utf8mb4_bin"),
    }
}

fn from_clause(dialect: Dialect, table: &CatalogTable) -> String {
    match &table.schema {
        Some(schema) => format!("{}.{}", quoted(dialect, schema), quoted(dialect, &table.name)),
        None => quoted(dialect, &table.name),
    }
}

/// Returns a name between the quote marks of the dialect.
fn quoted(dialect: Dialect, name: &str) -> String {
    match dialect {
        Dialect::MariaDb | Dialect::MySql => format!("`{}`", name.replace('`', "``")),
        _ => format!("\"{}\"", name.replace('"', "\"\"")),
    }
}
