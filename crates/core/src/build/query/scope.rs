//! Scopes: named conditions, as plain functions.

use crate::build::expr::{Condition, all_of, any_of};

/// A scope: any function from a table's columns to a condition. It is accepted wherever a condition is.
///
/// There is nothing to implement: a function `fn(SpecimenColumns) -> Condition` is a scope, and so is a
/// closure. A scope with a parameter is a function that returns one.
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
///
/// # Where to keep them
///
/// Keep the scopes of a table, or of a few related ones, in one module, so that a reader finds in one place
/// what the program means by "overdue":
///
/// ```
/// # use nepheline::prelude::*;
/// # #[derive(Debug, Table)] pub struct Specimen { #[nepheline(key)] id: i64, top_m: f64, base_m: f64, analyst_id: Option<i64> }
/// mod specimens {
///     use super::*;
///
///     // A condition with a name.
///     pub fn unassigned(s: SpecimenColumns) -> Condition {
///         s.analyst_id.is_null()
///     }
///
///     // One with a parameter.
///     pub fn deeper_than(metres: f64) -> impl Scope<SpecimenColumns> {
///         move |s: SpecimenColumns| s.top_m.gt(metres)
///     }
///
///     // A computed column, made of others.
///     pub fn length_m(s: SpecimenColumns) -> Expr<f64> {
///         s.base_m - s.top_m
///     }
///
///     // An order, or a page, from query to query.
///     pub fn deepest_first<R>(query: Query<Specimen, R>) -> Query<Specimen, R> {
///         query.order_by(|s| s.top_m.desc())
///     }
/// }
///
/// # fn main() {
/// let query = Specimen::rows()
///     .filter(specimens::unassigned.and(specimens::deeper_than(50.0)))
///     .filter(|s| specimens::length_m(s).gt(0.5))
///     .apply(specimens::deepest_first);
/// # let _ = query;
/// # }
/// ```
///
/// Lists of scopes are combined by [`all_scopes`](crate::all_scopes) and [`any_scope`](crate::any_scope).
pub trait Scope<C: Copy>: Fn(C) -> Condition + Sized {
    /// Combines both scopes with AND.
    fn and(self, other: impl Scope<C>) -> impl Scope<C> {
        move |columns: C| self(columns) & other(columns)
    }

    /// Combines both scopes with OR.
    fn or(self, other: impl Scope<C>) -> impl Scope<C> {
        move |columns: C| self(columns) | other(columns)
    }

    /// Returns the opposite scope. Rows for which the condition is NULL pass neither.
    fn negated(self) -> impl Scope<C> {
        move |columns: C| !self(columns)
    }
}

impl<C: Copy, F: Fn(C) -> Condition> Scope<C> for F {}

/// Combines scopes with AND; an empty list gives TRUE.
///
/// Scopes of different types can stand in one list as `Box<dyn Fn(SpecimenColumns) -> Condition + Send +
/// Sync>`.
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

/// Combines scopes with OR; an empty list gives FALSE.
pub fn any_scope<C: Copy, S: Scope<C>>(scopes: impl IntoIterator<Item = S>) -> impl Scope<C> {
    let scopes: Vec<S> = scopes.into_iter().collect();
    move |columns: C| any_of(scopes.iter().map(|scope| scope(columns)))
}
