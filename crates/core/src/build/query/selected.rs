//! Orders by selected values, which are then written once.

use std::panic::Location;

use super::{Query, Tables};
use crate::build::expr::{Expr, IntoOrders, Level};
use crate::build::table::RowStruct;
use crate::model::{ColumnType, Origin, TableInfo};
use crate::tree::{Located, Node, RawColumn, Source};

/// The rows of a selection whose values can be named in [`Query::order_by_selected`]: a value, a tuple of values, or a
/// struct that `shape!` fills.
#[diagnostic::on_unimplemented(
    message = "the values of `{Self}` cannot be named in an order",
    label = "expected rows of values, of a tuple of values, or of a struct with `#[derive(RowShape)]` and no whole rows",
    note = "order whole rows by their columns: `order_by`"
)]
pub trait SelectedRow<Way> {
    /// The argument of the closure: the selected values by their places or names.
    type Selected;

    #[doc(hidden)]
    fn selected(nodes: &mut dyn Iterator<Item = Node>) -> Self::Selected;

    /// The struct whose fields name the values, if there is one.
    #[doc(hidden)]
    const FIELDS: Option<&'static TableInfo> = None;
}

/// The way of a single value.
#[doc(hidden)]
#[derive(Debug)]
pub struct Alone;

/// The way of a tuple.
#[doc(hidden)]
#[derive(Debug)]
pub struct ByPlace;

/// The way of a struct.
#[doc(hidden)]
#[derive(Debug)]
pub struct ByName;

impl<T: ColumnType> SelectedRow<Alone> for T {
    type Selected = Expr<T>;

    fn selected(nodes: &mut dyn Iterator<Item = Node>) -> Expr<T> {
        Expr::from_node(nodes.next().unwrap_or(Node::TooDeep))
    }
}

impl<R: RowStruct> SelectedRow<ByName> for R {
    type Selected = R::Columns;
    const FIELDS: Option<&'static TableInfo> = Some(R::INFO);

    fn selected(_: &mut dyn Iterator<Item = Node>) -> R::Columns {
        R::columns(Source::NOWHERE)
    }
}

macro_rules! tuples {
    ($($name:ident)+) => {
        impl<$($name: ColumnType),+> SelectedRow<ByPlace> for ($($name,)+) {
            type Selected = ($(Expr<$name>,)+);

            fn selected(nodes: &mut dyn Iterator<Item = Node>) -> Self::Selected {
                ($(<$name as SelectedRow<Alone>>::selected(nodes),)+)
            }
        }
    };
}

for_each_tuple!(tuples, up_to_16);

impl<T: Tables, R, L: Level> Query<T, R, L> {
    /// Orders by selected values, so that keys, totals and their binds are written once. The closure receives the
    /// selected values: an expression, a tuple of them, or the columns of the struct that `shape!` fills. It stands
    /// after `select`; otherwise it orders as [`order_by`](Self::order_by).
    ///
    /// The SQL is an ordinal, such as `ORDER BY 3 DESC`. Where an engine would order otherwise by an ordinal alone, as
    /// with a collation or the place of NULLs, the query becomes a derived table, which is ordered outside.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, borehole_id: i64, top_m: f64, base_m: f64 }
    /// let thickest: Query<Specimen, (i64, i64, Option<f64>), _> = Specimen::rows()
    ///     .select(|s| (per(s.borehole_id), count(), sum((s.base_m - s.top_m) * 2)))
    ///     .order_by_selected(|(borehole_id, specimens, _)| (specimens.desc(), borehole_id.asc()));
    /// assert!(thickest.sql(Dialect::Sqlite)?.text().ends_with("ORDER BY 2 DESC, 1"));
    ///
    /// #[derive(Debug, RowShape)]
    /// struct Thickness {
    ///     borehole_id: i64,
    ///     metres: Option<f64>,
    /// }
    ///
    /// let thinnest = Specimen::rows()
    ///     .select(|s| shape!(Thickness { borehole_id: per(s.borehole_id), metres: sum((s.base_m - s.top_m) * 2) }))
    ///     .order_by_selected(|t| t.metres.asc());
    /// assert!(thinnest.sql(Dialect::Postgres)?.text().ends_with("ORDER BY 2"));
    /// // MariaDB would put NULL first.
    /// assert!(thinnest.sql(Dialect::MariaDb)?.text().ends_with("AS q ORDER BY q.c1 IS NULL, q.c1"));
    /// # Ok::<(), Error>(())
    /// ```
    #[track_caller]
    pub fn order_by_selected<F, O, Way>(mut self, orders: F) -> Query<T, R, L>
    where
        R: SelectedRow<Way>,
        F: FnOnce(R::Selected) -> O,
        O: IntoOrders,
    {
        let at = Origin::of(Location::caller());
        let values = self.select.values.as_ref();
        let values: Vec<Node> = values.map_or_else(Vec::new, |values| values.what.to_vec());
        let is_whole = values.is_empty();
        let kept = &mut self.select.orders;
        orders(R::selected(&mut values.iter().cloned())).each(&mut |mut what| {
            what.selected = true;
            match (R::FIELDS, is_whole) {
                (_, true) => what.by = Node::Unfit(NOTHING_SELECTED),
                (Some(fields), false) => what.by.replace_columns(&|column: &RawColumn| {
                    let of_fields = column.source == Source::NOWHERE;
                    let mut own = fields.columns().iter();
                    let place = own.position(|info| std::ptr::eq(info, column.info));
                    values.get(place.filter(|_| of_fields)?).cloned()
                }),
                (None, false) => {}
            }
            kept.push(Located { what, at });
        });
        self
    }
}

const NOTHING_SELECTED: &str = "`order_by_selected` names selected values; call `select` first, or order whole rows by `order_by`";
