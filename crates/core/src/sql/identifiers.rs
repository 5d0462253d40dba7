//! Identifiers between the marks of a dialect: from the texts that descriptors hold ready, if these have them.

use crate::dialect::Quotes;
use crate::model::{ColumnInfo, TableInfo};

pub(super) fn push_identifier(text: &mut String, name: &str, quotes: Quotes) {
    text.push(quotes.open);
    for character in name.chars() {
        if character == quotes.close {
            text.push(quotes.close);
        }
        text.push(character);
    }
    text.push(quotes.close);
}

/// The table as it stands after FROM.
pub(super) fn push_table(text: &mut String, table: &TableInfo, quotes: Quotes) {
    if let Some(ready) = quotes
        .ready
        .and_then(|place| table.from_clause().get(place).copied())
    {
        return text.push_str(ready);
    }
    if let Some(schema) = table.schema() {
        push_identifier(text, schema, quotes);
        text.push('.');
    }
    push_identifier(text, table.name(), quotes);
}

/// A column of a table that is called by its own name.
pub(super) fn push_column(text: &mut String, column: &ColumnInfo, quotes: Quotes) {
    if let Some(ready) = quotes
        .ready
        .and_then(|place| column.qualified().get(place).copied())
    {
        return text.push_str(ready);
    }
    push_identifier(text, column.table(), quotes);
    text.push('.');
    push_identifier(text, column.name(), quotes);
}

/// All columns of a table that is called by its own name.
pub(super) fn push_select_list(text: &mut String, table: &TableInfo, quotes: Quotes) {
    if let Some(ready) = quotes
        .ready
        .and_then(|place| table.select_list().get(place).copied())
    {
        return text.push_str(ready);
    }
    for (i, column) in table.columns().iter().enumerate() {
        text.push_str(if i > 0 { ", " } else { "" });
        push_column(text, column, quotes);
    }
}

/// The names of columns alone.
pub(super) fn push_names<'c>(
    text: &mut String,
    columns: impl Iterator<Item = &'c ColumnInfo>,
    quotes: Quotes,
) {
    for (i, column) in columns.enumerate() {
        text.push_str(if i > 0 { ", " } else { "" });
        push_identifier(text, column.name(), quotes);
    }
}
