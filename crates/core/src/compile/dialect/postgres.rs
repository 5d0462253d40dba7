//! PostgreSQL: the engine nearest to the standard. Its text is equal by code point but ordered by locale.

use super::{Grammar, ListEncoding, ListForm, NullOrder, PatternForm, Placeholder};
use crate::storable::SqlType;

pub(super) struct Postgres;

impl Grammar for Postgres {
    fn placeholder(&self) -> Placeholder {
        Placeholder::Numbered
    }

    fn text_equality(&self) -> [&'static str; 2] {
        ["", ""]
    }

    fn text_order(&self) -> &'static str {
        r#" COLLATE "C""#
    }

    fn pattern(&self) -> PatternForm {
        PatternForm::Like { collate: "" }
    }

    fn list(&self, _item: SqlType, _guarded: bool) -> ListForm {
        ListForm { left: "", open: " = ANY(", close: ")", encoding: ListEncoding::Array }
    }

    // NULLs count as greater than every value (PostgreSQL manual, "Sorting Rows").
    fn null_order(&self, descending: bool, nulls_first: bool) -> NullOrder {
        let then = match (descending, nulls_first) {
            (false, false) => "",
            (false, true) => " NULLS FIRST",
            (true, false) => " DESC NULLS LAST",
            (true, true) => " DESC",
        };
        NullOrder { first: None, then }
    }

    fn no_limit(&self) -> &'static str {
        ""
    }

    fn explain(&self, analyze: bool) -> Option<&'static str> {
        Some(if analyze { "EXPLAIN ANALYZE " } else { "EXPLAIN " })
    }
}
