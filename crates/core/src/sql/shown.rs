//! SQL for people to read: the text, the binds, and the origin of each clause.

use std::fmt;

use smallvec::SmallVec;

use super::layout::{Line, lines};
use crate::dialect::{Grammar, Placeholder};
use crate::model::{BindValue, Origin};
use crate::tree::{PolicyUse, RelationName};

/// The start of a clause in the text, with its origin.
#[derive(Debug, Clone)]
pub(super) struct Mark {
    pub(super) at: usize,
    pub(super) origin: Origin,
    /// The relations that the clause joins or asks.
    pub(super) relations: SmallVec<[RelationName; 1]>,
}

/// The SQL of a query in one dialect.
///
/// `Display` prints the text, then each bind with its number on a line of its own. Text that does not fit a
/// line of 100 characters is broken into its clauses, with subqueries indented.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64, country: String }
/// let sql = Lab::rows().filter(|l| l.country.eq("Tuvalu")).limit(5).sql(Dialect::Postgres)?;
/// assert_eq!(
///     sql.to_string(),
///     r#"SELECT "lab"."id", "lab"."country" FROM "lab" WHERE "lab"."country" = $1 LIMIT $2
///   $1: 'Tuvalu'
///   $2: 5"#,
/// );
/// # Ok::<(), Error>(())
/// ```
#[derive(Debug, Clone)]
pub struct Sql {
    grammar: &'static dyn Grammar,
    text: String,
    binds: Vec<BindValue>,
    marks: Vec<Mark>,
    policies: Vec<PolicyUse>,
}

impl Sql {
    pub(super) fn new(
        grammar: &'static dyn Grammar,
        text: String,
        binds: Vec<BindValue>,
        marks: Vec<Mark>,
        policies: Vec<PolicyUse>,
    ) -> Sql {
        Sql { grammar, text, binds, marks, policies }
    }

    /// Returns the same SQL with the policies of the statement.
    pub(super) fn with_policies(self, policies: Vec<PolicyUse>) -> Sql {
        Sql { policies, ..self }
    }

    /// Returns the same SQL with more policies of the statement.
    pub(crate) fn and_policies(mut self, more: Vec<PolicyUse>) -> Sql {
        self.policies.extend(more);
        self
    }

    /// Returns the name of its dialect.
    pub fn dialect(&self) -> &'static str {
        self.grammar.name()
    }

    /// Returns the text as the database receives it, on one line, with a placeholder for every value.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Returns the values in the order of their placeholders.
    pub fn binds(&self) -> &[BindValue] {
        &self.binds
    }

    /// Returns the policies of all tables in it, also in subqueries: those applied and those waived.
    pub fn policies(&self) -> &[PolicyUse] {
        &self.policies
    }

    /// Returns each clause of the text, with the line of the program that asked for it. Joined by a space,
    /// the clauses are the text.
    pub fn clauses(&self) -> impl Iterator<Item = (&str, Origin)> {
        self.spans().map(|(clause, mark)| (clause, mark.origin))
    }

    fn spans(&self) -> impl Iterator<Item = (&str, &Mark)> {
        let ends = self
            .marks
            .iter()
            .skip(1)
            .map(|mark| mark.at)
            .chain([self.text.len()]);
        let spans = self.marks.iter().zip(ends);
        spans.map(|(mark, end)| (self.text[mark.at..end].trim(), mark))
    }

    /// Returns the same SQL to print with one clause a line.
    pub fn by_clause(&self) -> ByClause<'_> {
        ByClause { sql: self, origins: false }
    }

    /// Returns the same SQL to print with one clause a line, each followed by `@` and the line of the program
    /// that asked for it, and by the relations that are followed or asked in it. What a policy asked for has
    /// the line where its table declares it.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64, country: String }
    /// let query = Lab::rows().filter(|l| l.country.eq("Tuvalu")).limit(5);
    /// println!("{}", query.sql(Dialect::Sqlite)?.with_origins());
    /// // SELECT "lab"."id", "lab"."country"        @ src/labs.rs:12
    /// // FROM "lab"                                @ src/labs.rs:12
    /// // WHERE "lab"."country" COLLATE BINARY = ?  @ src/labs.rs:12
    /// // LIMIT +?                                  @ src/labs.rs:12
    /// //   1: 'Tuvalu'
    /// //   2: 5
    /// # Ok::<(), Error>(())
    /// ```
    pub fn with_origins(&self) -> ByClause<'_> {
        ByClause { sql: self, origins: true }
    }

    fn write_binds(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mark = match self.grammar.placeholder() {
            Placeholder::Numbered(mark) => mark,
            Placeholder::QuestionMark => "",
        };
        for (i, bind) in self.binds.iter().enumerate() {
            write!(f, "\n  {mark}{}: {bind}", i + 1)?;
        }
        Ok(())
    }
}

impl fmt::Display for Sql {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (i, line) in lines(&self.text, &[]).iter().enumerate() {
            let end = if i > 0 { "\n" } else { "" };
            write!(f, "{end}{:indent$}{}", "", line.text, indent = line.indent)?;
        }
        self.write_binds(f)
    }
}

/// Prints an [`Sql`] one clause a line; made by [`Sql::by_clause`] and [`Sql::with_origins`].
#[derive(Debug, Clone, Copy)]
pub struct ByClause<'a> {
    sql: &'a Sql,
    origins: bool,
}

/// A line longer than this does not move the origins of the others to the right.
const WIDEST: usize = 100;

impl fmt::Display for ByClause<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let marks = &self.sql.marks;
        let starts: Vec<usize> = marks.iter().map(|mark| mark.at).collect();
        let lines = lines(&self.sql.text, &starts);
        let width = |line: &Line<'_>| line.indent + line.text.chars().count();
        let aligned = lines
            .iter()
            .map(width)
            .filter(|width| *width <= WIDEST)
            .max()
            .unwrap_or(0);
        let mut marks = marks.iter().peekable();
        for (i, line) in lines.iter().enumerate() {
            let end = if i > 0 { "\n" } else { "" };
            write!(f, "{end}{:indent$}{}", "", line.text, indent = line.indent)?;
            // A mark stands at the first line that begins behind it, since it may stand before a space.
            let mark = marks
                .next_if(|mark| mark.at <= line.at)
                .filter(|_| self.origins);
            if let Some(mark) = mark {
                let gap = aligned.saturating_sub(width(line));
                write!(f, "{:gap$}", "")?;
                self.write_origin(f, mark)?;
            }
        }
        self.sql.write_binds(f)
    }
}

impl ByClause<'_> {
    fn write_origin(&self, f: &mut fmt::Formatter<'_>, mark: &Mark) -> fmt::Result {
        write!(f, "  @ {}", mark.origin)?;
        let mut policies = self.sql.policies.iter();
        let policy = policies.find(|used| !used.is_waived() && used.origin() == mark.origin);
        if let Some(policy) = policy {
            write!(f, " by policy {}", policy.policy())?;
        }
        for (i, [table, name]) in mark.relations.iter().enumerate() {
            write!(f, "{}{table}.{name}", if i == 0 { " for " } else { ", " })?;
        }
        Ok(())
    }
}
