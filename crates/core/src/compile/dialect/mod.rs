//! The dialects, and the questions that the walker asks of them.
//!
//! A dialect's own file answers only what differs from the commonest answer, which is the default
//! here. No code asks which dialect it is: it asks how a thing is written.

mod mysql;
mod postgres;
mod sqlite;

use std::fmt;

use crate::function::Function;
use crate::storable::{BindValue, SqlType};
use crate::tree::Lock;

/// A database engine's form of SQL.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Dialect {
    /// SQLite 3.40 and later.
    Sqlite,
    /// PostgreSQL 14 and later.
    Postgres,
    /// MariaDB 10.6 and later.
    MariaDb,
    /// MySQL 8.0.19 and later.
    MySql,
}

impl Dialect {
    /// All of them.
    pub const ALL: [Dialect; 4] =
        [Dialect::Sqlite, Dialect::Postgres, Dialect::MariaDb, Dialect::MySql];

    /// How many rows of so many columns are inserted by one statement.
    pub(crate) fn rows_at_once(self, columns: usize) -> usize {
        let [binds, rows] = self.grammar().most_inserted();
        match columns {
            // Rows of nothing but defaults have no form for several.
            0 => 1,
            columns => (binds / columns).clamp(1, rows),
        }
    }

    /// Whether an upsert goes by whichever unique column a row is found by, and does not tell which.
    pub(crate) fn confuses_unique_columns(self) -> bool {
        !self.grammar().upsert().names_columns
    }

    /// Whether an upsert counts the rows that it changed, and gives back also those that it left as they are.
    pub(crate) fn upserts_loosely(self) -> bool {
        !self.grammar().upsert().has_condition
    }

    /// Whether it is told how many rows an upsert inserted: with each row, or by how the server counts.
    pub(crate) fn tells_inserted(self) -> bool {
        let form = self.grammar().upsert();
        form.tells_inserted.is_some() || form.counts_updates_twice
    }

    /// Whether rows that are updated, or deleted, can be given back.
    pub(crate) fn returns(self, deleted: bool) -> bool {
        self.grammar().returns(deleted)
    }

    /// Whether rows can be copied into a table, past statements that bind their values.
    pub(crate) fn copies(self) -> bool {
        self.grammar().copies()
    }

    pub(super) fn grammar(self) -> &'static dyn Grammar {
        match self {
            Dialect::Sqlite => &sqlite::Sqlite,
            Dialect::Postgres => &postgres::Postgres,
            Dialect::MariaDb => &mysql::MARIADB,
            Dialect::MySql => &mysql::MYSQL,
        }
    }
}

impl fmt::Display for Dialect {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Dialect::Sqlite => "SQLite",
            Dialect::Postgres => "PostgreSQL",
            Dialect::MariaDb => "MariaDB",
            Dialect::MySql => "MySQL",
        })
    }
}

/// How a dialect writes what the walker has to write.
pub(super) trait Grammar: Sync {
    /// The mark around identifiers.
    fn quote_mark(&self) -> QuoteMark {
        QuoteMark::Double
    }

    /// How a bind is written.
    fn placeholder(&self) -> Placeholder {
        Placeholder::QuestionMark
    }

    /// Returns the collations of the left and the right side of `=`, `<>` and `IN`, to compare text by code point.
    fn text_equality(&self) -> [Collated; 2];

    /// The same for a text and the texts that a query gives.
    fn text_lookup(&self) -> [Collated; 2] {
        self.text_equality()
    }

    /// What to write around a bind of a type where nothing beside it tells the engine which it is.
    fn bind_alone(&self, sql_type: SqlType) -> [&'static str; 2] {
        self.bind_beside(sql_type)
    }

    /// What to write around a bind that is compared with a value of its type.
    fn bind_beside(&self, _sql_type: SqlType) -> [&'static str; 2] {
        ["", ""]
    }

    /// Returns the collation of a text that is ordered, or of which the greater is found, by code point.
    fn text_order(&self) -> Collated;

    /// Returns the collation of a text that is a key of groups or partitions, by code point.
    fn text_identity(&self) -> Collated {
        self.text_order()
    }

    /// The text of a function, if the dialect has one.
    fn form(&self, function: &Function) -> Option<&'static str>;

    /// How two values are found to be different where NULL is a value like any.
    fn distinct(&self) -> DistinctForm;

    /// The opposite; where `guarded` it has to be false, not NULL, for one value and a NULL.
    fn not_distinct(&self, guarded: bool) -> DistinctForm;

    /// How text is matched with a pattern, letter case being significant.
    fn pattern(&self) -> PatternForm;

    /// How a value is looked up in a list that is one bind. Where `guarded`, the condition stands
    /// below NOT or OR, which some engines plan badly.
    fn list(&self, item: SqlType, guarded: bool) -> ListForm;

    /// How a nullable expression is ordered with its NULLs at the wanted end.
    fn null_order(&self, descending: bool, nulls_first: bool) -> NullOrder;

    /// What to write for the limit where there is an offset alone.
    fn no_limit(&self) -> &'static str;

    /// Whether values of the type can be compared and ordered.
    fn can_compare(&self, sql_type: SqlType) -> bool {
        sql_type != SqlType::Json
    }

    /// Whether the engine can compute with values of the type.
    fn can_compute(&self, _sql_type: SqlType) -> bool {
        true
    }

    /// What to write before a statement to get its plan, or with `analyze` also to measure it.
    fn explain(&self, analyze: bool) -> Option<&'static str>;

    /// What follows `FOR UPDATE`, if rows can be locked.
    fn lock(&self, lock: Lock) -> Option<&'static str> {
        Some(match lock {
            Lock::Wait => "",
            Lock::Skip => " SKIP LOCKED",
            Lock::NoWait => " NOWAIT",
        })
    }

    /// Whether a lock names the tables whose rows it is of: without, those of tables beside are locked too.
    fn locks_named_tables(&self) -> bool {
        false
    }

    /// Whether an aggregate can be told which rows count: `FILTER (WHERE ..)`.
    fn has_filter(&self) -> bool {
        true
    }

    /// Whether rows that are deleted, or else updated, can be given back: `RETURNING`.
    fn returns(&self, _deleted: bool) -> bool {
        true
    }

    /// Whether rows that are inserted can be given back.
    fn returns_inserted(&self) -> bool {
        true
    }

    /// What follows the name of a table for a new row of nothing but defaults.
    fn default_row(&self) -> &'static str {
        " DEFAULT VALUES"
    }

    /// Whether an update computes each value from those that it has set before.
    fn sets_in_turn(&self) -> bool {
        false
    }

    /// How an insert updates rows that are there already.
    fn upsert(&self) -> UpsertForm {
        UpsertForm::ON_CONFLICT
    }

    /// How many values one statement can bind, and how many rows are inserted fastest together.
    fn most_inserted(&self) -> [usize; 2];

    /// Whether there is COPY, in PostgreSQL's binary form.
    fn copies(&self) -> bool {
        false
    }

    /// Why a value cannot be sent, if it cannot.
    fn refusal(&self, value: &BindValue) -> Option<&'static str> {
        match value {
            BindValue::Float(x) if x.is_infinite() && !self.has_infinity() => {
                Some("this dialect has no infinity")
            }
            value => value.refusal(),
        }
    }

    /// Whether floats have infinities.
    fn has_infinity(&self) -> bool {
        true
    }
}

/// The mark around identifiers, which is doubled inside them.
#[derive(Debug, Clone, Copy)]
pub(super) enum QuoteMark {
    Double,
    Backtick,
}

impl QuoteMark {
    /// Its place among the texts that descriptors hold for each.
    pub(super) fn place(self) -> usize {
        match self {
            QuoteMark::Double => 0,
            QuoteMark::Backtick => 1,
        }
    }
}

/// How a bind is written.
#[derive(Debug, Clone, Copy)]
pub(super) enum Placeholder {
    /// `?`
    QuestionMark,
    /// `$1`, `$2` and so on.
    Numbered,
}

/// The SQL around a text that gives it a collation: `{open}x{close}`. A bind has the character set of the connection, so
/// that a collation after it is enough.
#[derive(Debug, Clone, Copy)]
pub(super) struct Collated {
    pub(super) open: &'static str,
    pub(super) close: &'static str,
    pub(super) after_bind: &'static str,
}

impl Collated {
    pub(super) const AS_IT_IS: Collated = Collated::after("");

    pub(super) const fn after(text: &'static str) -> Collated {
        Collated { open: "", close: text, after_bind: text }
    }
}

/// How two values are told apart or found the same: `{open}x{operator}y{close}`.
#[derive(Debug, Clone, Copy)]
pub(super) struct DistinctForm {
    pub(super) open: &'static str,
    pub(super) operator: &'static str,
    /// Whether that they are both NULL has to be asked apart.
    pub(super) or_both_null: bool,
    pub(super) close: &'static str,
}

impl DistinctForm {
    const fn of(operator: &'static str) -> DistinctForm {
        DistinctForm { open: "", operator, or_both_null: false, close: "" }
    }
}

/// How text is matched with a pattern.
#[derive(Debug, Clone, Copy)]
pub(super) enum PatternForm {
    /// `GLOB`, with the pattern rewritten to its wildcards.
    Glob,
    /// `LIKE .. ESCAPE '!'`, with this after the pattern.
    Like { collate: &'static str },
}

/// The SQL that looks a value up in a list: `x{open}?{close}`, where `x` has the collation `left`.
#[derive(Debug, Clone, Copy)]
pub(super) struct ListForm {
    pub(super) left: Collated,
    pub(super) open: &'static str,
    pub(super) close: &'static str,
    pub(super) encoding: ListEncoding,
}

/// How a list travels.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum ListEncoding {
    /// As an array, which the driver can send.
    Array,
    /// As text: a JSON array, its timestamps ending in `Z` or not, and its texts of limited length or not.
    Json { zone_mark: bool, longest_text: usize },
}

/// How an insert updates rows that are there already.
#[derive(Debug, Clone, Copy)]
pub(super) struct UpsertForm {
    pub(super) opening: &'static str,
    /// Whether it names the columns by which a row is known; else any that are unique do.
    pub(super) names_columns: bool,
    pub(super) update: &'static str,
    /// How it leaves the row as it is.
    pub(super) nothing: Option<&'static str>,
    /// Whether it can be told which rows to update; else it also counts and gives back what it left.
    pub(super) has_condition: bool,
    /// Whether a row that it changed counts twice, so that the count tells how many were inserted.
    pub(super) counts_updates_twice: bool,
    /// How it gives back of each row whether that was inserted.
    pub(super) tells_inserted: Option<&'static str>,
    /// What stands around a column of the new row.
    pub(super) new: [&'static str; 2],
}

impl UpsertForm {
    const ON_CONFLICT: UpsertForm = UpsertForm {
        opening: " ON CONFLICT",
        names_columns: true,
        update: " DO UPDATE SET ",
        nothing: Some(" DO NOTHING"),
        has_condition: true,
        counts_updates_twice: false,
        tells_inserted: None,
        new: ["excluded.", ""],
    };
}

/// How an expression is ordered: `x{first}, x{then}`, or only the second part.
#[derive(Debug, Clone, Copy)]
pub(super) struct NullOrder {
    pub(super) first: Option<&'static str>,
    pub(super) then: &'static str,
}
