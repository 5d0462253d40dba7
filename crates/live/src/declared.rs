//! The declarations of a program's structs about their tables.

use nepheline::prelude::*;
use nepheline::{ColumnInfo, SqlType};

/// A struct's declaration of a table.
#[derive(Debug, Clone, Default)]
pub(crate) struct DeclaredTable {
    pub(crate) name: String,
    pub(crate) columns: Vec<DeclaredColumn>,
    /// The sets of columns that no two rows share.
    pub(crate) unique: Vec<Vec<String>>,
    pub(crate) references: Vec<DeclaredReference>,
}

/// A field's declaration of a column.
#[derive(Debug, Clone, Default)]
pub(crate) struct DeclaredColumn {
    pub(crate) name: String,
    /// The type that the field stores; `None` if it is a type of the program that nobody has compiled.
    pub(crate) sql_type: Option<SqlType>,
    pub(crate) nullable: bool,
    pub(crate) key: bool,
    pub(crate) generated: bool,
    pub(crate) by_code_point: bool,
    pub(crate) nondeterministic: bool,
    pub(crate) approximate: bool,
    /// The values of its enum in their order, if it is an enum type of the database.
    pub(crate) enum_values: Vec<String>,
}

/// A struct's declaration of a reference.
#[derive(Debug, Clone)]
pub(crate) struct DeclaredReference {
    pub(crate) target: String,
    /// The pairs of equal columns: of this table, and of the other. Without the other, its key.
    pub(crate) pairs: Vec<(String, Option<String>)>,
}

impl DeclaredTable {
    /// Returns the declaration of a compiled struct.
    pub(crate) fn of<T: Table>() -> DeclaredTable {
        let name = |column: &ColumnInfo| column.name().to_owned();
        let columns = T::INFO.columns().iter().map(|column| DeclaredColumn {
            name: name(column),
            sql_type: Some(column.sql_type()),
            nullable: column.is_nullable(),
            key: column.is_key(),
            generated: column.is_generated(),
            by_code_point: column.is_by_code_point(),
            nondeterministic: column.is_nondeterministic(),
            approximate: column.is_approximate(),
            enum_values: match column.sql_type() {
                SqlType::Enum(of) => of
                    .values()
                    .iter()
                    .map(|value| (*value).to_owned())
                    .collect(),
                _ => Vec::new(),
            },
        });
        let unique = T::UNIQUE_COLUMNS.iter().map(|set| {
            let columns = set
                .iter()
                .filter_map(|number| T::INFO.columns().get(usize::from(*number)));
            columns.map(name).collect()
        });
        let foreign = T::INFO
            .references()
            .iter()
            .filter(|reference| reference.is_foreign_key());
        let references = foreign.map(|reference| DeclaredReference {
            target: reference.target().name().to_owned(),
            pairs: reference
                .pairs()
                .map(|[own, theirs]| (name(own), Some(name(theirs))))
                .collect(),
        });
        DeclaredTable {
            name: T::INFO.name().to_owned(),
            columns: columns.collect(),
            unique: unique.collect(),
            references: references.collect(),
        }
    }
}
