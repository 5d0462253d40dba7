use nepheline::prelude::*;

#[derive(Debug, Table)]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    top_m: f64,
}

fn deepest(s: SpecimenColumns) -> Expr<f64, nepheline::PerGroup> {
    verbatim!("max({})", s.top_m).typed_per_group()
}

fn main() {
    let _ = Specimen::rows().filter(|s| deepest(s).gt(100));
    let _ = Specimen::rows().filter(|s| s.top_m.gt(deepest(s)));
    let _ = Specimen::rows().order_by(|s| deepest(s).asc());
    let _ = Specimen::rows().select(|s| (s.id, deepest(s)));
    let _ = Specimen::rows().select(|s| deepest(s) - s.top_m);
}
