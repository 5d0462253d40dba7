//! Descriptors of tables that are only known at run time, such as those of a catalog.
//!
//! A descriptor stays in memory for the life of the program, like the static ones, so that columns are small
//! `Copy` values wherever they come from. The same description returns the same descriptor, so reading a
//! catalog repeatedly takes no more memory.

use std::collections::HashMap;
use std::sync::{LazyLock, Mutex, PoisonError};

use super::role::ColumnRole;
use super::storable::SqlType;
use super::table::{ColumnInfo, TableInfo};

/// A column as a catalog describes it.
#[doc(hidden)]
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct ReadColumn {
    pub name: String,
    pub sql_type: SqlType,
    pub nullable: bool,
    pub key: bool,
    pub generated: bool,
    pub unique: bool,
}

type Description = (Option<String>, String, Vec<ReadColumn>);

static READ: LazyLock<Mutex<HashMap<Description, &'static TableInfo>>> =
    LazyLock::new(Mutex::default);

/// Returns the descriptor of a table that was read from a catalog.
#[doc(hidden)]
pub fn read_table(
    schema: Option<&str>,
    name: &str,
    columns: Vec<ReadColumn>,
) -> &'static TableInfo {
    let description = (schema.map(str::to_owned), name.to_owned(), columns);
    let mut read = READ.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(known) = read.get(&description) {
        return known;
    }
    let kept = |text: &str| -> &'static str { Box::leak(text.into()) };
    let (table, schema) = (kept(name), schema.map(kept));
    let columns = description.2.iter().map(|column| {
        let role = ColumnRole {
            key: column.key,
            generated: column.generated,
            unique: column.unique,
            ..ColumnRole::PLAIN
        };
        let declared = (column.sql_type, column.nullable);
        // No text is prepared for any quote mark: the writer quotes the names itself.
        ColumnInfo::new(table, kept(&column.name), ["", ""], declared).with_role(role)
    });
    let columns: &'static [ColumnInfo] = Box::leak(columns.collect());
    let info = TableInfo::new(schema, table, ["", ""], ["", ""], columns);
    let info: &'static TableInfo = Box::leak(Box::new(info));
    read.insert(description, info);
    info
}
