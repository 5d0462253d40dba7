use nepheline::prelude::*;

#[derive(Debug, Table)]
#[nepheline(policies(not_withdrawn))]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    withdrawn_at: Option<Timestamp>,
}

// The table has no column `withdrawn_at`, and the policy is one of specimens.
#[derive(Debug, Table)]
#[nepheline(policies(not_withdrawn))]
struct Lab {
    #[nepheline(key)]
    id: i64,
}

#[derive(Debug, Table)]
#[nepheline(retire(withdrawn_at), carried(agency_id = AgencyId))]
struct Site {
    #[nepheline(key)]
    id: i64,
}

#[derive(Debug, Storable)]
struct AgencyId(i64);

fn not_withdrawn(s: SpecimenColumns) -> Condition {
    s.withdrawn_at.is_null()
}

fn main() {}
