use nepheline::prelude::*;

// All pointers to such functions have one type, so that to waive one would be to waive the other.
const OWN: fn(SpecimenColumns) -> Condition = own;
const OPEN: fn(SpecimenColumns) -> Condition = open;

#[derive(Debug, Table)]
#[nepheline(policies(OWN, OPEN, not_withdrawn))]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    agency_id: i64,
    withdrawn_at: Option<Timestamp>,
}

fn own(s: SpecimenColumns) -> Condition {
    s.agency_id.eq(1)
}

fn open(s: SpecimenColumns) -> Condition {
    s.agency_id.ne(2)
}

fn not_withdrawn(s: SpecimenColumns) -> Condition {
    s.withdrawn_at.is_null()
}

fn main() {}
