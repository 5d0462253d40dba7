//! Conditions and their combinations: `&`, `|`, `!`, lists, and `Option` for a condition that may be absent.

use std::fmt;
use std::marker::PhantomData;
use std::ops::{BitAnd, BitOr, Not};

use super::level::{Level, PerRow};
use super::{Column, Expr, ExprExt};
use crate::tree::Node;

/// A condition on rows: true, false, or NULL where it depends on a NULL.
///
/// Only rows for which it is true pass a filter. Conditions are combined with `&`, `|` and `!`. Either side
/// of `&` and `|` may be an `Option`: `None` means no condition, so that the other side stands alone.
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
///
/// A condition is also an [`ExprExt`] of type `Option<bool>`: it can be selected and compared with NULL. With
/// `.coalesce(false)` it is a `bool`.
#[must_use = "a condition does nothing until a query is filtered by it"]
pub struct Condition<L = PerRow> {
    node: Node,
    level: PhantomData<fn() -> L>,
}

impl<L> Condition<L> {
    pub(crate) fn from_node(node: Node) -> Condition<L> {
        Condition { node, level: PhantomData }
    }
}

impl<L: Level> ExprExt for Condition<L> {
    type Type = Option<bool>;
    type Level = L;

    fn into_node(self) -> Node {
        self.node
    }
}

// Written by hand, because the derives would require `L: Clone` and `L: Debug`.
impl<L> Clone for Condition<L> {
    fn clone(&self) -> Self {
        Condition::from_node(self.node.clone())
    }
}

impl<L> fmt::Debug for Condition<L> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Condition").field(&self.node).finish()
    }
}

/// The types that a filter accepts: a [`Condition`], a boolean column or expression, or an `Option` of one,
/// where `None` means no condition.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a condition",
    label = "a filter needs a condition here",
    note = "compare a column with `eq`, `gt`, `is_null()` .., or pass an `Option` of such a condition",
    note = "hand-written SQL becomes a condition by `verbatim!(..).condition()`, `call!(..).condition()`"
)]
pub trait MaybeCondition {
    /// The level of the condition: for each row, or for each group of rows.
    type Level: Level;

    #[doc(hidden)]
    fn into_condition(self) -> Option<Condition<Self::Level>>;
}

impl<L: Level> MaybeCondition for Condition<L> {
    type Level = L;

    fn into_condition(self) -> Option<Condition<L>> {
        Some(self)
    }
}

impl<C: MaybeCondition> MaybeCondition for Option<C> {
    type Level = C::Level;

    fn into_condition(self) -> Option<Condition<C::Level>> {
        self.and_then(C::into_condition)
    }
}

/// One impl for each type instead of one for every boolean column, so that the compiler says of any other
/// column that it is not a condition.
macro_rules! truth_values {
    ($($held:ty),*) => {$(
        impl MaybeCondition for Column<$held> {
            type Level = PerRow;

            fn into_condition(self) -> Option<Condition> {
                Some(self.eq(true))
            }
        }

        impl<L: Level> MaybeCondition for Expr<$held, L> {
            type Level = L;

            fn into_condition(self) -> Option<Condition<L>> {
                Some(Condition::from_node(self.into_node()))
            }
        }
    )*};
}

truth_values!(bool, Option<bool>);

/// Returns the condition that all of `conditions` hold. An empty list gives TRUE.
///
/// The list may have any length, and `None` in it means no condition.
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::all_of;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String }
/// let words = ["KP", "02"];
/// let query = Specimen::rows().filter(|s| all_of(words.map(|word| s.label.contains(word))));
/// # assert_eq!(query.sql(Dialect::Sqlite)?.binds().len(), 2);
/// # Ok::<(), Error>(())
/// ```
pub fn all_of<C: MaybeCondition>(conditions: impl IntoIterator<Item = C>) -> Condition<C::Level> {
    joined(conditions, Node::and).unwrap_or_else(|| Condition::from_node(Node::constant(true)))
}

/// Returns the condition that at least one of `conditions` holds. An empty list gives FALSE, so that a list of
/// rights without an entry opens nothing.
///
/// The list may have any length, and `None` in it means no condition. For alternatives that a user may leave
/// out, such as the words of a search, [`any_given`] is the right function.
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::any_of;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String }
/// let wanted = ["KP-1%", "QA-%"];
/// let query = Specimen::rows().filter(|s| any_of(wanted.map(|pattern| s.label.like(pattern))));
/// # assert_eq!(query.sql(Dialect::Sqlite)?.binds().len(), 2);
/// # Ok::<(), Error>(())
/// ```
pub fn any_of<C: MaybeCondition>(conditions: impl IntoIterator<Item = C>) -> Condition<C::Level> {
    joined(conditions, Node::or).unwrap_or_else(|| Condition::from_node(Node::constant(false)))
}

/// Returns the condition that at least one of `conditions` holds, or `None` if there are none. As a filter, `None`
/// keeps every row, so an empty search box shows the whole list.
///
/// The list may have any length, and `None` in it means no condition.
///
/// ```
/// use nepheline::any_given;
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String }
/// let search = |text: &str| {
///     let words: Vec<&str> = text.split_whitespace().collect();
///     Specimen::rows().filter(|s| any_given(words.iter().map(|word| s.label.contains(*word))))
/// };
/// assert!(search("KP 02").sql(Dialect::Sqlite)?.text().contains(" OR "));
/// assert!(!search("").sql(Dialect::Sqlite)?.text().contains("WHERE"));
/// # Ok::<(), Error>(())
/// ```
pub fn any_given<C: MaybeCondition>(
    conditions: impl IntoIterator<Item = C>,
) -> Option<Condition<C::Level>> {
    joined(conditions, Node::or)
}

fn joined<C: MaybeCondition>(
    conditions: impl IntoIterator<Item = C>,
    join: impl Fn(Node, Node) -> Node,
) -> Option<Condition<C::Level>> {
    let conditions = conditions.into_iter().filter_map(C::into_condition);
    let all = conditions.map(ExprExt::into_node).reduce(join);
    all.map(Condition::from_node)
}

impl<L> Not for Condition<L> {
    type Output = Condition<L>;

    fn not(self) -> Condition<L> {
        Condition::from_node(self.node.negated())
    }
}

macro_rules! joins {
    ($($operator:ident, $method:ident, $join:ident;)*) => {$(
        impl<L> $operator for Condition<L> {
            type Output = Condition<L>;

            fn $method(self, other: Condition<L>) -> Condition<L> {
                Condition::from_node(self.node.$join(other.node))
            }
        }

        impl<L> $operator<Option<Condition<L>>> for Condition<L> {
            type Output = Condition<L>;

            fn $method(self, other: Option<Condition<L>>) -> Condition<L> {
                match other {
                    Some(other) => $operator::$method(self, other),
                    None => self,
                }
            }
        }

        impl<L> $operator<Condition<L>> for Option<Condition<L>> {
            type Output = Condition<L>;

            fn $method(self, other: Condition<L>) -> Condition<L> {
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
