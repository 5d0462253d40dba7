//! The parts of a dialect's answers: pieces of SQL text, and which of a few forms a clause has.

/// The marks around identifiers. The closing one is doubled inside them.
#[derive(Debug, Clone, Copy)]
pub struct Quotes {
    /// The mark before.
    pub open: char,
    /// The mark after.
    pub close: char,
    /// The place of these marks among the texts that descriptors hold ready, if they do.
    pub ready: Option<usize>,
}

impl Quotes {
    /// `"name"`, as in the standard.
    pub const DOUBLE: Quotes = Quotes { open: '"', close: '"', ready: Some(0) };
    /// `` `name` ``
    pub const BACKTICK: Quotes = Quotes { open: '`', close: '`', ready: Some(1) };
}

/// The form of a bind.
#[derive(Debug, Clone, Copy)]
pub enum Placeholder {
    /// `?`
    QuestionMark,
    /// This and its number, counted from 1.
    Numbered(&'static str),
}

/// The form in which a condition is a value, and a truth value a condition.
#[derive(Debug, Clone, Copy)]
pub enum TruthForm {
    /// They are the same.
    Value,
    /// There is no type of truth values: what stands around a condition to make a number of it, and after such a number
    /// to make a condition.
    Number {
        /// The text before a condition, between it and the same condition once more, and after that.
        of_condition: [&'static str; 3],
        /// The text after a number that asks whether it is true.
        is_true: &'static str,
    },
}

/// The form of LIMIT and OFFSET.
#[derive(Debug, Clone, Copy)]
pub enum LimitForm {
    /// `LIMIT ? OFFSET ?`, with what stands in place of the limit where there is an offset alone.
    LimitOffset {
        /// The text in place of the limit.
        no_limit: &'static str,
    },
    /// `OFFSET ? ROWS FETCH NEXT ? ROWS ONLY`, as in the standard.
    OffsetFetch,
}

/// The write whose rows are given back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReturningOf {
    /// INSERT.
    Insert,
    /// UPDATE.
    Update,
    /// DELETE.
    Delete,
}

/// The form in which a write gives back its rows.
#[derive(Debug, Clone, Copy)]
pub enum ReturningForm {
    /// By a list of columns at the end of the statement, after this.
    AtEnd(&'static str),
    /// By a list of columns before the values or the conditions, each of them after this.
    BeforeRows {
        /// The text before the list.
        opening: &'static str,
        /// The text before each column.
        column: &'static str,
    },
}

/// The SQL around a text that gives it a collation: `{open}x{close}`.
#[derive(Debug, Clone, Copy)]
pub struct Collated {
    /// The text before it.
    pub open: &'static str,
    /// The text after it.
    pub close: &'static str,
    /// The text after a bind, which has the character set of the connection, so that a collation alone is enough.
    pub after_bind: &'static str,
}

impl Collated {
    /// No collation of its own.
    pub const AS_IT_IS: Collated = Collated::after("");

    /// A collation that stands after the text.
    pub const fn after(text: &'static str) -> Collated {
        Collated { open: "", close: text, after_bind: text }
    }
}

/// A comparison in which NULL is a value like any: `{open}x{operator}y{close}`.
#[derive(Debug, Clone, Copy)]
pub struct DistinctForm {
    /// The text before the left side.
    pub open: &'static str,
    /// The text between the sides.
    pub operator: &'static str,
    /// True if it has to be asked apart whether both are NULL.
    pub or_both_null: bool,
    /// The text after the right side.
    pub close: &'static str,
}

impl DistinctForm {
    /// An operator alone.
    pub const fn of(operator: &'static str) -> DistinctForm {
        DistinctForm { open: "", operator, or_both_null: false, close: "" }
    }
}

/// The form of a match with a pattern.
#[derive(Debug, Clone, Copy)]
pub enum PatternForm {
    /// `GLOB`, with the pattern rewritten to its wildcards.
    Glob,
    /// `LIKE .. ESCAPE '!'`.
    Like {
        /// The text after a pattern whose letter case counts.
        collate: &'static str,
    },
}

/// The SQL that looks a value up in a list: `x{open}?{close}`.
#[derive(Debug, Clone, Copy)]
pub struct ListForm {
    /// The collation of a text that is looked up.
    pub left: Collated,
    /// The text between the value and the bind.
    pub open: &'static str,
    /// The opposite of `open`, if that is not `NOT` before it.
    pub open_negated: Option<&'static str>,
    /// The text after the bind.
    pub close: &'static str,
    /// The form of the bind.
    pub encoding: ListEncoding,
}

/// The form in which a list is bound.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ListEncoding {
    /// An array, which the driver can send.
    Array,
    /// The text of a JSON array.
    Json {
        /// True if its timestamps end in `Z`.
        zone_mark: bool,
        /// The most characters that a text in it may have.
        longest_text: usize,
    },
}

/// The form of an upsert.
#[derive(Debug, Clone, Copy)]
pub struct UpsertForm {
    /// The text after the rows.
    pub opening: &'static str,
    /// True if it names the columns by which a row is known; else any that are unique do.
    pub names_columns: bool,
    /// The text before the assignments.
    pub update: &'static str,
    /// The text that leaves the row as it is.
    pub nothing: Option<&'static str>,
    /// True if it can be told which rows to update; else it also counts and gives back what it left.
    pub has_condition: bool,
    /// True if a row that it changed counts twice, so that the count tells how many were inserted.
    pub counts_updates_twice: bool,
    /// The text that gives back of each row whether it was inserted.
    pub tells_inserted: Option<&'static str>,
    /// The text around a column of the new row.
    pub new: [&'static str; 2],
}

impl UpsertForm {
    /// `ON CONFLICT .. DO UPDATE SET`, as SQLite and PostgreSQL have it.
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

/// The form of an order of a nullable expression: `{first}x{first}, x{then}`, or only the second part.
#[derive(Debug, Clone, Copy)]
pub struct NullOrder {
    /// The text around the expression where it is decided first which rows are NULL.
    pub first: Option<[&'static str; 2]>,
    /// The text after the expression.
    pub then: &'static str,
}
