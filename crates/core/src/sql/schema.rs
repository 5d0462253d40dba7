//! CREATE TABLE, from the descriptors of structs.

use super::identifiers::{push_identifier, push_names, push_table, push_type};
use crate::dialect::Grammar;
use crate::model::{ColumnInfo, Error, Reference, SqlType, TableInfo};

const INTEGER_KEYS: &str = "give the column a value yourself, or write the table by hand";

/// Writes the CREATE TABLE of a table. `unique` has the sets of columns that no two rows share, besides the key.
pub(crate) fn create_table(
    table: &'static TableInfo,
    unique: &[Vec<&'static ColumnInfo>],
    grammar: &'static dyn Grammar,
) -> Result<String, Error> {
    let Some(form) = grammar.schema() else {
        let (what, way_out) = ("a table from a struct", "write its CREATE TABLE by hand");
        return Err(Error::unsupported(what, grammar.name(), way_out));
    };
    let quotes = grammar.quotes();
    let mut text = "CREATE TABLE ".to_owned();
    push_table(&mut text, table, None, quotes);
    text.push_str(" (");
    let keys: Vec<&ColumnInfo> = table.key().collect();
    for (number, column) in table.columns().iter().enumerate() {
        text.push_str(if number > 0 { ",\n    " } else { "\n    " });
        push_identifier(&mut text, column.name(), quotes);
        text.push(' ');
        let is_short = column.is_key() || is_in_set(column, unique) || refers(table, column);
        let is_text = column.sql_type() == SqlType::Text;
        match column.sql_type() {
            SqlType::Text if is_short => text.push_str(form.keyed_text),
            SqlType::Enum(kind) if grammar.has_enum_types() => push_type(&mut text, kind, quotes),
            SqlType::Native(native)
                if let Some((name, is_array)) = grammar.native_type(*native) =>
            {
                text.push_str(name);
                text.push_str(if is_array { "[]" } else { "" });
            }
            sql_type => text.push_str((form.column_type)(sql_type)),
        }
        if is_text && column.is_by_code_point() {
            text.push_str(form.by_code_point);
        }
        match (column.is_generated(), column.sql_type()) {
            (false, _) => {}
            (true, SqlType::SmallInt | SqlType::Integer | SqlType::BigInt) => {
                text.push_str(form.generated);
            }
            (true, sql_type) => {
                let what = format!("a generated column of type {sql_type}");
                return Err(Error::unsupported(&what, grammar.name(), INTEGER_KEYS));
            }
        }
        if !column.is_nullable() {
            text.push_str(" NOT NULL");
        }
        if let ([_], true) = (keys.as_slice(), column.is_key()) {
            text.push_str(" PRIMARY KEY");
        }
    }
    if keys.len() > 1 {
        constraint(&mut text, "PRIMARY KEY", keys.iter().copied(), grammar);
    }
    for set in unique {
        constraint(&mut text, "UNIQUE", set.iter().copied(), grammar);
    }
    for reference in table
        .references()
        .iter()
        .filter(|reference| reference.is_foreign_key())
    {
        foreign_key(&mut text, reference, grammar);
    }
    text.push_str("\n)");
    Ok(text)
}

/// Writes the DROP TABLE of a table.
pub(crate) fn drop_table(table: &'static TableInfo, grammar: &'static dyn Grammar) -> String {
    let mut text = "DROP TABLE ".to_owned();
    push_table(&mut text, table, None, grammar.quotes());
    text
}

/// Returns whether a column is in one of the unique sets.
fn is_in_set(column: &ColumnInfo, unique: &[Vec<&'static ColumnInfo>]) -> bool {
    unique
        .iter()
        .flatten()
        .any(|other| std::ptr::eq(*other, column))
}

fn refers(table: &'static TableInfo, column: &ColumnInfo) -> bool {
    let mut pairs = table.references().iter().flat_map(Reference::pairs);
    pairs.any(|[own, _]| std::ptr::eq(own, column))
}

fn constraint<'c>(
    text: &mut String,
    opening: &str,
    columns: impl Iterator<Item = &'c ColumnInfo>,
    grammar: &'static dyn Grammar,
) {
    text.push_str(",\n    ");
    text.push_str(opening);
    text.push_str(" (");
    push_names(text, columns, grammar.quotes());
    text.push(')');
}

fn foreign_key(text: &mut String, reference: &'static Reference, grammar: &'static dyn Grammar) {
    constraint(text, "FOREIGN KEY", reference.pairs().map(|[own, _]| own), grammar);
    text.push_str(" REFERENCES ");
    push_table(text, reference.target(), None, grammar.quotes());
    text.push_str(" (");
    push_names(text, reference.pairs().map(|[_, theirs]| theirs), grammar.quotes());
    text.push(')');
}
