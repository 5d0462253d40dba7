use nepheline::prelude::*;

#[derive(Debug, Table)]
#[nepheline(retire(withdrawn_at))]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    #[nepheline(stamp = insert)]
    made_at: i64,
    #[nepheline(stamp = write)]
    written_at: Option<String>,
    #[nepheline(version)]
    version: String,
    withdrawn_at: Timestamp,
    #[nepheline(by_code_point)]
    depth: f64,
}

#[derive(Debug, Table)]
#[nepheline(retire(withdrawn))]
struct Assay {
    #[nepheline(key)]
    id: i64,
    #[nepheline(version)]
    version: Option<i64>,
    withdrawn: bool,
}

fn main() {}
