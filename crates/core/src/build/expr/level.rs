//! The level of an expression: a value for each row, or for each group of rows.

/// The level of an expression: [`PerRow`] or [`PerGroup`].
pub trait Level: sealed::Sealed + 'static {
    #[doc(hidden)]
    const GROUPED: bool;
}

/// The level of columns, and of expressions over columns.
#[derive(Debug, Clone, Copy)]
pub struct PerRow;

/// The level of aggregates, and of expressions over aggregates.
#[derive(Debug, Clone, Copy)]
pub struct PerGroup;

impl Level for PerRow {
    const GROUPED: bool = false;
}

impl Level for PerGroup {
    const GROUPED: bool = true;
}

/// A level that allows columns.
#[diagnostic::on_unimplemented(
    message = "this column has a value for each row, but one for each group is needed",
    label = "neither a group key nor inside an aggregate",
    note = "a constant, or the value of another query, stands beside groups by `.per_group()`"
)]
pub trait HoldsColumns: Level {}

/// A level that allows aggregates.
#[diagnostic::on_unimplemented(
    message = "this aggregate has a value for each group, but one for each row is needed",
    label = "this is known only after grouping"
)]
pub trait HoldsAggregates: Level {}

/// A level whose expressions are known for each row, before any grouping.
#[diagnostic::on_unimplemented(
    message = "this aggregate has a value for each group, but one for each row is needed",
    label = "this is known only after grouping"
)]
pub trait KnownPerRow: Level {}

/// A level whose expressions are known for each group of rows.
#[diagnostic::on_unimplemented(
    message = "this column has a value for each row, but one for each group is needed",
    label = "neither a group key nor inside an aggregate"
)]
pub trait KnownPerGroup: Level {}

/// The level of a grouped query.
#[diagnostic::on_unimplemented(
    message = "`having` needs a grouped query",
    label = "the query is not grouped",
    note = "use `filter` for rows, or first select groups with `per(..)` and aggregates"
)]
pub trait Grouped: Level {}

impl Grouped for PerGroup {}
impl KnownPerGroup for PerGroup {}
impl KnownPerRow for PerRow {}
impl HoldsColumns for PerRow {}
impl HoldsAggregates for PerGroup {}

mod sealed {
    pub trait Sealed {}
    impl Sealed for super::PerRow {}
    impl Sealed for super::PerGroup {}
}
