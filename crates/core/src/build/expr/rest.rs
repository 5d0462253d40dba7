//! `..row` in `shape!`: the fields that are not given are the columns of a row with the same names.

use std::convert::Infallible;
use std::marker::PhantomData;

use super::select::{Selection, Shape, Shaping, StandsBeside};
use super::{PerRow, RowColumns};
use crate::build::table::RowStruct;
use crate::model::{BindValue, ColumnInfo, TableInfo, is_same};
use crate::tree::{Node, RawColumn};

/// The names of the fields that a `shape!` gives itself.
#[doc(hidden)]
pub trait GivenFields {
    const NAMES: &'static [&'static str];
}

/// The columns of a row that fill the other fields of an `S`.
#[doc(hidden)]
#[derive(Debug)]
pub struct ShapeRest<S> {
    values: Vec<(&'static str, Selection)>,
    of: PhantomData<fn() -> S>,
}

/// Returns the columns of a row for the fields that `G` does not name. A field without a column of its name does not
/// compile; the compiler finds this when it builds the program, not when it checks it.
#[doc(hidden)]
pub fn shape_rest<S: Shape, G: GivenFields, C: RowColumns>(columns: C, _: G) -> ShapeRest<S> {
    const { check(S::NAMES, G::NAMES, <C::Row as RowStruct>::INFO) }
    let source = columns.probe().source;
    let fields = S::FIELDS.map_or(&[][..], TableInfo::columns);
    // The fields of the struct and its columns stand in one order; a column may have another name than its field.
    let others = S::NAMES
        .iter()
        .zip(fields)
        .filter(|(name, _)| !G::NAMES.contains(name));
    let values = others.map(|(name, field)| {
        let columns = <C::Row as RowStruct>::INFO.columns().iter();
        let info = columns.into_iter().find(|info| info.name() == *name);
        let mut selection = Selection::default();
        selection.nodes.push(match info {
            Some(info) if fits(info, field) => Node::Column(RawColumn { source, info }),
            _ => Node::refused(BindValue::Text((*name).into()), OTHER_TYPE),
        });
        (*name, selection)
    });
    ShapeRest { values: values.collect(), of: PhantomData }
}

const OTHER_TYPE: &str = "is a field that `..` in `shape!` should fill, and the column of that name has another type, or may be \
     NULL where the field may not; give the field a value";

fn fits(column: &ColumnInfo, field: &ColumnInfo) -> bool {
    column.sql_type() == field.sql_type() && (field.is_nullable() || !column.is_nullable())
}

impl<S> ShapeRest<S> {
    /// Stands for the other fields in the literal that `shape!` writes for the compiler to check. It is never called.
    pub fn as_fields(&self, never: Infallible) -> S {
        match never {}
    }
}

impl<S, L> Shaping<S, L> {
    /// Adds the fields that are columns of a row.
    pub fn with_rest(mut self, rest: ShapeRest<S>) -> Shaping<S, <PerRow as StandsBeside<L>>::Both>
    where
        PerRow: StandsBeside<L>,
    {
        self.values.extend(rest.values);
        Shaping { values: self.values, of: PhantomData }
    }
}

/// Requires a column for each name that is not given.
const fn check(names: &[&str], given: &[&str], row: &TableInfo) {
    let mut place = 0;
    while place < names.len() {
        let name = names[place];
        assert!(
            is_among(name, given) || row.has_column(name),
            "a field of the shape is neither given nor a column of the row behind `..`"
        );
        place += 1;
    }
}

const fn is_among(name: &str, names: &[&str]) -> bool {
    let mut place = 0;
    while place < names.len() {
        if is_same(name, names[place]) {
            return true;
        }
        place += 1;
    }
    false
}
