//! The dialects, and the questions that a writer asks of them.
//!
//! A dialect's own file answers only what differs from the commonest answer, which is the default
//! here. No code asks which dialect it is: it asks how a thing is written.

mod forms;
mod mysql;
mod postgres;
mod sqlite;

use std::fmt;

pub use forms::{
    Collated, DistinctForm, LimitForm, ListEncoding, ListForm, NullOrder, PatternForm, Placeholder,
    Quotes, ReturningForm, ReturningOf, TruthForm, UpsertForm,
};

use crate::model::{BindValue, Function, SqlType};
use crate::tree::{JoinKind, Lock, SetOperator};

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

    /// Returns the answers of the dialect.
    #[doc(hidden)]
    pub fn grammar(self) -> &'static dyn Grammar {
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
        f.write_str(self.grammar().name())
    }
}

/// The answers of a dialect to the questions of a writer.
pub trait Grammar: fmt::Debug + Sync {
    /// The name of the dialect in messages.
    fn name(&self) -> &'static str;

    /// The marks around identifiers.
    fn quotes(&self) -> Quotes {
        Quotes::DOUBLE
    }

    /// Returns the form of a bind.
    fn placeholder(&self) -> Placeholder {
        Placeholder::QuestionMark
    }

    /// Returns the form in which a condition is a value, and a truth value a condition.
    fn truth(&self) -> TruthForm {
        TruthForm::Value
    }

    /// Returns how many rows a query gives, and how many it leaves out before them.
    fn limit(&self) -> LimitForm;

    /// Returns the text that opens a join, if there is such a join.
    fn join(&self, kind: JoinKind) -> Option<&'static str> {
        Some(match kind {
            JoinKind::Inner => " INNER JOIN ",
            JoinKind::Left => " LEFT JOIN ",
            JoinKind::Cross => " CROSS JOIN ",
        })
    }

    /// Returns the text between the queries of a set, if there is such a set.
    fn set(&self, operator: SetOperator) -> Option<&'static str> {
        Some(match operator {
            SetOperator::Union => " UNION ",
            SetOperator::UnionAll => " UNION ALL ",
            SetOperator::Intersect => " INTERSECT ",
            SetOperator::Except => " EXCEPT ",
        })
    }

    /// Returns the text that opens a recursive common table expression, if there is one.
    fn recursion(&self) -> Option<&'static str> {
        Some("WITH RECURSIVE ")
    }

    /// Returns the text before the grouping sets of GROUP BY, if there are such.
    fn grouping_sets(&self) -> Option<&'static str> {
        None
    }

    /// Returns the collations of the left and the right side of `=`, `<>` and `IN`, to compare text by code point.
    fn text_equality(&self) -> [Collated; 2];

    /// The same for a text and the texts that a query gives.
    fn text_lookup(&self) -> [Collated; 2] {
        self.text_equality()
    }

    /// Returns the text around a bind where nothing beside it tells the engine its type.
    fn bind_alone(&self, sql_type: SqlType) -> [&'static str; 2] {
        self.bind_beside(sql_type)
    }

    /// Returns the text around a bind that is compared with a value of its type.
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

    /// Returns the comparison that two values differ, where NULL is a value like any.
    fn distinct(&self) -> DistinctForm;

    /// The opposite; where `guarded` it has to be false, not NULL, for one value and a NULL.
    fn not_distinct(&self, guarded: bool) -> DistinctForm;

    /// Returns the form of a match with a pattern whose letter case counts.
    fn pattern(&self) -> PatternForm;

    /// Returns the form of a lookup in a list that is one bind. Where `guarded`, the condition stands
    /// below NOT or OR, which some engines plan badly.
    fn list(&self, item: SqlType, guarded: bool) -> ListForm;

    /// Returns the form of an order of a nullable expression, its NULLs at the wanted end.
    fn null_order(&self, descending: bool, nulls_first: bool) -> NullOrder;

    /// Returns whether values of the type can be compared and ordered.
    fn can_compare(&self, sql_type: SqlType) -> bool {
        sql_type != SqlType::Json
    }

    /// Returns whether the engine can compute with values of the type.
    fn can_compute(&self, _sql_type: SqlType) -> bool {
        true
    }

    /// Returns the text before a statement that asks for its plan, or with `analyze` also measures it.
    fn explain(&self, analyze: bool) -> Option<&'static str>;

    /// Returns the clause that locks rows, if they can be locked: the text before and after the tables that it names.
    fn lock(&self, lock: Lock) -> Option<[&'static str; 2]> {
        Some(match lock {
            Lock::Wait => [" FOR UPDATE", ""],
            Lock::Skip => [" FOR UPDATE", " SKIP LOCKED"],
            Lock::NoWait => [" FOR UPDATE", " NOWAIT"],
        })
    }

    /// Returns whether a lock names the tables whose rows it is of: without, those of tables beside are locked too.
    fn locks_named_tables(&self) -> bool {
        false
    }

    /// Returns whether an aggregate can be told which rows count: `FILTER (WHERE ..)`.
    fn has_filter(&self) -> bool {
        true
    }

    /// Returns the form in which a write gives back its rows, if it can.
    fn returning(&self, _write: ReturningOf) -> Option<ReturningForm> {
        Some(ReturningForm::AtEnd(" RETURNING "))
    }

    /// Returns the text after the name of a table that inserts a row of nothing but defaults.
    fn default_row(&self) -> &'static str {
        " DEFAULT VALUES"
    }

    /// Returns whether an update computes each value from those that it has set before.
    fn sets_in_turn(&self) -> bool {
        false
    }

    /// Returns the form of an upsert, if there is one.
    fn upsert(&self) -> Option<UpsertForm> {
        Some(UpsertForm::ON_CONFLICT)
    }

    /// Returns how many values one statement can bind, and how many rows are inserted fastest together.
    fn most_inserted(&self) -> [usize; 2];

    /// Returns whether there is COPY, in PostgreSQL's binary form.
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

    /// Returns whether floats have infinities.
    fn has_infinity(&self) -> bool {
        true
    }

    /// The statement that sets a value of the session until the transaction ends, of a name and a text, if there is one.
    fn session_value(&self) -> Option<&'static str> {
        None
    }

    /// Returns the name of the function by which an expression changes a setting of the session, if there is one.
    fn setting_function(&self) -> Option<&'static str> {
        None
    }

    /// The name of the engine in OpenTelemetry's conventions for databases.
    fn system_name(&self) -> &'static str;

    /// Returns whether a server runs its statements, which sees their comments; else the program does itself.
    fn is_of_server(&self) -> bool {
        true
    }
}

/// Facts that follow from the answers.
impl dyn Grammar {
    /// Returns how many rows of so many columns are inserted by one statement.
    pub(crate) fn rows_at_once(&self, columns: usize) -> usize {
        let [binds, rows] = self.most_inserted();
        match columns {
            // Rows of nothing but defaults have no form for several.
            0 => 1,
            columns => (binds / columns).clamp(1, rows),
        }
    }

    /// Returns whether an upsert goes by whichever unique column a row is found by, and does not tell which.
    pub(crate) fn confuses_unique_columns(&self) -> bool {
        self.upsert().is_some_and(|form| !form.names_columns)
    }

    /// Returns whether an upsert counts the rows that it changed, and gives back also those that it left as they are.
    pub(crate) fn upserts_loosely(&self) -> bool {
        self.upsert().is_some_and(|form| !form.has_condition)
    }

    /// Returns whether it is told how many rows an upsert inserted: with each row, or by how the server counts.
    pub(crate) fn tells_inserted(&self) -> bool {
        self.upsert()
            .is_some_and(|form| form.tells_inserted.is_some() || form.counts_updates_twice)
    }

    /// Returns whether rows that are updated, or deleted, can be given back.
    pub(crate) fn returns(&self, deleted: bool) -> bool {
        let write = if deleted { ReturningOf::Delete } else { ReturningOf::Update };
        self.returning(write).is_some()
    }
}
