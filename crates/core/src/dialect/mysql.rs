//! MariaDB and MySQL: one grammar in two flavours. Both compare text by a collation, so each comparison names
//! one that goes by code point and keeps trailing spaces.

use super::{
    Collated, DistinctForm, Grammar, LimitForm, ListEncoding, ListForm, NullOrder, PatternForm,
    Quotes, ReturningForm, ReturningOf, SchemaForm, ScriptForm, UpsertForm,
};
use rust_decimal::Decimal;

use crate::model::{Function, NativeType, SentType, SqlType};
use crate::tree::{JoinKind, Lock};

/// The differences between the two engines.
#[derive(Debug)]
pub(super) struct Flavour {
    name: &'static str,
    system_name: &'static str,
    collate: &'static str,
    collated: Collated,
    text_list: &'static str,
    uuid_list: &'static str,
    uuid_bind: [&'static str; 2],
    uuid_order: Collated,
    explain: [&'static str; 2],
    form: fn(&Function) -> Option<&'static str>,
    forgetful: Option<&'static str>,
    window_lead: Option<&'static str>,
    /// True if the session has no ONLY_FULL_GROUP_BY. MySQL's must be able to see that the keys decide.
    groups_by_key_alone: bool,
    /// True if INSERT and DELETE can return rows. UPDATE cannot on either engine.
    returns_written: bool,
    /// True if an UPDATE sees values that it has just set. MariaDB's `sql_mode` of the session sets all at
    /// once.
    sets_in_turn: bool,
    schema: SchemaForm,
}

macro_rules! flavour {
    ($name:literal, $system_name:literal, $collation:literal, uuid: $uuid:literal, uuid_bind: $uuid_bind:expr, uuid_order: $uuid_order:expr, explain: $explain:expr, forgetful: $forgetful:expr, window_lead: $window_lead:expr, groups_by_key_alone: $by_key_alone:literal, form: $form:expr, returns: $returns:literal, sets_in_turn: $in_turn:literal, schema: $schema:expr) => {
        Flavour {
            name: $name,
            system_name: $system_name,
            collate: concat!(" COLLATE ", $collation),
            // A collation belongs to one character set, and a column may have another ("Setting Character
            // Sets and Collations").
            collated: Collated {
                open: "CONVERT(",
                close: concat!(" USING utf8mb4) COLLATE ", $collation),
                before_bind: "",
                after_bind: concat!(" COLLATE ", $collation),
            },
            text_list: concat!(" IN (SELECT j.v COLLATE ", $collation, " FROM JSON_TABLE("),
            uuid_list: concat!(" IN (SELECT ", $uuid, " FROM JSON_TABLE("),
            uuid_bind: $uuid_bind,
            uuid_order: $uuid_order,
            explain: $explain,
            forgetful: $forgetful,
            window_lead: $window_lead,
            groups_by_key_alone: $by_key_alone,
            form: $form,
            returns_written: $returns,
            sets_in_turn: $in_turn,
            schema: $schema,
        }
    };
}

pub(super) static MARIADB: Flavour = flavour!(
    "MariaDB",
    "mariadb",
    "utf8mb4_nopad_bin",
    uuid: "CAST(j.v AS UUID)",
    uuid_bind: ["CAST(", " AS UUID)"],
    // Its UUIDs of the versions 1 to 5 sort by their last digits ("UUID Data Type").
    uuid_order: Collated { open: "CAST(", close: " AS CHAR)", before_bind: "", after_bind: "" },
    explain: ["EXPLAIN FORMAT=JSON ", "ANALYZE FORMAT=JSON "],
    forgetful: Some("SET STATEMENT optimizer_switch = 'subquery_cache=off' FOR "),
    window_lead: Some("RAND() * 0 + "),
    groups_by_key_alone: true,
    form: |function| function.mariadb,
    returns: true,
    sets_in_turn: false,
    schema: SCHEMA_OF_MARIADB
);

// MySQL has no UUID type; its own UUID functions work on BINARY(16).
pub(super) static MYSQL: Flavour = flavour!(
    "MySQL",
    "mysql",
    "utf8mb4_0900_bin",
    uuid: "UNHEX(REPLACE(j.v, '-', ''))",
    uuid_bind: ["", ""],
    uuid_order: Collated::AS_IT_IS,
    explain: ["EXPLAIN FORMAT=TREE ", "EXPLAIN ANALYZE "],
    forgetful: None,
    window_lead: None,
    groups_by_key_alone: false,
    form: |function| function.mysql,
    returns: false,
    sets_in_turn: true,
    schema: SCHEMA_OF_MYSQL
);

/// The longest text that is compared with a list item where the engine would otherwise parse the list again
/// for each row. A longer item would be truncated silently, so it is refused.
const LONGEST_GUARDED_TEXT: usize = 500;

impl Grammar for Flavour {
    fn join(&self, kind: JoinKind) -> Option<&'static str> {
        match kind {
            JoinKind::Inner => Some(" INNER JOIN "),
            JoinKind::Left => Some(" LEFT JOIN "),
            JoinKind::Right => Some(" RIGHT JOIN "),
            JoinKind::Cross => Some(" CROSS JOIN "),
            // "JOIN Syntax": there is no full join.
            JoinKind::Full => None,
        }
    }

    fn name(&self) -> &'static str {
        self.name
    }

    fn system_name(&self) -> &'static str {
        self.system_name
    }

    fn quotes(&self) -> Quotes {
        Quotes::BACKTICK
    }

    // The engines have no keyword for "all rows": the manual names this number ("SELECT", LIMIT).
    fn limit(&self) -> LimitForm {
        LimitForm::LimitOffset { before_rows: "", no_limit: "LIMIT 18446744073709551615" }
    }

    // A collation on the right side decides the comparison, and an index on the left side still serves.
    fn text_equality(&self) -> [Collated; 2] {
        [Collated::AS_IT_IS, self.collated]
    }

    // Some plans of IN ignore a collation that stands on the right side alone.
    fn text_lookup(&self) -> [Collated; 2] {
        [self.collated, self.collated]
    }

    // The protocol has one type for dates and times, and text for types that it lacks.
    fn bind_alone(&self, sql_type: SqlType) -> [&'static str; 2] {
        match sql_type {
            SqlType::Date => ["CAST(", " AS DATE)"],
            SqlType::DateTime | SqlType::Timestamp => ["CAST(", " AS DATETIME(6))"],
            SqlType::Time => ["CAST(", " AS TIME(6))"],
            SqlType::Uuid => self.uuid_bind,
            SqlType::Boolean
            | SqlType::SmallInt
            | SqlType::Integer
            | SqlType::BigInt
            | SqlType::Real
            | SqlType::Double
            | SqlType::Text
            | SqlType::Bytes
            | SqlType::Decimal
            | SqlType::Json
            | SqlType::Enum(_)
            | SqlType::Native(_) => self.bind_beside(sql_type),
        }
    }

    // A decimal compared with text would become a float. A Rust decimal has at most 28 digits after the
    // point.
    fn bind_beside(&self, sql_type: SqlType) -> [&'static str; 2] {
        match sql_type.sent() {
            SentType::Decimal => ["CAST(", " AS DECIMAL(57, 28))"],
            SentType::Boolean
            | SentType::Integer
            | SentType::Float
            | SentType::Text
            | SentType::Bytes
            | SentType::Date
            | SentType::Time
            | SentType::DateTime
            | SentType::Timestamp
            | SentType::Uuid
            | SentType::Json
            | SentType::Enum
            | SentType::Native(_) => ["", ""],
        }
    }

    // A product has the digits of both sides after the point, and loses those beyond the 38th (MariaDB) or the 30th (MySQL).
    // A type for each value would give a text for each, so there are three.
    fn decimal_bind(&self, value: &Decimal) -> Option<[&'static str; 2]> {
        let whole_digits = value
            .trunc()
            .mantissa()
            .unsigned_abs()
            .checked_ilog10()
            .unwrap_or(0);
        Some(match value.scale() {
            0 => ["CAST(", " AS DECIMAL(29, 0))"],
            1..=6 if whole_digits < 18 => ["CAST(", " AS DECIMAL(24, 6))"],
            _ => ["CAST(", " AS DECIMAL(57, 28))"],
        })
    }

    fn text_order(&self) -> Collated {
        self.collated
    }

    fn order_key(&self, sql_type: SqlType) -> Collated {
        match sql_type {
            SqlType::Uuid => self.uuid_order,
            _ => Collated::AS_IT_IS,
        }
    }

    fn schema(&self) -> Option<SchemaForm> {
        Some(self.schema)
    }

    fn has_table_functions(&self) -> bool {
        false
    }

    fn update_join(&self) -> [Option<&'static str>; 2] {
        [Some(" INNER JOIN "), None]
    }

    fn has_result_sets(&self) -> bool {
        true
    }

    fn form(&self, function: &Function) -> Option<&'static str> {
        (self.form)(function)
    }

    fn distinct(&self) -> DistinctForm {
        DistinctForm { open: "NOT (", close: ")", ..DistinctForm::of(" <=> ") }
    }

    fn not_distinct(&self, _guarded: bool) -> DistinctForm {
        DistinctForm::of(" <=> ")
    }

    fn pattern(&self) -> PatternForm {
        PatternForm::Like { collate: self.collate }
    }

    // Below some 60 items the engine takes longer for JSON than for the items.
    fn list_lengths(&self, item: SqlType) -> &'static [usize] {
        match item {
            SqlType::SmallInt
            | SqlType::Integer
            | SqlType::BigInt
            | SqlType::Text
            | SqlType::Date
            | SqlType::DateTime
            | SqlType::Timestamp => &[4, 16, 32, 64],
            // Their items need a form of their own.
            SqlType::Boolean
            | SqlType::Real
            | SqlType::Double
            | SqlType::Decimal
            | SqlType::Bytes
            | SqlType::Time
            | SqlType::Uuid
            | SqlType::Json
            | SqlType::Enum(_)
            | SqlType::Native(_) => &[],
        }
    }

    fn list(&self, item: SqlType, in_expression: bool, length: usize) -> ListForm {
        let plain = " IN (SELECT j.v FROM JSON_TABLE(";
        let (open, close) = match item {
            SqlType::Text | SqlType::Enum(_) | SqlType::Native(_) if in_expression => {
                (self.text_list, ", '$[*]' COLUMNS (v VARCHAR(500) PATH '$')) j)")
            }
            SqlType::Text | SqlType::Enum(_) | SqlType::Native(_) => {
                (self.text_list, ", '$[*]' COLUMNS (v LONGTEXT PATH '$')) j)")
            }
            SqlType::Bytes => (
                " IN (SELECT UNHEX(j.v) FROM JSON_TABLE(",
                ", '$[*]' COLUMNS (v LONGTEXT PATH '$')) j)",
            ),
            SqlType::Uuid => (self.uuid_list, ", '$[*]' COLUMNS (v CHAR(36) PATH '$')) j)"),
            SqlType::Boolean => (plain, ", '$[*]' COLUMNS (v BOOLEAN PATH '$')) j)"),
            SqlType::Real | SqlType::Double => (plain, ", '$[*]' COLUMNS (v DOUBLE PATH '$')) j)"),
            SqlType::Date => (plain, ", '$[*]' COLUMNS (v DATE PATH '$')) j)"),
            SqlType::Time => (plain, ", '$[*]' COLUMNS (v TIME(6) PATH '$')) j)"),
            SqlType::DateTime | SqlType::Timestamp => {
                (plain, ", '$[*]' COLUMNS (v DATETIME(6) PATH '$')) j)")
            }
            SqlType::Decimal => (plain, ", '$[*]' COLUMNS (v DECIMAL(65,30) PATH '$')) j)"),
            SqlType::SmallInt | SqlType::Integer | SqlType::BigInt => {
                (plain, ", '$[*]' COLUMNS (v BIGINT PATH '$')) j)")
            }
            // Lists of JSON were refused before, because JSON cannot be compared.
            SqlType::Json => (plain, ", '$[*]' COLUMNS (v JSON PATH '$')) j)"),
        };
        let longest_text = if in_expression { LONGEST_GUARDED_TEXT } else { usize::MAX };
        let encoding = ListEncoding::Json { zone_mark: false, longest_text };
        let left = match item {
            SqlType::Text | SqlType::Enum(_) | SqlType::Native(_) if in_expression => self.collated,
            _ => Collated::AS_IT_IS,
        };
        match length < usize::MAX {
            true => ListForm { left, ..ListForm::OF_EACH },
            false => ListForm {
                left,
                open,
                open_negated: None,
                open_both: None,
                close,
                encoding,
                plans_for_values: false,
            },
        }
    }

    // NULLs count as smaller than every value (MariaDB, "ORDER BY"; MySQL, "Working with NULL Values").
    fn null_order(&self, descending: bool, nulls_first: bool) -> NullOrder {
        match (descending, nulls_first) {
            (false, false) => NullOrder { first: Some(["", " IS NULL"]), then: "" },
            (false, true) => NullOrder { first: None, then: "" },
            (true, false) => NullOrder { first: None, then: " DESC" },
            (true, true) => NullOrder { first: Some(["", " IS NULL DESC"]), then: " DESC" },
        }
    }

    fn most_inserted(&self) -> [usize; 2] {
        [65_535, 100]
    }

    fn sets_in_turn(&self) -> bool {
        self.sets_in_turn
    }

    fn upsert(&self) -> Option<UpsertForm> {
        Some(UpsertForm {
            opening: " ON DUPLICATE KEY",
            names_columns: false,
            update: " UPDATE ",
            nothing: None,
            has_condition: false,
            // MariaDB and MySQL manuals, "INSERT ... ON DUPLICATE KEY UPDATE".
            counts_updates_twice: true,
            tells_inserted: None,
            new: ["VALUES(", ")"],
        })
    }

    fn default_row(&self) -> &'static str {
        " () VALUES ()"
    }

    fn returning(&self, write: ReturningOf) -> Option<ReturningForm> {
        let returns = self.returns_written && write != ReturningOf::Update;
        returns.then_some(ReturningForm::AtEnd(" RETURNING "))
    }

    // MariaDB 10.11 sorts windows together whose orders begin alike, and gives wrong results for some of three or more: of
    // 3,000 random selections 209 were wrong, and none of 4,400 with this.
    fn window_lead(&self) -> Option<&'static str> {
        self.window_lead
    }

    fn groups_by_key_alone(&self) -> bool {
        self.groups_by_key_alone
    }

    // "Subquery Cache": MariaDB compares the values around a subquery by the collation of their columns.
    fn forgetful(&self) -> Option<&'static str> {
        self.forgetful
    }

    fn explain(&self, analyze: bool) -> Option<&'static str> {
        Some(self.explain[usize::from(analyze)])
    }

    fn script(&self) -> ScriptForm {
        ScriptForm { hash_comments: true, ..ScriptForm::default() }
    }

    fn commits_by_ddl(&self) -> bool {
        true
    }

    // MariaDB has no FOR SHARE; MySQL accepts both.
    fn lock(&self, lock: Lock) -> Option<[&'static str; 2]> {
        Some(match lock {
            Lock::Wait => [" FOR UPDATE", ""],
            Lock::Skip => [" FOR UPDATE", " SKIP LOCKED"],
            Lock::NoWait => [" FOR UPDATE", " NOWAIT"],
            Lock::Share => [" LOCK IN SHARE MODE", ""],
        })
    }

    fn has_filter(&self) -> bool {
        false
    }

    fn has_infinity(&self) -> bool {
        false
    }
}

/// The parts of columns in CREATE TABLE.
const SCHEMA_OF_MARIADB: SchemaForm = SchemaForm {
    column_type: |sql_type| match sql_type {
        SqlType::Boolean => "BOOLEAN",
        SqlType::SmallInt => "SMALLINT",
        SqlType::Integer => "INTEGER",
        SqlType::BigInt => "BIGINT",
        SqlType::Real => "FLOAT",
        SqlType::Double => "DOUBLE",
        SqlType::Text => "LONGTEXT",
        SqlType::Bytes => "LONGBLOB",
        SqlType::Date => "DATE",
        SqlType::Time => "TIME(6)",
        SqlType::DateTime | SqlType::Timestamp => "DATETIME(6)",
        SqlType::Uuid => "UUID",
        SqlType::Decimal => "DECIMAL(38, 9)",
        SqlType::Json => "JSON",
        SqlType::Native(NativeType::Array(_)) => "JSON",
        SqlType::Enum(_) | SqlType::Native(_) => "VARCHAR(255)",
    },
    // An index covers 3,072 bytes ("InnoDB Limits"), and a character takes four.
    keyed_text: "VARCHAR(255)",
    by_code_point: " COLLATE utf8mb4_nopad_bin",
    generated: " AUTO_INCREMENT",
};

/// MySQL has no UUID type, and another collation by code point.
const SCHEMA_OF_MYSQL: SchemaForm = SchemaForm {
    column_type: |sql_type| match sql_type {
        SqlType::Uuid => "BINARY(16)",
        other => (SCHEMA_OF_MARIADB.column_type)(other),
    },
    by_code_point: " COLLATE utf8mb4_0900_bin",
    ..SCHEMA_OF_MARIADB
};
