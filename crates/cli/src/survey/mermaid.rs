//! A survey as an entity diagram in the language of Mermaid.

use std::fmt::Write as _;

use super::Surveyed;

/// Returns the diagram: each table with its columns, and a line for each reference between them.
pub(super) fn of(surveyed: &[Surveyed<'_>]) -> String {
    let mut text = String::from("erDiagram\n");
    for Surveyed { table, .. } in surveyed {
        let _ = writeln!(text, "    {} {{", entity(&table.name));
        for column in &table.columns {
            let mut marks = Vec::new();
            if table.key.contains(&column.name) {
                marks.push("PK");
            }
            if table
                .references
                .iter()
                .any(|reference| reference.columns.contains(&column.name))
            {
                marks.push("FK");
            }
            if table
                .unique
                .iter()
                .any(|unique| *unique.columns == [column.name.clone()])
            {
                marks.push("UK");
            }
            let marks =
                if marks.is_empty() { String::new() } else { format!(" {}", marks.join(", ")) };
            let _ = writeln!(
                text,
                "        {} {}{marks}",
                word(&column.database_type),
                word(&column.name)
            );
        }
        text.push_str("    }\n");
    }
    for Surveyed { table, .. } in surveyed {
        for reference in &table.references {
            if !surveyed
                .iter()
                .any(|other| other.table.name == reference.target)
            {
                continue;
            }
            let is_optional = reference
                .columns
                .iter()
                .any(|name| table.column(name).is_some_and(|column| column.nullable));
            let is_one = table.key == reference.columns
                || table.unique.iter().any(|unique| {
                    unique.columns == reference.columns && unique.condition.is_none()
                });
            let (from, to) =
                (if is_one { "|o" } else { "}o" }, if is_optional { "o|" } else { "||" });
            let _ = writeln!(
                text,
                "    {} {from}--{to} {} : \"{}\"",
                entity(&table.name),
                entity(&reference.target),
                reference.columns.join(", ").replace('"', "'"),
            );
        }
    }
    text.trim_end().to_owned()
}

/// Returns the name of an entity, which needs quotes unless it is a plain word.
fn entity(name: &str) -> String {
    match word(name) == name {
        true => name.to_owned(),
        false => format!("\"{}\"", name.replace('"', "'")),
    }
}

/// Returns a text as one word: attributes of Mermaid have no other letters.
fn word(text: &str) -> String {
    text.chars()
        .map(|letter| if letter.is_alphanumeric() || letter == '_' { letter } else { '_' })
        .collect()
}
