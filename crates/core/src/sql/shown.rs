//! SQL for people to look at: the text, the binds, and who asked for what.

use std::fmt;

use smallvec::SmallVec;

use crate::dialect::{Grammar, Placeholder};
use crate::model::{BindValue, Origin};
use crate::tree::{PolicyUse, RelationName};

/// A place in the text where a clause begins, and who asked for it.
#[derive(Debug, Clone)]
pub(super) struct Mark {
    pub(super) at: usize,
    pub(super) origin: Origin,
    /// The relations that the clause is there for, or that are asked in it.
    pub(super) relations: SmallVec<[RelationName; 1]>,
}

/// The SQL of a query in one dialect.
///
/// `Display` prints the text, then each bind with its number on a line of its own.
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

    /// The same with the policies that it met.
    pub(super) fn with_policies(self, policies: Vec<PolicyUse>) -> Sql {
        Sql { policies, ..self }
    }

    /// Returns the name of the dialect that it is written in.
    pub fn dialect(&self) -> &'static str {
        self.grammar.name()
    }

    /// The text as the database gets it: a placeholder stands for every value.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The values, in the order of their placeholders.
    pub fn binds(&self) -> &[BindValue] {
        &self.binds
    }

    /// The policies of the tables in it, in queries inside too: which were applied and which waived.
    pub fn policies(&self) -> &[PolicyUse] {
        &self.policies
    }

    /// Each clause of the text, with the line of the program that asked for it. Put together, with
    /// a space between, the clauses are the text.
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

    /// The same SQL to print with one clause a line.
    pub fn by_clause(&self) -> ByClause<'_> {
        ByClause { sql: self, origins: false }
    }

    /// The same SQL to print with one clause a line, each followed by `@` and the line of the
    /// program that asked for it, and by the relations that are followed or asked in it. What a policy
    /// asked for has the line where its table declares it.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64, country: String }
    /// let query = Lab::rows().filter(|l| l.country.eq("Tuvalu")).limit(5);
    /// println!("{}", query.sql(Dialect::Sqlite)?.with_origins());
    /// // SELECT "lab"."id", "lab"."country"        @ src/labs.rs:12
    /// // FROM "lab"                                @ src/labs.rs:12
    /// // WHERE "lab"."country" COLLATE BINARY = ?  @ src/labs.rs:12
    /// // LIMIT ?                                   @ src/labs.rs:12
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
        f.write_str(&self.text)?;
        self.write_binds(f)
    }
}

/// Prints an [`Sql`] one clause a line; made by [`Sql::by_clause`] and [`Sql::with_origins`].
#[derive(Debug, Clone, Copy)]
pub struct ByClause<'a> {
    sql: &'a Sql,
    origins: bool,
}

/// A clause longer than this does not move the origins of the others to the right.
const WIDEST: usize = 100;

impl fmt::Display for ByClause<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // What goes on with a list stands under the clause that began it.
        let indent = |clause: &str| match clause.starts_with("AND ") || clause.starts_with(", ") {
            true => "  ",
            false => "",
        };
        let width = |clause: &str| indent(clause).len() + clause.chars().count();
        let widths = self.sql.spans().map(|(clause, _)| width(clause));
        let aligned = widths.filter(|width| *width <= WIDEST).max().unwrap_or(0);
        for (i, (clause, mark)) in self.sql.spans().enumerate() {
            if i > 0 {
                f.write_str("\n")?;
            }
            write!(f, "{}{clause}", indent(clause))?;
            if self.origins {
                let gap = aligned.saturating_sub(width(clause));
                write!(f, "{:gap$}  @ {}", "", mark.origin)?;
                let mut policies = self.sql.policies.iter();
                let policy =
                    policies.find(|used| !used.is_waived() && used.origin() == mark.origin);
                if let Some(policy) = policy {
                    write!(f, " by policy {}", policy.policy())?;
                }
                for (i, relation) in mark.relations.iter().enumerate() {
                    let [table, name] = relation;
                    write!(f, "{}{table}.{name}", if i == 0 { " for " } else { ", " })?;
                }
            }
        }
        self.sql.write_binds(f)
    }
}
