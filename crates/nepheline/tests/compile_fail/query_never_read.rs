#![deny(unused_must_use)]

use nepheline::prelude::*;

#[derive(Debug, Table)]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    label: String,
    top_m: f64,
    analyst_id: Option<i64>,
}

fn main() {
    Specimen::rows().filter(|s| s.top_m.gt(50.0));
}
