//! Typed expressions, which users write inside closures.

mod aggregate;
mod arithmetic;
mod array;
mod case;
mod cast;
mod collate;
mod column;
mod condition;
mod json;
mod level;
mod literal;
mod maybe;
mod operand;
mod order;
mod parent;
mod range;
mod rest;
mod select;
mod text;
mod time;
pub mod unfit;
mod verbatim;
mod window;

use crate::model::{ColumnType, Nullable, Nullness, SqlType, Storable, function};
use crate::tree::{Comparison, Node};
use std::fmt;
use std::marker::PhantomData;

pub use aggregate::{
    Aggregate, all_true, any_true, array_agg, avg, avg_decimal, count, count_distinct, count_of,
    is_subtotal, listagg, max, median, min, per, rollup, stddev_pop, stddev_samp, sum, var_pop,
    var_samp,
};
pub use arithmetic::{Adds, Divided, Exact, Integer, Number, NumberExt};
pub use array::ArrayExt;
pub use case::{Alternatives, Case, CaseStart, bind, case, coalesce};
pub(crate) use cast::cast as cast_node;
pub use collate::{Collation, InCollation};
pub use column::Column;
pub use condition::{Condition, MaybeCondition, all_of, any_given, any_of};
pub use json::{JsonExt, JsonScalar};
pub use level::{
    Grouped, HoldsAggregates, HoldsColumns, KnownPerGroup, KnownPerRow, Level, PerGroup, PerRow,
};
pub use literal::{Constant, literal};
pub use maybe::{Mapped, Maybe, RowColumns};
pub use operand::{Argument, Bounds, Choices, ListItem, MaybeOperand, Operand};
pub use order::{IntoOrders, Order};
pub use parent::{GroupedParent, PerParent, per_parent};
pub use range::RangeExt;
pub use rest::{GivenFields, ShapeRest, shape_rest};
pub use select::{
    AsBind, AsSelected, IntoSelection, NoLevel, Selection, Settles, Shape, ShapeField, ShapeValue,
    ShapedFrom, Shaping, StandsBeside, shape_value,
};
pub(crate) use text::pattern_in_tree;
pub use text::{AnyCase, Pattern, TextExt};
pub use time::{
    DateUnit, HasDate, HasTime, Interval, IntervalUnit, TimeExt, TruncUnit, days, hours, minutes,
    months, seconds, unit, weeks, years,
};
pub(crate) use verbatim::FragmentArgument;
pub use verbatim::{Verbatim, argument, columns_of, schema_name};
pub use window::{
    Over, WindowFunction, dense_rank, first_value, lag, lag_or, last_value, lead, lead_or, ntile,
    rank, row_number,
};

/// Returns whether evaluating an expression can fail for some values on some engine.
#[doc(hidden)]
pub fn can_fail<E: ExprExt>(expression: E) -> bool {
    expression.into_node().summary().can_fail()
}

/// A value that the database computes, read as a `T`.
///
/// It comes from a [`Column`], from other expressions, or from hand-written SQL. It has all methods that a
/// column has.
#[must_use = "an expression does nothing until it is used in a query"]
pub struct Expr<T, L = PerRow> {
    node: Node,
    holds: PhantomData<fn() -> (T, L)>,
}

impl<T, L> Expr<T, L> {
    pub(crate) fn from_node(node: Node) -> Expr<T, L> {
        Expr { node, holds: PhantomData }
    }
}

impl<T> Expr<T> {
    /// Uses a value that does not depend on rows beside groups: a constant, or the value of another query.
    ///
    /// ```
    /// use nepheline::bind;
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, borehole_id: i64, base_m: f64 }
    /// let average = Specimen::rows().select(|s| avg(s.base_m)).value();
    /// let deep: Query<Specimen, (i64, Option<f64>, i64), _> = Specimen::rows()
    ///     .select(|s| (per(s.borehole_id), avg(s.base_m), bind(2026_i64).per_group()))
    ///     .having(|s| avg(s.base_m).gt(average.per_group()));
    /// assert_eq!(
    ///     deep.sql(Dialect::Sqlite)?.text(),
    ///     r#"SELECT "specimen"."borehole_id", avg("specimen"."base_m"), ? FROM "specimen" GROUP BY 1 HAVING avg("specimen"."base_m") > (SELECT avg("specimen_2"."base_m") FROM "specimen" AS "specimen_2")"#,
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// # Errors
    ///
    /// A column in it that is no key of the groups is [`InvalidQuery`](crate::ErrorKind::InvalidQuery) when the query is
    /// compiled: it has many values in a group.
    pub fn per_group(self) -> Expr<T, PerGroup> {
        Expr::from_node(self.node)
    }
}

// Written by hand, because the derives would require `T: Clone` and `T: Debug`.
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

impl<T: ColumnType, L: Level> ExprExt for Expr<T, L> {
    type Type = T;
    type Level = L;

    fn into_node(self) -> Node {
        self.node
    }
}

/// The type that an expression is compared with: its own, without `Option`.
pub type BaseOf<E> = <<E as ExprExt>::Type as ColumnType>::Base;

/// The nullness of an expression.
type NullOf<E> = <<E as ExprExt>::Type as ColumnType>::Null;

/// The type `U`, or `Option<U>` if the expression `E` is nullable: the result of a function that returns NULL
/// for NULL.
pub type Follows<E, U> = <NullOf<E> as Nullness>::Of<U>;

/// The type `U`, or `Option<U>` if the expression `E` or something of nullness `N` is nullable.
pub type FollowsEither<E, N, U> = <<NullOf<E> as Nullness>::Or<N> as Nullness>::Of<U>;

/// The methods of every typed value in a query.
///
/// A comparison with NULL is neither true nor false, so a row whose column is NULL passes neither the
/// comparison nor its opposite. That is SQL's rule; [`is_null`](Self::is_null) tests for NULL, and
/// [`none_of`](Self::none_of) keeps such rows.
///
/// Text is compared by code point on every engine, whatever collation the column has.
pub trait ExprExt: Sized {
    /// The Rust type that it is read as: an `Option` if it is nullable.
    type Type: ColumnType;

    /// The level: a value for each row, or for each group of rows.
    type Level: Level;

    #[doc(hidden)]
    fn into_node(self) -> Node;

    /// Tests for equality: `=`.
    ///
    /// `None` does not compile here, because nothing equals NULL; use [`is_null`](Self::is_null).
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

    /// Tests for inequality: `<>`. A row where this is NULL does not pass.
    fn ne(self, other: impl Operand<BaseOf<Self>, Self::Level>) -> Condition<Self::Level> {
        compare(Comparison::NotEqual, self, other)
    }

    /// Tests for less: `<`. Text is compared by code point.
    fn lt(self, other: impl Operand<BaseOf<Self>, Self::Level>) -> Condition<Self::Level> {
        compare(Comparison::Less, self, other)
    }

    /// Tests for less or equal: `<=`.
    fn le(self, other: impl Operand<BaseOf<Self>, Self::Level>) -> Condition<Self::Level> {
        compare(Comparison::LessOrEqual, self, other)
    }

    /// Tests for greater: `>`. Text is compared by code point.
    fn gt(self, other: impl Operand<BaseOf<Self>, Self::Level>) -> Condition<Self::Level> {
        compare(Comparison::Greater, self, other)
    }

    /// Tests for greater or equal: `>=`.
    fn ge(self, other: impl Operand<BaseOf<Self>, Self::Level>) -> Condition<Self::Level> {
        compare(Comparison::GreaterOrEqual, self, other)
    }

    /// Tests for a range that includes both ends: `BETWEEN`.
    ///
    /// No value passes if `low` is greater than `high`.
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

    /// Tests for a Rust range, which includes or excludes its end as its syntax says.
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

    /// Tests for difference, with NULL as a value: `IS DISTINCT FROM`. It is never NULL.
    fn is_distinct_from(
        self,
        other: impl MaybeOperand<BaseOf<Self>, Self::Level>,
    ) -> Condition<Self::Level> {
        let (this, other) = (self.into_node(), other.into_operand());
        Condition::from_node(Node::compare(Comparison::Distinct, this, other))
    }

    /// Tests for equality, with NULL as a value: `IS NOT DISTINCT FROM`. It is never NULL.
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

    /// Tests for NULL. Only nullable expressions have it.
    fn is_null(self) -> Condition<Self::Level>
    where
        Self::Type: Nullable,
    {
        Condition::from_node(self.into_node().is_null())
    }

    /// Tests for a value that is not NULL. Only nullable expressions have it.
    fn is_not_null(self) -> Condition<Self::Level>
    where
        Self::Type: Nullable,
    {
        Condition::from_node(self.into_node().is_null().negated())
    }

    /// Tests for true: `IS TRUE`. Its opposite, `!`, keeps rows with NULL.
    fn is_true(self) -> Condition<Self::Level>
    where
        Self::Type: ColumnType<Base = bool>,
    {
        let call = Node::call(&function::IS_TRUE, SqlType::Boolean, [self.into_node()]);
        Condition::from_node(call)
    }

    /// Tests for false: `IS FALSE`.
    fn is_false(self) -> Condition<Self::Level>
    where
        Self::Type: ColumnType<Base = bool>,
    {
        let call = Node::call(&function::IS_FALSE, SqlType::Boolean, [self.into_node()]);
        Condition::from_node(call)
    }

    /// Tests whether the value is in a list of values, or in the result of a query: `IN`. No row matches an
    /// empty list.
    ///
    /// A long list is one bind. A short one may be a bind for each item, of few lengths, where that is faster. For a
    /// nullable expression the items may be `Option`s: `None` in the list matches NULL, and the list takes another
    /// bind. A NULL in the result of a query matches nothing.
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

    /// Tests whether the value is not in a list or a query's result: the rows that [`one_of`](Self::one_of)
    /// leaves out.
    ///
    /// A row where this is NULL passes unless `None` is in the list, and every row passes an empty list.
    /// SQL's own NOT IN does neither.
    fn none_of(self, choices: impl Choices<Self::Type, Self::Level>) -> Condition<Self::Level> {
        Condition::from_node(choices.look_up(self.into_node(), true))
    }

    /// Returns this, or `other` where this is NULL: COALESCE. Only nullable expressions have it; the result
    /// is nullable if `other` is.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, analyst_id: Option<i64> }
    /// let analysts: Query<Specimen, i64> = Specimen::rows().select(|s| s.analyst_id.coalesce(0));
    /// # assert!(analysts.sql(Dialect::Sqlite)?.text().starts_with(r#"SELECT COALESCE("specimen"."analyst_id", ?) FROM"#));
    /// # Ok::<(), Error>(())
    /// ```
    fn coalesce<O: Operand<BaseOf<Self>, Self::Level>>(
        self,
        other: O,
    ) -> Expr<<O::Null as Nullness>::Of<BaseOf<Self>>, Self::Level>
    where
        Self::Type: Nullable,
    {
        let values = [self.into_node(), other.into_operand()];
        Expr::from_node(Node::call(&function::COALESCE[0], BaseOf::<Self>::SQL_TYPE, values))
    }

    /// Returns NULL where this equals `value`, and this otherwise: NULLIF.
    fn null_if(
        self,
        value: impl Operand<BaseOf<Self>, Self::Level>,
    ) -> Expr<Option<BaseOf<Self>>, Self::Level> {
        let values = [self.into_node().in_code_point_order(), value.into_operand()];
        Expr::from_node(Node::call(&function::NULL_IF, BaseOf::<Self>::SQL_TYPE, values))
    }

    /// Returns the smaller of this and `other`, in the order of [`lt`](Self::lt); NULL if either is.
    fn least<O: Operand<BaseOf<Self>, Self::Level>>(
        self,
        other: O,
    ) -> Expr<FollowsEither<Self, O::Null, BaseOf<Self>>, Self::Level> {
        arithmetic::extreme([&function::LEAST, &function::LEAST_OR_NULL], self, other)
    }

    /// Returns the greater of this and `other`, in the order of [`gt`](Self::gt); NULL if either is.
    fn greatest<O: Operand<BaseOf<Self>, Self::Level>>(
        self,
        other: O,
    ) -> Expr<FollowsEither<Self, O::Null, BaseOf<Self>>, Self::Level> {
        arithmetic::extreme([&function::GREATEST, &function::GREATEST_OR_NULL], self, other)
    }

    /// Converts to another type; NULL stays NULL.
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
    /// Any other cast, such as text to a number or a float to text, is
    /// [`Unsupported`](crate::ErrorKind::Unsupported) when the query is compiled, because engines disagree
    /// about it.
    fn cast<U: Storable>(self) -> Expr<Follows<Self, U>, Self::Level> {
        Expr::from_node(cast::cast(self.into_node(), BaseOf::<Self>::SQL_TYPE, U::SQL_TYPE))
    }

    /// Returns the ascending order, NULLs last.
    fn asc(self) -> Order<Self::Level> {
        Order::new(self.into_node(), Self::Type::NULLABLE, false)
    }

    /// Returns the descending order, NULLs last.
    fn desc(self) -> Order<Self::Level> {
        Order::new(self.into_node(), Self::Type::NULLABLE, true)
    }
}

impl<T: ColumnType> ExprExt for Column<T> {
    type Type = T;
    type Level = PerRow;

    fn into_node(self) -> Node {
        Node::Column(self.raw())
    }
}

fn compare<E: ExprExt>(
    comparison: Comparison,
    left: E,
    right: impl Operand<BaseOf<E>, E::Level>,
) -> Condition<E::Level> {
    Condition::from_node(Node::compare(comparison, left.into_node(), right.into_operand()))
}

/// Calls a function that returns NULL for NULL.
fn follow<E: ExprExt, U: Storable>(
    function: &'static function::Function,
    of: E,
    others: impl IntoIterator<Item = Node>,
) -> Expr<Follows<E, U>, E::Level> {
    let arguments = [of.into_node()].into_iter().chain(others);
    Expr::from_node(Node::call(function, U::SQL_TYPE, arguments))
}

impl Node {
    /// Adds a collation by code point, where it is text without one.
    pub(crate) fn in_code_point_order(self) -> Node {
        match self.needs_collation() {
            true => Node::call(&function::IN_CODE_POINT_ORDER, SqlType::Text, [self]),
            false => self,
        }
    }

    /// Adds a collation by code point for a function that compares by itself, on the engines where it needs
    /// one.
    fn by_code_point(self) -> Node {
        match self.needs_collation() || matches!(self, Node::Bind(_)) {
            true => Node::call(&function::BY_CODE_POINT, SqlType::Text, [self]),
            false => self,
        }
    }
}
