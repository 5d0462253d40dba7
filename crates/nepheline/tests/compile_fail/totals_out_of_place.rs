use nepheline::prelude::*;

#[derive(Debug, Table)]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    rock: String,
    top_m: f64,
}

fn main() {
    let _ = Specimen::rows().select(|s| (s.rock, count()));
    let _ = Specimen::rows().select(|s| sum(s.top_m) - s.top_m);
    let _ = Specimen::rows().filter(|_| count().gt(3));
    let _ = Specimen::rows().select(|s| sum(sum(s.top_m)));
    let _ = Specimen::rows().select(|s| (per(s.rock), count())).having(|s| s.top_m.gt(3));
    let _ = Specimen::rows().select(|s| (per(s.rock), count())).order_by(|s| s.top_m.asc());
    let _ = Specimen::rows().order_by(|_| count().asc());
}
