//! Conditions, and how they join: `&`, `|`, `!`, and `Option` for one that may be absent.

use std::ops::{BitAnd, BitOr, Not};

use crate::expr::{Column, Expression};
use crate::tree::Node;

/// A condition on rows: true, false, or NULL where a value that it depends on is NULL.
///
/// Only rows for which it is true pass a filter. Conditions join with `&`, `|` and `!`. Either side
/// of `&` and `|` may be an `Option`, and `None` is no condition at all: the other side alone stays.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, rock: String, top_m: f64, analyst_id: Option<i64> }
/// let rock: Option<String> = None;
/// let query = Specimen::rows().filter(|s| {
///     (s.top_m.gt(50.0) | s.analyst_id.is_null()) & rock.map(|r| s.rock.eq(r))
/// });
/// assert!(query.sql(Dialect::Sqlite)?.text().ends_with(
///     r#"WHERE "specimen"."top_m" > ? OR "specimen"."analyst_id" IS NULL"#
/// ));
/// # Ok::<(), Error>(())
/// ```
#[derive(Debug, Clone)]
#[must_use = "a condition does nothing until a query is filtered by it"]
pub struct Condition {
    node: Node,
}

impl Condition {
    /// Is neither true nor false, because a value that it depends on is NULL: `(..) IS NULL`.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, analyst_id: Option<i64> }
    /// let unknown = Specimen::rows().filter(|s| s.analyst_id.gt(3).is_null());
    /// assert!(unknown.sql(Dialect::Sqlite)?.text().ends_with(
    ///     r#"WHERE ("specimen"."analyst_id" > ?) IS NULL"#
    /// ));
    /// # Ok::<(), Error>(())
    /// ```
    pub fn is_null(self) -> Condition {
        Condition::from_node(self.node.is_null())
    }

    pub(crate) fn from_node(node: Node) -> Condition {
        Condition { node }
    }

    pub(crate) fn into_node(self) -> Node {
        self.node
    }
}

/// What a filter accepts: a [`Condition`], a column of truth values, or an `Option` of one, where
/// `None` is no condition.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a condition",
    label = "a filter needs a condition here",
    note = "compare a column with `eq`, `gt`, `is_null()` ..., or give an `Option` of such a condition"
)]
pub trait MaybeCondition {
    #[doc(hidden)]
    fn into_condition(self) -> Option<Condition>;
}

impl MaybeCondition for Condition {
    fn into_condition(self) -> Option<Condition> {
        Some(self)
    }
}

impl<C: MaybeCondition> MaybeCondition for Option<C> {
    fn into_condition(self) -> Option<Condition> {
        self.and_then(C::into_condition)
    }
}

// Two impls rather than one for every column of truth values, so that the compiler says of any
// other column that it is not a condition.
impl MaybeCondition for Column<bool> {
    fn into_condition(self) -> Option<Condition> {
        Some(self.eq(true))
    }
}

impl MaybeCondition for Column<Option<bool>> {
    fn into_condition(self) -> Option<Condition> {
        Some(self.eq(true))
    }
}

impl Not for Condition {
    type Output = Condition;

    fn not(self) -> Condition {
        Condition::from_node(self.node.negated())
    }
}

macro_rules! joins {
    ($($operator:ident, $method:ident, $join:ident;)*) => {$(
        impl $operator for Condition {
            type Output = Condition;

            fn $method(self, other: Condition) -> Condition {
                Condition::from_node(self.node.$join(other.node))
            }
        }

        impl $operator<Option<Condition>> for Condition {
            type Output = Condition;

            fn $method(self, other: Option<Condition>) -> Condition {
                match other {
                    Some(other) => $operator::$method(self, other),
                    None => self,
                }
            }
        }

        impl $operator<Condition> for Option<Condition> {
            type Output = Condition;

            fn $method(self, other: Condition) -> Condition {
                match self {
                    Some(this) => $operator::$method(this, other),
                    None => other,
                }
            }
        }
    )*};
}

joins! {
    BitAnd, bitand, and;
    BitOr, bitor, or;
}
