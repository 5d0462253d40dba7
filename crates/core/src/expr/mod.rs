//! Typed expressions: what users write inside closures, and how it becomes the tree.

mod condition;
mod operand;
mod order;

use std::fmt;
use std::marker::PhantomData;

pub use condition::{Condition, MaybeCondition};
pub use operand::{ListItem, Operand};
pub use order::{IntoOrders, Order};

use crate::query::SourceId;
use crate::storable::{ColumnType, List, Nullable, SqlType, Storable};
use crate::table::ColumnInfo;
use crate::tree::{Comparison, Node, RawColumn};

/// A column of a table in a query: a field of the struct that closures are given.
///
/// It is a small `Copy` value. What can be done with it is in [`Expression`].
pub struct Column<T> {
    raw: RawColumn,
    holds: PhantomData<fn() -> T>,
}

impl<T> Column<T> {
    #[doc(hidden)]
    #[inline]
    pub fn new(source: SourceId, info: &'static ColumnInfo) -> Column<T> {
        Column { raw: RawColumn { source, info }, holds: PhantomData }
    }
}

impl<T> Clone for Column<T> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T> Copy for Column<T> {}

impl<T> fmt::Debug for Column<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Column({}.{})", self.raw.info.table(), self.raw.info.name())
    }
}

/// The type that an expression is compared with: its own, without `Option`.
pub type BaseOf<E> = <<E as Expression>::Type as ColumnType>::Base;

/// A typed value in a query, and the conditions that can be asked of it.
///
/// A comparison with a value that is NULL is neither true nor false, so a row whose column is NULL
/// is not among the rows of a comparison, nor among those of its opposite. That is SQL's rule;
/// [`is_null`](Self::is_null) asks for NULL itself, and [`none_of`](Self::none_of) keeps such rows.
///
/// Text is compared by code point on every engine, whatever collation the column has.
pub trait Expression: Sized {
    /// The Rust type that it is read as: an `Option` where it may be NULL.
    type Type: ColumnType;

    #[doc(hidden)]
    fn into_node(self) -> Node;

    /// Is equal to `other`: `=`.
    ///
    /// `None` does not compile here, because nothing equals NULL: ask with [`is_null`](Self::is_null).
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String, rock: String }
    /// let query = Specimen::rows().filter(|s| s.rock.eq("basalt"));
    /// # assert!(query.sql(Dialect::Postgres)?.text().ends_with(r#"WHERE "specimen"."rock" = $1"#));
    /// # Ok::<(), Error>(())
    /// ```
    fn eq(self, other: impl Operand<BaseOf<Self>>) -> Condition {
        compare(Comparison::Equal, self, other)
    }

    /// Is not equal to `other`: `<>`. Rows where this is NULL are not among them.
    fn ne(self, other: impl Operand<BaseOf<Self>>) -> Condition {
        compare(Comparison::NotEqual, self, other)
    }

    /// Is less than `other`: `<`. For text: comes before it by code point.
    fn lt(self, other: impl Operand<BaseOf<Self>>) -> Condition {
        compare(Comparison::Less, self, other)
    }

    /// Is less than or equal to `other`: `<=`.
    fn le(self, other: impl Operand<BaseOf<Self>>) -> Condition {
        compare(Comparison::LessOrEqual, self, other)
    }

    /// Is greater than `other`: `>`. For text: comes after it by code point.
    fn gt(self, other: impl Operand<BaseOf<Self>>) -> Condition {
        compare(Comparison::Greater, self, other)
    }

    /// Is greater than or equal to `other`: `>=`.
    fn ge(self, other: impl Operand<BaseOf<Self>>) -> Condition {
        compare(Comparison::GreaterOrEqual, self, other)
    }

    /// Is NULL. Only for expressions that may be.
    fn is_null(self) -> Condition
    where
        Self::Type: Nullable,
    {
        Condition::from_node(self.into_node().is_null())
    }

    /// Is not NULL. Only for expressions that may be.
    fn is_not_null(self) -> Condition
    where
        Self::Type: Nullable,
    {
        Condition::from_node(self.into_node().is_null().negated())
    }

    /// Is one of `values`. Of an empty list nothing is, so no row matches.
    ///
    /// The list is one bind of any length. On an expression that may be NULL the items may be
    /// `Option`s; then `None` in the list matches NULL, and the list takes a second bind.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, analyst_id: Option<i64> }
    /// let theirs = Specimen::rows().filter(|s| s.analyst_id.one_of([1, 4]));
    /// let theirs_or_nobodys = Specimen::rows().filter(|s| s.analyst_id.one_of([Some(1), None]));
    /// assert_eq!(theirs_or_nobodys.sql(Dialect::Postgres)?.binds().len(), 2);
    /// # Ok::<(), Error>(())
    /// ```
    fn one_of<I>(self, values: I) -> Condition
    where
        I: IntoIterator,
        I::Item: ListItem<Self::Type>,
    {
        one_of(self, values, false)
    }

    /// Is none of `values`: the rows that [`one_of`](Self::one_of) leaves out.
    ///
    /// As a reader expects, a row where this is NULL is kept unless `None` is in the list, and an
    /// empty list keeps every row. (SQL's own NOT IN does neither.)
    fn none_of<I>(self, values: I) -> Condition
    where
        I: IntoIterator,
        I::Item: ListItem<Self::Type>,
    {
        one_of(self, values, true)
    }

    /// Matches a pattern in which `%` stands for any text and `_` for any one character, upper and
    /// lower case being different: `LIKE`. No character escapes another.
    fn like(self, pattern: impl AsRef<str>) -> Condition
    where
        Self::Type: ColumnType<Base = String>,
    {
        // In the tree `!` escapes, so here it has to stand for itself.
        let pattern = pattern.as_ref().replace('!', "!!").into_boxed_str();
        Condition::from_node(self.into_node().like(pattern))
    }

    /// Order by this, the smallest first and NULLs last.
    fn asc(self) -> Order {
        Order::new(self.into_node(), Self::Type::NULLABLE, false)
    }

    /// Order by this, the greatest first and NULLs last.
    fn desc(self) -> Order {
        Order::new(self.into_node(), Self::Type::NULLABLE, true)
    }
}

impl<T: ColumnType> Expression for Column<T> {
    type Type = T;

    fn into_node(self) -> Node {
        Node::Column(self.raw)
    }
}

fn compare<E: Expression>(
    comparison: Comparison,
    left: E,
    right: impl Operand<BaseOf<E>>,
) -> Condition {
    Condition::from_node(Node::compare(comparison, left.into_node(), right.into_operand()))
}

fn one_of<E, I>(operand: E, values: I, negated: bool) -> Condition
where
    E: Expression,
    I: IntoIterator,
    I::Item: ListItem<E::Type>,
{
    let mut null_seen = false;
    let values = values.into_iter();
    let mut items = Vec::with_capacity(values.size_hint().0);
    for value in values {
        match value.into_item() {
            Some(item) => items.push(item),
            None => null_seen = true,
        }
    }
    let item_type: SqlType = BaseOf::<E>::SQL_TYPE;
    let with_null = <I::Item as ListItem<E::Type>>::MAY_BE_NULL.then_some(null_seen);
    let list = List::new(item_type, items);
    Condition::from_node(operand.into_node().one_of(list, with_null, negated))
}
