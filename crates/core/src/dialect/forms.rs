//! The parts of a dialect's answers: pieces of SQL text, and the forms of clauses that differ.

use crate::model::SqlType;

/// The quote marks around identifiers. The closing mark is doubled inside them.
#[derive(Debug, Clone, Copy)]
pub struct Quotes {
    /// The opening mark.
    pub open: char,
    /// The closing mark.
    pub close: char,
    /// The index of these marks in the texts that descriptors prepare, if they do.
    pub ready: Option<usize>,
}

impl Quotes {
    /// `"name"`, as in the SQL standard.
    pub const DOUBLE: Quotes = Quotes { open: '"', close: '"', ready: Some(0) };
    /// `` `name` ``
    pub const BACKTICK: Quotes = Quotes { open: '`', close: '`', ready: Some(1) };
}

/// The form of a bind.
#[derive(Debug, Clone, Copy)]
pub enum Placeholder {
    /// `?`
    QuestionMark,
    /// This prefix and a number, counted from 1.
    Numbered(&'static str),
}

/// The relation between conditions and values.
#[derive(Debug, Clone, Copy)]
pub enum TruthForm {
    /// A condition is a value, and a boolean is a condition.
    Value,
    /// The dialect has no boolean type: a condition is turned into a number, and a number into a condition,
    /// by the text around it.
    Number {
        /// The text before a condition, between it and the same condition repeated, and after that.
        of_condition: [&'static str; 3],
        /// The text after a number that turns it into a condition.
        is_true: &'static str,
    },
}

/// The form of LIMIT and OFFSET.
#[derive(Debug, Clone, Copy)]
pub enum LimitForm {
    /// `LIMIT ? OFFSET ?`.
    LimitOffset {
        /// The text between LIMIT and its bind.
        before_rows: &'static str,
        /// The text in place of the limit where only an offset is given.
        no_limit: &'static str,
    },
    /// `OFFSET ? ROWS FETCH NEXT ? ROWS ONLY`, as in the SQL standard.
    OffsetFetch,
}

/// The kind of a write that returns its rows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReturningOf {
    /// INSERT.
    Insert,
    /// UPDATE.
    Update,
    /// DELETE.
    Delete,
}

/// The marks that a script of several statements may have.
#[derive(Debug, Clone, Copy, Default)]
pub struct ScriptForm {
    /// True if `#` begins a comment.
    pub hash_comments: bool,
    /// True if block comments may stand inside each other.
    pub nested_comments: bool,
    /// True if `$tag$` is a quotation mark.
    pub dollar_quotes: bool,
    /// True if names may stand in square brackets.
    pub bracket_names: bool,
}

/// The clause by which a write returns its rows.
#[derive(Debug, Clone, Copy)]
pub enum ReturningForm {
    /// A list of columns at the end of the statement, after this keyword.
    AtEnd(&'static str),
    /// A list of columns before the values or the conditions.
    BeforeRows {
        /// The text before the list.
        opening: &'static str,
        /// The text before each column.
        column: &'static str,
    },
}

/// The SQL around a value that sets how it compares, such as a collation: `{open}x{close}`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Collated {
    /// The text before it.
    pub open: &'static str,
    /// The text after it.
    pub close: &'static str,
    /// The text before a bind.
    pub before_bind: &'static str,
    /// The text after a bind. A bind has the character set of the connection, so that a collation is enough.
    pub after_bind: &'static str,
}

impl Collated {
    /// The column's own collation.
    pub const AS_IT_IS: Collated = Collated::after("");

    /// Returns a collation that is written after the text.
    pub const fn after(text: &'static str) -> Collated {
        Collated { open: "", close: text, before_bind: "", after_bind: text }
    }

    /// Returns a call that computes what is compared, of values and binds alike.
    pub const fn call(open: &'static str) -> Collated {
        Collated { open, close: ")", before_bind: open, after_bind: ")" }
    }
}

/// A comparison that treats NULL as a value: `{open}x{operator}y{close}`.
#[derive(Debug, Clone, Copy)]
pub struct DistinctForm {
    /// The text before the left side.
    pub open: &'static str,
    /// The text between the sides.
    pub operator: &'static str,
    /// True if a separate condition must compare both sides with NULL.
    pub or_both_null: bool,
    /// The text after the right side.
    pub close: &'static str,
}

impl DistinctForm {
    /// Returns an operator without text around it.
    pub const fn of(operator: &'static str) -> DistinctForm {
        DistinctForm { open: "", operator, or_both_null: false, close: "" }
    }
}

/// The form of a pattern match.
#[derive(Debug, Clone, Copy)]
pub enum PatternForm {
    /// `GLOB`, with the pattern rewritten to its wildcards.
    Glob,
    /// `LIKE .. ESCAPE '!'`.
    Like {
        /// The text after a case-sensitive pattern.
        collate: &'static str,
    },
}

/// The SQL that looks a value up in a list: `x{open}?{close}`.
#[derive(Debug, Clone, Copy)]
pub struct ListForm {
    /// The collation of the text that is looked up.
    pub left: Collated,
    /// The text between the value and the bind.
    pub open: &'static str,
    /// The opposite of `open`, if it is not `NOT` before it.
    pub open_negated: Option<&'static str>,
    /// The text between `(x, x COLLATE ..` and the bind, if one lookup compares a text with both collations.
    pub open_both: Option<&'static str>,
    /// The text after the bind.
    pub close: &'static str,
    /// The form of the bind.
    pub encoding: ListEncoding,
    /// True if a plan for any list would be slow, so that the statement is planned for this one.
    pub plans_for_values: bool,
}

impl ListForm {
    /// `x IN (?, ?, ..)`.
    pub const OF_EACH: ListForm = ListForm {
        left: Collated::AS_IT_IS,
        open: " IN (",
        open_negated: None,
        open_both: None,
        close: ")",
        encoding: ListEncoding::Each,
        plans_for_values: false,
    };
}

/// The type that a list is bound as.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ListEncoding {
    /// An array, which the driver can send.
    Array,
    /// A bind for each item.
    Each,
    /// A JSON array as text.
    Json {
        /// True if its timestamps end in `Z`.
        zone_mark: bool,
        /// The largest number of characters of a text in it.
        longest_text: usize,
    },
}

/// The form of an upsert.
#[derive(Debug, Clone, Copy)]
pub struct UpsertForm {
    /// The text after the rows.
    pub opening: &'static str,
    /// True if it names the columns of the conflict; otherwise a conflict in any unique column counts.
    pub names_columns: bool,
    /// The text before the assignments.
    pub update: &'static str,
    /// The text that leaves the existing row unchanged, if the dialect has one.
    pub nothing: Option<&'static str>,
    /// True if a condition can restrict the update; otherwise the statement also counts and returns rows that
    /// it left unchanged.
    pub has_condition: bool,
    /// True if the affected-row count is 2 for an updated row, so that the count reveals the number of
    /// inserts.
    pub counts_updates_twice: bool,
    /// The returned expression that is true for an inserted row, if the dialect has one.
    pub tells_inserted: Option<&'static str>,
    /// The text around a column of the proposed row.
    pub new: [&'static str; 2],
}

impl UpsertForm {
    /// `ON CONFLICT .. DO UPDATE SET`, as in SQLite and PostgreSQL.
    pub const ON_CONFLICT: UpsertForm = UpsertForm {
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

/// The ORDER BY of a nullable expression: `{first}x{first}, x{then}`, or only the second part.
#[derive(Debug, Clone, Copy)]
pub struct NullOrder {
    /// The text around the expression that sorts NULLs first or last, if the dialect needs such a term.
    pub first: Option<[&'static str; 2]>,
    /// The text after the expression.
    pub then: &'static str,
}

/// The parts of columns in CREATE TABLE.
#[derive(Debug, Clone, Copy)]
pub struct SchemaForm {
    /// The type of a column.
    pub column_type: fn(SqlType) -> &'static str,
    /// The type of a text column in an index.
    pub keyed_text: &'static str,
    /// The collation that compares text by code point.
    pub by_code_point: &'static str,
    /// The text after the type of an integer that the database generates.
    pub generated: &'static str,
}
