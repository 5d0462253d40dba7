//! The arguments of `select`.

use std::convert::Infallible;
use std::marker::PhantomData;

use smallvec::SmallVec;

use super::level::{Level, PerGroup, PerRow};
use super::{Aggregate, Argument, Column, Condition, Expr, ExprExt, Maybe, RowColumns};
use crate::build::table::RowStruct;
use crate::model::{ColumnType, NeverNull, RowShape, Storable, TableInfo};
use crate::tree::{Node, RawColumn};

/// The values that have been selected so far.
#[doc(hidden)]
#[derive(Debug, Default)]
pub struct Selection {
    pub(crate) nodes: SmallVec<[Node; 1]>,
}

impl Selection {
    pub(crate) fn of(selected: impl IntoSelection) -> SmallVec<[Node; 1]> {
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

/// The arguments of `select`: an expression, or a tuple of them. All have one level.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be selected",
    label = "expected a column, an expression, or a tuple of them",
    note = "an aggregate of aggregates is computed over all groups: `sum(sum(x)).over_groups(|w| w)`",
    note = "hand-written SQL needs a type: `verbatim!(..).typed::<T>()`, `call!(..).typed::<T>()`"
)]
pub trait IntoSelection {
    /// The type that a row is read into.
    type Row: RowShape + Send + 'static;
    /// The level of all selected values.
    type Level: Level;

    /// The struct whose fields name the selected values, if there is one.
    #[doc(hidden)]
    const FIELDS: Option<&'static TableInfo> = None;

    #[doc(hidden)]
    fn select_into(self, selection: &mut Selection);
}

/// A struct that `shape!` selects into. `#[derive(RowShape)]` implements it.
#[doc(hidden)]
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a row shape",
    note = "add `#[derive(RowShape)]` to the struct"
)]
pub trait Shape {
    /// The names of its fields, in their order.
    const NAMES: &'static [&'static str];

    /// The names of its columns, unless it holds whole rows.
    const FIELDS: Option<&'static TableInfo>;

    /// Always `Shaping<Self, NoLevel>`. The compiler does not go on from the type of a struct that is no row
    /// shape, so that this is one error.
    type Shaping;

    /// Returns a selection without values.
    fn shaping() -> Self::Shaping;
}

/// A value that `shape!` selects, which is read as a `T`.
#[doc(hidden)]
#[derive(Debug)]
pub struct ShapeValue<T, L> {
    selection: Selection,
    of: PhantomData<fn() -> (T, L)>,
}

/// Returns the value of a field. The compiler does not go on from what cannot be selected, so that this is one
/// error.
#[doc(hidden)]
pub fn shape_value<V: ShapeField<Way>, Way>(value: V) -> ShapeValue<V::Row, V::Level> {
    let mut selection = Selection::default();
    value.select_into(&mut selection);
    ShapeValue { selection, of: PhantomData }
}

/// The values that `shape!` takes for a field: what `select` takes, or a plain value, which becomes a bind.
#[doc(hidden)]
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be selected",
    label = "expected a column, an expression, a value, or `None`",
    note = "hand-written SQL needs a type: `verbatim!(..).typed::<T>()`, `call!(..).typed::<T>()`"
)]
pub trait ShapeField<Way> {
    /// The type that the value is read as.
    type Row;
    /// The level of the value; [`NoLevel`] for a plain value, which stands beside any.
    type Level;

    fn select_into(self, selection: &mut Selection);
}

/// The way of an expression into a field.
#[doc(hidden)]
#[derive(Debug)]
pub struct AsSelected;

/// The way of a plain value into a field.
#[doc(hidden)]
#[derive(Debug)]
pub struct AsBind;

impl<V: IntoSelection> ShapeField<AsSelected> for V {
    type Row = V::Row;
    type Level = V::Level;

    fn select_into(self, selection: &mut Selection) {
        IntoSelection::select_into(self, selection);
    }
}

macro_rules! plain {
    ([$($generics:tt)*] $value:ty, $row:ty) => {
        #[diagnostic::do_not_recommend]
        impl<$($generics)*> ShapeField<AsBind> for $value {
            type Row = $row;
            type Level = NoLevel;

            fn select_into(self, selection: &mut Selection) {
                selection.push(<Self as Argument>::into_argument(self));
            }
        }
    };
}

plain!([T: Storable] T, T);
plain!([T: Storable] Option<T>, Option<T>);
plain!([] & str, String);

impl<R, L> ShapeValue<R, L> {
    /// Stands for the value in the literal that `shape!` writes for the compiler to check. It is never called,
    /// because nothing has the type `Infallible`.
    pub fn as_field<T, Way>(&self, never: Infallible) -> T
    where
        R: FillsField<T, Way>,
    {
        match never {}
    }
}

/// A type of values that fill a field of the type `T`: `T` itself, and where `T` is an `Option`, a value that is never NULL.
#[doc(hidden)]
#[diagnostic::on_unimplemented(
    message = "a value that is read as `{Self}` cannot fill a field of `{T}`",
    label = "the field is a `{T}`, and this is read as `{Self}`",
    note = "a value that may be NULL needs an `Option` in the struct, or `coalesce(..)`"
)]
pub trait FillsField<T, Way> {}

impl<T> FillsField<T, ()> for T {}

impl<T> FillsField<Option<T>, NeverNull> for T {}

// With one implementation the compiler would take the type of the value for that of the field, and report the
// mistake as a conversion that is missing.
impl<T> FillsField<NoLevel, NoLevel> for T {}

/// The values that `shape!` selects into an `S`, one after the other: each under the name of its field.
#[doc(hidden)]
#[derive(Debug)]
pub struct Shaping<S, L> {
    pub(super) values: SmallVec<[(&'static str, Selection); 4]>,
    pub(super) of: PhantomData<fn() -> (S, L)>,
}

/// The level of plain values, and of a [`Shaping`] that has no other value yet.
#[doc(hidden)]
#[derive(Debug)]
pub struct NoLevel;

impl<S> Default for Shaping<S, NoLevel> {
    fn default() -> Self {
        Shaping { values: SmallVec::new(), of: PhantomData }
    }
}

impl<S, L> Shaping<S, L> {
    /// Adds the value of a field.
    pub fn with<T, M: StandsBeside<L>>(
        mut self,
        name: &'static str,
        value: ShapeValue<T, M>,
    ) -> Shaping<S, M::Both> {
        self.values.push((name, value.selection));
        Shaping { values: self.values, of: PhantomData }
    }
}

impl<S: Shape + RowShape + Send + 'static, L: Settles> IntoSelection for Shaping<S, L> {
    type Row = S;
    type Level = L::Level;
    const FIELDS: Option<&'static TableInfo> = S::FIELDS;

    fn select_into(mut self, selection: &mut Selection) {
        for name in S::NAMES {
            let given = self.values.iter_mut().find(|(given, _)| given == name);
            let nodes = given
                .into_iter()
                .flat_map(|(_, value)| value.nodes.drain(..));
            selection.nodes.extend(nodes);
        }
    }
}

/// A row struct whose fields have the names of a table's columns. `#[nepheline(shaped_from(Specimen))]`
/// implements it, for [`Query::shaped_as`](crate::Query::shaped_as).
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not declared to have columns of `{T}`",
    note = "add `#[derive(RowShape)] #[nepheline(shaped_from({T}))]` to the struct"
)]
pub trait ShapedFrom<T: RowStruct>: RowStruct {
    #[doc(hidden)]
    fn select_into(columns: T::Columns, selection: &mut Selection);
}

/// A level that can be selected together with the level `L`: the same one.
#[diagnostic::on_unimplemented(
    message = "a plain column and an aggregate stand in one selection",
    label = "the column is neither in `per(..)` nor inside an aggregate"
)]
pub trait StandsBeside<L> {
    /// The level of both together.
    #[doc(hidden)]
    type Both;
}

impl<L: Level> StandsBeside<NoLevel> for L {
    type Both = L;
}

impl StandsBeside<PerRow> for PerRow {
    type Both = PerRow;
}

impl StandsBeside<PerGroup> for PerGroup {
    type Both = PerGroup;
}

impl<L: Level> StandsBeside<L> for NoLevel {
    type Both = L;
}

impl StandsBeside<NoLevel> for NoLevel {
    type Both = NoLevel;
}

/// The level of a whole selection. Plain values alone have that of rows.
#[doc(hidden)]
pub trait Settles {
    type Level: Level;
}

impl<L: Level> Settles for L {
    type Level = L;
}

impl Settles for NoLevel {
    type Level = PerRow;
}

macro_rules! single {
    ([$($generics:tt)*] $expression:ty, $row:ty, $level:ty) => {
        impl<$($generics)*> IntoSelection for $expression {
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

/// A whole row that may be missing.
impl<C: RowColumns + IntoSelection<Row = <C as RowColumns>::Row>> IntoSelection for Maybe<C> {
    type Row = Option<<C as RowColumns>::Row>;
    type Level = PerRow;

    fn select_into(self, selection: &mut Selection) {
        self.columns().select_into(selection);
    }
}

macro_rules! tuples {
    ($first:ident $($name:ident)*) => {
        impl<$first: IntoSelection, $($name: IntoSelection<Level: StandsBeside<$first::Level>>),*> IntoSelection
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
