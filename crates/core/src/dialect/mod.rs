//! The dialects, and the questions that the writer asks them.
//!
//! A dialect's own file answers only where it differs from the default answer here. No code asks for the name
//! of the dialect: it asks how something is written.

mod forms;
mod mysql;
mod postgres;
mod sqlite;

use std::fmt;

use rust_decimal::Decimal;

pub use forms::{
    Collated, DistinctForm, LimitForm, ListEncoding, ListForm, NullOrder, PatternForm, Placeholder,
    Quotes, ReturningForm, ReturningOf, SchemaForm, ScriptForm, TruthForm, UpsertForm,
};

use crate::model::{BindValue, Function, NativeType, SqlType};
use crate::tree::{JoinKind, Lock, SetOperator};

/// The SQL of a database engine.
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
    /// Every dialect.
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

/// The answers of a dialect to the questions of the writer.
pub trait Grammar: fmt::Debug + Sync {
    /// Returns the name of the dialect in messages.
    fn name(&self) -> &'static str;

    /// Returns the quote marks around identifiers.
    fn quotes(&self) -> Quotes {
        Quotes::DOUBLE
    }

    /// Returns the form of a bind.
    fn placeholder(&self) -> Placeholder {
        Placeholder::QuestionMark
    }

    /// Returns the relation between conditions and values.
    fn truth(&self) -> TruthForm {
        TruthForm::Value
    }

    /// Returns the form of LIMIT and OFFSET.
    fn limit(&self) -> LimitForm;

    /// Returns the text that opens a join, if the dialect has it. Without a full join, the writer combines two queries.
    fn join(&self, kind: JoinKind) -> Option<&'static str> {
        Some(match kind {
            JoinKind::Inner => " INNER JOIN ",
            JoinKind::Left => " LEFT JOIN ",
            JoinKind::Right => " RIGHT JOIN ",
            JoinKind::Full => " FULL JOIN ",
            JoinKind::Cross => " CROSS JOIN ",
        })
    }

    /// Returns the text between the queries of a set operation, if the dialect has it.
    fn set(&self, operator: SetOperator) -> Option<&'static str> {
        Some(match operator {
            SetOperator::Union => " UNION ",
            SetOperator::UnionAll => " UNION ALL ",
            SetOperator::Intersect => " INTERSECT ",
            SetOperator::Except => " EXCEPT ",
        })
    }

    /// Returns the text that opens a recursive common table expression, if the dialect has it.
    fn recursion(&self) -> Option<&'static str> {
        Some("WITH RECURSIVE ")
    }

    /// Returns the text of a constant that the engine does not know as one, if it mixes up several windows in one query:
    /// such a text leads the partition of each, so that no two of them are sorted together.
    fn window_lead(&self) -> Option<&'static str> {
        None
    }

    /// Returns whether a column that the keys of a group decide may stand beside them without being a key itself.
    fn groups_by_key_alone(&self) -> bool {
        false
    }

    /// Returns the text before the grouping sets of GROUP BY, if the dialect has them.
    fn grouping_sets(&self) -> Option<&'static str> {
        None
    }

    /// Returns the collations of the left and the right side of `=`, `<>` and `IN`, to compare text by code point.
    fn text_equality(&self) -> [Collated; 2];

    /// Returns the collation that compares text by code point where a column's own may treat different texts as
    /// equal; `None` if [`text_equality`](Self::text_equality) does so anyway.
    fn text_sameness(&self) -> Option<Collated> {
        None
    }

    /// Returns the collations of both sides where a text is looked up in the texts of a query.
    fn text_lookup(&self) -> [Collated; 2] {
        self.text_equality()
    }

    /// Returns the text around a bind where its neighbours do not tell the engine its type.
    fn bind_alone(&self, sql_type: SqlType) -> [&'static str; 2] {
        self.bind_beside(sql_type)
    }

    /// Returns the text around a bind that is compared with a value of its type.
    fn bind_beside(&self, _sql_type: SqlType) -> [&'static str; 2] {
        ["", ""]
    }

    /// Returns the text around a bind that is a decimal, if its size decides its type.
    fn decimal_bind(&self, _value: &Decimal) -> Option<[&'static str; 2]> {
        None
    }

    /// Returns the collation that orders text by code point.
    fn text_order(&self) -> Collated;

    /// Returns the collation of a text that rows are grouped or partitioned by, by code point.
    fn text_identity(&self) -> Collated {
        self.text_order()
    }

    /// Returns the text of a function, if the dialect has it.
    fn form(&self, function: &Function) -> Option<&'static str>;

    /// Returns the text around a value that a derived table `c` computes once for the expression before it, as `c.v`, if
    /// such a table may use the columns around it.
    fn computed_once(&self) -> Option<[&'static str; 2]> {
        None
    }

    /// Returns the form of IS DISTINCT FROM.
    fn distinct(&self) -> DistinctForm;

    /// Returns the form of IS NOT DISTINCT FROM. If `in_expression`, it must be FALSE, not NULL, for a value
    /// and a NULL.
    fn not_distinct(&self, in_expression: bool) -> DistinctForm;

    /// Returns the form of a case-sensitive pattern match.
    fn pattern(&self) -> PatternForm;

    /// Returns the lengths, ascending, that short lists count as: each counts as the next length. Longer and empty lists
    /// count as `usize::MAX` long.
    fn list_lengths(&self, _item: SqlType) -> &'static [usize] {
        &[]
    }

    /// Returns the form of a lookup in a list that counts as `length` long. If `in_expression`, the condition stands
    /// below NOT or OR, which some engines plan badly.
    fn list(&self, item: SqlType, in_expression: bool, length: usize) -> ListForm;

    /// Returns the ORDER BY of a nullable expression, with NULLs first or last.
    fn null_order(&self, descending: bool, nulls_first: bool) -> NullOrder;

    /// Returns whether the engine can compare and order values of the type.
    fn can_compare(&self, sql_type: SqlType) -> bool {
        // One month equals 30 days on PostgreSQL only.
        !matches!(
            sql_type,
            SqlType::Json | SqlType::Native(NativeType::Array(_) | NativeType::Interval)
        )
    }

    /// Returns whether the engine can order values of a type that it can compare.
    fn can_order(&self, sql_type: SqlType) -> bool {
        !matches!(sql_type, SqlType::Native(_))
    }

    /// Returns whether the engine has `min` and `max` of a type, in the order of its values.
    fn has_extremes(&self, sql_type: SqlType) -> bool {
        let is_native = matches!(sql_type, SqlType::Native(_));
        self.can_compare(sql_type) && (!is_native || self.can_order(sql_type))
    }

    /// Returns the text around values of a type that the engine would order in another way than the other engines.
    fn order_key(&self, _sql_type: SqlType) -> Collated {
        Collated::AS_IT_IS
    }

    /// Returns the text around values of a type of which the engine would not treat equal ones as equal.
    fn identity_key(&self, _sql_type: SqlType) -> Collated {
        Collated::AS_IT_IS
    }

    /// Returns the text around values of such a type in a list of which each row is kept once.
    fn distinct_value(&self, _sql_type: SqlType) -> Collated {
        Collated::AS_IT_IS
    }

    /// Returns whether the engine has a type for exact fractions. Otherwise they are text, and functions compute with
    /// them.
    fn has_decimals(&self) -> bool {
        true
    }

    /// Returns the name of a type of PostgreSQL without the brackets of an array, and whether it is one, if the
    /// engine has such types. Otherwise values are text.
    fn native_type(&self, _native: NativeType) -> Option<(&'static str, bool)> {
        None
    }

    /// Returns whether the engine has enum types, whose values compare and sort in their order. Otherwise values are
    /// text, or compare as text.
    fn has_enum_types(&self) -> bool {
        false
    }

    /// Returns whether the engine can compute with values of the type.
    fn can_compute(&self, _sql_type: SqlType) -> bool {
        true
    }

    /// Returns the text before a statement with subqueries that depend on text of the rows around them, if the engine
    /// remembers their results by the collation of the column, which treats different texts as equal.
    fn forgetful(&self) -> Option<&'static str> {
        None
    }

    /// Returns the text before a statement for EXPLAIN, or with `analyze` for one that also measures.
    fn explain(&self, analyze: bool) -> Option<&'static str>;

    /// Returns the clause that locks rows, if the dialect has it: the text before and after the names of
    /// tables.
    fn lock(&self, lock: Lock) -> Option<[&'static str; 2]> {
        Some(match lock {
            Lock::Wait => [" FOR UPDATE", ""],
            Lock::Skip => [" FOR UPDATE", " SKIP LOCKED"],
            Lock::NoWait => [" FOR UPDATE", " NOWAIT"],
            Lock::Share => [" FOR SHARE", ""],
        })
    }

    /// Returns whether a lock names its tables. Without names, the rows of joined tables are locked too.
    fn locks_named_tables(&self) -> bool {
        false
    }

    /// Returns the marks of quotes and comments in a script.
    fn script(&self) -> ScriptForm {
        ScriptForm::default()
    }

    /// Returns whether a statement that changes the schema commits the transaction that it stands in.
    fn commits_by_ddl(&self) -> bool {
        false
    }

    /// Returns whether a function can stand in FROM.
    fn has_table_functions(&self) -> bool {
        true
    }

    /// Returns whether a session finds unqualified names in a schema of its choice.
    fn has_search_path(&self) -> bool {
        false
    }

    /// Returns whether a procedure can return result sets.
    fn has_result_sets(&self) -> bool {
        false
    }

    /// Returns whether aggregates have `FILTER (WHERE ..)`.
    fn has_filter(&self) -> bool {
        true
    }

    /// Returns the clause by which a write returns its rows, if the dialect has it.
    fn returning(&self, _write: ReturningOf) -> Option<ReturningForm> {
        Some(ReturningForm::AtEnd(" RETURNING "))
    }

    /// Returns the text after the table name that inserts a row of defaults.
    fn default_row(&self) -> &'static str {
        " DEFAULT VALUES"
    }

    /// Returns whether an assignment of an UPDATE sees the values of earlier ones.
    fn sets_in_turn(&self) -> bool {
        false
    }

    /// Returns the text before a joined table of an UPDATE: before the assignments, or after them.
    fn update_join(&self) -> [Option<&'static str>; 2] {
        [None, Some(" FROM ")]
    }

    /// Returns the form of an upsert, if the dialect has it.
    fn upsert(&self) -> Option<UpsertForm> {
        Some(UpsertForm::ON_CONFLICT)
    }

    /// Returns the types and collations of columns in CREATE TABLE, if tables can be created from structs.
    fn schema(&self) -> Option<SchemaForm> {
        None
    }

    /// Returns the largest number of binds of a statement, and the number of rows that are inserted fastest
    /// together.
    fn most_inserted(&self) -> [usize; 2];

    /// Returns whether the engine has COPY in PostgreSQL's binary form.
    fn copies(&self) -> bool {
        false
    }

    /// Returns why a value cannot be sent, or `None` if it can.
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

    /// Returns the statement that sets a session variable until the transaction ends, for a name and a text,
    /// if there is one.
    fn session_value(&self) -> Option<&'static str> {
        None
    }

    /// Returns the name of the function that changes a session setting inside an expression, if there is one.
    fn setting_function(&self) -> Option<&'static str> {
        None
    }

    /// Returns the name of the engine in OpenTelemetry's conventions for databases.
    fn system_name(&self) -> &'static str;

    /// Returns whether statements run on a server, which sees their comments.
    fn is_of_server(&self) -> bool {
        true
    }
}

/// Answers that follow from others.
impl dyn Grammar {
    /// Returns how many rows of this many columns one INSERT takes.
    pub(crate) fn rows_at_once(&self, columns: usize) -> usize {
        let [binds, rows] = self.most_inserted();
        match columns {
            // No dialect inserts several rows of defaults at once.
            0 => 1,
            columns => (binds / columns).clamp(1, rows),
        }
    }

    /// Returns whether an upsert may match on any unique column without reporting which.
    pub(crate) fn confuses_unique_columns(&self) -> bool {
        self.upsert().is_some_and(|form| !form.names_columns)
    }

    /// Returns whether an upsert counts and returns also rows that it left unchanged.
    pub(crate) fn upserts_loosely(&self) -> bool {
        self.upsert().is_some_and(|form| !form.has_condition)
    }

    /// Returns whether an upsert reports how many rows it inserted, in each row or in its count.
    pub(crate) fn tells_inserted(&self) -> bool {
        self.upsert()
            .is_some_and(|form| form.tells_inserted.is_some() || form.counts_updates_twice)
    }

    /// Returns whether an UPDATE, or a DELETE, can return its rows.
    pub(crate) fn returns(&self, deleted: bool) -> bool {
        let write = if deleted { ReturningOf::Delete } else { ReturningOf::Update };
        self.returning(write).is_some()
    }
}
