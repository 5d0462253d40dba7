use nepheline::prelude::*;

#[derive(Debug, Table)]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    top_m: f64,
}

#[derive(Debug, Table)]
struct Borehole {
    #[nepheline(key)]
    id: i64,
}

fn deep(s: SpecimenColumns) -> Condition {
    s.top_m.gt(500.0)
}

fn main() {
    let _ = Borehole::rows().filter(deep);
}
