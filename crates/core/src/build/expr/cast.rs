//! Casts between types, where all engines agree about the result.

use crate::model::{Function, SqlType, function};
use crate::tree::Node;

/// Casts `node` from one type to another.
pub(crate) fn cast(node: Node, from: SqlType, to: SqlType) -> Node {
    use SqlType::{Boolean, Date, DateTime, Decimal, Double, Real, Text, Time, Timestamp, Uuid};
    let function: &'static Function = match (from, to) {
        // Every integer has 64 bits in the database, and is checked when it is read.
        _ if from == to || is_whole(from) && is_whole(to) => return node,
        (Real, Double) => &function::WIDEN_FLOAT,
        (from, Double) if is_whole(from) => &function::WHOLE_TO_FLOAT,
        (from, Text) if is_whole(from) => &function::WHOLE_TO_TEXT,
        (from, Decimal) if is_whole(from) => &function::WHOLE_TO_DECIMAL,
        (Real | Double, to) if is_whole(to) => &function::FLOAT_TO_WHOLE,
        (Boolean, to) if is_whole(to) => &function::BOOLEAN_TO_WHOLE,
        (Decimal, Double) => &function::DECIMAL_TO_FLOAT,
        (Uuid, Text) => &function::UUID_TO_TEXT,
        (Date, Text) => &function::DATE_TO_TEXT,
        (Date, DateTime) => &function::DATE_TO_DATE_TIME,
        (Date, Timestamp) => &function::DATE_TO_TIMESTAMP,
        (DateTime, Timestamp) => &function::DATE_TIME_TO_TIMESTAMP,
        (Timestamp, DateTime) => &function::TIMESTAMP_TO_DATE_TIME,
        (DateTime, Date) => &function::DATE_TIME_TO_DATE,
        (DateTime, Time) => &function::DATE_TIME_TO_TIME,
        (Timestamp, Date) => {
            return Node::call(&function::DATE_TIME_TO_DATE, to, [utc(node)]);
        }
        (Timestamp, Time) => {
            return Node::call(&function::DATE_TIME_TO_TIME, to, [utc(node)]);
        }
        _ => &function::NO_CAST,
    };
    Node::call(function, to, [node])
}

/// Converts a point in time to the date and time in UTC.
pub(super) fn utc(node: Node) -> Node {
    Node::call(&function::UTC, SqlType::DateTime, [node])
}

fn is_whole(sql_type: SqlType) -> bool {
    matches!(sql_type, SqlType::SmallInt | SqlType::Integer | SqlType::BigInt)
}
