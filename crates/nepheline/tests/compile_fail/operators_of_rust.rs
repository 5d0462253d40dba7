use nepheline::prelude::*;

#[derive(Debug, Table)]
struct Analyst {
    #[nepheline(key)]
    id: i64,
    name: String,
}

#[derive(Debug, Table)]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    top_m: f64,
    #[nepheline(references = Analyst)]
    analyst_id: Option<i64>,
}

fn main() {
    let _ = Specimen::rows().filter(|s| s.id.gt(1) && s.top_m.lt(9.5));
    let _ = Specimen::rows().filter(|s| s.top_m > 9.5);
    let _ = Specimen::rows().filter(|s| s.top_m == 9.5);
    let _ = Specimen::rows().filter(|s| s.analyst().name.eq("Robin Hale"));
    let _ = Specimen::rows().select(|s| s.top_m + s.id);
    let _: Vec<Box<dyn Scope<SpecimenColumns>>> = Vec::new();
}
