//! Reading the catalog: the same rows from each engine's own tables about tables.

mod declaration;
mod rows;

use nepheline::Dialect;

use crate::catalog::{
    Catalog, CatalogCheck, CatalogColumn, CatalogEnum, CatalogIndex, CatalogReference,
    CatalogRoutine, CatalogTable, CatalogUnique, Generated,
};
use crate::kind::Kind;
use declaration::Declaration;
pub(crate) use rows::{
    CheckRow, ColumnRow, EnumRow, IndexRow, Queries, ReferenceRow, RoutineRow, TableRow,
};

/// The rows of a catalog as they were read.
pub(crate) struct Rows {
    pub(crate) tables: Vec<TableRow>,
    pub(crate) columns: Vec<ColumnRow>,
    pub(crate) indexes: Vec<IndexRow>,
    pub(crate) references: Vec<ReferenceRow>,
    pub(crate) checks: Vec<CheckRow>,
    pub(crate) enums: Vec<EnumRow>,
    pub(crate) routines: Vec<RoutineRow>,
}

impl Rows {
    /// Puts the rows together.
    pub(crate) fn into_catalog(self, dialect: Dialect) -> Catalog {
        let declared: Vec<Option<Declaration>> = self
            .tables
            .iter()
            .map(|row| row.declared.as_deref().map(Declaration::of))
            .collect();
        let mut tables: Vec<CatalogTable> = self.tables.into_iter().map(table).collect();
        for row in self.columns {
            if let Some(table) = find(&mut tables, &row.schema, &row.table_name) {
                let values = enum_values(&row, &self.enums);
                let mut column = column(row, values);
                column.rust_type = Kind::of(dialect, &column).rust_type();
                table.columns.push(column);
            }
        }
        for row in self.indexes {
            if let Some(table) = find(&mut tables, &row.schema, &row.table_name) {
                put_index(table, row);
            }
        }
        for row in self.references {
            if let Some(table) = find(&mut tables, &row.schema, &row.table_name) {
                put_reference(table, row);
            }
        }
        // SQLite names no columns where a reference is to the key.
        let keys: Vec<(String, Vec<String>)> = tables
            .iter()
            .map(|table| (table.name.clone(), table.key.clone()))
            .collect();
        for reference in tables.iter_mut().flat_map(|table| &mut table.references) {
            if reference.target_columns.is_empty()
                && let Some((_, key)) = keys.iter().find(|(name, _)| *name == reference.target)
            {
                reference.target_columns.clone_from(key);
            }
        }
        for row in self.checks {
            if let Some(table) = find(&mut tables, &row.schema, &row.table_name) {
                table
                    .checks
                    .push(CatalogCheck { name: row.name, condition: row.condition });
            }
        }
        for (table, declared) in tables.iter_mut().zip(declared) {
            if let Some(declared) = declared {
                put_declared(table, declared);
            }
        }
        let mut enums: Vec<CatalogEnum> = Vec::new();
        for row in self.enums {
            match enums.last_mut() {
                Some(last) if last.name == row.name && last.schema == row.schema => {
                    last.values.push(row.value);
                }
                _ => enums.push(CatalogEnum {
                    schema: row.schema,
                    name: row.name,
                    values: vec![row.value],
                }),
            }
        }
        let routines = self.routines.into_iter().map(|row| CatalogRoutine {
            schema: row.schema,
            name: row.name,
            is_procedure: row.is_procedure,
            arguments: row.arguments,
            returns: row.returns,
        });
        Catalog { tables, enums, routines: routines.collect() }
    }
}

fn find<'t>(
    tables: &'t mut [CatalogTable],
    schema: &Option<String>,
    name: &str,
) -> Option<&'t mut CatalogTable> {
    tables
        .iter_mut()
        .find(|table| table.name == name && table.schema == *schema)
}

fn table(row: TableRow) -> CatalogTable {
    CatalogTable {
        schema: row.schema,
        name: row.name,
        is_view: row.is_view,
        comment: row.comment.filter(|comment| !comment.is_empty()),
        columns: Vec::new(),
        key: Vec::new(),
        unique: Vec::new(),
        references: Vec::new(),
        indexes: Vec::new(),
        checks: Vec::new(),
        // PostgreSQL says -1 for a table that it has never analysed.
        estimated_rows: row.estimated_rows.filter(|rows| *rows >= 0),
    }
}

fn column(row: ColumnRow, enum_values: Vec<String>) -> CatalogColumn {
    CatalogColumn {
        name: row.name,
        database_type: row.database_type,
        rust_type: None,
        nullable: row.nullable,
        default: row.default_value,
        generated: match row.made.as_str() {
            "identity" => Generated::Identity,
            "computed" => Generated::Computed,
            _ => Generated::Never,
        },
        collation: row.collation,
        is_nondeterministic: row.is_nondeterministic,
        comment: row.comment.filter(|comment| !comment.is_empty()),
        enum_values,
    }
}

/// Returns the values of the column's enum type: those of the type, or those that its own text lists.
fn enum_values(row: &ColumnRow, enums: &[EnumRow]) -> Vec<String> {
    if let Some(name) = &row.enum_name {
        let values = enums.iter().filter(|value| value.name == *name);
        return values.map(|value| value.value.clone()).collect();
    }
    match row
        .database_type
        .strip_prefix("enum(")
        .and_then(|rest| rest.strip_suffix(')'))
    {
        Some(list) => quoted(list),
        None => Vec::new(),
    }
}

/// Returns the texts of a list such as `'a','it''s'`.
fn quoted(list: &str) -> Vec<String> {
    let (mut texts, mut text) = (Vec::new(), None::<String>);
    let mut letters = list.chars().peekable();
    while let Some(letter) = letters.next() {
        match (&mut text, letter) {
            (None, '\'') => text = Some(String::new()),
            (None, _) => {}
            (Some(inside), '\'') if letters.next_if_eq(&'\'').is_some() => inside.push('\''),
            (Some(_), '\'') => texts.extend(text.take()),
            (Some(inside), letter) => inside.push(letter),
        }
    }
    texts
}

/// Adds what only the text of a table of SQLite tells.
fn put_declared(table: &mut CatalogTable, declared: Declaration) {
    for (name, collation) in declared.collations {
        let is_default = collation.eq_ignore_ascii_case("binary");
        let mut columns = table.columns.iter_mut();
        if let Some(column) = columns.find(|column| !is_default && column.name == name) {
            column.collation = Some(collation.to_uppercase());
        }
    }
    let checks = declared.checks.into_iter();
    table.checks.extend(
        checks.map(|(name, condition)| CatalogCheck { name: name.unwrap_or_default(), condition }),
    );
}

fn put_index(table: &mut CatalogTable, row: IndexRow) {
    if row.is_key {
        return table.key.push(row.column);
    }
    if row.is_unique {
        return match table.unique.last_mut() {
            Some(last) if last.name == row.name => last.columns.push(row.column),
            _ => table.unique.push(CatalogUnique {
                name: row.name,
                columns: vec![row.column],
                condition: row.condition,
            }),
        };
    }
    match table.indexes.last_mut() {
        Some(last) if last.name == row.name => last.columns.push(row.column),
        _ => table.indexes.push(CatalogIndex {
            name: row.name,
            columns: vec![row.column],
            condition: row.condition,
        }),
    }
}

fn put_reference(table: &mut CatalogTable, row: ReferenceRow) {
    let continues = row.place > 0;
    if let (true, Some(last)) = (continues, table.references.last_mut()) {
        last.columns.push(row.column);
        last.target_columns.extend(row.target_column);
        return;
    }
    table.references.push(CatalogReference {
        name: row.name,
        columns: vec![row.column],
        target_schema: row.target_schema,
        target: row.target,
        target_columns: row.target_column.into_iter().collect(),
        on_delete: row.on_delete,
        on_update: row.on_update,
    });
}
