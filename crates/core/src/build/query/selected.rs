//! Orders by selected values, which are then written once.

use std::panic::Location;

use smallvec::SmallVec;

use super::{Query, Tables};
use crate::build::expr::{Expr, IntoOrders, Level, Maybe};
use crate::build::table::RowStruct;
use crate::model::{ColumnType, Origin, TableInfo};
use crate::tree::{Located, Node, RawColumn, Source};

/// The rows of a selection whose values can be named in [`Query::order_by_selected`]: a value, a whole row, a struct that
/// `shape!` fills, or a tuple of them.
#[diagnostic::on_unimplemented(
    message = "the values of `{Self}` cannot be named in an order",
    label = "expected values, whole rows, a struct with `#[derive(RowShape)]` and no whole rows in it, or a tuple of them"
)]
pub trait SelectedRow<Way> {
    /// The argument of the closure: the selected values by their places or names.
    type Selected;

    #[doc(hidden)]
    fn selected(values: &mut SelectedValues<'_>) -> Self::Selected;
}

/// The values of a selection, in order.
#[doc(hidden)]
#[derive(Debug)]
pub struct SelectedValues<'v> {
    values: &'v [Node],
    next: usize,
    /// The structs among them: the source that stands for each in the order, and the place of its first value.
    structs: SmallVec<[(Source, &'static TableInfo, usize); 1]>,
}

impl SelectedValues<'_> {
    fn next(&mut self) -> Node {
        let value = self.values.get(self.next).cloned();
        self.next += 1;
        value.unwrap_or(Node::Unfit(NOTHING_SELECTED))
    }

    fn next_struct<R: RowStruct>(&mut self) -> R::Columns {
        let source = Source::fresh();
        self.structs.push((source, R::INFO, self.next));
        self.next += R::WIDTH;
        R::columns(source)
    }

    /// Returns the value that a column of one of the structs stands for.
    fn of_column(&self, column: &RawColumn) -> Option<Node> {
        let mut structs = self.structs.iter();
        let (_, fields, first) = structs.find(|(source, ..)| *source == column.source)?;
        let mut columns = fields.columns().iter();
        let place = columns.position(|info| std::ptr::eq(info, column.info))?;
        let value = self.values.get(first + place).cloned();
        Some(value.unwrap_or(Node::Unfit(NOTHING_SELECTED)))
    }
}

/// The way of a value.
#[doc(hidden)]
#[derive(Debug)]
pub struct Value;

/// The way of a struct.
#[doc(hidden)]
#[derive(Debug)]
pub struct Struct;

/// The way of a struct that may be missing.
#[doc(hidden)]
#[derive(Debug)]
pub struct MaybeStruct;

impl<T: ColumnType> SelectedRow<Value> for T {
    type Selected = Expr<T>;

    fn selected(values: &mut SelectedValues<'_>) -> Expr<T> {
        Expr::from_node(values.next())
    }
}

impl<R: RowStruct> SelectedRow<Struct> for R {
    type Selected = R::Columns;

    fn selected(values: &mut SelectedValues<'_>) -> R::Columns {
        values.next_struct::<R>()
    }
}

impl<R: RowStruct> SelectedRow<MaybeStruct> for Option<R> {
    type Selected = Maybe<R::Columns>;

    fn selected(values: &mut SelectedValues<'_>) -> Maybe<R::Columns> {
        Maybe::new(values.next_struct::<R>())
    }
}

macro_rules! tuples {
    ($($name:ident $way:ident),+) => {
        impl<$($name: SelectedRow<$way>, $way),+> SelectedRow<($($way,)+)> for ($($name,)+) {
            type Selected = ($($name::Selected,)+);

            fn selected(values: &mut SelectedValues<'_>) -> Self::Selected {
                ($($name::selected(values),)+)
            }
        }
    };
}

tuples!(A WA);
tuples!(A WA, B WB);
tuples!(A WA, B WB, C WC);
tuples!(A WA, B WB, C WC, D WD);
tuples!(A WA, B WB, C WC, D WD, E WE);
tuples!(A WA, B WB, C WC, D WD, E WE, F WF);
tuples!(A WA, B WB, C WC, D WD, E WE, F WF, G WG);
tuples!(A WA, B WB, C WC, D WD, E WE, F WF, G WG, H WH);
tuples!(A WA, B WB, C WC, D WD, E WE, F WF, G WG, H WH, I WI);
tuples!(A WA, B WB, C WC, D WD, E WE, F WF, G WG, H WH, I WI, J WJ);
tuples!(A WA, B WB, C WC, D WD, E WE, F WF, G WG, H WH, I WI, J WJ, K WK);
tuples!(A WA, B WB, C WC, D WD, E WE, F WF, G WG, H WH, I WI, J WJ, K WK, M WM);
tuples!(A WA, B WB, C WC, D WD, E WE, F WF, G WG, H WH, I WI, J WJ, K WK, M WM, N WN);
tuples!(A WA, B WB, C WC, D WD, E WE, F WF, G WG, H WH, I WI, J WJ, K WK, M WM, N WN, O WO);
tuples!(A WA, B WB, C WC, D WD, E WE, F WF, G WG, H WH, I WI, J WJ, K WK, M WM, N WN, O WO, P WP);
tuples!(A WA, B WB, C WC, D WD, E WE, F WF, G WG, H WH, I WI, J WJ, K WK, M WM, N WN, O WO, P WP, Q WQ);

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
        let values: Vec<Node> = match &self.select.values {
            Some(values) => values.what.to_vec(),
            None => self.select.row_columns().collect(),
        };
        let mut selected = SelectedValues { values: &values, next: 0, structs: SmallVec::new() };
        let orders = orders(R::selected(&mut selected));
        let kept = &mut self.select.orders;
        orders.each(&mut |mut what| {
            what.selected = true;
            what.by
                .replace_columns(&|column| selected.of_column(column));
            kept.push(Located { what, at });
        });
        self
    }
}

const NOTHING_SELECTED: &str = "`order_by_selected` names more values than the query selects";
