use nepheline::prelude::*;

#[derive(Debug, Table)]
struct Specimen {
    #[nepheline(key, generated)]
    id: i64,
    label: String,
    analyst_id: Option<i64>,
}

fn main() {
    let _ = Specimen::row(1).update(|s| s.label.set(7));
    let _ = Specimen::row(1).update(|s| s.label.set(s.analyst_id));
    let _ = Specimen::row(1).update(|s| s.id.set(s.analyst_id));
    let _ = Specimen::row(1).update(|s| s.label.eq("no assignment"));
    let _ = Specimen::insert(SpecimenToInsert { label: "x".into() });
    let _ = Specimen::rows().select(|s| s.label).delete();
}
