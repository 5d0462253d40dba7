//! Scopes: conditions with a name, as plain functions.

use crate::expr::{Condition, all_of, any_of};

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

/// One scope that holds where every one of `scopes` does; of an empty list, everywhere.
///
/// Scopes of different types go into one list as `Box<dyn Fn(SpecimenColumns) -> Condition + Send + Sync>`.
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::{all_scopes, any_scope};
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, top_m: f64, analyst_id: Option<i64> }
/// type SpecimenScope = Box<dyn Fn(SpecimenColumns) -> Condition + Send + Sync>;
///
/// let mut wanted: Vec<SpecimenScope> = vec![Box::new(|s| s.analyst_id.is_null())];
/// for metres in [10.0, 50.0] {
///     wanted.push(Box::new(move |s| s.top_m.gt(metres)));
/// }
/// let query = Specimen::rows().filter(all_scopes(wanted));
/// assert!(query.sql(Dialect::Sqlite)?.text().ends_with(
///     r#"WHERE "specimen"."analyst_id" IS NULL AND "specimen"."top_m" > ? AND "specimen"."top_m" > ?"#
/// ));
/// # Ok::<(), Error>(())
/// ```
pub fn all_scopes<C: Copy, S: Scope<C>>(scopes: impl IntoIterator<Item = S>) -> impl Scope<C> {
    let scopes: Vec<S> = scopes.into_iter().collect();
    move |columns: C| all_of(scopes.iter().map(|scope| scope(columns)))
}

/// One scope that holds where at least one of `scopes` does; of an empty list, nowhere.
pub fn any_scope<C: Copy, S: Scope<C>>(scopes: impl IntoIterator<Item = S>) -> impl Scope<C> {
    let scopes: Vec<S> = scopes.into_iter().collect();
    move |columns: C| any_of(scopes.iter().map(|scope| scope(columns)))
}
