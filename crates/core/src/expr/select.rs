//! What a query can select.

use super::level::{Level, PerGroup, PerRow};
use super::{Column, Condition, Expr, Expression};
use crate::row::RowShape;
use crate::storable::ColumnType;
use crate::tree::Node;

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

    #[doc(hidden)]
    fn each(self, add: &mut dyn FnMut(Node));
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

            fn each(self, add: &mut dyn FnMut(Node)) {
                add(self.into_node());
            }
        }
    };
}

single!([T: ColumnType + RowShape + Send + 'static] Column<T>, T, PerRow);
single!([T: ColumnType + RowShape + Send + 'static, L: Level] Expr<T, L>, T, L);
single!([L: Level] Condition<L>, Option<bool>, L);

macro_rules! tuples {
    ($first:ident $($name:ident)*) => {
        impl<$first: Selectable, $($name: Selectable<Level: StandsBeside<$first::Level>>),*> Selectable
            for ($first, $($name,)*)
        {
            type Row = ($first::Row, $($name::Row,)*);
            type Level = $first::Level;

            fn each(self, add: &mut dyn FnMut(Node)) {
                #[allow(non_snake_case, reason = "one name serves for the type and the value")]
                let ($first, $($name,)*) = self;
                $first.each(add);
                $($name.each(add);)*
            }
        }
    };
}

for_each_tuple!(tuples, up_to_16);
