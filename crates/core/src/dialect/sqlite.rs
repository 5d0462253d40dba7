//! SQLite: columns have no strict types, so dates, UUIDs and lists are text, and LIKE ignores case.

use super::{
    Collated, DistinctForm, Grammar, LimitForm, ListEncoding, ListForm, NullOrder, PatternForm,
    SchemaForm, ScriptForm,
};
use crate::model::{Function, SentType, SqlType};
use crate::tree::Lock;

#[derive(Debug)]
pub(super) struct Sqlite;

impl Grammar for Sqlite {
    fn name(&self) -> &'static str {
        "SQLite"
    }

    fn system_name(&self) -> &'static str {
        "sqlite"
    }

    // Newer versions look at the bind of a limit when they plan a statement, and prepare it anew for each run, because the
    // bind may have changed. They do not look behind a sign.
    fn limit(&self) -> LimitForm {
        LimitForm::LimitOffset { before_rows: "+", no_limit: "LIMIT -1" }
    }

    fn is_of_server(&self) -> bool {
        false
    }

    fn text_equality(&self) -> [Collated; 2] {
        [self.text_order(), Collated::AS_IT_IS]
    }

    // A derived table without LIMIT would be merged into the query around it.
    fn computed_once(&self) -> Option<[&'static str; 2]> {
        Some([" FROM (SELECT ", " AS v LIMIT 1) AS c)"])
    }

    fn text_order(&self) -> Collated {
        Collated::after(" COLLATE BINARY")
    }

    fn schema(&self) -> Option<SchemaForm> {
        Some(SCHEMA)
    }

    fn form(&self, function: &Function) -> Option<&'static str> {
        function.sqlite
    }

    fn distinct(&self) -> DistinctForm {
        DistinctForm::of(" IS NOT ")
    }

    fn not_distinct(&self, _guarded: bool) -> DistinctForm {
        DistinctForm::of(" IS ")
    }

    // LIKE ignores the case of ASCII letters. The pragma that changes it would change the program's own SQL
    // too (SQLite, "Built-in Scalar SQL Functions", like).
    fn pattern(&self) -> PatternForm {
        PatternForm::Glob
    }

    // One item is compared without reading JSON.
    fn list_lengths(&self, item: SqlType) -> &'static [usize] {
        match item {
            SqlType::SmallInt | SqlType::Integer | SqlType::BigInt | SqlType::Text => &[1],
            _ => &[],
        }
    }

    fn list(&self, item: SqlType, _in_expression: bool, length: usize) -> ListForm {
        if length == 1 {
            return ListForm { left: self.text_order(), ..ListForm::OF_EACH };
        }
        let open = match item.sent() {
            SentType::Bytes => " IN (SELECT unhex(value) FROM json_each(",
            SentType::Decimal => " IN (SELECT nepheline_decimal_key(value) FROM json_each(",
            SentType::Boolean
            | SentType::Integer
            | SentType::Float
            | SentType::Text
            | SentType::Date
            | SentType::Time
            | SentType::DateTime
            | SentType::Timestamp
            | SentType::Uuid
            | SentType::Json
            | SentType::Enum
            | SentType::Native(_) => " IN (SELECT value FROM json_each(",
        };
        let encoding = ListEncoding::Json { zone_mark: true, longest_text: usize::MAX };
        ListForm {
            left: self.text_order(),
            open,
            open_negated: None,
            open_both: None,
            close: "))",
            encoding,
            plans_for_values: false,
        }
    }

    fn null_order(&self, descending: bool, nulls_first: bool) -> NullOrder {
        let then = match (descending, nulls_first) {
            (false, false) => " NULLS LAST",
            (false, true) => " NULLS FIRST",
            (true, false) => " DESC NULLS LAST",
            (true, true) => " DESC NULLS FIRST",
        };
        NullOrder { first: None, then }
    }

    fn most_inserted(&self) -> [usize; 2] {
        [32_766, 200]
    }

    fn script(&self) -> ScriptForm {
        ScriptForm { bracket_names: true, ..ScriptForm::default() }
    }

    fn lock(&self, _lock: Lock) -> Option<[&'static str; 2]> {
        None
    }

    // "Bare columns in an aggregate query".
    fn groups_by_key_alone(&self) -> bool {
        true
    }

    fn explain(&self, analyze: bool) -> Option<&'static str> {
        (!analyze).then_some("EXPLAIN QUERY PLAN ")
    }

    // A decimal is stored as text, in which 1.5 and 1.50 differ and 10 sorts before 9. A collation does not help, because
    // integers sort before texts ("Datatypes In SQLite", Sort Order).
    fn order_key(&self, sql_type: SqlType) -> Collated {
        match sql_type {
            SqlType::Decimal => Collated::call("nepheline_decimal_key("),
            _ => Collated::AS_IT_IS,
        }
    }

    fn identity_key(&self, sql_type: SqlType) -> Collated {
        self.order_key(sql_type)
    }

    fn distinct_value(&self, sql_type: SqlType) -> Collated {
        match sql_type {
            SqlType::Decimal => Collated::call("nepheline_decimal_plain("),
            _ => Collated::AS_IT_IS,
        }
    }

    fn has_decimals(&self) -> bool {
        false
    }
}

/// The parts of columns in CREATE TABLE.
const SCHEMA: SchemaForm = SchemaForm {
    column_type: |sql_type| match sql_type {
        SqlType::Boolean => "BOOLEAN",
        SqlType::SmallInt | SqlType::Integer | SqlType::BigInt => "INTEGER",
        SqlType::Real | SqlType::Double => "REAL",
        SqlType::Bytes => "BLOB",
        // TEXT gives these the affinity of text, so that no value becomes a float. The words before it tell readers of the
        // schema what the text is.
        SqlType::Date => "DATE TEXT",
        SqlType::Time => "TIME TEXT",
        SqlType::DateTime => "DATETIME TEXT",
        SqlType::Timestamp => "TIMESTAMP WITH TIME ZONE TEXT",
        SqlType::Uuid => "UUID TEXT",
        SqlType::Decimal => "DECIMAL TEXT",
        SqlType::Json => "JSON TEXT",
        SqlType::Text | SqlType::Enum(_) | SqlType::Native(_) => "TEXT",
    },
    keyed_text: "TEXT",
    by_code_point: "",
    generated: "",
};
