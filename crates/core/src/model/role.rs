//! The roles of columns, and the types that each role allows.

use super::carried::{Carried, MissingValue};
use super::storable::{BindValue, SqlType};

/// The role of a column, as the attributes of its field declare it.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, Default)]
pub struct ColumnRole {
    pub key: bool,
    pub generated: bool,
    pub unique: bool,
    pub by_code_point: bool,
    /// True if the column holds exact numbers, of which the nearest float is read.
    pub approximate: bool,
    /// True if the database treats different texts of the column as equal.
    pub nondeterministic: bool,
    /// True if a time in it marks the row as retired.
    pub retires: bool,
    pub made: ValueSource,
}

impl ColumnRole {
    /// The role of a column without attributes.
    pub const PLAIN: ColumnRole = ColumnRole {
        key: false,
        generated: false,
        unique: false,
        by_code_point: false,
        approximate: false,
        nondeterministic: false,
        retires: false,
        made: ValueSource::Given,
    };
}

/// The source of a column's value in a new row, unless the database generates it.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, Default)]
pub enum ValueSource {
    /// The program gives it.
    #[default]
    Given,
    /// The handle carries it.
    Carried(fn(&Carried) -> Result<BindValue, MissingValue>),
    /// The time of the insert.
    StampedOnInsert,
    /// The time of the last write.
    StampedOnWrite,
    /// A number that every update increments.
    Version,
}

/// Returns whether NULL is a value of this type. The derive asks it, and the questions below, while the program
/// is compiled.
#[doc(hidden)]
pub const fn is_nullable((_, nullable): (SqlType, bool)) -> bool {
    nullable
}

/// Returns whether NULL is no value of this type.
#[doc(hidden)]
pub const fn is_never_null((_, nullable): (SqlType, bool)) -> bool {
    !nullable
}

/// Returns whether the time of a write can be stored in a column of this type.
#[doc(hidden)]
pub const fn is_time((sql_type, _): (SqlType, bool)) -> bool {
    matches!(sql_type, SqlType::Timestamp | SqlType::DateTime | SqlType::Date)
}

/// Returns whether a column of this type can mark a row as retired: NULL until then, then the time or `true`.
#[doc(hidden)]
pub const fn is_mark(declared: (SqlType, bool)) -> bool {
    is_nullable(declared) && (is_time(declared) || matches!(declared.0, SqlType::Boolean))
}

/// Returns whether an update can increment a column of this type.
#[doc(hidden)]
pub const fn is_whole_number((sql_type, nullable): (SqlType, bool)) -> bool {
    matches!(sql_type, SqlType::SmallInt | SqlType::Integer | SqlType::BigInt) && !nullable
}

/// Returns whether the type is a float.
#[doc(hidden)]
pub const fn is_float((sql_type, _): (SqlType, bool)) -> bool {
    matches!(sql_type, SqlType::Double | SqlType::Real)
}

/// Returns whether a column of this type compares as text.
#[doc(hidden)]
pub const fn is_text((sql_type, _): (SqlType, bool)) -> bool {
    matches!(sql_type, SqlType::Text)
}

/// Returns whether at most one row has given values in these fields, which the derive knows from the sets of
/// fields that are unique: one of the sets must be among them.
#[doc(hidden)]
pub const fn is_unique(mut sets: &[&[&str]], fields: &[&str]) -> bool {
    while let [set, rest @ ..] = sets {
        // A table without a key has an empty set for it, which makes nothing unique.
        if !set.is_empty() && holds_all(fields, set) {
            return true;
        }
        sets = rest;
    }
    false
}

const fn holds_all(fields: &[&str], mut wanted: &[&str]) -> bool {
    while let [one, rest @ ..] = wanted {
        if !holds(fields, one) {
            return false;
        }
        wanted = rest;
    }
    true
}

const fn holds(mut fields: &[&str], wanted: &str) -> bool {
    while let [field, rest @ ..] = fields {
        if is_same(field.as_bytes(), wanted.as_bytes()) {
            return true;
        }
        fields = rest;
    }
    false
}

// A const function cannot compare texts with `==`.
const fn is_same(mut left: &[u8], mut right: &[u8]) -> bool {
    while let ([a, rest_left @ ..], [b, rest_right @ ..]) = (left, right) {
        if *a != *b {
            return false;
        }
        (left, right) = (rest_left, rest_right);
    }
    left.is_empty() && right.is_empty()
}
