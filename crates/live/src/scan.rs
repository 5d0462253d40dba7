//! Tables that a plan reads as a whole.

use nepheline::Dialect;
use serde_json::Value;

use crate::catalog::{Catalog, CatalogTable};

/// A table that a plan reads as a whole.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Scan {
    /// The table or its alias, as the plan names it.
    pub(crate) name: String,
    /// The number of rows that the plan expects to read, if it says so.
    pub(crate) rows: Option<i64>,
}

impl Scan {
    /// Returns the table, if it can be told from the name: composed queries number the aliases of a table.
    pub(crate) fn table<'c>(&self, catalog: &'c Catalog) -> Option<&'c CatalogTable> {
        let unnumbered = || {
            let (name, number) = self.name.rsplit_once('_')?;
            number.parse::<u32>().ok()?;
            catalog.table(name)
        };
        catalog.table(&self.name).or_else(unnumbered)
    }
}

/// Returns the tables that a plan reads as a whole.
pub(crate) fn scans(dialect: Dialect, plan: &str) -> Vec<Scan> {
    match dialect {
        // MariaDB's plan is a document.
        Dialect::MariaDb => {
            let mut found = Vec::new();
            if let Ok(plan) = serde_json::from_str(plan) {
                collect(&plan, &mut found);
            }
            found
        }
        _ => plan
            .lines()
            .filter_map(|line| scan_of_line(dialect, line))
            .collect(),
    }
}

/// Returns the scan that a line of a plan tells.
fn scan_of_line(dialect: Dialect, line: &str) -> Option<Scan> {
    let line = line.trim().trim_start_matches("->").trim();
    let name = match dialect {
        // A scan of an index reads no less, but tells of an order that the query wants.
        Dialect::Sqlite => line
            .strip_prefix("SCAN ")
            .filter(|rest| !rest.contains(" INDEX "))?,
        Dialect::Postgres => line
            .strip_prefix("Seq Scan on ")
            .or_else(|| line.strip_prefix("Parallel Seq Scan on "))?,
        _ => line.strip_prefix("Table scan on ")?,
    };
    Some(Scan { name: first_name(name), rows: None })
}

/// Returns the name that a text begins with, without its quotes.
fn first_name(text: &str) -> String {
    match text.strip_prefix('"').and_then(|rest| rest.split_once('"')) {
        Some((name, _)) => name.to_owned(),
        None => text.split(' ').next().unwrap_or_default().to_owned(),
    }
}

/// Collects the tables of access type ALL.
fn collect(plan: &Value, found: &mut Vec<Scan>) {
    match plan {
        Value::Object(parts) => {
            let text = |name: &str| parts.get(name).and_then(Value::as_str);
            if let (Some("ALL"), Some(name)) = (text("access_type"), text("table_name")) {
                let rows = parts.get("rows").and_then(Value::as_i64);
                found.push(Scan { name: name.to_owned(), rows });
            }
            parts.values().for_each(|part| collect(part, found));
        }
        Value::Array(parts) => parts.iter().for_each(|part| collect(part, found)),
        _ => {}
    }
}
