//! Descriptors of tables that are only known at run time: those of a catalog.
//!
//! A descriptor stays in memory for the life of the program, like the static ones, so that columns are small
//! `Copy` values wherever they come from. The same description returns the same descriptors, so reading a
//! catalog repeatedly takes no more memory.

use std::collections::HashMap;
use std::sync::{LazyLock, Mutex, PoisonError};

use super::role::ColumnRole;
use super::storable::SqlType;
use super::table::{ColumnInfo, Reference, TableInfo};

/// A table as a catalog describes it.
#[doc(hidden)]
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct ReadTable {
    pub schema: Option<String>,
    pub name: String,
    pub columns: Vec<ReadColumn>,
    pub references: Vec<ReadReference>,
    /// True if handles that require policies may read it.
    pub open_to_all: bool,
}

impl ReadTable {
    /// Returns a table without references.
    pub fn of(schema: Option<&str>, name: &str, columns: Vec<ReadColumn>) -> ReadTable {
        let (schema, name) = (schema.map(str::to_owned), name.to_owned());
        ReadTable { schema, name, columns, references: Vec::new(), open_to_all: false }
    }
}

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

/// A reference to a table of the same catalog.
#[doc(hidden)]
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct ReadReference {
    pub name: String,
    /// The number of the table that it leads to, in the list of tables.
    pub target: usize,
    /// The numbers of the equal columns: of its own table, and of the other.
    pub pairs: Vec<[usize; 2]>,
    /// True if there may be no such row.
    pub optional: bool,
}

type Known = HashMap<Vec<ReadTable>, Vec<&'static TableInfo>>;

static READ: LazyLock<Mutex<Known>> = LazyLock::new(Mutex::default);

/// Returns the descriptors of the tables of a catalog, in their order.
#[doc(hidden)]
pub fn read_tables(tables: Vec<ReadTable>) -> Vec<&'static TableInfo> {
    let mut read = READ.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(known) = read.get(&tables) {
        return known.clone();
    }
    let made: Vec<&'static TableInfo> = tables.iter().map(made).collect();
    for (table, description) in made.iter().zip(&tables) {
        for (reference, read) in table.references().iter().zip(&description.references) {
            let Some(&target) = made.get(read.target) else { continue };
            let pairs = read.pairs.iter().filter_map(|[own, other]| {
                Some([table.columns().get(*own)?, target.columns().get(*other)?])
            });
            reference.set_ends(target, pairs.collect());
        }
    }
    read.insert(tables, made.clone());
    made
}

/// Returns the descriptor of a table by itself, without its references.
#[doc(hidden)]
pub fn read_table(table: ReadTable) -> &'static TableInfo {
    static ALONE: LazyLock<Mutex<HashMap<ReadTable, &'static TableInfo>>> =
        LazyLock::new(Mutex::default);
    let mut alone = ALONE.lock().unwrap_or_else(PoisonError::into_inner);
    let table = ReadTable { references: Vec::new(), ..table };
    alone.entry(table).or_insert_with_key(made)
}

/// Returns a descriptor whose references lead nowhere yet.
fn made(description: &ReadTable) -> &'static TableInfo {
    let kept = |text: &str| -> &'static str { Box::leak(text.into()) };
    let table = kept(&description.name);
    let columns = description.columns.iter().map(|column| {
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
    let references = description.references.iter();
    let references =
        references.map(|reference| Reference::read(kept(&reference.name), reference.optional));
    let references: &'static [Reference] = Box::leak(references.collect());
    let schema = description.schema.as_deref().map(kept);
    let info = TableInfo::new(schema, table, ["", ""], ["", ""], columns).referring(references);
    let info = if description.open_to_all { info.open_to_all() } else { info };
    Box::leak(Box::new(info))
}
