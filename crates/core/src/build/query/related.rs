//! Questions to the rows of another table: how a query begins at a relation, and what it is asked
//! inside another query.

use std::panic::Location;

use smallvec::SmallVec;

use super::{Query, Tables};
use crate::build::expr::{
    BaseOf, Condition, Expr, Expression, KnownPerRow, Level, MaybeCondition, Number, PerRow,
};
use crate::build::table::{RefersTo, Table};
use crate::model::{BindValue, ColumnType, Function, SqlType, Storable, function};
use crate::tree::{Asked, AskedOf, Comparison, Node, RawColumn, Source};

/// How a query begins at a relation: what the methods that `#[derive(Table)]` writes call.
#[doc(hidden)]
impl<T: Table> Query<T> {
    /// The rows whose columns are equal to those of a row that stands in a query.
    #[track_caller]
    pub fn related(condition: impl FnOnce(T::Columns) -> Condition) -> Query<T> {
        let mut query = Query::over_table();
        let condition = condition(T::columns(query.select.entry()));
        query
            .select
            .filter(condition.into_node(), Location::caller());
        query
    }

    /// Says which relation the query begins at.
    pub fn of_relation(mut self, table: &'static str, name: &'static str) -> Query<T> {
        self.select.relation = Some([table, name]);
        self
    }

    /// The rows whose columns have these values; none where one of them is NULL.
    #[track_caller]
    pub fn with_values<const N: usize>(
        columns: impl FnOnce(T::Columns) -> [RawColumn; N],
        values: [BindValue; N],
    ) -> Query<T> {
        Query::related(|own| {
            let sides = columns(own).into_iter().zip(values);
            Condition::from_node(all_equal(
                sides.map(|(column, value)| [Node::Column(column), Node::Bind(value)]),
            ))
        })
    }

    #[track_caller]
    fn over_link<L: RefersTo<T> + RefersTo<O>, O: Table>(
        sides: impl Fn([RawColumn; 2]) -> [Node; 2],
        owner: Source,
    ) -> Query<T> {
        let mut query = Query::over_table();
        let select = &mut query.select;
        select.table = L::INFO;
        let link = select.entry();
        select.rows = smallvec::smallvec![link.followed(<L as RefersTo<T>>::REFERENCE)];
        let to_owner = L::INFO
            .references()
            .get(usize::from(<L as RefersTo<O>>::REFERENCE));
        let pairs = to_owner
            .into_iter()
            .flat_map(|to_owner| to_owner.pairs_at(link, owner));
        select.filter(all_equal(pairs.map(sides)), Location::caller());
        query
    }
}

/// The rows that a table in between links to those of a table in a query.
#[doc(hidden)]
#[track_caller]
pub fn linked<T: Table, L: RefersTo<T> + RefersTo<O>, O: Table>(owner: Source) -> Query<T> {
    Query::over_link::<L, O>(
        |[of_link, of_owner]| [Node::Column(of_link), Node::Column(of_owner)],
        owner,
    )
}

/// The rows that a table in between links to a row in hand.
#[doc(hidden)]
#[track_caller]
pub fn linked_to_row<T: Table, L: RefersTo<T> + RefersTo<O>, O: Table>(row: &O) -> Query<T> {
    Query::over_link::<L, O>(
        |[of_link, of_owner]| [Node::Column(of_link), Node::Bind(row.value(of_owner.info))],
        Source::fresh(),
    )
}

fn all_equal(sides: impl Iterator<Item = [Node; 2]>) -> Node {
    let equal = sides.map(|[left, right]| Node::compare(Comparison::Equal, left, right));
    equal
        .reduce(Node::and)
        .unwrap_or_else(|| Node::constant(false))
}

/// What a query is asked inside another one. It sees the columns of the queries around it; the
/// relations of a table, such as `s.assays()`, begin such a query.
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
    /// Returns whether there is any such row: `EXISTS`.
    pub fn exists(self) -> Condition {
        Condition::from_node(Node::subquery(self.select, AskedOf::Exists))
    }

    /// Returns whether there is no such row: `NOT EXISTS`.
    pub fn not_exists(self) -> Condition {
        Condition::from_node(Node::subquery(self.select, AskedOf::NotExists))
    }

    /// The one value that the query selects, of its first row by the order; NULL where there is no row.
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
        // Of all rows together there is one value already.
        let query = if self.select.is_one_group() { self } else { self.limit(1) };
        Expr::from_node(Node::subquery(query.select, AskedOf::Value))
    }
}

/// The same of rows that are not grouped.
impl<T: Tables, R> Query<T, R> {
    /// Returns whether the condition is true for any of the rows: a filter and [`exists`](Self::exists) in one.
    #[track_caller]
    pub fn any<M>(self, condition: impl FnOnce(T::Columns) -> M) -> Condition
    where
        M: MaybeCondition<Level: KnownPerRow>,
    {
        self.filter(condition).exists()
    }

    /// Returns whether the condition is true for all of the rows; without any row it is. A row for which it
    /// is NULL does not satisfy it.
    #[track_caller]
    pub fn all_satisfy<M>(self, condition: impl FnOnce(T::Columns) -> M) -> Condition
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

    /// Returns how many rows there are.
    ///
    /// Compared with a number by `ge`, `gt`, `le`, `lt`, or with 0 by `eq` and `ne`, it becomes a
    /// question that an engine answers without counting further than it has to: `EXISTS` where one
    /// row is enough. A query with a limit cannot be counted inside another: it is refused.
    pub fn count(self) -> Expr<i64> {
        Expr::from_node(
            self.unlimited().map_or_else(
                |refused| refused,
                |query| Node::subquery(query.select, AskedOf::Count),
            ),
        )
    }

    /// The sum of an expression over the rows; NULL where there is none, or all are NULL. The sum of
    /// integers is an integer, and one beyond 64 bits an error.
    pub fn sum<E>(self, of: impl FnOnce(T::Columns) -> E) -> Expr<Option<SumOf<E>>>
    where
        E: Expression<Type: ColumnType<Base: Summed>, Level = PerRow>,
    {
        self.total(<BaseOf<E> as Summed>::SUM, SumOf::<E>::SQL_TYPE, of, |node| node.widened())
    }

    /// The average of an expression over the rows, as a float; NULL where there is none, or all are NULL.
    pub fn avg<E>(self, of: impl FnOnce(T::Columns) -> E) -> Expr<Option<f64>>
    where
        E: Expression<Type: ColumnType<Base: Number>, Level = PerRow>,
    {
        self.total(&function::AVG, SqlType::Double, of, |node| node.widened())
    }

    /// The smallest value of an expression over the rows; NULL where there is none, or all are NULL.
    pub fn min<E>(self, of: impl FnOnce(T::Columns) -> E) -> Expr<Option<BaseOf<E>>>
    where
        E: Expression<Level = PerRow>,
    {
        let sql_type = BaseOf::<E>::SQL_TYPE;
        self.total(&function::MIN, sql_type, of, Node::in_code_point_order)
    }

    /// The greatest value of an expression over the rows; NULL where there is none, or all are NULL.
    pub fn max<E>(self, of: impl FnOnce(T::Columns) -> E) -> Expr<Option<BaseOf<E>>>
    where
        E: Expression<Level = PerRow>,
    {
        let sql_type = BaseOf::<E>::SQL_TYPE;
        self.total(&function::MAX, sql_type, of, Node::in_code_point_order)
    }

    /// An expression of the first row by the order of the query; NULL where there is no row.
    #[track_caller]
    pub fn first<E>(self, of: impl FnOnce(T::Columns) -> E) -> Expr<Option<BaseOf<E>>>
    where
        E: Expression<Level = PerRow>,
    {
        let query = self.limit(1);
        let value = of(query.columns()).into_node();
        Expr::from_node(query.only_value(value))
    }

    /// An expression of the last row by the order of the query; NULL where there is no row. It is the
    /// first by the opposite order, NULLs at the other end too.
    #[track_caller]
    pub fn last<E>(self, of: impl FnOnce(T::Columns) -> E) -> Expr<Option<BaseOf<E>>>
    where
        E: Expression<Level = PerRow>,
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

    /// The rows that a relation of these rows leads to, of all of them together: two levels in one.
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
            // What relates the two stands where both are in sight: in the question whether there is
            // such a row between.
            Ok(mut query) => {
                query.select.filters.extend(inner.select.filters.drain(..));
                Node::subquery(query.select, AskedOf::Exists)
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
        E: Expression<Level = PerRow>,
    {
        let query = match self.of_all_rows() {
            Ok(query) => query,
            Err(refused) => return Expr::from_node(refused),
        };
        let of = prepare(of(query.columns()).into_node());
        Expr::from_node(query.only_value(Node::call(function, sql_type, [of])))
    }

    /// The one value that the query selects, of its first row.
    fn only_value(mut self, value: Node) -> Node {
        let mut values = SmallVec::new();
        values.push(value);
        self.select.values = Some(Asked { what: values, at: self.select.asked_at });
        Node::subquery(self.select, AskedOf::Value)
    }

    /// The query, unless it has a limit or an offset, which would not be heeded: what is asked here is
    /// asked of all rows.
    fn unlimited(self) -> Result<Self, Node> {
        match self.select.is_limited() {
            false => Ok(self),
            true => Err(Node::Unfit(
                "inside another query this is asked of all rows, without a limit or an offset",
            )),
        }
    }

    /// The same, and unless it is of distinct rows or so many of each, which a total would not heed.
    fn of_all_rows(self) -> Result<Self, Node> {
        let query = self.unlimited()?;
        match query.select.special.is_some() {
            false => Ok(query),
            true => Err(Node::Unfit(
                "a total of distinct rows, or of so many of each, is one of `from(query)`",
            )),
        }
    }
}

/// What the sum of an expression is.
pub type SumOf<E> = <BaseOf<E> as Summed>::Sum;

/// The numbers that have sums, and what those are: of integers `i64`, of floats `f64`.
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
