//! Totals: values of a group of rows together, and the keys by which rows are grouped.

use std::fmt;
use std::marker::PhantomData;

use super::level::{HoldsAggregates, KnownPerRow, PerGroup, PerRow};
use super::{
    Argument, BaseOf, Condition, Expr, Expression, IntoOrders, MaybeCondition, MaybeOperand,
    Number, Operand, Over,
};
use crate::build::query::{SumOf, Summed};
use crate::model::{
    BindValue, Collected, ColumnType, Function, InJson, MaybeNull, SqlType, Storable, function,
};
use crate::tree;
use crate::tree::{Call, Node};

/// A value of all rows of a group together: made by [`count`], [`sum`] and their like.
///
/// It stands in `select`, `having` and `order_by` of a query that is grouped. [`among`](Self::among)
/// says which rows count; [`over`](Self::over) makes it a value of each row instead, computed from
/// the rows around it.
#[must_use = "an aggregate does nothing until a query asks for it"]
pub struct Aggregate<T> {
    inner: tree::Aggregate,
    holds: PhantomData<fn() -> T>,
}

impl<T: ColumnType> Aggregate<T> {
    fn new(function: &'static Function, arguments: impl IntoIterator<Item = Node>) -> Aggregate<T> {
        let arguments = arguments.into_iter().collect();
        let sql_type = T::Base::SQL_TYPE;
        let call = Call { function, sql_type, arguments, asked_at: None };
        Aggregate { inner: Node::of_rows(call), holds: PhantomData }
    }

    /// Only the rows for which the condition is true. Called again it narrows further.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Assay { #[nepheline(key)] id: i64, ppm: f64, reported_on: Option<Date> }
    /// let query: Query<Assay, (i64, i64), _> =
    ///     Assay::rows().select(|a| (count(), count().among(a.reported_on.is_null())));
    /// assert_eq!(
    ///     query.sql(Dialect::Postgres)?.text(),
    ///     r#"SELECT count(*), count(*) FILTER (WHERE "assay"."reported_on" IS NULL) FROM "assay""#,
    /// );
    /// assert_eq!(
    ///     query.sql(Dialect::MariaDb)?.text(),
    ///     "SELECT count(*), count(CASE WHEN `assay`.`reported_on` IS NULL THEN 1 END) FROM `assay`",
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    pub fn among(mut self, condition: impl MaybeCondition<Level: KnownPerRow>) -> Aggregate<T> {
        if let Some(condition) = condition.into_condition() {
            let condition = condition.into_node();
            self.inner.among = Some(match self.inner.among {
                Some(earlier) => earlier.and(condition),
                None => condition,
            });
        }
        self
    }

    /// The same of the rows around each row: a window. Beside columns it stands in the selection of
    /// each row.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, borehole_id: i64, top_m: f64, base_m: f64 }
    /// let running: Query<Specimen, (i64, Option<f64>)> = Specimen::rows().select(|s| {
    ///     let metres = sum(s.base_m - s.top_m);
    ///     (s.id, metres.over(|w| w.partition_by(s.borehole_id).order_by(s.top_m.asc()).rows(..=0)))
    /// });
    /// assert!(running.sql(Dialect::Sqlite)?.text().contains(
    ///     r#"OVER (PARTITION BY "specimen"."borehole_id" ORDER BY "specimen"."top_m" ROWS BETWEEN UNBOUNDED PRECEDING AND CURRENT ROW)"#
    /// ));
    /// # Ok::<(), Error>(())
    /// ```
    pub fn over(self, window: impl FnOnce(Over) -> Over) -> Expr<T> {
        window(Over::default()).of(self.inner)
    }
}

/// What collects values in an order: [`joined`] and [`collected`].
pub trait TakesOrder {}

impl TakesOrder for Option<String> {}

impl<T> TakesOrder for Collected<T> {}

impl<T: TakesOrder> Aggregate<T> {
    /// The texts in this order, of [`joined`].
    pub fn ordered_by(mut self, orders: impl IntoOrders<PerRow>) -> Self {
        orders.each(&mut |order| self.inner.orders.push(order));
        self
    }
}

impl<T> Clone for Aggregate<T> {
    fn clone(&self) -> Self {
        Aggregate { inner: self.inner.clone(), holds: PhantomData }
    }
}

impl<T> fmt::Debug for Aggregate<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Aggregate").field(&self.inner).finish()
    }
}

impl<T: ColumnType> Expression for Aggregate<T> {
    type Type = T;
    type Level = PerGroup;

    fn into_node(self) -> Node {
        Node::aggregate(self.inner)
    }
}

impl<T: ColumnType, L: HoldsAggregates> Operand<T::Base, L> for Aggregate<T> {
    type Null = T::Null;
    type Quotient = MaybeNull;

    fn into_operand(self) -> Node {
        self.into_node()
    }
}

impl<T: ColumnType, L: HoldsAggregates> MaybeOperand<T::Base, L> for Aggregate<T> {
    fn into_operand(self) -> Node {
        self.into_node()
    }
}

impl<T: ColumnType, L: HoldsAggregates> Argument<L> for Aggregate<T> {
    type Type = T;

    fn into_argument(self) -> Node {
        self.into_node()
    }
}

/// A key by which rows are grouped: there is one group of rows for each value of it, NULL being a
/// value like any. Text is told apart by code point.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, #[nepheline(by_code_point)] rock: String, top_m: f64, base_m: f64 }
/// let by_rock: Query<Specimen, (String, i64, Option<f64>), _> = Specimen::rows()
///     .select(|s| (per(s.rock), count(), sum(s.base_m - s.top_m)))
///     .having(|_| count().ge(3))
///     .order_by(|s| (count().desc(), per(s.rock).asc()));
/// assert_eq!(
///     by_rock.sql(Dialect::Sqlite)?.text(),
///     r#"SELECT "specimen"."rock", count(*), sum("specimen"."base_m" - "specimen"."top_m") FROM "specimen" GROUP BY 1 HAVING count(*) >= ? ORDER BY 2 DESC, 1"#,
/// );
/// # Ok::<(), Error>(())
/// ```
pub fn per<E: Expression<Level: KnownPerRow>>(key: E) -> Expr<E::Type, PerGroup> {
    Expr::from_node(key.into_node().key(false))
}

/// A key by which rows are grouped, with subtotals: besides the groups for each value of it there are
/// those of all its values together, where it is `None`. Of several such keys the last is added up
/// first, as in SQL's `ROLLUP`; keys that are marked by [`per`] stay.
///
/// The key itself is never NULL, so that a NULL is always a subtotal. Not every engine has `ROLLUP`, so
/// it is a `UNION ALL` of groups on each.
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::rollup;
/// # #[derive(Debug, Table)] struct Site { #[nepheline(key)] id: i64, #[nepheline(by_code_point)] region: String, agency_id: i64 }
/// let sites: Query<Site, (Option<String>, i64), _> = Site::rows()
///     .select(|s| (rollup(s.region), count()))
///     .order_by(|s| rollup(s.region).asc());
/// assert_eq!(
///     sites.sql(Dialect::Sqlite)?.text(),
///     r#"SELECT q.c0, q.c1 FROM (SELECT "site"."region" AS c0, count(*) AS c1 FROM "site" GROUP BY 1 UNION ALL SELECT NULL AS c0, count(*) AS c1 FROM "site") AS q ORDER BY q.c0 NULLS LAST"#,
/// );
/// # Ok::<(), Error>(())
/// ```
pub fn rollup<E>(key: E) -> Expr<Option<E::Type>, PerGroup>
where
    E: Expression<Type: Storable, Level: KnownPerRow>,
{
    Expr::from_node(key.into_node().key(true))
}

/// Returns how many rows: `count(*)`.
pub fn count() -> Aggregate<i64> {
    Aggregate::new(&function::COUNT_ROWS, [])
}

/// Returns how many rows have a value that is not NULL: `count(x)`.
pub fn count_of<E: Expression<Level: KnownPerRow>>(of: E) -> Aggregate<i64> {
    Aggregate::new(&function::COUNT, [of.into_node()])
}

/// Returns how many different values there are, without NULL: `count(DISTINCT x)`. Text is told apart by
/// code point.
pub fn count_distinct<E: Expression<Level: KnownPerRow>>(of: E) -> Aggregate<i64> {
    let mut counted = Aggregate::new(&function::COUNT, [of.into_node().in_code_point_order()]);
    counted.inner.distinct = true;
    counted
}

/// The sum; NULL where there is no row, or all are NULL. The sum of integers is an integer, and one
/// beyond 64 bits an error.
pub fn sum<E>(of: E) -> Aggregate<Option<SumOf<E>>>
where
    E: Expression<Type: ColumnType<Base: Summed>, Level: KnownPerRow>,
{
    Aggregate::new(<BaseOf<E> as Summed>::SUM, [of.into_node().widened()])
}

/// The average, as a float; NULL where there is no row, or all are NULL.
pub fn avg<E>(of: E) -> Aggregate<Option<f64>>
where
    E: Expression<Type: ColumnType<Base: Number>, Level: KnownPerRow>,
{
    Aggregate::new(&function::AVG, [of.into_node().widened()])
}

/// The smallest value; NULL where there is no row, or all are NULL. Text is compared by code point.
pub fn min<E: Expression<Level: KnownPerRow>>(of: E) -> Aggregate<Option<BaseOf<E>>> {
    Aggregate::new(&function::MIN, [of.into_node().in_code_point_order()])
}

/// The greatest value; NULL where there is no row, or all are NULL. Text is compared by code point.
pub fn max<E: Expression<Level: KnownPerRow>>(of: E) -> Aggregate<Option<BaseOf<E>>> {
    Aggregate::new(&function::MAX, [of.into_node().in_code_point_order()])
}

/// Returns whether the condition is true for all rows for which it is not NULL; NULL where there is none.
pub fn all_true(condition: Condition) -> Aggregate<Option<bool>> {
    Aggregate::new(&function::ALL_TRUE, [condition.into_node()])
}

/// Returns whether the condition is true for any row; NULL where it is NULL for all.
pub fn any_true(condition: Condition) -> Aggregate<Option<bool>> {
    Aggregate::new(&function::ANY_TRUE, [condition.into_node()])
}

/// The texts that are not NULL, joined with `between`; NULL where there is none. Their order is the
/// engine's, unless [`ordered_by`](Aggregate::ordered_by) says one.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, borehole_id: i64, #[nepheline(by_code_point)] label: String }
/// let labels: Query<Specimen, (i64, Option<String>), _> = Specimen::rows()
///     .select(|s| (per(s.borehole_id), joined(s.label, ", ").ordered_by(s.label.asc())));
/// assert!(labels.sql(Dialect::Postgres)?.text().contains(
///     r#"string_agg("specimen"."label", $1 ORDER BY "specimen"."label")"#
/// ));
/// # Ok::<(), Error>(())
/// ```
pub fn joined<E>(texts: E, between: &str) -> Aggregate<Option<String>>
where
    E: Expression<Type: ColumnType<Base = String>, Level: KnownPerRow>,
{
    let between = Node::Bind(BindValue::Text(between.into()));
    Aggregate::new(&function::JOINED, [texts.into_node(), between])
}

/// What the rows of the group have in an expression, in one list; NULLs are left out, and of no rows it
/// is empty. In which order it is, [`ordered_by`](Aggregate::ordered_by) says.
///
/// On PostgreSQL it is `jsonb_agg`, on SQLite `json_group_array`, on MariaDB and MySQL put together of
/// `GROUP_CONCAT`. An order needs SQLite 3.44. As a window it is for PostgreSQL and SQLite only.
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::{Collected, collected};
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, borehole_id: i64, #[nepheline(by_code_point)] label: String }
/// let labels: Query<Specimen, (i64, Collected<String>), _> = Specimen::rows()
///     .select(|s| (per(s.borehole_id), collected(s.label).ordered_by(s.label.asc())));
/// # assert!(labels.sql(Dialect::Postgres)?.text().contains("jsonb_agg"));
/// # Ok::<(), Error>(())
/// ```
pub fn collected<E>(of: E) -> Aggregate<Collected<BaseOf<E>>>
where
    E: Expression<Type: ColumnType<Base: InJson>, Level: KnownPerRow>,
{
    let function = match BaseOf::<E>::SQL_TYPE {
        SqlType::Text => &function::COLLECTED_TEXT,
        _ => &function::COLLECTED_WHOLE,
    };
    let of = of.into_node();
    let known = E::Type::NULLABLE.then(|| of.clone().is_null().negated());
    let mut collected = Aggregate::new(function, [of]);
    collected.inner.among = known;
    collected
}
