//! Subqueries: a query that begins at a relation, and what it returns inside another query.

use std::marker::PhantomData;
use std::panic::Location;

use smallvec::{SmallVec, smallvec};

use super::{Query, Tables};
use crate::build::expr::{
    BaseOf, Condition, Expr, ExprExt, KnownPerRow, Level, MaybeCondition, Number, PerRow,
};
use crate::build::table::{RefersTo, Table};
use crate::model::{BindValue, ColumnType, Function, SqlType, Storable, function};
use crate::tree::{Call, Comparison, Located, Node, Path, RawColumn, Source, SubqueryKind};

/// Returns the query for rows whose columns equal those of a row of an outer query.
#[track_caller]
pub(crate) fn related<T: Table>(condition: impl FnOnce(T::Columns) -> Condition) -> Query<T> {
    let mut query = Query::over_table();
    let condition = condition(T::columns(query.select.entry()));
    query
        .select
        .filter(condition.into_node(), Location::caller());
    query
}

/// Returns the query for rows whose columns have these values; no rows if one of them is NULL.
#[track_caller]
pub(crate) fn with_values<T: Table, const N: usize>(
    columns: impl FnOnce(T::Columns) -> [RawColumn; N],
    values: [BindValue; N],
) -> Query<T> {
    related(|own| equal_to(&columns(own), values.into()))
}

/// Returns the condition that these columns have these values.
fn equal_to(columns: &[RawColumn], values: Box<[BindValue]>) -> Condition {
    let sides = columns.iter().copied().zip(values);
    Condition::from_node(all_equal(
        sides.map(|(column, value)| [Node::Column(column), Node::Bind(value)]),
    ))
}

#[doc(hidden)]
impl<T> Query<T> {
    /// Sets the relation that the query begins at.
    pub fn of_relation(mut self, table: &'static str, name: &'static str) -> Query<T> {
        self.select.relation = Some([table, name]);
        self
    }
}

/// The way from the table `O` to the table `T` over the bridge table `L`.
#[doc(hidden)]
#[derive(Debug)]
pub struct Bridge<T, L, O> {
    to_target: u8,
    to_owner: u8,
    tables: PhantomData<(T, L, O)>,
}

impl<T: Table, L: Table, O: Table> Bridge<T, L, O> {
    /// Returns the way over the bridge table's only reference to each of the two.
    pub fn over_references<N, M>() -> Bridge<T, L, O>
    where
        L: RefersTo<T, N> + RefersTo<O, M>,
    {
        Bridge {
            to_target: <L as RefersTo<T, N>>::REFERENCE,
            to_owner: <L as RefersTo<O, M>>::REFERENCE,
            tables: PhantomData,
        }
    }

    /// Returns the rows that the bridge table connects with those of a table in an outer query.
    #[track_caller]
    pub fn from_columns(self, owner: Source) -> Query<T> {
        let sides = |[of_bridge, of_owner]: [RawColumn; 2]| {
            [Node::Column(of_bridge), Node::Column(of_owner)]
        };
        self.connected(owner, sides)
    }

    /// Returns the rows that the bridge table connects with a given row.
    #[track_caller]
    pub fn from_row(self, row: &O) -> Query<T> {
        self.connected(Source::fresh(), |[of_bridge, of_owner]| {
            [Node::Column(of_bridge), Node::Bind(row.value(of_owner.info))]
        })
    }

    #[track_caller]
    fn connected(self, owner: Source, sides: impl Fn([RawColumn; 2]) -> [Node; 2]) -> Query<T> {
        let mut query = Query::over_table();
        let select = &mut query.select;
        select.table = L::INFO;
        let bridge = select.entry();
        select.rows = smallvec::smallvec![bridge.followed(self.to_target)];
        let to_owner = L::INFO.references().get(usize::from(self.to_owner));
        let pairs = to_owner
            .into_iter()
            .flat_map(|to_owner| to_owner.pairs_at(bridge, owner));
        select.filter(all_equal(pairs.map(sides)), Location::caller());
        query
    }
}

fn all_equal(sides: impl Iterator<Item = [Node; 2]>) -> Node {
    let equal = sides.map(|[left, right]| Node::compare(Comparison::Equal, left, right));
    equal
        .reduce(Node::and)
        .unwrap_or_else(|| Node::constant(false))
}

/// Subqueries. Such a query sees the columns of the queries around it. The relations of a table, such as
/// `s.assays()`, begin one.
///
/// ```
/// use nepheline::prelude::*;
///
/// #[derive(Debug, Table)]
/// #[nepheline(children(assays: Assay by specimen_id))]
/// struct Specimen {
///     #[nepheline(key)]
///     id: i64,
///     label: String,
/// }
///
/// #[derive(Debug, Table)]
/// struct Assay {
///     #[nepheline(key)]
///     id: i64,
///     #[nepheline(references = Specimen)]
///     specimen_id: i64,
///     element: String,
///     ppm: f64,
/// }
///
/// let rich = Specimen::rows()
///     .filter(|s| s.assays().filter(|a| a.element.eq("Nd")).any(|a| a.ppm.ge(400)))
///     .filter(|s| s.assays().count().ge(3))
///     .select(|s| (s.label, s.assays().max(|a| a.ppm)));
/// let sql = rich.sql(Dialect::Sqlite)?;
/// assert!(sql.text().contains(
///     r#"EXISTS (SELECT 1 FROM "assay" WHERE "assay"."specimen_id" = "specimen"."id" AND"#
/// ));
/// # Ok::<(), Error>(())
/// ```
impl<T: Tables, R, L: Level> Query<T, R, L> {
    /// Tests whether there is any such row: EXISTS.
    pub fn exists(self) -> Condition {
        Condition::from_node(Node::subquery(self.select, SubqueryKind::Exists))
    }

    /// Tests whether there is no such row: NOT EXISTS.
    pub fn not_exists(self) -> Condition {
        Condition::from_node(Node::subquery(self.select, SubqueryKind::NotExists))
    }

    /// Returns the single value that the query selects, from its first row in order; NULL where there is no
    /// row.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, top_m: f64 }
    /// let average = Specimen::rows().select(|s| avg(s.top_m));
    /// let deeper = Specimen::rows().filter(|s| s.top_m.gt(average.value()));
    /// # assert!(deeper.sql(Dialect::Sqlite)?.text().ends_with(r#"> (SELECT avg("specimen_2"."top_m") FROM "specimen" AS "specimen_2")"#));
    /// # Ok::<(), Error>(())
    /// ```
    pub fn value(self) -> Expr<Option<R::Base>>
    where
        R: ColumnType,
    {
        // A query over one group returns one row already.
        let query = if self.select.is_one_group() { self } else { self.limit(1) };
        Expr::from_node(Node::subquery(query.select, SubqueryKind::Value))
    }
}

/// Methods of queries that are not grouped.
impl<T: Tables, R> Query<T, R> {
    /// Tests whether the condition is true for any of the rows: a filter and [`exists`](Self::exists) in one.
    #[track_caller]
    pub fn any<M>(self, condition: impl FnOnce(T::Columns) -> M) -> Condition
    where
        M: MaybeCondition<Level: KnownPerRow>,
    {
        self.filter(condition).exists()
    }

    /// Tests whether the condition is true for all of the rows; with no rows it is true. A row for which the
    /// condition is NULL fails the test.
    #[track_caller]
    pub fn all<M>(self, condition: impl FnOnce(T::Columns) -> M) -> Condition
    where
        M: MaybeCondition<Level: KnownPerRow>,
    {
        let query = match self.of_all_rows() {
            Ok(query) => query,
            Err(refused) => return Condition::from_node(refused),
        };
        let Some(condition) = condition(query.columns()).into_condition() else {
            return Condition::from_node(Node::constant(true));
        };
        let fails = Node::call(&function::IS_NOT_TRUE, SqlType::Boolean, [condition.into_node()]);
        query
            .filter(|_| Condition::<PerRow>::from_node(fails))
            .not_exists()
    }

    /// Returns the number of rows.
    ///
    /// Compared with a number by `ge`, `gt`, `le`, `lt`, or with 0 by `eq` and `ne`, it becomes a test that
    /// counts no further than needed: EXISTS where one row is enough. A query with a limit cannot be counted
    /// inside another and is refused.
    pub fn count(self) -> Expr<i64> {
        Expr::from_node(self.unlimited().map_or_else(
            |refused| refused,
            |query| Node::subquery(query.select, SubqueryKind::Count),
        ))
    }

    /// Returns the sum of an expression over the rows, or NULL if there are none or all values are NULL. A
    /// sum of integers is an integer; one beyond 64 bits is an error.
    pub fn sum<E>(self, of: impl FnOnce(T::Columns) -> E) -> Expr<Option<SumOf<E>>>
    where
        E: ExprExt<Type: ColumnType<Base: Summed>, Level = PerRow>,
    {
        self.total(<BaseOf<E> as Summed>::SUM, SumOf::<E>::SQL_TYPE, of, |node| node.widened())
    }

    /// Returns the average of an expression over the rows as a float, or NULL if there are none or all values
    /// are NULL.
    pub fn avg<E>(self, of: impl FnOnce(T::Columns) -> E) -> Expr<Option<f64>>
    where
        E: ExprExt<Type: ColumnType<Base: Number>, Level = PerRow>,
    {
        self.total(&function::AVG, SqlType::Double, of, |node| node.widened())
    }

    /// Returns the smallest value of an expression over the rows, or NULL if there are none or all values are
    /// NULL.
    pub fn min<E>(self, of: impl FnOnce(T::Columns) -> E) -> Expr<Option<BaseOf<E>>>
    where
        E: ExprExt<Level = PerRow>,
    {
        let sql_type = BaseOf::<E>::SQL_TYPE;
        let [least, _] = function::ends(sql_type);
        self.total(least, sql_type, of, Node::in_code_point_order)
    }

    /// Returns the greatest value of an expression over the rows, or NULL if there are none or all values are
    /// NULL.
    pub fn max<E>(self, of: impl FnOnce(T::Columns) -> E) -> Expr<Option<BaseOf<E>>>
    where
        E: ExprExt<Level = PerRow>,
    {
        let sql_type = BaseOf::<E>::SQL_TYPE;
        let [_, greatest] = function::ends(sql_type);
        self.total(greatest, sql_type, of, Node::in_code_point_order)
    }

    /// Returns an expression over the first row in the order of the query; NULL where there is no row.
    #[track_caller]
    pub fn first<E>(self, of: impl FnOnce(T::Columns) -> E) -> Expr<Option<BaseOf<E>>>
    where
        E: ExprExt<Level = PerRow>,
    {
        let query = self.limit(1);
        let value = of(query.columns()).into_node();
        Expr::from_node(query.only_value(value))
    }

    /// Returns an expression over the last row in the order of the query; NULL where there is no row. It
    /// reverses every order, including the place of NULLs.
    #[track_caller]
    pub fn last<E>(self, of: impl FnOnce(T::Columns) -> E) -> Expr<Option<BaseOf<E>>>
    where
        E: ExprExt<Level = PerRow>,
    {
        let mut query = match self.of_all_rows() {
            Ok(query) => query,
            Err(refused) => return Expr::from_node(refused),
        };
        for order in &mut query.select.orders {
            order.what.descending ^= true;
            order.what.nulls_first ^= true;
        }
        query.first(of)
    }

    /// Follows a relation from all of these rows at once: two levels of children in one query.
    ///
    /// ```
    /// # use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] #[nepheline(children(boreholes: Borehole by site_id))] struct Site { #[nepheline(key)] id: i64, name: String }
    /// # #[derive(Debug, Table)] #[nepheline(children(specimens: Specimen by borehole_id))] struct Borehole { #[nepheline(key)] id: i64, site_id: i64 }
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, borehole_id: i64, top_m: f64 }
    /// let with_deep_ones = Site::rows()
    ///     .filter(|s| s.boreholes().flat_map(|b| b.specimens()).any(|p| p.top_m.gt(500)));
    /// ```
    #[track_caller]
    pub fn flat_map<U: Table>(self, to: impl FnOnce(T::Columns) -> Query<U>) -> Query<U> {
        let mut inner = to(self.columns());
        let between = match self.of_all_rows() {
            // The condition that relates the two stands in an EXISTS over the rows between, where both are in
            // scope. Inside another query it becomes a join.
            Ok(mut query) => {
                query.select.filters.extend(inner.select.filters.drain(..));
                let select = &mut query.select;
                select.between = select.rows.len() == 1
                    && select.entry().path == Path::HERE
                    && select.joins.is_empty()
                    && select.lock.is_none()
                    && select.waived.is_none()
                    && select.is_found_by_key(inner.select.entry());
                Node::subquery(query.select, SubqueryKind::Exists)
            }
            Err(refused) => {
                inner.select.filters.clear();
                refused
            }
        };
        inner.select.filter(between, Location::caller());
        inner
    }

    fn total<E, U>(
        self,
        function: &'static Function,
        sql_type: SqlType,
        of: impl FnOnce(T::Columns) -> E,
        prepare: impl FnOnce(Node) -> Node,
    ) -> Expr<U>
    where
        E: ExprExt<Level = PerRow>,
    {
        let query = match self.of_all_rows() {
            Ok(query) => query,
            Err(refused) => return Expr::from_node(refused),
        };
        let arguments = smallvec![prepare(of(query.columns()).into_node())];
        let total = Node::of_rows(Call::of(function, sql_type, arguments));
        Expr::from_node(query.only_value(Node::aggregate(total)))
    }

    /// Returns the single value that the query selects, from its first row.
    fn only_value(mut self, value: Node) -> Node {
        let mut values = SmallVec::new();
        values.push(value);
        self.select.values = Some(Located { what: values, at: self.select.asked_at });
        Node::subquery(self.select, SubqueryKind::Value)
    }

    /// Returns the query, unless it has a limit or an offset, which an aggregate over all rows would ignore.
    fn unlimited(self) -> Result<Self, Node> {
        match self.select.is_limited() {
            false => Ok(self),
            true => Err(Node::Unfit(
                "this subquery counts all rows, so it cannot have a limit or an offset; use `from(query)`",
            )),
        }
    }

    /// Returns the query, unless it has a limit, DISTINCT or a limit for each value, which an aggregate would
    /// ignore.
    fn of_all_rows(self) -> Result<Self, Node> {
        let query = self.unlimited()?;
        match query.select.grouping.is_some() {
            false => Ok(query),
            true => Err(Node::Unfit(
                "an aggregate over a query with `distinct` or `limit_each` needs `from(query)`",
            )),
        }
    }
}

/// The type of an expression's sum.
pub type SumOf<E> = <BaseOf<E> as Summed>::Sum;

/// The numbers that can be summed, and the types of the sums: `i64` for integers, `f64` for floats.
pub trait Summed: Number {
    /// The type of the sum.
    type Sum: Storable;

    #[doc(hidden)]
    const SUM: &'static Function;
}

macro_rules! summed {
    ($($number:ty),* => $sum:ty, $function:expr) => {$(
        impl Summed for $number {
            type Sum = $sum;
            const SUM: &'static Function = $function;
        }
    )*};
}

summed!(i8, i16, i32, i64, u8, u16, u32 => i64, &function::SUM_WHOLE);
summed!(f32, f64 => f64, &function::SUM);
summed!(rust_decimal::Decimal => rust_decimal::Decimal, &function::SUM);
