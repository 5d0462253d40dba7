//! The conditions that the core shed asks again and again, each with a name.

use nepheline::prelude::*;

use crate::{AssayColumns, SpecimenColumns};

/// Specimens that nobody describes yet.
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

/// Assays whose result was due before `today` and has not come.
pub fn overdue(today: Date) -> impl Scope<AssayColumns> {
    move |a: AssayColumns| a.reported_on.is_null() & a.due_on.lt(today)
}
