//! Window functions: values of a row that are computed from the rows around it.

use std::ops::{Bound, RangeBounds};

use super::level::{KnownPerRow, PerRow};
use smallvec::SmallVec;

use super::{BaseOf, Expr, ExprExt, FollowsEither, IntoOrders, IntoSelection, Operand, Selection};
use crate::model::{ColumnType, Function, SqlType, Storable, function};
use crate::tree::{Aggregate, Call, Case, Comparison, Frame, Node, OrderTerm, Window};

/// The window of a function, which the closure of `over` describes: partition, order and frame.
#[derive(Debug, Clone, Default)]
#[must_use = "a window does nothing until it is returned"]
pub struct Over {
    partition: Vec<Node>,
    orders: Vec<OrderTerm>,
    frame: Option<Frame>,
}

impl Over {
    /// Limits the window to rows with the same value of this expression, or of each in a tuple. Text is
    /// compared by code point.
    pub fn partition_by(mut self, alike_in: impl IntoSelection<Level = PerRow>) -> Over {
        self.partition.extend(Selection::of(alike_in));
        self
    }

    /// Orders the rows of the window.
    pub fn order_by(mut self, orders: impl IntoOrders<PerRow>) -> Over {
        orders.each(&mut |order| self.orders.push(order));
        self
    }

    /// Limits the window to a frame of rows, counted from the current row: `..=0` is everything up to it,
    /// `-2..=2` two rows on either side. The bounds are part of the SQL text.
    ///
    /// Without a frame, an aggregate over an ordered window includes the rows up to the current one and its
    /// peers, and over an unordered window all rows.
    pub fn rows(mut self, places: impl RangeBounds<i32>) -> Over {
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

    pub(super) fn of<T>(self, of: Aggregate) -> Expr<T> {
        let Over { partition, orders, frame } = self;
        Expr::from_node(Node::window(Window { of, partition, orders, frame }))
    }
}

/// A function that only works over a window, which [`over`](Self::over) sets.
#[derive(Debug, Clone)]
#[must_use = "a window function needs a window: `.over(|w| ..)`"]
pub struct WindowFunction<T> {
    of: Aggregate,
    frame: Option<Frame>,
    /// The value where the row at this offset does not exist.
    beyond: Option<(i32, Node)>,
    holds: std::marker::PhantomData<fn() -> T>,
}

impl<T> WindowFunction<T> {
    fn new(
        function: &'static Function,
        sql_type: SqlType,
        arguments: impl IntoIterator<Item = Node>,
    ) -> WindowFunction<T> {
        let arguments = arguments.into_iter().collect();
        let of = Node::of_rows(Call::of(function, sql_type, arguments));
        WindowFunction { of, frame: None, beyond: None, holds: std::marker::PhantomData }
    }

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
        let mut over = window(Over::default());
        over.frame = over.frame.or(self.frame);
        let Some((place, default)) = self.beyond else { return over.of(self.of) };
        // MariaDB's LAG and LEAD take no default, and COALESCE would replace a NULL of the other row.
        let sql_type = self.of.call.sql_type;
        let there: Expr<i64> = over.clone().rows(place..=place).of(rows_there());
        let nobody = Node::compare(Comparison::Equal, there.into_node(), Node::number(0));
        let value: Expr<T> = over.of(self.of);
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

fn number(function: &'static Function) -> WindowFunction<i64> {
    WindowFunction::new(function, SqlType::BigInt, [])
}

/// Returns the number of the row in its window, from 1.
pub fn row_number() -> WindowFunction<i64> {
    number(&function::ROW_NUMBER)
}

/// Returns the rank of the row, with gaps: peers share a rank, and the next rank counts all of them.
pub fn rank() -> WindowFunction<i64> {
    number(&function::RANK)
}

/// Returns the rank of the row without gaps.
pub fn dense_rank() -> WindowFunction<i64> {
    number(&function::DENSE_RANK)
}

/// Returns the number of the part that contains the row, from 1, where the window is divided into `parts` of
/// nearly equal size. With 0 parts the database reports an error.
pub fn ntile(parts: u32) -> WindowFunction<i64> {
    WindowFunction::new(&function::NTILE, SqlType::BigInt, [Node::number(parts)])
}

/// Returns an expression over the row `rows` before; NULL where there is none.
pub fn lag<E: ExprExt<Level: KnownPerRow>>(of: E, rows: u32) -> WindowFunction<Option<BaseOf<E>>> {
    let arguments = [of.into_node(), Node::number(rows)];
    WindowFunction::new(&function::LAG, BaseOf::<E>::SQL_TYPE, arguments)
}

/// Returns an expression over the row `rows` after; NULL where there is none.
pub fn lead<E: ExprExt<Level: KnownPerRow>>(of: E, rows: u32) -> WindowFunction<Option<BaseOf<E>>> {
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
) -> WindowFunction<FollowsEither<E, O::Null, BaseOf<E>>>
where
    E: ExprExt<Level: KnownPerRow>,
    O: Operand<BaseOf<E>>,
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
) -> WindowFunction<FollowsEither<E, O::Null, BaseOf<E>>>
where
    E: ExprExt<Level: KnownPerRow>,
    O: Operand<BaseOf<E>>,
{
    let place = i32::try_from(rows).unwrap_or(i32::MAX);
    with_default(lead(of, rows), place, default)
}

fn with_default<T, U, B: Storable, O: Operand<B>>(
    function: WindowFunction<T>,
    place: i32,
    default: O,
) -> WindowFunction<U> {
    let beyond = Some((place, default.into_operand()));
    WindowFunction { of: function.of, frame: None, beyond, holds: std::marker::PhantomData }
}

/// Returns an expression over the first row of the window.
pub fn first_value<E: ExprExt<Level: KnownPerRow>>(of: E) -> WindowFunction<Option<BaseOf<E>>> {
    of_whole(&function::FIRST_VALUE, of)
}

/// Returns an expression over the last row of the window: of the whole window, unless [`rows`](Over::rows)
/// sets a frame.
pub fn last_value<E: ExprExt<Level: KnownPerRow>>(of: E) -> WindowFunction<Option<BaseOf<E>>> {
    of_whole(&function::LAST_VALUE, of)
}

fn of_whole<E: ExprExt<Level: KnownPerRow>>(
    function: &'static Function,
    of: E,
) -> WindowFunction<Option<BaseOf<E>>>
where
    E::Type: ColumnType,
{
    let mut whole = WindowFunction::new(function, BaseOf::<E>::SQL_TYPE, [of.into_node()]);
    // SQL's default frame ends at the current row.
    whole.frame = Some(Frame { first: None, last: None });
    whole
}
