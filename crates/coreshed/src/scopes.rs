//! The conditions that the core shed uses often, each with a name.
//!
//! A program keeps such scopes in one module beside its tables. A scope without a parameter is a function
//! from the columns to a condition; one with a parameter returns such a function. A computed column is a
//! function from the columns to an expression, and an order or a page is a function from a query to a query.

use nepheline::prelude::*;

use crate::{Assay, AssayColumns, Rock, Specimen, SpecimenColumns};

/// Specimens without an analyst.
pub fn unassigned(s: SpecimenColumns) -> Condition {
    s.analyst_id.is_null()
}

/// Specimens that begin deeper than this many metres.
pub fn deeper_than(metres: f64) -> impl Scope<SpecimenColumns> {
    move |s: SpecimenColumns| s.top_m.gt(metres)
}

/// Specimens that were not withdrawn.
pub fn not_withdrawn(s: SpecimenColumns) -> Condition {
    s.withdrawn_at.is_null()
}

/// Specimens of one of these rocks.
pub fn of_rocks(rocks: Vec<Rock>) -> impl Scope<SpecimenColumns> {
    move |s: SpecimenColumns| s.rock.one_of(&rocks)
}

/// Specimens whose label has every one of these words in it, in upper or lower case.
pub fn labelled(words: Vec<String>) -> impl Scope<SpecimenColumns> {
    move |s: SpecimenColumns| all_of(words.iter().map(|word| s.label.any_case().contains(word)))
}

/// Specimens that were measured to have at least this much of an element.
pub fn with_at_least(ppm: f64, element: String) -> impl Scope<SpecimenColumns> {
    move |s: SpecimenColumns| {
        let rich = Assay::rows().filter(|a| a.element.eq(&element) & a.ppm.ge(ppm));
        s.id.one_of(rich.select(|a| a.specimen_id))
    }
}

/// The length of a specimen in metres.
pub fn length_m(s: SpecimenColumns) -> Expr<f64> {
    s.base_m - s.top_m
}

/// The deepest specimens first.
pub fn deepest_first<R>(query: Query<Specimen, R>) -> Query<Specimen, R> {
    query.order_by(|s| (s.top_m.desc(), s.label.asc()))
}

/// Assays whose result was due before `today` and has not come.
pub fn overdue(today: Date) -> impl Scope<AssayColumns> {
    move |a: AssayColumns| a.reported_on.is_null() & a.due_on.lt(today)
}

/// Assays whose result is due from `today` on, within so many days.
pub fn due_within(days: i32, today: Date) -> impl Scope<AssayColumns> {
    move |a: AssayColumns| a.due_on.within(today..today + days.days())
}
