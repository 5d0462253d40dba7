//! A survey as Markdown.

use std::fmt::Write as _;

use super::{
    COLUMN_HEADINGS, HEADINGS, Surveyed, described, headline, listed, sentences, shown_rows,
};

/// Returns the tables as a list, or each in depth.
pub(super) fn of(surveyed: &[Surveyed<'_>]) -> String {
    if surveyed.iter().all(|of| of.profile.is_none()) {
        let rows: Vec<Vec<String>> = surveyed.iter().map(listed).collect();
        return table(&HEADINGS, &rows).trim_end().to_owned();
    }
    let mut page = String::new();
    for Surveyed { table: of, profile, .. } in surveyed {
        let _ = write!(page, "## {}\n\n", headline(of));
        page += &table(&COLUMN_HEADINGS, &described(of, profile.as_ref()));
        page.push('\n');
        for sentence in sentences(of) {
            let _ = writeln!(page, "- {}", escaped(&sentence));
        }
        if let Some(profile) = profile {
            let names: Vec<&str> = of
                .columns
                .iter()
                .map(|column| column.name.as_str())
                .collect();
            let _ = write!(page, "\n{} of {} rows:\n\n", profile.sample.len(), profile.rows);
            page += &table(&names, &shown_rows(profile));
        }
        page.push('\n');
    }
    page.trim_end().to_owned()
}

fn table(headings: &[&str], rows: &[Vec<String>]) -> String {
    let line = |fields: Vec<String>| format!("| {} |\n", fields.join(" | "));
    let mut text = line(headings.iter().map(|heading| escaped(heading)).collect());
    text += &format!("|{}\n", "---|".repeat(headings.len()));
    for row in rows {
        text += &line(row.iter().map(|field| escaped(field)).collect());
    }
    text
}

/// Returns a text that ends neither the cell nor the line.
fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\")
        .replace('|', "\\|")
        .replace(['\n', '\r'], " ")
        .replace('<', "&lt;")
}
