//! A chapter of the documentation, written by the test that asks its questions: the Rust as it stands
//! in the test's source, the SQL, and the answer.

use std::fmt::{Debug, Write};

use nepheline::Sql;
use nepheline::prelude::*;

/// The page of a chapter.
pub(crate) struct Chapter {
    source: &'static str,
    page: String,
    /// The questions that went wrong, so that one of them does not hide the rest.
    faults: Vec<String>,
}

/// How many rows of an answer are shown.
const ROWS_SHOWN: usize = 3;

impl Chapter {
    /// `source` is the test's own text.
    pub(crate) fn new(source: &'static str, opening: &str) -> Chapter {
        Chapter { source, page: opening.trim_start().to_owned(), faults: Vec::new() }
    }

    pub(crate) fn section(&mut self, heading: &str) {
        write!(self.page, "\n## {heading}\n").unwrap();
    }

    /// A question: what it is, and its Rust, which stands in the source after the text of what it is
    /// until a line with `);` at the depth of the call.
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

    /// Notes what went wrong with a question.
    pub(crate) fn fault(&mut self, fault: String) {
        self.faults.push(fault);
    }

    /// What is said without a question.
    pub(crate) fn append(&mut self, text: &str) {
        self.page.push_str(text);
    }

    /// Compares the page with the one in the repository, unless a question went wrong.
    pub(crate) fn finish(self, name: &str) {
        assert!(self.faults.is_empty(), "{}", self.faults.join("\n"));
        insta::with_settings!({
            snapshot_path => "../../../../docs",
            prepend_module_to_snapshot => false,
            omit_expression => true,
        }, {
            insta::assert_binary_snapshot!(name, self.page.into_bytes());
        });
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
