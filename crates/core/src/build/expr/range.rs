//! Ranges: containment, overlap and bounds.

use super::verbatim::narrowed;
use super::{Condition, Expr, ExprExt, Follows, Operand};
use crate::model::{ColumnType, Function, RangeItem, RangeOf, SqlType, function};
use crate::tree::Node;

/// Methods of range columns and expressions, on PostgreSQL. The other engines store ranges as text and refuse them.
///
/// A condition with a NULL on either side is NULL. A GiST index on the column serves the conditions.
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::RangeOf;
/// # #[derive(Debug, Table)] struct Permit { #[nepheline(key)] id: i64, valid: RangeOf<Date> }
/// let today: Date = "2026-06-15".parse().unwrap();
/// let valid = Permit::rows().filter(|p| p.valid.contains(today));
/// let in_may = RangeOf::from("2026-05-01".parse::<Date>().unwrap().."2026-06-01".parse().unwrap());
/// let overlapping = Permit::rows().filter(|p| p.valid.overlaps(in_may)).select(|p| p.valid.upper());
/// assert!(overlapping.sql(Dialect::Postgres)?.text().ends_with(r#""permit"."valid" && CAST($1 AS daterange)"#));
/// assert_eq!(valid.sql(Dialect::Sqlite).unwrap_err().kind(), ErrorKind::Unsupported);
/// # Ok::<(), Error>(())
/// ```
pub trait RangeExt<T: RangeItem>: ExprExt<Type: ColumnType<Base = RangeOf<T>>> {
    /// Returns whether a value is in the range.
    fn contains(self, value: impl Operand<T, Self::Level>) -> Condition<Self::Level> {
        condition(&function::RANGE_CONTAINS, self, narrowed(value.into_operand(), T::SQL_TYPE))
    }

    /// Returns whether each value of another range is in this one. Every range contains the empty one.
    fn contains_range(
        self,
        range: impl Operand<RangeOf<T>, Self::Level>,
    ) -> Condition<Self::Level> {
        condition(&function::RANGE_CONTAINS, self, range.into_operand())
    }

    /// Returns whether the ranges share a value.
    fn overlaps(self, range: impl Operand<RangeOf<T>, Self::Level>) -> Condition<Self::Level> {
        condition(&function::RANGE_OVERLAPS, self, range.into_operand())
    }

    /// Returns the lower bound; NULL if there is none or the range is empty.
    fn lower(self) -> Expr<Option<T>, Self::Level> {
        Expr::from_node(Node::call(&function::RANGE_LOWER, T::SQL_TYPE, [self.into_node()]))
    }

    /// Returns the upper bound, which ranges of dates and integers exclude; NULL if there is none or the range is
    /// empty.
    fn upper(self) -> Expr<Option<T>, Self::Level> {
        Expr::from_node(Node::call(&function::RANGE_UPPER, T::SQL_TYPE, [self.into_node()]))
    }

    /// Returns whether the range holds no value.
    fn is_empty(self) -> Expr<Follows<Self, bool>, Self::Level> {
        let range = [self.into_node()];
        Expr::from_node(Node::call(&function::RANGE_IS_EMPTY, SqlType::Boolean, range))
    }
}

impl<T: RangeItem, E: ExprExt<Type: ColumnType<Base = RangeOf<T>>>> RangeExt<T> for E {}

fn condition<E: ExprExt>(
    function: &'static Function,
    range: E,
    other: Node,
) -> Condition<E::Level> {
    let parts = [range.into_node(), other];
    Condition::from_node(Node::call(function, SqlType::Boolean, parts))
}
