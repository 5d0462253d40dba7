use nepheline::prelude::*;

#[derive(Debug, Table)]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    label: String,
    analyst_id: Option<i64>,
}

fn main() {
    let analyst: Option<i64> = Some(3);
    let _ = Specimen::row(7).update(|s| s.analyst_id.set(None));
    let _ = Specimen::row(7).update(|s| s.analyst_id.set(analyst));
    let _ = Specimen::row(7).update(|s| s.label.set(Some("KP-7")));
    let _ = Specimen::row(7).update(|s| {
        s.label.set("KP-7");
    });
}
