//! The answer to a question, in the forms in which it is shown and exported.

mod chart;

use anyhow::Result;
use clap::ValueEnum;
use nepheline::NamedValues;
use serde_json::Value as Json;

use crate::screen::{NULL, Screen};

/// The forms of the answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Form {
    /// A table for a terminal
    Table,
    /// One JSON array of objects
    Json,
    /// Comma-separated values, with a line of names
    Csv,
    /// A Markdown table
    Markdown,
    /// Bars for a terminal: the last number of each row under its key
    Chart,
}

/// The rows of a page.
#[derive(Debug, Clone)]
pub(crate) struct Answer {
    pub(crate) names: Vec<String>,
    pub(crate) rows: Vec<NamedValues>,
    /// The number of rows on all pages.
    pub(crate) all: usize,
}

impl Answer {
    /// Prints it in a form.
    pub(crate) fn print(&self, form: Form, screen: &mut Screen) -> Result<()> {
        match form {
            Form::Table => {
                let cells: Vec<Vec<String>> =
                    self.rows.iter().map(|row| cells(row, NULL)).collect();
                Ok(screen.table(&self.names(), &cells, self.all)?)
            }
            other => Ok(screen.plain(self.text(other, screen.width())?.trim_end())?),
        }
    }

    /// Returns it as text in a form; a table as in a form for programs is Markdown.
    pub(crate) fn text(&self, form: Form, width: Option<usize>) -> Result<String> {
        match form {
            Form::Json => self.json(),
            Form::Csv => self.csv(),
            Form::Table | Form::Markdown => Ok(self.markdown()),
            Form::Chart => chart::of(&self.rows, width),
        }
    }

    /// Returns it as an SVG chart.
    pub(crate) fn svg(&self) -> Result<String> {
        chart::svg(&self.names(), &self.rows)
    }

    fn names(&self) -> Vec<&str> {
        self.names.iter().map(String::as_str).collect()
    }

    /// Returns one object a line, in an array.
    fn json(&self) -> Result<String> {
        let lines = self.rows.iter().map(serde_json::to_string);
        let lines: Vec<String> = lines.collect::<Result<_, _>>()?;
        Ok(match lines.is_empty() {
            true => "[]".to_owned(),
            false => format!("[\n  {}\n]", lines.join(",\n  ")),
        })
    }

    fn csv(&self) -> Result<String> {
        let mut writer = csv::Writer::from_writer(Vec::new());
        writer.write_record(&self.names)?;
        for row in &self.rows {
            writer.write_record(cells(row, ""))?;
        }
        Ok(String::from_utf8(writer.into_inner()?)?)
    }

    fn markdown(&self) -> String {
        let line = |cells: Vec<String>| {
            let cells = cells
                .iter()
                .map(|cell| cell.replace('|', r"\|").replace('\n', " "));
            format!("| {} |", cells.collect::<Vec<_>>().join(" | "))
        };
        let mut lines =
            vec![line(self.names.clone()), format!("|{}", "---|".repeat(self.names.len()))];
        lines.extend(self.rows.iter().map(|row| line(cells(row, ""))));
        lines.join("\n")
    }
}

/// Returns the values of a row as text.
fn cells(row: &NamedValues, null: &str) -> Vec<String> {
    let shown = row.iter().map(|(name, _)| match row.json(name) {
        None | Some(Json::Null) => null.to_owned(),
        Some(Json::String(text)) => text,
        Some(other) => other.to_string(),
    });
    shown.collect()
}
