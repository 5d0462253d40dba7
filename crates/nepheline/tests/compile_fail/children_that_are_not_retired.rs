use nepheline::prelude::*;

// Assays are deleted, so that they cannot be retired with their specimen.
#[derive(Debug, Table)]
#[nepheline(children(assays: Assay by specimen_id), retire(withdrawn_at, with(assays)))]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    withdrawn_at: Option<Timestamp>,
}

#[derive(Debug, Table)]
struct Assay {
    #[nepheline(key)]
    id: i64,
    specimen_id: i64,
}

// The table has no such children, and a word is missing.
#[derive(Debug, Table)]
#[nepheline(retire(withdrawn_at, with(cores)))]
struct Borehole {
    #[nepheline(key)]
    id: i64,
    withdrawn_at: Option<Timestamp>,
}

#[derive(Debug, Table)]
#[nepheline(retire(withdrawn_at, cores))]
struct Site {
    #[nepheline(key)]
    id: i64,
    withdrawn_at: Option<Timestamp>,
}

fn main() {}
