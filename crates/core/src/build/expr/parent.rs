//! Groups of a parent's rows: its key groups, and its columns stand beside totals.

use super::level::PerGroup;
use super::{Column, Expr, ExprExt, IntoSelection, Maybe, RowColumns, Selection};
use crate::build::table::RowStruct;
use crate::model::{ColumnType, RowShape};
use crate::tree::{Node, RawColumn};

/// Groups by a parent, such as `s.borehole()`: one group for each row of it. Its columns stand beside totals, without
/// being keys of their own. Groups of a nullable reference are those of each parent, and one of the rows without.
///
/// Selected as it is, it is the whole row of the parent, an `Option` where that may be missing;
/// [`map`](PerParent::map) selects one of its columns.
///
/// ```
/// use nepheline::per_parent;
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Borehole { #[nepheline(key)] id: i64, #[nepheline(by_code_point)] name: String, depth_m: f64 }
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, #[nepheline(references = Borehole)] borehole_id: i64, base_m: f64 }
/// let deepest: Query<Specimen, (String, i64, Option<f64>), _> = Specimen::rows()
///     .select(|s| (per_parent(s.borehole()).map(|b| b.name), count(), max(s.base_m)))
///     .order_by_selected(|(name, ..)| name.asc());
/// assert_eq!(
///     deepest.sql(Dialect::Postgres)?.text(),
///     r#"SELECT "borehole"."name", count(*), max("specimen"."base_m") FROM "specimen" INNER JOIN "borehole" ON "borehole"."id" = "specimen"."borehole_id" GROUP BY 1, "borehole"."id" ORDER BY 1"#,
/// );
/// let boreholes: Query<Specimen, (Borehole, i64), _> =
///     Specimen::rows().select(|s| (per_parent(s.borehole()), count()));
/// # assert!(boreholes.sql(Dialect::Sqlite)?.text().ends_with(r#"GROUP BY 1"#));
/// # Ok::<(), Error>(())
/// ```
///
/// # Errors
///
/// When compiled, [`InvalidQuery`](crate::ErrorKind::InvalidQuery) for a parent without a key, such as a row shape.
pub fn per_parent<P: GroupedParent>(parent: P) -> P::Grouped {
    P::grouped(PerParent { parent })
}

/// A parent whose rows are the groups of a query; made by [`per_parent`].
#[derive(Debug, Clone, Copy)]
#[must_use = "a group key does nothing until it is used in a query"]
pub struct PerParent<P> {
    parent: P,
}

/// The parents that [`per_parent`] groups by: the columns of a row, or of one that may be missing.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a parent to group by",
    label = "expected a to-one relation, such as `s.borehole()`; a column is a key by `per(..)`"
)]
pub trait GroupedParent: Sized {
    /// The columns of the row.
    #[doc(hidden)]
    type Columns: RowColumns;
    /// The type that a column is read as.
    #[doc(hidden)]
    type Read<T: ColumnType>: ColumnType;
    /// The type that the whole row is read as.
    #[doc(hidden)]
    type Row;
    /// Always `PerParent<Self>`. The compiler does not go on from the type of what is no parent, so that this is one
    /// error.
    #[doc(hidden)]
    type Grouped;

    #[doc(hidden)]
    fn grouped(parent: PerParent<Self>) -> Self::Grouped;

    #[doc(hidden)]
    fn columns_of(self) -> Self::Columns;
}

impl<C: RowColumns> GroupedParent for C {
    type Columns = C;
    type Read<T: ColumnType> = T;
    type Row = C::Row;
    type Grouped = PerParent<C>;

    fn grouped(parent: PerParent<C>) -> PerParent<C> {
        parent
    }

    fn columns_of(self) -> C {
        self
    }
}

impl<C: RowColumns> GroupedParent for Maybe<C> {
    type Columns = C;
    type Read<T: ColumnType> = Option<T::Base>;
    type Row = Option<C::Row>;
    type Grouped = PerParent<Maybe<C>>;

    fn grouped(parent: PerParent<Maybe<C>>) -> PerParent<Maybe<C>> {
        parent
    }

    fn columns_of(self) -> C {
        self.columns()
    }
}

impl<P: GroupedParent> PerParent<P> {
    /// Returns a column of the parent, which has one value in each group.
    pub fn map<T: ColumnType>(
        self,
        column: impl FnOnce(P::Columns) -> Column<T>,
    ) -> Expr<P::Read<T>, PerGroup> {
        let columns = self.parent.columns_of();
        Expr::from_node(of_parent(&columns, column(columns).into_node()))
    }
}

impl<P> IntoSelection for PerParent<P>
where
    P: GroupedParent<Columns: IntoSelection, Row: RowShape + Send + 'static>,
{
    type Row = P::Row;
    type Level = PerGroup;

    fn select_into(self, selection: &mut Selection) {
        let columns = self.parent.columns_of();
        let nodes = Selection::of(columns).into_iter();
        let keys = nodes.map(|node| of_parent(&columns, node));
        selection.nodes.extend(keys);
    }
}

/// Returns a column as a value of each group, whose keys are those of the parent.
fn of_parent<C: RowColumns>(columns: &C, column: Node) -> Node {
    let source = columns.probe().source;
    let keys = <C::Row as RowStruct>::INFO.key();
    let keys = keys.map(|info| Node::Column(RawColumn { source, info }).key(false));
    let keys: Vec<Node> = keys.collect();
    match keys.as_slice() {
        [] => Node::Unfit(
            "`per_parent` needs a parent with a key; group by its columns with `per(..)`",
        ),
        [Node::Key(_, key)] if key.of == column => column.key(false),
        _ => column.key_of_parent(keys),
    }
}
