//! Windows: values of each row that are computed from the rows around it.

use std::ops::{Bound, RangeBounds};

use super::level::{KnownPerRow, PerRow};
use smallvec::SmallVec;

use super::{BaseOf, Expr, Expression, FollowsEither, IntoOrders, Operand, Selectable, Selection};
use crate::model::{ColumnType, Function, SqlType, Storable, function};
use crate::tree::{Aggregate, Call, Case, Comparison, Frame, Node, OrderTerm, Window};

/// Which rows are around a row, and in which order: what the closure of `over` says.
#[derive(Debug, Clone, Default)]
#[must_use = "a window does nothing until it is returned"]
pub struct Over {
    partition: Vec<Node>,
    orders: Vec<OrderTerm>,
    frame: Option<Frame>,
}

impl Over {
    /// Only rows that are alike in this expression, or in each of a tuple of them. Text is told apart
    /// by code point.
    pub fn partition_by(mut self, alike_in: impl Selectable<Level = PerRow>) -> Over {
        self.partition.extend(Selection::of(alike_in));
        self
    }

    /// In this order.
    pub fn order_by(mut self, orders: impl IntoOrders<PerRow>) -> Over {
        orders.each(&mut |order| self.orders.push(order));
        self
    }

    /// Only the rows at these places, counted from the row itself: `..=0` is all until it, `-2..=2`
    /// two on either side. The width is part of the SQL's text.
    ///
    /// Without it, a total of an ordered window is of the rows until this one and those that are
    /// equal to it in the order, and of one without order, of all.
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

/// A function that is of a window only; [`over`](Self::over) says of which.
#[derive(Debug, Clone)]
#[must_use = "a function of a window needs one: `.over(|w| ..)`"]
pub struct WindowFunction<T> {
    of: Aggregate,
    frame: Option<Frame>,
    /// What it is where the row at this place from the own one does not exist.
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
        let of = Node::of_rows(Call { function, sql_type, arguments, asked_at: None });
        WindowFunction { of, frame: None, beyond: None, holds: std::marker::PhantomData }
    }

    /// Of this window.
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
    /// A filter with it is [`UnfitParts`](crate::ErrorKind::UnfitParts) when compiled: filter
    /// `from(query)`, or ask for so many of each with [`limit_each`](crate::Query::limit_each).
    pub fn over(self, window: impl FnOnce(Over) -> Over) -> Expr<T>
    where
        T: ColumnType,
    {
        let mut over = window(Over::default());
        over.frame = over.frame.or(self.frame);
        let Some((place, default)) = self.beyond else { return over.of(self.of) };
        // Not every engine takes a default itself, and COALESCE would replace what is NULL there.
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
    Node::of_rows(Call { function, sql_type: SqlType::BigInt, arguments, asked_at: None })
}

fn number(function: &'static Function) -> WindowFunction<i64> {
    WindowFunction::new(function, SqlType::BigInt, [])
}

/// The number of the row in its window, from 1.
pub fn row_number() -> WindowFunction<i64> {
    number(&function::ROW_NUMBER)
}

/// The rank of the row: rows that are equal in the order share one, and the next is as much greater.
pub fn rank() -> WindowFunction<i64> {
    number(&function::RANK)
}

/// The rank of the row without gaps.
pub fn dense_rank() -> WindowFunction<i64> {
    number(&function::DENSE_RANK)
}

/// The number of the part that the row is in, from 1, where the window is cut into so many parts of
/// about one size. Of 0 parts it is an error of the database.
pub fn ntile(parts: u32) -> WindowFunction<i64> {
    WindowFunction::new(&function::NTILE, SqlType::BigInt, [Node::number(parts)])
}

/// An expression of the row so many rows before; NULL where there is none.
pub fn lag<E: Expression<Level: KnownPerRow>>(
    of: E,
    rows: u32,
) -> WindowFunction<Option<BaseOf<E>>> {
    let arguments = [of.into_node(), Node::number(rows)];
    WindowFunction::new(&function::LAG, BaseOf::<E>::SQL_TYPE, arguments)
}

/// An expression of the row so many rows after; NULL where there is none.
pub fn lead<E: Expression<Level: KnownPerRow>>(
    of: E,
    rows: u32,
) -> WindowFunction<Option<BaseOf<E>>> {
    let arguments = [of.into_node(), Node::number(rows)];
    WindowFunction::new(&function::LEAD, BaseOf::<E>::SQL_TYPE, arguments)
}

/// An expression of the row so many rows before, or `default` where there is no such row. What is NULL
/// there stays NULL.
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
    E: Expression<Level: KnownPerRow>,
    O: Operand<BaseOf<E>>,
{
    let place = i32::try_from(rows).map_or(i32::MIN, |rows| -rows);
    with_default(lag(of, rows), place, default)
}

/// An expression of the row so many rows after, or `default` where there is no such row; otherwise as
/// [`lag_or`].
pub fn lead_or<E, O>(
    of: E,
    rows: u32,
    default: O,
) -> WindowFunction<FollowsEither<E, O::Null, BaseOf<E>>>
where
    E: Expression<Level: KnownPerRow>,
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

/// An expression of the first row of the window.
pub fn first_value<E: Expression<Level: KnownPerRow>>(of: E) -> WindowFunction<Option<BaseOf<E>>> {
    of_whole(&function::FIRST_VALUE, of)
}

/// An expression of the last row of the window: of all of it, unless [`rows`](Over::rows) says otherwise.
pub fn last_value<E: Expression<Level: KnownPerRow>>(of: E) -> WindowFunction<Option<BaseOf<E>>> {
    of_whole(&function::LAST_VALUE, of)
}

fn of_whole<E: Expression<Level: KnownPerRow>>(
    function: &'static Function,
    of: E,
) -> WindowFunction<Option<BaseOf<E>>>
where
    E::Type: ColumnType,
{
    let mut whole = WindowFunction::new(function, BaseOf::<E>::SQL_TYPE, [of.into_node()]);
    // SQL's own default ends at the row itself.
    whole.frame = Some(Frame { first: None, last: None });
    whole
}
