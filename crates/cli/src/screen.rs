//! What the command prints: headings, SQL, and rows as a table.
//!
//! Colours go to terminals only, and not where `NO_COLOR` is set; into a file goes plain text that
//! is not wrapped.

use std::io::{self, IsTerminal, Write};

use anstream::AutoStream;
use anstyle::{AnsiColor, Style};
use comfy_table::presets::UTF8_FULL_CONDENSED;
use comfy_table::{CellAlignment, ContentArrangement, Table};
use nepheline::Sql;

/// More rows than this are cut, and the cut is told.
pub(crate) const ROWS_SHOWN: usize = 10;

/// How NULL is shown.
pub(crate) const NULL: &str = "NULL";

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
        let fields: Vec<_> = rows.iter().take(ROWS_SHOWN).map(Tabular::fields).collect();
        self.table(R::HEADINGS, &fields, rows.len())
    }

    /// Rows that are part of `all` in a table.
    pub(crate) fn table(
        &mut self,
        headings: &[&str],
        rows: &[Vec<String>],
        all: usize,
    ) -> io::Result<()> {
        if rows.is_empty() {
            return self.line("no rows");
        }
        let mut table = Table::new();
        table.load_style(UTF8_FULL_CONDENSED).set_header(headings);
        if let Some(width) = self.width {
            table.set_content_arrangement(ContentArrangement::Dynamic);
            table.set_width(u16::try_from(width).unwrap_or(u16::MAX));
        }
        table.add_rows(rows);
        align_numbers(&mut table, rows);
        writeln!(self.out, "{table}")?;
        match all {
            1 => self.line("1 row"),
            n if n > rows.len() => self.line(&format!("showing {} of {n} rows", rows.len())),
            n => self.line(&format!("{n} rows")),
        }
    }
}

/// Columns of numbers stand at the right, NULL or not.
fn align_numbers(table: &mut Table, rows: &[Vec<String>]) {
    for (i, column) in table.column_iter_mut().enumerate() {
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

/// Breaks a line that is too long for the terminal, with what follows set in.
fn wrapped(line: &str, width: usize) -> String {
    textwrap::fill(line, textwrap::Options::new(width).subsequent_indent("    "))
}
