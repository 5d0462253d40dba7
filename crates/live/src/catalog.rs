//! The schema of a database, as it was read.

use serde::Serialize;

/// The tables, views, enum types and functions of some schemas of a database.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Catalog {
    /// The tables and views, by schema and name.
    pub tables: Vec<CatalogTable>,
    /// The enum types. Only PostgreSQL has them; an ENUM of MariaDB belongs to its column.
    pub enums: Vec<CatalogEnum>,
    /// The functions and procedures.
    pub routines: Vec<CatalogRoutine>,
}

/// A table or view.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct CatalogTable {
    /// The schema; `None` on SQLite.
    pub schema: Option<String>,
    /// The name, without the schema.
    pub name: String,
    /// True for a view.
    pub is_view: bool,
    /// The comment on it.
    pub comment: Option<String>,
    /// The columns in their order.
    pub columns: Vec<CatalogColumn>,
    /// The columns of the primary key in their order.
    pub key: Vec<String>,
    /// The sets of columns that no two rows share, besides the key.
    pub unique: Vec<CatalogUnique>,
    /// The foreign keys.
    pub references: Vec<CatalogReference>,
    /// The indexes that are neither the key nor unique.
    pub indexes: Vec<CatalogIndex>,
    /// The CHECK constraints. SQLite does not tell them.
    pub checks: Vec<CatalogCheck>,
    /// The number of rows as the database last estimated it; `None` on SQLite, and if there is no estimate.
    pub estimated_rows: Option<i64>,
}

/// A column.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct CatalogColumn {
    /// The name.
    pub name: String,
    /// The type as the database writes it; of a domain, the base type.
    pub database_type: String,
    /// The Rust type that stores it, without `Option`; `None` if there is none.
    pub rust_type: Option<String>,
    /// True if NULL is allowed. That of a view's column is unknown on PostgreSQL and SQLite, and true here.
    pub nullable: bool,
    /// The expression of its default.
    pub default: Option<String>,
    /// Says if the database makes its value.
    pub generated: Generated,
    /// The collation, if it is not the default one.
    pub collation: Option<String>,
    /// True if the collation treats different texts as equal: a nondeterministic one of PostgreSQL.
    pub is_nondeterministic: bool,
    /// The comment on it.
    pub comment: Option<String>,
    /// The values of its enum type in their order; none for other types.
    pub enum_values: Vec<String>,
}

/// Who makes the value of a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Generated {
    /// The program gives it.
    Never,
    /// A number of its own for each new row: IDENTITY, `serial`, AUTO_INCREMENT, or the key of SQLite's rows.
    Identity,
    /// An expression over the row: GENERATED ALWAYS AS.
    Computed,
}

/// A set of columns that no two rows share.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct CatalogUnique {
    /// The name of the constraint or index.
    pub name: String,
    /// The columns in their order, or expressions.
    pub columns: Vec<String>,
    /// The condition of a partial index: only rows that fulfil it are compared.
    pub condition: Option<String>,
}

/// A foreign key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct CatalogReference {
    /// The name of the constraint; SQLite has none.
    pub name: Option<String>,
    /// The columns that refer.
    pub columns: Vec<String>,
    /// The schema of the target.
    pub target_schema: Option<String>,
    /// The table that they refer to.
    pub target: String,
    /// The columns there, in the same order.
    pub target_columns: Vec<String>,
    /// The action when the target is deleted, such as `CASCADE`.
    pub on_delete: String,
    /// The action when the target's columns change.
    pub on_update: String,
}

/// An index.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct CatalogIndex {
    /// The name.
    pub name: String,
    /// The columns in their order, or expressions.
    pub columns: Vec<String>,
    /// The condition of a partial index.
    pub condition: Option<String>,
}

/// A CHECK constraint.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct CatalogCheck {
    /// The name of the constraint; empty if SQLite's has none.
    pub name: String,
    /// The condition, as the database writes it.
    pub condition: String,
}

/// An enum type of PostgreSQL.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct CatalogEnum {
    /// The schema.
    pub schema: Option<String>,
    /// The name.
    pub name: String,
    /// The values in their order.
    pub values: Vec<String>,
}

/// A function or procedure.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct CatalogRoutine {
    /// The schema.
    pub schema: Option<String>,
    /// The name.
    pub name: String,
    /// True for a procedure.
    pub is_procedure: bool,
    /// The arguments as the database writes them.
    pub arguments: String,
    /// The type of the result; `None` for a procedure.
    pub returns: Option<String>,
}

impl Catalog {
    /// Returns the table or view with this name; the first if several schemas have one.
    pub fn table(&self, name: &str) -> Option<&CatalogTable> {
        self.tables.iter().find(|table| table.name == name)
    }
}

impl CatalogTable {
    /// Returns the column with this name.
    pub fn column(&self, name: &str) -> Option<&CatalogColumn> {
        self.columns.iter().find(|column| column.name == name)
    }
}
