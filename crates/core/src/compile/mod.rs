//! From the tree to SQL: one walker for all dialects, and a small file of differences for each.

mod dialect;
mod list;
mod sql;
mod writer;

use std::borrow::Cow;
use std::fmt;
use std::panic::Location;

pub use dialect::Dialect;
pub use sql::{ByClause, Sql};

use crate::error::Error;
use crate::storable::BindValue;
use crate::tree::Select;
use writer::Writer;

/// The line of the program that asked for a clause, printed as `file:line`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Origin(&'static Location<'static>);

impl Origin {
    pub(crate) fn of(location: &'static Location<'static>) -> Origin {
        Origin(location)
    }

    /// The source file, as the compiler was given it.
    pub fn file(&self) -> &'static str {
        self.0.file()
    }

    /// The line, counted from 1.
    pub fn line(&self) -> u32 {
        self.0.line()
    }
}

impl fmt::Display for Origin {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.file(), self.line())
    }
}

/// What a reading verb wants of a query.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wanted {
    /// All its rows.
    Rows,
    /// No more rows than this, which matters only where the query could have more.
    AtMost(u8),
    /// How many rows it has.
    Count,
    /// Whether it has any row.
    Presence,
}

/// A place in the text where a clause begins, and who asked for it.
#[derive(Debug, Clone, Copy)]
struct Mark {
    at: usize,
    origin: Origin,
}

/// A compiled query, ready for a driver. What it binds is lent by the query where nothing had to change.
#[doc(hidden)]
#[derive(Debug)]
pub struct Statement<'q> {
    dialect: Dialect,
    text: String,
    binds: Vec<Cow<'q, BindValue>>,
    marks: Vec<Mark>,
    origin: Origin,
}

impl<'q> Statement<'q> {
    pub(crate) fn compile(
        select: &'q Select,
        dialect: Dialect,
        wanted: Wanted,
    ) -> Result<Statement<'q>, Error> {
        let mut writer = Writer::new(select, dialect);
        match writer.write(wanted) {
            Ok(()) => Ok(writer.finish()),
            Err(err) => Err(err.asked_at(writer.current_origin())),
        }
    }

    pub fn text(&self) -> &str {
        &self.text
    }

    pub fn binds(&self) -> impl ExactSizeIterator<Item = &BindValue> {
        self.binds.iter().map(|bind| &**bind)
    }

    /// Where the query was begun.
    pub fn origin(&self) -> Origin {
        self.origin
    }

    pub fn into_sql(self) -> Sql {
        let binds = self.binds.into_iter().map(Cow::into_owned).collect();
        Sql::new(self.dialect, self.text, binds, self.marks)
    }
}
