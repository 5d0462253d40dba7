//! Scopes: conditions with a name, as plain functions.

use crate::expr::Condition;

/// Any function from a table's columns to a condition. It goes wherever a condition goes.
///
/// There is nothing to implement: a function `fn(SpecimenColumns) -> Condition` is a scope, and so
/// is a closure. A scope with a parameter is a function that returns one.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, top_m: f64, analyst_id: Option<i64> }
/// fn unassigned(s: SpecimenColumns) -> Condition {
///     s.analyst_id.is_null()
/// }
///
/// fn deeper_than(metres: f64) -> impl Scope<SpecimenColumns> {
///     move |s: SpecimenColumns| s.top_m.gt(metres)
/// }
///
/// let shallow_or_unassigned = deeper_than(50.0).negated().or(unassigned);
/// let query = Specimen::rows().filter(shallow_or_unassigned);
/// assert!(query.sql(Dialect::Sqlite)?.text().ends_with(
///     r#"WHERE NOT ("specimen"."top_m" > ?) OR "specimen"."analyst_id" IS NULL"#
/// ));
/// # Ok::<(), Error>(())
/// ```
pub trait Scope<C: Copy>: Fn(C) -> Condition + Sized {
    /// Both this scope and `other`.
    fn and(self, other: impl Scope<C>) -> impl Scope<C> {
        move |columns: C| self(columns) & other(columns)
    }

    /// This scope, or `other`, or both.
    fn or(self, other: impl Scope<C>) -> impl Scope<C> {
        move |columns: C| self(columns) | other(columns)
    }

    /// Not this scope. Rows for which its condition is NULL are in neither.
    fn negated(self) -> impl Scope<C> {
        move |columns: C| !self(columns)
    }
}

impl<C: Copy, F: Fn(C) -> Condition> Scope<C> for F {}
