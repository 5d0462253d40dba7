//! What a query can select.

use smallvec::SmallVec;

use super::level::{Level, PerGroup, PerRow};
use super::{Aggregate, Column, Condition, Expr, Expression, Maybe, RowColumns};
use crate::build::table::RowStruct;
use crate::model::{ColumnType, RowShape, TableInfo};
use crate::tree::{Node, RawColumn};

/// What has been selected so far.
#[doc(hidden)]
#[derive(Debug, Default)]
pub struct Selection {
    pub(crate) nodes: SmallVec<[Node; 1]>,
}

impl Selection {
    pub(crate) fn of(selected: impl Selectable) -> SmallVec<[Node; 1]> {
        let mut selection = Selection::default();
        selected.select_into(&mut selection);
        selection.nodes
    }

    fn push(&mut self, node: Node) {
        self.nodes.push(node);
    }

    pub fn push_column(&mut self, column: RawColumn) {
        self.push(Node::Column(column));
    }
}

/// What `select` accepts: an expression, or a tuple of them. All are of one level.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be selected",
    label = "expected a column, an expression, or a tuple of them"
)]
pub trait Selectable {
    /// What a row is read into.
    type Row: RowShape + Send + 'static;
    /// The level of all that is selected.
    type Level: Level;

    /// The struct whose fields name what is selected, if there is one.
    #[doc(hidden)]
    const FIELDS: Option<&'static TableInfo> = None;

    #[doc(hidden)]
    fn select_into(self, selection: &mut Selection);
}

/// What can be selected into a field of this type.
#[doc(hidden)]
#[diagnostic::on_unimplemented(
    message = "`{Self}` does not give a `{T}`",
    label = "expected an expression that is read as `{T}`"
)]
pub trait Gives<T>: Selectable {}

impl<T, S: Selectable<Row = T>> Gives<T> for S {}

/// A row struct that has the columns of a table by their names: what
/// `#[nepheline(shaped_from(Specimen))]` makes of it, for [`Query::shaped_as`](crate::Query::shaped_as).
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not said to have columns of `{T}`",
    note = "add `#[derive(RowShape)] #[nepheline(shaped_from({T}))]` to the struct"
)]
pub trait ShapedFrom<T: RowStruct>: RowStruct {
    #[doc(hidden)]
    fn select_into(columns: T::Columns, selection: &mut Selection);
}

/// A level that can stand in one selection with the level `L`: the same one.
#[diagnostic::on_unimplemented(
    message = "a plain column and a total stand side by side in one selection",
    label = "the column is neither in `per(..)` nor inside an aggregate"
)]
pub trait StandsBeside<L> {}

impl StandsBeside<PerRow> for PerRow {}
impl StandsBeside<PerGroup> for PerGroup {}

macro_rules! single {
    ([$($generics:tt)*] $expression:ty, $row:ty, $level:ty) => {
        impl<$($generics)*> Selectable for $expression {
            type Row = $row;
            type Level = $level;

            fn select_into(self, selection: &mut Selection) {
                selection.push(self.into_node());
            }
        }
    };
}

single!([T: ColumnType + RowShape + Send + 'static] Column<T>, T, PerRow);
single!([T: ColumnType + RowShape + Send + 'static, L: Level] Expr<T, L>, T, L);
single!([L: Level] Condition<L>, Option<bool>, L);
single!([T: ColumnType + RowShape + Send + 'static] Aggregate<T>, T, PerGroup);

/// A whole row that there may not be.
impl<C: RowColumns + Selectable<Row = <C as RowColumns>::Row>> Selectable for Maybe<C> {
    type Row = Option<<C as RowColumns>::Row>;
    type Level = PerRow;

    fn select_into(self, selection: &mut Selection) {
        self.columns().select_into(selection);
    }
}

macro_rules! tuples {
    ($first:ident $($name:ident)*) => {
        impl<$first: Selectable, $($name: Selectable<Level: StandsBeside<$first::Level>>),*> Selectable
            for ($first, $($name,)*)
        {
            type Row = ($first::Row, $($name::Row,)*);
            type Level = $first::Level;

            fn select_into(self, selection: &mut Selection) {
                #[allow(non_snake_case, reason = "one name serves for the type and the value")]
                let ($first, $($name,)*) = self;
                $first.select_into(selection);
                $($name.select_into(selection);)*
            }
        }
    };
}

for_each_tuple!(tuples, up_to_16);
