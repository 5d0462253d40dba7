//! Aggregate functions and group keys.

use std::fmt;
use std::marker::PhantomData;

use rust_decimal::Decimal;

use super::arithmetic::TOO_MANY_DIGITS;
use super::level::{HoldsAggregates, KnownPerRow, PerGroup, PerRow};
use super::{
    Argument, BaseOf, Condition, Exact, Expr, ExprExt, IntoOrders, MaybeCondition, MaybeOperand,
    Number, Operand, Over,
};
use crate::build::query::{SumOf, Summed};
use crate::model::{
    Array, BindValue, ColumnType, Function, InJson, MaybeNull, SqlType, Storable, function,
};
use crate::tree;
use crate::tree::{Call, Node};

/// An aggregate: a value over all rows of a group, made by [`count`], [`sum`] and the like.
///
/// It stands in `select`, `having` and `order_by` of a grouped query. [`filter`](Self::filter) adds a
/// condition on the rows that count. [`over`](Self::over) turns it into a window function, which has a value
/// for each row.
///
/// An aggregate of aggregates, such as `sum(sum(x))`, has the level [`PerGroup`] as `L`. It is a value over all groups,
/// and needs a window: [`over_groups`](Self::over_groups).
#[must_use = "an aggregate does nothing until it is used in a query"]
pub struct Aggregate<T, L = PerRow> {
    inner: tree::Aggregate,
    holds: PhantomData<fn() -> (T, L)>,
}

impl<T: ColumnType, L> Aggregate<T, L> {
    fn new(
        function: &'static Function,
        arguments: impl IntoIterator<Item = Node>,
    ) -> Aggregate<T, L> {
        let arguments = arguments.into_iter().collect();
        let sql_type = T::Base::SQL_TYPE;
        let call = Call::of(function, sql_type, arguments);
        Aggregate { inner: Node::of_rows(call), holds: PhantomData }
    }
}

impl<T: ColumnType> Aggregate<T, PerGroup> {
    /// Computes an aggregate of aggregates over the groups of a query: a window function.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct InvoiceLine { #[nepheline(key)] id: i64, #[nepheline(by_code_point)] service: String, price: Decimal }
    /// // The share of each service in the whole, to four digits.
    /// let shares: Query<InvoiceLine, (String, Option<Decimal>), _> = InvoiceLine::rows()
    ///     .select(|l| (per(l.service), sum(l.price).divided_by(sum(sum(l.price)).over_groups(|w| w), 4)));
    /// assert!(shares.sql(Dialect::Postgres)?.text().contains(r#"sum(sum("invoice_line"."price")) OVER ()"#));
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// `count_of(count())` counts the groups.
    pub fn over_groups(
        self,
        window: impl FnOnce(Over<PerGroup>) -> Over<PerGroup>,
    ) -> Expr<T, PerGroup> {
        window(Over::default()).of(self.inner)
    }
}

impl<T: ColumnType> Aggregate<T> {
    /// Counts only the rows for which the condition is true: SQL's FILTER. A second call adds a condition.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Assay { #[nepheline(key)] id: i64, ppm: f64, reported_on: Option<Date> }
    /// let query: Query<Assay, (i64, i64), _> =
    ///     Assay::rows().select(|a| (count(), count().filter(a.reported_on.is_null())));
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
    pub fn filter(mut self, condition: impl MaybeCondition<Level: KnownPerRow>) -> Aggregate<T> {
        if let Some(condition) = condition.into_condition() {
            let condition = condition.into_node();
            self.inner.filter = Some(match self.inner.filter {
                Some(earlier) => earlier.and(condition),
                None => condition,
            });
        }
        self
    }

    /// Turns the aggregate into a window function, computed over the rows around each row. It is then
    /// selected beside columns.
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

/// The aggregates that depend on an order: [`listagg`] and [`array_agg`].
pub trait TakesOrder {}

impl TakesOrder for Option<String> {}

impl<T> TakesOrder for Array<T> {}

impl<T: TakesOrder> Aggregate<T> {
    /// Sets the order in which values are collected.
    pub fn ordered_by(mut self, orders: impl IntoOrders<PerRow>) -> Self {
        orders.each(&mut |order| self.inner.orders.push(order));
        self
    }
}

impl<T, L> Clone for Aggregate<T, L> {
    fn clone(&self) -> Self {
        Aggregate { inner: self.inner.clone(), holds: PhantomData }
    }
}

impl<T, L> fmt::Debug for Aggregate<T, L> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Aggregate").field(&self.inner).finish()
    }
}

impl<T: ColumnType> ExprExt for Aggregate<T> {
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

/// Returns a group key: the query has one group for each value of it, and NULL is a value of its own. Text is
/// grouped by code point.
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
pub fn per<E: ExprExt<Level: KnownPerRow>>(key: E) -> Expr<E::Type, PerGroup> {
    Expr::from_node(key.into_node().key(false))
}

/// Returns a group key with subtotals: besides the group for each value there is one for all values together,
/// in which the key is `None`. With several such keys the last is rolled up first, as in SQL's `ROLLUP`; keys
/// marked by [`per`] stay.
///
/// Where the key itself may be NULL, [`is_subtotal`] tells a subtotal from the group of NULL. On PostgreSQL the SQL is
/// `GROUP BY GROUPING SETS`. Counts, sums, and least and greatest values are computed once for each group, and combined for
/// the subtotals: the other engines join each group with every level. With other aggregates, each level reads all rows:
/// the other engines have a `UNION ALL` of one grouped query for each level, over a common table expression.
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
///     r#"SELECT q.c0, q.c1 FROM (SELECT q.k0 AS c0, coalesce(sum(q.a0), 0) AS c1 FROM (SELECT l.level, CASE WHEN l.level > 0 THEN g.k0 END AS k0, g.a0 FROM (SELECT 0 AS level UNION ALL SELECT 1) AS l LEFT JOIN (SELECT "site"."region" AS k0, count(*) AS a0, 1 AS is_group FROM "site" GROUP BY 1) AS g ON TRUE WHERE g.is_group = 1 OR l.level = 0) AS q GROUP BY q.level, q.k0) AS q ORDER BY q.c0 NULLS LAST"#,
/// );
/// # Ok::<(), Error>(())
/// ```
pub fn rollup<E>(key: E) -> Expr<Option<BaseOf<E>>, PerGroup>
where
    E: ExprExt<Level: KnownPerRow>,
{
    Expr::from_node(key.into_node().key(true))
}

/// Returns whether a row is a subtotal over all values of a key, which [`rollup`] has marked.
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::{is_subtotal, rollup};
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, analyst_id: Option<i64> }
/// // The specimens of each analyst, of nobody, and of all, with the total last.
/// let described: Query<Specimen, (Option<i64>, i64), _> = Specimen::rows()
///     .select(|s| (rollup(s.analyst_id), count()))
///     .order_by(|s| (is_subtotal(rollup(s.analyst_id)).asc(), rollup(s.analyst_id).asc()));
/// # assert!(described.sql(Dialect::Postgres)?.text().contains("(GROUPING(q.k0) = 1) AS o0"));
/// # Ok::<(), Error>(())
/// ```
///
/// # Errors
///
/// [`InvalidQuery`](crate::ErrorKind::InvalidQuery) when the query is compiled, if the expression is no key with
/// subtotals.
pub fn is_subtotal<T: ColumnType>(key: Expr<T, PerGroup>) -> Expr<bool, PerGroup> {
    let key = key.into_node();
    Expr::from_node(match key.is_rolled_up() {
        true => Node::call(&function::IS_SUBTOTAL, SqlType::Boolean, [key]),
        false => Node::Unfit("`is_subtotal` takes a key of the query that `rollup(..)` marks"),
    })
}

/// Returns the number of rows: `count(*)`.
pub fn count() -> Aggregate<i64> {
    Aggregate::new(&function::COUNT_ROWS, [])
}

/// Returns the number of rows in which the expression is not NULL: `count(x)`.
pub fn count_of<E: ExprExt>(of: E) -> Aggregate<i64, E::Level> {
    Aggregate::new(&function::COUNT, [of.into_node()])
}

/// Returns the number of different values, without NULL: `count(DISTINCT x)`. Text is compared by code point.
pub fn count_distinct<E: ExprExt<Level: KnownPerRow>>(of: E) -> Aggregate<i64> {
    let mut counted = Aggregate::new(&function::COUNT, [of.into_node().in_code_point_order()]);
    counted.inner.distinct = true;
    counted
}

/// Returns the sum, or NULL if there is no row or all values are NULL. A sum of integers is an integer; one
/// beyond 64 bits is an error.
pub fn sum<E>(of: E) -> Aggregate<Option<SumOf<E>>, E::Level>
where
    E: ExprExt<Type: ColumnType<Base: Summed>>,
{
    Aggregate::new(<BaseOf<E> as Summed>::SUM, [of.into_node().widened()])
}

/// Returns the average as a float, or NULL if there is no row or all values are NULL.
pub fn avg<E>(of: E) -> Aggregate<Option<f64>, E::Level>
where
    E: ExprExt<Type: ColumnType<Base: Number>>,
{
    Aggregate::new(&function::AVG, [of.into_node().widened()])
}

/// Returns the standard deviation of a sample, as a float: the root of [`var_samp`]. It is NULL for fewer than two values.
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::stddev_samp;
/// # #[derive(Debug, Table)] struct Assay { #[nepheline(key)] id: i64, element: String, ppm: f64 }
/// let spread: Query<Assay, (String, Option<f64>), _> =
///     Assay::rows().select(|a| (per(a.element), stddev_samp(a.ppm)));
/// assert!(spread.sql(Dialect::Postgres)?.text().contains(r#"stddev_samp("assay"."ppm")"#));
/// # Ok::<(), Error>(())
/// ```
pub fn stddev_samp<E>(of: E) -> Aggregate<Option<f64>>
where
    E: ExprExt<Type: ColumnType<Base: Number>, Level: KnownPerRow>,
{
    Aggregate::new(&function::STDDEV_SAMP, [of.into_node().widened()])
}

/// Returns the standard deviation of all values, as a float: the root of [`var_pop`]. It is NULL without a value.
pub fn stddev_pop<E>(of: E) -> Aggregate<Option<f64>>
where
    E: ExprExt<Type: ColumnType<Base: Number>, Level: KnownPerRow>,
{
    Aggregate::new(&function::STDDEV_POP, [of.into_node().widened()])
}

/// Returns the variance of a sample, as a float: the squares of the distances from the average, added and divided by one less
/// than the number of values. It is NULL for fewer than two values.
pub fn var_samp<E>(of: E) -> Aggregate<Option<f64>>
where
    E: ExprExt<Type: ColumnType<Base: Number>, Level: KnownPerRow>,
{
    Aggregate::new(&function::VAR_SAMP, [of.into_node().widened()])
}

/// Returns the variance of all values, as a float: the average of the squares of the distances from the average. It is NULL
/// without a value.
pub fn var_pop<E>(of: E) -> Aggregate<Option<f64>>
where
    E: ExprExt<Type: ColumnType<Base: Number>, Level: KnownPerRow>,
{
    Aggregate::new(&function::VAR_POP, [of.into_node().widened()])
}

/// Returns the value in the middle, or the average of the two in the middle, as a float; NULL without a value.
///
/// The SQL is `percentile_cont(0.5)` on PostgreSQL, and a function of the library on SQLite. As a window function it works on
/// SQLite only.
///
/// # Errors
///
/// When compiled, [`Unsupported`](crate::ErrorKind::Unsupported) on MariaDB and MySQL.
pub fn median<E>(of: E) -> Aggregate<Option<f64>>
where
    E: ExprExt<Type: ColumnType<Base: Number>, Level: KnownPerRow>,
{
    Aggregate::new(&function::MEDIAN, [of.into_node().widened()])
}

/// Returns the average of exact numbers to this number of digits after the point, as a decimal. It is rounded once, halves away
/// from zero, and is NULL if there is no row or all values are NULL.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct InvoiceLine { #[nepheline(key)] id: i64, service: String, price: Decimal }
/// let usual = InvoiceLine::rows().select(|l| (per(l.service), avg_decimal(l.price, 2)));
/// # assert!(usual.sql(Dialect::Sqlite).is_ok());
/// ```
///
/// More than 28 digits are an [`InvalidQuery`](crate::ErrorKind::InvalidQuery) when the query is compiled.
pub fn avg_decimal<E>(of: E, digits: u8) -> Aggregate<Option<Decimal>>
where
    E: ExprExt<Type: ColumnType<Base: Exact>, Level: KnownPerRow>,
{
    let of = of.into_node();
    match function::AVG_DECIMAL.get(usize::from(digits)) {
        Some(function) => Aggregate::new(function, [of]),
        None => Aggregate::new(&function::SUM, [Node::Unfit(TOO_MANY_DIGITS)]),
    }
}

/// Returns the smallest value, or NULL if there is no row or all values are NULL. Text is compared by code
/// point.
pub fn min<E: ExprExt>(of: E) -> Aggregate<Option<BaseOf<E>>, E::Level> {
    let [least, _] = function::ends(BaseOf::<E>::SQL_TYPE);
    Aggregate::new(least, [of.into_node().in_code_point_order()])
}

/// Returns the greatest value, or NULL if there is no row or all values are NULL. Text is compared by code
/// point.
pub fn max<E: ExprExt>(of: E) -> Aggregate<Option<BaseOf<E>>, E::Level> {
    let [_, greatest] = function::ends(BaseOf::<E>::SQL_TYPE);
    Aggregate::new(greatest, [of.into_node().in_code_point_order()])
}

/// Returns whether the condition is true for all rows for which it is not NULL; NULL if there are none.
pub fn all_true(condition: Condition) -> Aggregate<Option<bool>> {
    Aggregate::new(&function::ALL_TRUE, [condition.into_node()])
}

/// Returns whether the condition is true for any row; NULL if it is NULL for all.
pub fn any_true(condition: Condition) -> Aggregate<Option<bool>> {
    Aggregate::new(&function::ANY_TRUE, [condition.into_node()])
}

/// Concatenates the texts that are not NULL, with `between` as separator; NULL if there are none. The order
/// is the engine's, unless [`ordered_by`](Aggregate::ordered_by) sets one.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, borehole_id: i64, #[nepheline(by_code_point)] label: String }
/// let labels: Query<Specimen, (i64, Option<String>), _> = Specimen::rows()
///     .select(|s| (per(s.borehole_id), listagg(s.label, ", ").ordered_by(s.label.asc())));
/// assert!(labels.sql(Dialect::Postgres)?.text().contains(
///     r#"string_agg("specimen"."label", $1 ORDER BY "specimen"."label")"#
/// ));
/// # Ok::<(), Error>(())
/// ```
pub fn listagg<E>(texts: E, between: &str) -> Aggregate<Option<String>>
where
    E: ExprExt<Type: ColumnType<Base = String>, Level: KnownPerRow>,
{
    let between = Node::Bind(BindValue::Text(between.into()));
    Aggregate::new(&function::JOINED, [texts.into_node(), between])
}

/// Collects the values of an expression over the rows of a group into a list. NULLs are skipped, and no rows
/// give an empty list. [`ordered_by`](Aggregate::ordered_by) sets the order.
///
/// The SQL is `array_agg` on PostgreSQL, `json_group_array` on SQLite, and `GROUP_CONCAT` with JSON brackets
/// around it on MariaDB and MySQL. An order needs SQLite 3.44. As a window function it works on PostgreSQL
/// and SQLite only.
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::{Array, array_agg};
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, borehole_id: i64, #[nepheline(by_code_point)] label: String }
/// let labels: Query<Specimen, (i64, Array<String>), _> = Specimen::rows()
///     .select(|s| (per(s.borehole_id), array_agg(s.label).ordered_by(s.label.asc())));
/// # assert!(labels.sql(Dialect::Postgres)?.text().contains("array_agg"));
/// # Ok::<(), Error>(())
/// ```
pub fn array_agg<E>(of: E) -> Aggregate<Array<BaseOf<E>>>
where
    E: ExprExt<Type: ColumnType<Base: InJson>, Level: KnownPerRow>,
{
    let function = match BaseOf::<E>::SQL_TYPE {
        SqlType::Text => &function::COLLECTED_TEXT,
        _ => &function::COLLECTED_WHOLE,
    };
    let of = of.into_node();
    let known = E::Type::NULLABLE.then(|| of.clone().is_null().negated());
    let mut aggregate = Aggregate::new(function, [of]);
    aggregate.inner.filter = known;
    aggregate
}
