//! Arrays: containment, length and one more item.

use super::{Condition, Expr, ExprExt, Follows};
use crate::model::{Array, ColumnType, Function, SqlType, Storable, function};
use crate::tree::Node;

/// Methods of array columns and expressions. A condition on an array that is NULL is NULL.
///
/// PostgreSQL uses a GIN index on a column of the declared type for [`contains`](Self::contains),
/// [`contains_all`](Self::contains_all) and [`overlaps`](Self::overlaps). Declare an array of texts as `text[]`
/// there: `varchar[]` has no such operators with it. The other engines read the JSON of each row.
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::Array;
/// # #[derive(Debug, Table)] struct Tray { #[nepheline(key)] id: i64, tags: Array<String> }
/// let wet = Tray::rows().filter(|t| t.tags.overlaps(["wet", "frozen"]) & t.tags.length().lt(5));
/// let tagged = Tray::row(7).update(|t| t.tags.set(t.tags.append("photographed")));
/// # assert!(wet.sql(Dialect::MariaDb).is_ok() && tagged.sql(Dialect::Sqlite).is_ok());
/// assert!(wet.sql(Dialect::Postgres)?.text().contains(r#""tray"."tags" && CAST($1 AS text[])"#));
/// # Ok::<(), Error>(())
/// ```
pub trait ArrayExt<T: Storable>: ExprExt<Type: ColumnType<Base = Array<T>>> {
    /// Returns whether an item equals a value.
    fn contains(self, value: impl Into<T>) -> Condition<Self::Level> {
        self.contains_all([value])
    }

    /// Returns whether each of some values equals an item. It is true for no values.
    fn contains_all<V: Into<T>>(
        self,
        values: impl IntoIterator<Item = V>,
    ) -> Condition<Self::Level> {
        condition(&function::ARRAY_CONTAINS, self, values)
    }

    /// Returns whether at least one of some values equals an item. It is false for no values.
    fn overlaps<V: Into<T>>(self, values: impl IntoIterator<Item = V>) -> Condition<Self::Level> {
        condition(&function::ARRAY_OVERLAPS, self, values)
    }

    /// Returns the number of items.
    fn length(self) -> Expr<Follows<Self, i64>, Self::Level> {
        let array = [self.into_node()];
        Expr::from_node(Node::call(&function::ARRAY_LENGTH, SqlType::BigInt, array))
    }

    /// Returns the array with one more item at its end.
    fn append(self, value: impl Into<T>) -> Expr<Self::Type, Self::Level> {
        let parts = [self.into_node(), items([value])];
        Expr::from_node(Node::call(&function::ARRAY_APPEND, Array::<T>::SQL_TYPE, parts))
    }
}

impl<T: Storable, E: ExprExt<Type: ColumnType<Base = Array<T>>>> ArrayExt<T> for E {}

fn items<T: Storable, V: Into<T>>(values: impl IntoIterator<Item = V>) -> Node {
    Node::Bind(Array::bind_of(values.into_iter().map(Into::<T>::into)))
}

fn condition<T: Storable, V: Into<T>, E: ExprExt>(
    function: &'static Function,
    array: E,
    values: impl IntoIterator<Item = V>,
) -> Condition<E::Level> {
    let parts = [array.into_node(), items::<T, V>(values)];
    Condition::from_node(Node::call(function, SqlType::Boolean, parts))
}
