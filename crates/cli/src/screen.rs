//! What the command prints: headings, SQL, and rows as a table.
//!
//! Colours go to terminals only, and not where `NO_COLOR` is set; into a file goes plain text that
//! is not wrapped.

use std::io::{self, IsTerminal, Write};

use anstream::AutoStream;
use anstyle::{AnsiColor, Style};
use comfy_table::presets::UTF8_FULL_CONDENSED;
use comfy_table::{Cell, CellAlignment, ContentArrangement, Table};
use nepheline::Sql;

/// More rows than this are cut, and the cut is told.
const ROWS_SHOWN: usize = 10;

const HEADING: Style = Style::new().bold();
const CODE: Style = AnsiColor::Cyan.on_default();
const FAULT: Style = AnsiColor::Yellow.on_default();

/// Rows of this type can be shown as a table.
pub(crate) trait Tabular {
    /// The names of the columns.
    const HEADINGS: &'static [&'static str];

    /// The values of one row, as text.
    fn fields(&self) -> Vec<String>;
}

pub(crate) struct Screen {
    out: AutoStream<io::Stdout>,
    /// The width of the terminal, if there is one.
    width: Option<usize>,
}

impl Screen {
    pub(crate) fn stdout() -> Screen {
        let width = io::stdout().is_terminal().then(textwrap::termwidth);
        Screen { out: AutoStream::auto(io::stdout()), width }
    }

    pub(crate) fn heading(&mut self, text: &str) -> io::Result<()> {
        writeln!(self.out, "{HEADING}{text}{HEADING:#}")
    }

    pub(crate) fn line(&mut self, text: &str) -> io::Result<()> {
        match self.width {
            Some(width) => writeln!(self.out, "{}", textwrap::fill(text, width)),
            None => writeln!(self.out, "{text}"),
        }
    }

    pub(crate) fn fault(&mut self, text: &str) -> io::Result<()> {
        let text = match self.width {
            Some(width) => textwrap::fill(text, width),
            None => text.to_owned(),
        };
        writeln!(self.out, "{FAULT}{text}{FAULT:#}")
    }

    /// One clause a line, then the binds; with `origins`, who asked for each clause.
    pub(crate) fn sql(&mut self, sql: &Sql, origins: bool) -> io::Result<()> {
        let listing = match origins {
            true => sql.with_origins().to_string(),
            false => sql.by_clause().to_string(),
        };
        for line in listing.lines() {
            let line = match self.width {
                Some(width) => wrapped(line, width),
                None => line.to_owned(),
            };
            writeln!(self.out, "{CODE}{line}{CODE:#}")?;
        }
        Ok(())
    }

    /// The first rows as a table, and how many there are.
    pub(crate) fn rows<R: Tabular>(&mut self, rows: &[R]) -> io::Result<()> {
        if rows.is_empty() {
            return self.line("no rows");
        }
        let mut table = Table::new();
        table.load_style(UTF8_FULL_CONDENSED).set_header(R::HEADINGS);
        if let Some(width) = self.width {
            table.set_content_arrangement(ContentArrangement::Dynamic);
            table.set_width(u16::try_from(width).unwrap_or(u16::MAX));
        }
        for row in rows.iter().take(ROWS_SHOWN) {
            table.add_row(row.fields().into_iter().map(aligned));
        }
        writeln!(self.out, "{table}")?;
        match rows.len() {
            1 => self.line("1 row"),
            n if n > ROWS_SHOWN => self.line(&format!("showing {ROWS_SHOWN} of {n} rows")),
            n => self.line(&format!("{n} rows")),
        }
    }
}

/// A number stands at the right of its column.
fn aligned(field: String) -> Cell {
    let alignment = match field.parse::<f64>() {
        Ok(_) => CellAlignment::Right,
        Err(_) => CellAlignment::Left,
    };
    Cell::new(field).set_alignment(alignment)
}

/// Breaks a line that is too long for the terminal, with what follows set in.
fn wrapped(line: &str, width: usize) -> String {
    textwrap::fill(line, textwrap::Options::new(width).subsequent_indent("    "))
}
