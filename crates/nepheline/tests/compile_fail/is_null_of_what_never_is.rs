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
    let _ = Specimen::rows().filter(|s| s.label.is_null());
}
