//! The output of the command: headings, Rust, SQL, and rows as a table.
//!
//! Colours go to terminals only, and not if `NO_COLOR` is set. A file gets plain text that is not wrapped.

use std::io::{self, IsTerminal, Write};

use anstream::AutoStream;
use anstyle::{AnsiColor, Style};
use comfy_table::{
    Attribute, Cell, CellAlignment, ContentArrangement, ContentLineStyle, LineStyle, Table,
    TableStyle,
};
use nepheline::Sql;

/// The largest number of rows in a table.
pub(crate) const ROWS_SHOWN: usize = 12;

/// The text of NULL.
pub(crate) const NULL: &str = "NULL";

const RESET: &str = "\u{1b}[0m";
const HEADING: Style = Style::new().bold();
const RUST: Style = AnsiColor::Green.on_default();
const CODE: Style = AnsiColor::Cyan.on_default();
const FAULT: Style = AnsiColor::Yellow.on_default();

/// One rule below the headings, and nothing else around the cells.
const ONE_RULE: TableStyle = TableStyle::new()
    .header_lines(ContentLineStyle::none())
    .header_separator(LineStyle::none().fill('─').junction('─'))
    .content_lines(ContentLineStyle::none());

/// Rows that can be shown as a table.
pub(crate) trait Tabular {
    /// The names of the columns.
    const HEADINGS: &'static [&'static str];

    /// Returns the values of one row, as text.
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

    /// Returns the width of the terminal, if there is one.
    pub(crate) fn width(&self) -> Option<usize> {
        self.width
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

    /// Prints Rust source.
    pub(crate) fn rust(&mut self, source: &str) -> io::Result<()> {
        self.code(source.lines(), RUST)
    }

    /// Prints SQL with one clause a line, then its binds, if `binds`; with `origins`, also the line that asked for
    /// each clause.
    pub(crate) fn sql(&mut self, sql: &Sql, origins: bool, binds: bool) -> io::Result<()> {
        let listing = match origins {
            true => sql.with_origins().to_string(),
            false => sql.by_clause().to_string(),
        };
        // Each bind has a line, after those of the text.
        let hidden = if binds { 0 } else { sql.binds().len() };
        let lines = listing.lines().count().saturating_sub(hidden);
        self.code(listing.lines().take(lines), CODE)
    }

    fn code<'l>(&mut self, lines: impl Iterator<Item = &'l str>, style: Style) -> io::Result<()> {
        for line in lines {
            let line = match self.width {
                Some(width) => wrapped(line, width),
                None => line.to_owned(),
            };
            writeln!(self.out, "{style}{line}{style:#}")?;
        }
        Ok(())
    }

    /// Prints text for programs, as it is.
    pub(crate) fn plain(&mut self, text: &str) -> io::Result<()> {
        writeln!(self.out, "{text}")
    }

    /// Prints rows as a table, and nothing below it.
    pub(crate) fn whole_table(
        &mut self,
        headings: &[&str],
        rows: &[Vec<String>],
    ) -> io::Result<()> {
        self.grid(headings, rows)
    }

    /// Prints rows as a table, and below it how many of `all` rows these are.
    pub(crate) fn table(
        &mut self,
        headings: &[&str],
        rows: &[Vec<String>],
        all: usize,
    ) -> io::Result<()> {
        if rows.is_empty() {
            return self.line("no rows");
        }
        self.grid(headings, rows)?;
        match all {
            1 => self.line("1 row"),
            n if n > rows.len() => self.line(&format!("{} of {n} rows", rows.len())),
            n => self.line(&format!("{n} rows")),
        }
    }

    fn grid(&mut self, headings: &[&str], rows: &[Vec<String>]) -> io::Result<()> {
        let mut table = Table::new();
        table.load_style(ONE_RULE).enforce_styling();
        table.set_header(
            headings
                .iter()
                .map(|heading| Cell::new(heading).add_attribute(Attribute::Bold)),
        );
        if let Some(width) = self.width {
            table.set_content_arrangement(ContentArrangement::Dynamic);
            table.set_width(u16::try_from(width).unwrap_or(u16::MAX));
        }
        for row in rows {
            table.add_row(row.iter().map(|field| match field.as_str() {
                NULL => Cell::new(field).add_attribute(Attribute::Dim),
                _ => Cell::new(field),
            }));
        }
        align_columns(&mut table, rows);
        for line in table.lines() {
            // A style that ends behind the padding of a cell keeps it from being trimmed.
            let line = line.trim_end();
            let line = line.strip_suffix(RESET).map_or(line, str::trim_end);
            writeln!(self.out, "{line}{RESET}")?;
        }
        Ok(())
    }
}

/// Aligns columns of numbers to the right, also if some are NULL, and puts two spaces between columns.
fn align_columns(table: &mut Table, rows: &[Vec<String>]) {
    let last = table.column_count().saturating_sub(1);
    for (i, column) in table.column_iter_mut().enumerate() {
        column.set_padding((0, if i < last { 1 } else { 0 }));
        let mut values = rows
            .iter()
            .map(|row| &row[i])
            .filter(|field| *field != NULL)
            .peekable();
        if values.peek().is_some() && values.all(|field| field.parse::<f64>().is_ok()) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
}

/// Breaks a line that is too long for the terminal, and indents what follows.
fn wrapped(line: &str, width: usize) -> String {
    let indent = " ".repeat(line.len() - line.trim_start().len() + 4);
    textwrap::fill(line, textwrap::Options::new(width).subsequent_indent(&indent))
}
