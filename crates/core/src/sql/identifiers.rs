//! Writes quoted identifiers, from the texts that descriptors prepare where they have them.

use std::sync::Arc;

use crate::dialect::Quotes;
use crate::model::{ColumnInfo, EnumType, TableInfo};

impl Quotes {
    /// Returns the text that a descriptor prepared for these quote marks. One that was read at run time has
    /// none.
    #[inline]
    fn ready(self, texts: &[&'static str; 2]) -> Option<&'static str> {
        let ready = texts.get(self.ready?).copied();
        ready.filter(|text| !text.is_empty())
    }
}

impl Quotes {
    /// Returns a quoted name.
    pub fn quoted(self, name: &str) -> String {
        let mut text = String::with_capacity(name.len() + 2);
        push_identifier(&mut text, name, self);
        text
    }
}

pub(super) fn push_identifier(text: &mut String, name: &str, quotes: Quotes) {
    text.push(quotes.open);
    match name.contains(quotes.close) {
        false => text.push_str(name),
        true => text.push_str(&name.replace(quotes.close, &String::from_iter([quotes.close; 2]))),
    }
    text.push(quotes.close);
}

/// Writes the name of an enum type, which may have a schema before a point.
pub(super) fn push_type(text: &mut String, kind: &EnumType, quotes: Quotes) {
    for (i, part) in kind.name().split('.').enumerate() {
        text.push_str(if i > 0 { "." } else { "" });
        push_identifier(text, part, quotes);
    }
}

/// Writes a table as it stands after FROM, in `schema` if it names none itself.
#[inline]
pub(super) fn push_table(
    text: &mut String,
    table: &TableInfo,
    schema: Option<&Arc<str>>,
    quotes: Quotes,
) {
    if schema.is_none()
        && let Some(ready) = quotes.ready(table.from_clause())
    {
        return text.push_str(ready);
    }
    if let Some(schema) = table.schema().or(schema.map(|schema| &**schema)) {
        push_identifier(text, schema, quotes);
        text.push('.');
    }
    push_identifier(text, table.name(), quotes);
}

/// Writes a column of a table that has no alias.
#[inline]
pub(super) fn push_column(text: &mut String, column: &ColumnInfo, quotes: Quotes) {
    if let Some(ready) = quotes.ready(column.qualified()) {
        return text.push_str(ready);
    }
    push_identifier(text, column.table(), quotes);
    text.push('.');
    push_identifier(text, column.name(), quotes);
}

/// Writes all columns of a table that has no alias.
pub(super) fn push_select_list(text: &mut String, table: &TableInfo, quotes: Quotes) {
    if let Some(ready) = quotes.ready(table.select_list()) {
        return text.push_str(ready);
    }
    for (i, column) in table.columns().iter().enumerate() {
        text.push_str(if i > 0 { ", " } else { "" });
        push_column(text, column, quotes);
    }
}

/// Writes the names of columns without their table.
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

#[cfg(test)]
mod tests {
    use super::{push_identifier, push_select_list, push_table};
    use crate::dialect::Quotes;
    use crate::model::{ReadColumn, ReadTable, SqlType, read_table};

    const BRACKETS: Quotes = Quotes { open: '[', close: ']', ready: None };

    #[test]
    fn the_closing_mark_is_doubled() {
        for (quotes, quoted) in [
            (Quotes::DOUBLE, "\"a\"\"[b]`\""),
            (Quotes::BACKTICK, "`a\"[b]```"),
            (BRACKETS, "[a\"[b]]`]"),
        ] {
            let mut text = String::new();
            push_identifier(&mut text, "a\"[b]`", quotes);
            assert_eq!(text, quoted);
        }
    }

    #[test]
    fn a_table_that_was_read_is_quoted_when_it_is_written() {
        let column = |name: &str| ReadColumn {
            name: name.to_owned(),
            sql_type: SqlType::Text,
            nullable: true,
            key: false,
            generated: false,
            unique: false,
        };
        let columns = vec![column("id"), column("de`pth")];
        let table = read_table(ReadTable::of(Some("core"), "dr\"ill", columns));
        for (quotes, from, list) in [
            (
                Quotes::DOUBLE,
                "\"core\".\"dr\"\"ill\"",
                "\"dr\"\"ill\".\"id\", \"dr\"\"ill\".\"de`pth\"",
            ),
            (Quotes::BACKTICK, "`core`.`dr\"ill`", "`dr\"ill`.`id`, `dr\"ill`.`de``pth`"),
            (BRACKETS, "[core].[dr\"ill]", "[dr\"ill].[id], [dr\"ill].[de`pth]"),
        ] {
            let (mut text, mut columns) = (String::new(), String::new());
            push_table(&mut text, table, None, quotes);
            push_select_list(&mut columns, table, quotes);
            assert_eq!((text.as_str(), columns.as_str()), (from, list));
        }
    }
}
