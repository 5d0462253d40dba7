//! PostgreSQL: the engine nearest to the SQL standard. It compares text by code point but orders it by
//! locale.

use super::{
    Collated, DistinctForm, Grammar, LimitForm, ListEncoding, ListForm, NullOrder, PatternForm,
    Placeholder, SchemaForm, ScriptForm, UpsertForm,
};
use crate::model::{Function, NativeType, SqlType};

#[derive(Debug)]
pub(super) struct Postgres;

/// The longest list that any plan searches about as fast as the best one.
const SHORT_LIST: usize = 64;

impl Grammar for Postgres {
    fn name(&self) -> &'static str {
        "PostgreSQL"
    }

    fn system_name(&self) -> &'static str {
        "postgresql"
    }

    fn session_value(&self) -> Option<&'static str> {
        Some("SELECT set_config($1, $2, true)")
    }

    // The function is in the manual, "System Administration Functions".
    fn setting_function(&self) -> Option<&'static str> {
        Some("set_config")
    }

    // The planner would write a derived table without OFFSET into the query around it.
    fn computed_once(&self) -> Option<[&'static str; 2]> {
        Some([" FROM (SELECT ", " AS v OFFSET 0) AS c)"])
    }

    fn placeholder(&self) -> Placeholder {
        Placeholder::Numbered("$")
    }

    fn limit(&self) -> LimitForm {
        LimitForm::LimitOffset { before_rows: "", no_limit: "" }
    }

    // One pass over the rows computes all grouping sets ("GROUPING SETS, CUBE, and ROLLUP").
    fn grouping_sets(&self) -> Option<&'static str> {
        Some("GROUPING SETS ")
    }

    fn text_equality(&self) -> [Collated; 2] {
        [Collated::AS_IT_IS; 2]
    }

    // A nondeterministic collation treats different texts as equal. Nobody declares that to this library, so that
    // keys and policies always compare the bytes as well.
    fn text_sameness(&self) -> Option<Collated> {
        Some(self.text_order())
    }

    fn script(&self) -> ScriptForm {
        ScriptForm { nested_comments: true, dollar_quotes: true, ..ScriptForm::default() }
    }

    fn text_order(&self) -> Collated {
        Collated::after(r#" COLLATE "C""#)
    }

    fn text_identity(&self) -> Collated {
        Collated::AS_IT_IS
    }

    fn has_search_path(&self) -> bool {
        true
    }

    fn has_enum_types(&self) -> bool {
        true
    }

    fn can_compare(&self, sql_type: SqlType) -> bool {
        !matches!(sql_type, SqlType::Json | SqlType::Native(NativeType::Interval))
    }

    // An array of texts is ordered by the locale of its column.
    fn can_order(&self, sql_type: SqlType) -> bool {
        sql_type != SqlType::Native(&NativeType::Array(SqlType::Text))
    }

    // "Aggregate Functions": of the ranges there is none.
    fn has_extremes(&self, sql_type: SqlType) -> bool {
        let is_range = matches!(sql_type, SqlType::Native(NativeType::Range(_)));
        !is_range && self.can_compare(sql_type) && self.can_order(sql_type)
    }

    fn native_type(&self, native: NativeType) -> Option<(&'static str, bool)> {
        Some(native.name(SCHEMA.column_type))
    }

    fn schema(&self) -> Option<SchemaForm> {
        Some(SCHEMA)
    }

    fn form(&self, function: &Function) -> Option<&'static str> {
        function.postgres
    }

    fn distinct(&self) -> DistinctForm {
        DistinctForm::of(" IS DISTINCT FROM ")
    }

    // PostgreSQL uses no index for IS NOT DISTINCT FROM. Where NULL and FALSE are the same, `=` does.
    fn not_distinct(&self, in_expression: bool) -> DistinctForm {
        match in_expression {
            true => DistinctForm::of(" IS NOT DISTINCT FROM "),
            false => DistinctForm { open: "(", operator: " = ", or_both_null: true, close: ")" },
        }
    }

    fn pattern(&self) -> PatternForm {
        PatternForm::Like { collate: "" }
    }

    // `ANY` is searched item by item in a plan for any list, which takes long for many items where no index serves. Rows
    // without duplicates are joined instead, by a hash table or an index. Below NOT or OR an index only serves `ANY`.
    fn list(&self, _item: SqlType, in_expression: bool, length: usize) -> ListForm {
        if length == 1 {
            return ListForm::OF_EACH;
        }
        let is_long = length > SHORT_LIST;
        let are_rows = is_long && !in_expression;
        let (open, close) = match are_rows {
            true => (" IN (SELECT DISTINCT v FROM unnest(", ") AS v ORDER BY v)"),
            false => (" = ANY(", ")"),
        };
        ListForm {
            left: Collated::AS_IT_IS,
            open,
            open_negated: Some(" <> ALL("),
            open_both: are_rows.then_some(") IN (SELECT DISTINCT v, v FROM unnest("),
            close,
            encoding: ListEncoding::Array,
            plans_for_values: is_long && in_expression,
        }
    }

    // One item is compared by a plan for any value.
    fn list_lengths(&self, item: SqlType) -> &'static [usize] {
        match item {
            SqlType::Enum(_) | SqlType::Native(_) | SqlType::Decimal | SqlType::Json => {
                &[SHORT_LIST]
            }
            _ => &[1, SHORT_LIST],
        }
    }

    // NULLs sort as greater than every value (PostgreSQL manual, "Sorting Rows").
    fn null_order(&self, descending: bool, nulls_first: bool) -> NullOrder {
        let then = match (descending, nulls_first) {
            (false, false) => "",
            (false, true) => " NULLS FIRST",
            (true, false) => " DESC NULLS LAST",
            (true, true) => " DESC",
        };
        NullOrder { first: None, then }
    }

    // `xmax` is 0 in a row that was just inserted, because no transaction has replaced it. The manual
    // describes the system column ("System Columns"), but not this use.
    fn upsert(&self) -> Option<UpsertForm> {
        let tells_inserted = Some(" RETURNING xmax = 0");
        Some(UpsertForm { tells_inserted, ..UpsertForm::ON_CONFLICT })
    }

    fn most_inserted(&self) -> [usize; 2] {
        [65_535, 1_000]
    }

    fn copies(&self) -> bool {
        true
    }

    fn locks_named_tables(&self) -> bool {
        true
    }

    fn explain(&self, analyze: bool) -> Option<&'static str> {
        Some(if analyze { "EXPLAIN ANALYZE " } else { "EXPLAIN " })
    }
}

/// The parts of columns in CREATE TABLE.
const SCHEMA: SchemaForm = SchemaForm {
    column_type: |sql_type| match sql_type {
        SqlType::Boolean => "boolean",
        SqlType::SmallInt => "smallint",
        SqlType::Integer => "integer",
        SqlType::BigInt => "bigint",
        SqlType::Real => "real",
        SqlType::Double => "double precision",
        SqlType::Text => "text",
        SqlType::Bytes => "bytea",
        SqlType::Date => "date",
        SqlType::Time => "time",
        SqlType::DateTime => "timestamp",
        SqlType::Timestamp => "timestamptz",
        SqlType::Uuid => "uuid",
        SqlType::Decimal => "numeric",
        SqlType::Json => "jsonb",
        // The writer of CREATE TABLE names these types itself.
        SqlType::Enum(_) | SqlType::Native(_) => "text",
    },
    keyed_text: "text",
    by_code_point: " COLLATE \"C\"",
    generated: " GENERATED BY DEFAULT AS IDENTITY",
};
