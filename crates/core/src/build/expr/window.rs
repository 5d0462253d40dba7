//! Window functions: values of a row that are computed from the rows around it.

use std::ops::{Bound, RangeBounds};

use std::fmt;
use std::marker::PhantomData;

use super::level::{Level, PerGroup, PerRow};
use smallvec::SmallVec;

use super::{BaseOf, Expr, ExprExt, FollowsEither, IntoOrders, IntoSelection, Operand, Selection};
use crate::model::{ColumnType, Function, SqlType, Storable, function};
use crate::tree::{Aggregate, Call, Case, Comparison, Frame, Node, OrderTerm, Window};

/// The window of a function, which the closure of `over` or `over_groups` describes: partition, order and frame.
#[must_use = "a window does nothing until it is returned"]
pub struct Over<L = PerRow> {
    partition: Vec<Node>,
    orders: Vec<OrderTerm>,
    frame: Option<Frame>,
    level: PhantomData<fn() -> L>,
}

impl<L> Default for Over<L> {
    fn default() -> Over<L> {
        Over { partition: Vec::new(), orders: Vec::new(), frame: None, level: PhantomData }
    }
}

// Written by hand, because the derives would require `L: Clone` and `L: Debug`.
impl<L> Clone for Over<L> {
    fn clone(&self) -> Over<L> {
        let (partition, orders) = (self.partition.clone(), self.orders.clone());
        Over { partition, orders, frame: self.frame, level: PhantomData }
    }
}

impl<L> fmt::Debug for Over<L> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let parts = (&self.partition, &self.orders, &self.frame);
        f.debug_tuple("Over").field(&parts).finish()
    }
}

impl<L: Level> Over<L> {
    /// Limits the window to rows, or groups, with the same value of this expression, or of each in a tuple. Text
    /// is compared by code point.
    pub fn partition_by(mut self, alike_in: impl IntoSelection<Level = L>) -> Over<L> {
        self.partition.extend(Selection::of(alike_in));
        self
    }

    /// Orders the rows or groups of the window.
    pub fn order_by(mut self, orders: impl IntoOrders<L>) -> Over<L> {
        orders.each(&mut |order| self.orders.push(order));
        self
    }

    /// Limits the window to a frame of rows, counted from the current row: `..=0` is everything up to it,
    /// `-2..=2` two rows on either side. The bounds are part of the SQL text.
    ///
    /// Without a frame, an aggregate over an ordered window includes the rows up to the current one and its
    /// peers, and over an unordered window all rows.
    pub fn rows(mut self, places: impl RangeBounds<i32>) -> Over<L> {
        let first = match places.start_bound() {
            Bound::Included(place) => Some(*place),
            Bound::Excluded(place) => Some(place.saturating_add(1)),
            Bound::Unbounded => None,
        };
        let last = match places.end_bound() {
            Bound::Included(place) => Some(*place),
            Bound::Excluded(place) => Some(place.saturating_sub(1)),
            Bound::Unbounded => None,
        };
        self.frame = Some(Frame { first, last });
        self
    }

    pub(super) fn of<T>(self, of: Aggregate) -> Expr<T, L> {
        let Over { partition, orders, frame, .. } = self;
        Expr::from_node(Node::window(Window { of, partition, orders, frame }))
    }
}

/// A function that only works over a window, which [`over`](Self::over) or [`over_groups`](Self::over_groups) sets.
#[must_use = "a window function needs a window: `.over(|w| ..)`"]
pub struct WindowFunction<T, L = PerRow> {
    of: Aggregate,
    frame: Option<Frame>,
    /// The value where the row at this offset does not exist.
    beyond: Option<(i32, Node)>,
    holds: PhantomData<fn() -> (T, L)>,
}

impl<T, L> Clone for WindowFunction<T, L> {
    fn clone(&self) -> WindowFunction<T, L> {
        let (of, beyond) = (self.of.clone(), self.beyond.clone());
        WindowFunction { of, frame: self.frame, beyond, holds: PhantomData }
    }
}

impl<T, L> fmt::Debug for WindowFunction<T, L> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("WindowFunction").field(&self.of).finish()
    }
}

impl<T> WindowFunction<T> {
    /// Sets the window of the function.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, borehole_id: i64, label: String, top_m: f64 }
    /// let numbered: Query<Specimen, (String, i64)> = Specimen::rows()
    ///     .select(|s| (s.label, row_number().over(|w| w.partition_by(s.borehole_id).order_by(s.top_m.asc()))));
    /// # assert!(numbered.sql(Dialect::Sqlite)?.text().contains(r#"row_number() OVER (PARTITION BY "specimen"."borehole_id" ORDER BY "specimen"."top_m")"#));
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// # Errors
    ///
    /// Filtering by it is [`InvalidQuery`](crate::ErrorKind::InvalidQuery) when the query is compiled. Filter
    /// `from(query)` instead, or use [`limit_each`](crate::Query::limit_each).
    pub fn over(self, window: impl FnOnce(Over) -> Over) -> Expr<T>
    where
        T: ColumnType,
    {
        self.within(window(Over::default()))
    }
}

impl<T> WindowFunction<T, PerGroup> {
    /// Sets the window of the function over the groups of a query: keys and aggregates are the values of each group.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// use nepheline::rank;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, borehole_id: i64, top_m: f64, base_m: f64 }
    /// let ranked: Query<Specimen, (i64, Option<f64>, i64), _> = Specimen::rows().select(|s| {
    ///     let metres = sum(s.base_m - s.top_m);
    ///     (per(s.borehole_id), metres.clone(), rank().over_groups(|w| w.order_by(metres.desc())))
    /// });
    /// assert_eq!(
    ///     ranked.sql(Dialect::Postgres)?.text(),
    ///     r#"SELECT "specimen"."borehole_id", sum("specimen"."base_m" - "specimen"."top_m"), rank() OVER (ORDER BY sum("specimen"."base_m" - "specimen"."top_m") DESC NULLS LAST) FROM "specimen" GROUP BY 1"#,
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// # Errors
    ///
    /// In `having` it is [`InvalidQuery`](crate::ErrorKind::InvalidQuery) when the query is compiled. Filter
    /// `from(query)` instead.
    pub fn over_groups(
        self,
        window: impl FnOnce(Over<PerGroup>) -> Over<PerGroup>,
    ) -> Expr<T, PerGroup>
    where
        T: ColumnType,
    {
        self.within(window(Over::default()))
    }
}

impl<T, L: Level> WindowFunction<T, L> {
    fn new(
        function: &'static Function,
        sql_type: SqlType,
        arguments: impl IntoIterator<Item = Node>,
    ) -> WindowFunction<T, L> {
        let arguments = arguments.into_iter().collect();
        let of = Node::of_rows(Call::of(function, sql_type, arguments));
        WindowFunction { of, frame: None, beyond: None, holds: PhantomData }
    }

    fn within(self, mut over: Over<L>) -> Expr<T, L>
    where
        T: ColumnType,
    {
        over.frame = over.frame.or(self.frame);
        let Some((place, default)) = self.beyond else { return over.of(self.of) };
        // MariaDB's LAG and LEAD take no default, and COALESCE would replace a NULL of the other row.
        let sql_type = self.of.call.sql_type;
        let there: Expr<i64, L> = over.clone().rows(place..=place).of(rows_there());
        let nobody = Node::compare(Comparison::Equal, there.into_node(), Node::number(0));
        let value: Expr<T, L> = over.of(self.of);
        let branches = vec![[nobody, default]];
        Expr::from_node(Node::of_case(Case {
            branches,
            otherwise: Some(value.into_node()),
            sql_type,
        }))
    }
}

fn rows_there() -> Aggregate {
    let function = &function::COUNT_ROWS;
    let arguments = SmallVec::new();
    Node::of_rows(Call::of(function, SqlType::BigInt, arguments))
}

fn number<L: Level>(function: &'static Function) -> WindowFunction<i64, L> {
    WindowFunction::new(function, SqlType::BigInt, [])
}

/// Returns the number of the row in its window, from 1.
pub fn row_number<L: Level>() -> WindowFunction<i64, L> {
    number(&function::ROW_NUMBER)
}

/// Returns the rank of the row, with gaps: peers share a rank, and the next rank counts all of them.
pub fn rank<L: Level>() -> WindowFunction<i64, L> {
    number(&function::RANK)
}

/// Returns the rank of the row without gaps.
pub fn dense_rank<L: Level>() -> WindowFunction<i64, L> {
    number(&function::DENSE_RANK)
}

/// Returns the number of the part that contains the row, from 1, where the window is divided into `parts` of
/// nearly equal size. With 0 parts the database reports an error.
pub fn ntile<L: Level>(parts: u32) -> WindowFunction<i64, L> {
    WindowFunction::new(&function::NTILE, SqlType::BigInt, [Node::number(parts)])
}

/// Returns an expression over the row `rows` before; NULL where there is none.
pub fn lag<E: ExprExt>(of: E, rows: u32) -> WindowFunction<Option<BaseOf<E>>, E::Level> {
    let arguments = [of.into_node(), Node::number(rows)];
    WindowFunction::new(&function::LAG, BaseOf::<E>::SQL_TYPE, arguments)
}

/// Returns an expression over the row `rows` after; NULL where there is none.
pub fn lead<E: ExprExt>(of: E, rows: u32) -> WindowFunction<Option<BaseOf<E>>, E::Level> {
    let arguments = [of.into_node(), Node::number(rows)];
    WindowFunction::new(&function::LEAD, BaseOf::<E>::SQL_TYPE, arguments)
}

/// Returns an expression over the row `rows` before, or `default` where there is no such row. A NULL of that
/// row stays NULL.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, top_m: f64, base_m: f64 }
/// // How far below the end of the one above it each begins; the first of all below the surface.
/// let gaps: Query<Specimen, f64> = Specimen::rows()
///     .select(|s| s.top_m - lag_or(s.base_m, 1, 0).over(|w| w.order_by(s.top_m.asc())));
/// # assert!(gaps.sql(Dialect::Sqlite)?.text().contains("ROWS BETWEEN 1 PRECEDING AND 1 PRECEDING) = 0 THEN ? ELSE"));
/// # Ok::<(), Error>(())
/// ```
pub fn lag_or<E, O>(
    of: E,
    rows: u32,
    default: O,
) -> WindowFunction<FollowsEither<E, O::Null, BaseOf<E>>, E::Level>
where
    E: ExprExt,
    O: Operand<BaseOf<E>, E::Level>,
{
    let place = i32::try_from(rows).map_or(i32::MIN, |rows| -rows);
    with_default(lag(of, rows), place, default)
}

/// Returns an expression over the row `rows` after, or `default` where there is no such row; otherwise as
/// [`lag_or`].
pub fn lead_or<E, O>(
    of: E,
    rows: u32,
    default: O,
) -> WindowFunction<FollowsEither<E, O::Null, BaseOf<E>>, E::Level>
where
    E: ExprExt,
    O: Operand<BaseOf<E>, E::Level>,
{
    let place = i32::try_from(rows).unwrap_or(i32::MAX);
    with_default(lead(of, rows), place, default)
}

fn with_default<T, U, L, B: Storable, O: Operand<B, L>>(
    function: WindowFunction<T, L>,
    place: i32,
    default: O,
) -> WindowFunction<U, L> {
    let beyond = Some((place, default.into_operand()));
    WindowFunction { of: function.of, frame: None, beyond, holds: PhantomData }
}

/// Returns an expression over the first row of the window.
pub fn first_value<E: ExprExt>(of: E) -> WindowFunction<Option<BaseOf<E>>, E::Level> {
    of_whole(&function::FIRST_VALUE, of)
}

/// Returns an expression over the last row of the window: of the whole window, unless [`rows`](Over::rows)
/// sets a frame.
pub fn last_value<E: ExprExt>(of: E) -> WindowFunction<Option<BaseOf<E>>, E::Level> {
    of_whole(&function::LAST_VALUE, of)
}

fn of_whole<E: ExprExt>(
    function: &'static Function,
    of: E,
) -> WindowFunction<Option<BaseOf<E>>, E::Level>
where
    E::Type: ColumnType,
{
    let mut whole = WindowFunction::new(function, BaseOf::<E>::SQL_TYPE, [of.into_node()]);
    // SQL's default frame ends at the current row.
    whole.frame = Some(Frame { first: None, last: None });
    whole
}
