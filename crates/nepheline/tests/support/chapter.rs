//! A chapter of the documentation, written by a test: each entry shows the Rust code, the SQL and the rows.

use std::fmt::{Debug, Write};

use nepheline::Sql;
use nepheline::prelude::*;

/// The page of a chapter.
pub(crate) struct Chapter {
    source: &'static str,
    page: String,
    /// The entries that failed, so that one of them does not hide the rest.
    faults: Vec<String>,
}

/// The number of rows that an entry shows.
const ROWS_SHOWN: usize = 3;

impl Chapter {
    /// Returns an empty page. `source` is the test's own source text.
    pub(crate) fn new(source: &'static str, opening: &str) -> Chapter {
        Chapter { source, page: opening.trim_start().to_owned(), faults: Vec::new() }
    }

    pub(crate) fn section(&mut self, heading: &str) {
        write!(self.page, "\n## {heading}\n").unwrap();
    }

    /// Adds the text and the Rust code of an entry. The code stands in the source after the text, up to a line with
    /// `);` at the indent of the call.
    pub(crate) fn question(&mut self, what: &str, line: u32) {
        let mut lines = self.source.lines().skip(line as usize - 1);
        let call = lines.next().unwrap();
        let depth = call.len() - call.trim_start().len();
        let end = format!("{});", " ".repeat(depth));
        let code: Vec<&str> = lines
            .skip_while(|line| !line.ends_with("\","))
            .skip(1)
            .take_while(|line| *line != end)
            .collect();
        let indent = code.iter().filter(|line| !line.trim().is_empty());
        let indent = indent
            .map(|line| line.len() - line.trim_start().len())
            .min()
            .unwrap();
        write!(self.page, "\n{what}\n\n```rust\n").unwrap();
        for (i, line) in code.iter().enumerate() {
            let line = line.get(indent..).unwrap_or_default();
            let last = i + 1 == code.len();
            let line = if last { line.strip_suffix(',').unwrap_or(line) } else { line };
            writeln!(self.page, "{line}").unwrap();
        }
        self.page.push_str("```\n");
    }

    pub(crate) fn sql(&mut self, each: &[Sql]) {
        self.page.push_str("```sql\n");
        for sql in each {
            writeln!(self.page, "{}", sql.by_clause()).unwrap();
        }
        self.page.push_str("```\n");
    }

    pub(crate) fn answer<R: Debug>(&mut self, rows: &[R]) {
        self.page.push_str("```text\n");
        for row in rows.iter().take(ROWS_SHOWN) {
            writeln!(self.page, "{row:?}").unwrap();
        }
        match rows.len().saturating_sub(ROWS_SHOWN) {
            0 => {}
            more => writeln!(self.page, "and {more} more").unwrap(),
        }
        self.page.push_str("```\n");
    }

    /// Adds a failure of an entry.
    pub(crate) fn fault(&mut self, fault: String) {
        self.faults.push(fault);
    }

    /// Adds text without an entry.
    pub(crate) fn append(&mut self, text: &str) {
        self.page.push_str(text);
    }

    /// Compares the page with the one in the repository, unless an entry failed.
    pub(crate) fn finish(self, name: &str) {
        assert!(self.faults.is_empty(), "{}", self.faults.join("\n"));
        super::check_page(name, &self.page);
    }
}

/// Something that shows its statements.
pub(crate) trait Shows {
    fn statements(&self, dialect: Dialect, carried: &Carried) -> Result<Vec<Sql>, Error>;
}

impl<T: nepheline::Tables, R, L: nepheline::Level> Shows for Query<T, R, L> {
    fn statements(&self, dialect: Dialect, carried: &Carried) -> Result<Vec<Sql>, Error> {
        Ok(vec![self.sql_carrying(dialect, carried)?])
    }
}

impl<R: nepheline::RowShape + Send + 'static> Shows for nepheline::StatementRows<R> {
    fn statements(&self, dialect: Dialect, carried: &Carried) -> Result<Vec<Sql>, Error> {
        Ok(vec![nepheline::Writes::sql_carrying(self, dialect, carried)?])
    }
}

impl<Q: Shows, F> Shows for nepheline::MappedRows<Q, F> {
    fn statements(&self, dialect: Dialect, carried: &Carried) -> Result<Vec<Sql>, Error> {
        self.query().statements(dialect, carried)
    }
}

impl<T, B> Shows for nepheline::StatementAlongside<T, B>
where
    T: Table,
    B: nepheline::internal::Companions<T>,
{
    fn statements(&self, dialect: Dialect, carried: &Carried) -> Result<Vec<Sql>, Error> {
        use nepheline::internal::{CompileContext, Selects};

        let mut shown = Vec::new();
        self.show(CompileContext::to_show(dialect.grammar(), carried), &mut shown)?;
        Ok(shown)
    }
}

impl<T, R, B> Shows for nepheline::Alongside<T, R, B>
where
    T: nepheline::Tables,
    R: nepheline::RowShape + Send + 'static,
    B: nepheline::internal::Companions<R>,
{
    fn statements(&self, dialect: Dialect, carried: &Carried) -> Result<Vec<Sql>, Error> {
        self.sql_carrying(dialect, carried)
    }
}
