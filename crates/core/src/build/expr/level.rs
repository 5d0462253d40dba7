//! The level of an expression: whether it has a value for each row, or for each group of rows.

/// The level of an expression: [`PerRow`] or [`PerGroup`].
pub trait Level: sealed::Sealed + 'static {
    #[doc(hidden)]
    const GROUPED: bool;
}

/// The expression has a value for each row: a column, and what is computed from columns.
#[derive(Debug, Clone, Copy)]
pub struct PerRow;

/// The expression has a value for each group of rows: an aggregate, and what is computed from aggregates.
#[derive(Debug, Clone, Copy)]
pub struct PerGroup;

impl Level for PerRow {
    const GROUPED: bool = false;
}

impl Level for PerGroup {
    const GROUPED: bool = true;
}

/// A level at which columns may stand.
#[diagnostic::on_unimplemented(
    message = "a column stands where one value for each group is needed",
    label = "neither a group key nor inside an aggregate"
)]
pub trait HoldsColumns: Level {}

/// A level at which aggregates may stand.
#[diagnostic::on_unimplemented(
    message = "an aggregate stands where one value for each row is needed",
    label = "this is known only after grouping"
)]
pub trait HoldsAggregates: Level {}

/// A level whose expressions are known for each row, before any grouping.
#[diagnostic::on_unimplemented(
    message = "an aggregate stands where one value for each row is needed",
    label = "this is known only after grouping"
)]
pub trait KnownPerRow: Level {}

/// A level whose expressions are known for each group of rows.
#[diagnostic::on_unimplemented(
    message = "a column stands where one value for each group is needed",
    label = "neither a group key nor inside an aggregate"
)]
pub trait KnownPerGroup: Level {}

impl KnownPerGroup for PerGroup {}
impl KnownPerRow for PerRow {}
impl HoldsColumns for PerRow {}
impl HoldsAggregates for PerGroup {}

mod sealed {
    pub trait Sealed {}
    impl Sealed for super::PerRow {}
    impl Sealed for super::PerGroup {}
}
