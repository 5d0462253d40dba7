//! Typed expressions: what users write inside closures, and how it becomes the tree.

mod aggregate;
mod arithmetic;
mod case;
mod cast;
mod column;
mod condition;
mod json;
mod level;
mod maybe;
mod operand;
mod order;
mod select;
mod text;
mod time;
mod verbatim;
mod window;

use crate::model::{BindValue, ColumnType, Nullable, Nullness, SqlType, Storable, function};
use crate::tree::{Comparison, Node};
use std::fmt;
use std::marker::PhantomData;

pub use aggregate::{
    Aggregate, all_true, any_true, avg, collected, count, count_distinct, count_of, joined, max,
    min, per, rollup, sum,
};
pub use arithmetic::{Divided, Integer, Number, NumberExpression};
pub use case::{Alternatives, Case, CaseStart, bind, case, coalesce};
pub use column::Column;
pub use condition::{Condition, MaybeCondition, all_of, any_of};
pub use json::JsonExpression;
pub use level::{
    HoldsAggregates, HoldsColumns, KnownPerGroup, KnownPerRow, Level, PerGroup, PerRow,
};
pub use maybe::{Mapped, Maybe, RowColumns};
pub use operand::{Argument, Bounds, Choices, ListItem, MaybeOperand, Operand};
pub use order::{IntoOrders, Order};
pub use select::{Gives, Selectable, Selection, ShapedFrom, StandsBeside};
pub use text::{AnyCase, Pattern, TextExpression};
pub use time::{HasDate, HasTime, TimeExpression, TimeUnit};
pub use verbatim::{Verbatim, argument};
pub use window::{
    Over, WindowFunction, dense_rank, first_value, lag, lag_or, last_value, lead, lead_or, ntile,
    rank, row_number,
};

/// Returns whether computing an expression can be an error for some values, on some engine.
#[doc(hidden)]
pub fn can_fail<E: Expression>(expression: E) -> bool {
    expression.into_node().facts().can_fail()
}

/// A bind parameter: a value that is given when the statement is run.
#[doc(hidden)]
pub fn parameter<T: Storable>(number: u16) -> Expr<T> {
    Expr::from_node(Node::Bind(BindValue::Parameter(number, T::SQL_TYPE)))
}

/// A value that is computed in the database, read as a `T`.
///
/// It comes from a [`Column`], from other expressions, or from hand-written SQL, and everything that
/// can be done with a column can be done with it.
#[must_use = "an expression does nothing until a query asks for it"]
pub struct Expr<T, L = PerRow> {
    node: Node,
    holds: PhantomData<fn() -> (T, L)>,
}

impl<T, L> Expr<T, L> {
    pub(crate) fn from_node(node: Node) -> Expr<T, L> {
        Expr { node, holds: PhantomData }
    }
}

// By hand, because the derives would ask for `T: Clone` and `T: Debug`.
impl<T, L> Clone for Expr<T, L> {
    fn clone(&self) -> Self {
        Expr::from_node(self.node.clone())
    }
}

impl<T, L> fmt::Debug for Expr<T, L> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Expr").field(&self.node).finish()
    }
}

impl<T: ColumnType, L: Level> Expression for Expr<T, L> {
    type Type = T;
    type Level = L;

    fn into_node(self) -> Node {
        self.node
    }
}

/// The type that an expression is compared with: its own, without `Option`.
pub type BaseOf<E> = <<E as Expression>::Type as ColumnType>::Base;

/// Whether an expression may be NULL.
type NullOf<E> = <<E as Expression>::Type as ColumnType>::Null;

/// The type `U`, or `Option<U>` where the expression `E` may be NULL: what a function that is NULL
/// of NULL gives.
pub type Follows<E, U> = <NullOf<E> as Nullness>::Of<U>;

/// The type `U`, or `Option<U>` where the expression `E` or something of nullness `N` may be NULL.
pub type FollowsEither<E, N, U> = <<NullOf<E> as Nullness>::Or<N> as Nullness>::Of<U>;

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

    /// Whether it has a value for each row or for each group of rows.
    type Level: Level;

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
    fn eq(self, other: impl Operand<BaseOf<Self>, Self::Level>) -> Condition<Self::Level> {
        compare(Comparison::Equal, self, other)
    }

    /// Is not equal to `other`: `<>`. Rows where this is NULL are not among them.
    fn ne(self, other: impl Operand<BaseOf<Self>, Self::Level>) -> Condition<Self::Level> {
        compare(Comparison::NotEqual, self, other)
    }

    /// Is less than `other`: `<`. For text: comes before it by code point.
    fn lt(self, other: impl Operand<BaseOf<Self>, Self::Level>) -> Condition<Self::Level> {
        compare(Comparison::Less, self, other)
    }

    /// Is less than or equal to `other`: `<=`.
    fn le(self, other: impl Operand<BaseOf<Self>, Self::Level>) -> Condition<Self::Level> {
        compare(Comparison::LessOrEqual, self, other)
    }

    /// Is greater than `other`: `>`. For text: comes after it by code point.
    fn gt(self, other: impl Operand<BaseOf<Self>, Self::Level>) -> Condition<Self::Level> {
        compare(Comparison::Greater, self, other)
    }

    /// Is greater than or equal to `other`: `>=`.
    fn ge(self, other: impl Operand<BaseOf<Self>, Self::Level>) -> Condition<Self::Level> {
        compare(Comparison::GreaterOrEqual, self, other)
    }

    /// Is not less than `low` and not greater than `high`: `BETWEEN`, both ends included.
    ///
    /// Where `low` is greater than `high`, no value is.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, top_m: f64, base_m: f64 }
    /// let query = Specimen::rows().filter(|s| s.top_m.between(50, s.base_m));
    /// assert!(query.sql(Dialect::Sqlite)?.text().ends_with(
    ///     r#"WHERE "specimen"."top_m" BETWEEN ? AND "specimen"."base_m""#
    /// ));
    /// # Ok::<(), Error>(())
    /// ```
    fn between(
        self,
        low: impl Operand<BaseOf<Self>, Self::Level>,
        high: impl Operand<BaseOf<Self>, Self::Level>,
    ) -> Condition<Self::Level> {
        Condition::from_node(
            self.into_node()
                .between(low.into_operand(), high.into_operand()),
        )
    }

    /// Is within a range of Rust, whose end is included or not as its syntax says.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Assay { #[nepheline(key)] id: i64, due_on: Date }
    /// let today: Date = "2026-06-15".parse().unwrap();
    /// let next_30_days = Assay::rows().filter(|a| a.due_on.within(today..today + 30.days()));
    /// assert!(next_30_days.sql(Dialect::Sqlite)?.text().ends_with(
    ///     r#"WHERE "assay"."due_on" >= ? AND "assay"."due_on" < ?"#
    /// ));
    /// # Ok::<(), Error>(())
    /// ```
    fn within(self, range: impl Bounds<BaseOf<Self>, Self::Level>) -> Condition<Self::Level> {
        Condition::from_node(range.around(self.into_node()))
    }

    /// Is another value than `other`, NULL being a value like any: `IS DISTINCT FROM`. It is never NULL.
    fn is_distinct_from(
        self,
        other: impl MaybeOperand<BaseOf<Self>, Self::Level>,
    ) -> Condition<Self::Level> {
        let (this, other) = (self.into_node(), other.into_operand());
        Condition::from_node(Node::compare(Comparison::Distinct, this, other))
    }

    /// Is the same value as `other`, or both are NULL: `IS NOT DISTINCT FROM`. It is never NULL.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, analyst_id: Option<i64> }
    /// let analyst: Option<i64> = None; // of the request: nobody
    /// let query = Specimen::rows().filter(|s| s.analyst_id.is_not_distinct_from(analyst));
    /// # assert!(query.sql(Dialect::Sqlite)?.text().ends_with(r#"WHERE "specimen"."analyst_id" IS ?"#));
    /// # Ok::<(), Error>(())
    /// ```
    fn is_not_distinct_from(
        self,
        other: impl MaybeOperand<BaseOf<Self>, Self::Level>,
    ) -> Condition<Self::Level> {
        let (this, other) = (self.into_node(), other.into_operand());
        Condition::from_node(Node::compare(Comparison::NotDistinct, this, other))
    }

    /// Is NULL. Only for expressions that may be.
    fn is_null(self) -> Condition<Self::Level>
    where
        Self::Type: Nullable,
    {
        Condition::from_node(self.into_node().is_null())
    }

    /// Is not NULL. Only for expressions that may be.
    fn is_not_null(self) -> Condition<Self::Level>
    where
        Self::Type: Nullable,
    {
        Condition::from_node(self.into_node().is_null().negated())
    }

    /// Is true, and neither false nor NULL: `IS TRUE`. Its opposite, `!`, has the rows with NULL.
    fn is_true(self) -> Condition<Self::Level>
    where
        Self::Type: ColumnType<Base = bool>,
    {
        let call = Node::call(&function::IS_TRUE, SqlType::Boolean, [self.into_node()]);
        Condition::from_node(call)
    }

    /// Is false, and neither true nor NULL: `IS FALSE`.
    fn is_false(self) -> Condition<Self::Level>
    where
        Self::Type: ColumnType<Base = bool>,
    {
        let call = Node::call(&function::IS_FALSE, SqlType::Boolean, [self.into_node()]);
        Condition::from_node(call)
    }

    /// Is one of `choices`: of a list of values, or of the values that a query selects. Of an empty
    /// list nothing is, so no row matches.
    ///
    /// The list is one bind of any length. On an expression that may be NULL the items may be
    /// `Option`s; then `None` in the list matches NULL, and the list takes a second bind. A NULL
    /// among the values of a query matches nothing.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, analyst_id: Option<i64> }
    /// # #[derive(Debug, Table)] struct Assay { #[nepheline(key)] id: i64, specimen_id: i64, element: String }
    /// let theirs = Specimen::rows().filter(|s| s.analyst_id.one_of([1, 4]));
    /// let theirs_or_nobodys = Specimen::rows().filter(|s| s.analyst_id.one_of([Some(1), None]));
    /// assert_eq!(theirs_or_nobodys.sql(Dialect::Postgres)?.binds().len(), 2);
    ///
    /// let with_gold = Assay::rows().filter(|a| a.element.eq("Au")).select(|a| a.specimen_id);
    /// let query = Specimen::rows().filter(|s| s.id.one_of(with_gold));
    /// assert!(query.sql(Dialect::Postgres)?.text().ends_with(
    ///     r#"WHERE "specimen"."id" IN (SELECT "assay"."specimen_id" FROM "assay" WHERE "assay"."element" = $1)"#
    /// ));
    /// # Ok::<(), Error>(())
    /// ```
    fn one_of(self, choices: impl Choices<Self::Type, Self::Level>) -> Condition<Self::Level> {
        Condition::from_node(choices.look_up(self.into_node(), false))
    }

    /// Is none of `choices`: the rows that [`one_of`](Self::one_of) leaves out.
    ///
    /// As a reader expects, a row where this is NULL is kept unless `None` is in the list, and an
    /// empty list keeps every row. (SQL's own NOT IN does neither.)
    fn none_of(self, choices: impl Choices<Self::Type, Self::Level>) -> Condition<Self::Level> {
        Condition::from_node(choices.look_up(self.into_node(), true))
    }

    /// This, or `other` where it is NULL: `COALESCE`. Only for expressions that may be NULL; the
    /// result may be where `other` may.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, analyst_id: Option<i64> }
    /// let analysts: Query<Specimen, i64> = Specimen::rows().select(|s| s.analyst_id.if_null(0));
    /// # assert!(analysts.sql(Dialect::Sqlite)?.text().starts_with(r#"SELECT COALESCE("specimen"."analyst_id", ?) FROM"#));
    /// # Ok::<(), Error>(())
    /// ```
    fn if_null<O: Operand<BaseOf<Self>, Self::Level>>(
        self,
        other: O,
    ) -> Expr<<O::Null as Nullness>::Of<BaseOf<Self>>, Self::Level>
    where
        Self::Type: Nullable,
    {
        let values = [self.into_node(), other.into_operand()];
        Expr::from_node(Node::call(&function::COALESCE[0], BaseOf::<Self>::SQL_TYPE, values))
    }

    /// NULL where this is equal to `value`, else this: `NULLIF`.
    fn null_if(
        self,
        value: impl Operand<BaseOf<Self>, Self::Level>,
    ) -> Expr<Option<BaseOf<Self>>, Self::Level> {
        let values = [self.into_node().in_code_point_order(), value.into_operand()];
        Expr::from_node(Node::call(&function::NULL_IF, BaseOf::<Self>::SQL_TYPE, values))
    }

    /// The smaller of this and `other`, by the same order as [`lt`](Self::lt); NULL if either is.
    fn least<O: Operand<BaseOf<Self>, Self::Level>>(
        self,
        other: O,
    ) -> Expr<FollowsEither<Self, O::Null, BaseOf<Self>>, Self::Level> {
        arithmetic::extreme([&function::LEAST, &function::LEAST_OR_NULL], self, other)
    }

    /// The greater of this and `other`, by the same order as [`gt`](Self::gt); NULL if either is.
    fn greatest<O: Operand<BaseOf<Self>, Self::Level>>(
        self,
        other: O,
    ) -> Expr<FollowsEither<Self, O::Null, BaseOf<Self>>, Self::Level> {
        arithmetic::extreme([&function::GREATEST, &function::GREATEST_OR_NULL], self, other)
    }

    /// The same value as another type; NULL stays NULL.
    ///
    /// | from | to | |
    /// |---|---|---|
    /// | an integer | any integer | one that does not fit is an error when it is read |
    /// | an integer | `f64`, `String`, `Decimal` | |
    /// | a float | any integer | cut off towards zero, and beyond 64 bits the nearest there is, as `as` in Rust |
    /// | a decimal | `f64` | |
    /// | `bool` | an integer | 0 or 1 |
    /// | a date or a time of any kind | another kind | midnight where there is no time; in UTC |
    /// | `Date`, `Uuid` | `String` | in its usual form |
    /// | a newtype or enum | what it is stored as, and back | |
    ///
    /// # Errors
    ///
    /// Any other cast, for example of text to a number or a float to text, is
    /// [`Unsupported`](crate::ErrorKind::Unsupported) when the query is compiled: engines disagree
    /// about what they mean.
    fn cast<U: Storable>(self) -> Expr<Follows<Self, U>, Self::Level> {
        Expr::from_node(cast::cast(self.into_node(), BaseOf::<Self>::SQL_TYPE, U::SQL_TYPE))
    }

    /// Order by this, the smallest first and NULLs last.
    fn asc(self) -> Order<Self::Level> {
        Order::new(self.into_node(), Self::Type::NULLABLE, false)
    }

    /// Order by this, the greatest first and NULLs last.
    fn desc(self) -> Order<Self::Level> {
        Order::new(self.into_node(), Self::Type::NULLABLE, true)
    }
}

impl<T: ColumnType> Expression for Column<T> {
    type Type = T;
    type Level = PerRow;

    fn into_node(self) -> Node {
        Node::Column(self.raw())
    }
}

fn compare<E: Expression>(
    comparison: Comparison,
    left: E,
    right: impl Operand<BaseOf<E>, E::Level>,
) -> Condition<E::Level> {
    Condition::from_node(Node::compare(comparison, left.into_node(), right.into_operand()))
}

/// A function of an expression that is NULL where the expression is.
fn follow<E: Expression, U: Storable>(
    function: &'static function::Function,
    of: E,
    others: impl IntoIterator<Item = Node>,
) -> Expr<Follows<E, U>, E::Level> {
    let arguments = [of.into_node()].into_iter().chain(others);
    Expr::from_node(Node::call(function, U::SQL_TYPE, arguments))
}

impl Node {
    /// Told to be compared by code point, where it is text that would not be.
    pub(crate) fn in_code_point_order(self) -> Node {
        match self.needs_collation() {
            true => Node::call(&function::IN_CODE_POINT_ORDER, SqlType::Text, [self]),
            false => self,
        }
    }

    /// The same for a function that compares by itself, on the engines where it goes by collation.
    fn by_code_point(self) -> Node {
        match self.needs_collation() || matches!(self, Node::Bind(_)) {
            true => Node::call(&function::BY_CODE_POINT, SqlType::Text, [self]),
            false => self,
        }
    }
}
