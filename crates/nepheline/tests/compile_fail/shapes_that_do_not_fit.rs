use nepheline::prelude::*;

#[derive(Debug, Table)]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    rock: String,
    top_m: f64,
}

#[derive(Debug, RowShape)]
struct PerRock {
    rock: String,
    specimens: i64,
}

#[derive(Debug, RowShape)]
#[nepheline(shaped_from(Specimen))]
struct Wrong {
    id: String,
}

#[derive(Debug, RowShape)]
#[nepheline(shaped_from(Specimen))]
struct Misspelt {
    lable: String,
}

struct Plain {
    rock: String,
}

fn main() {
    let _ = Specimen::rows().select(|s| shape!(PerRock { rok: per(s.rock), specimens: count() }));
    let _ = Specimen::rows().select(|s| shape!(PerRock { rock: per(s.rock) }));
    let _ = Specimen::rows().select(|s| shape!(PerRock { rock: per(s.top_m), specimens: count() }));
    let _ = Specimen::rows().select(|s| shape!(PerRock { rock: s.rock, specimens: count() }));
    let _ = Specimen::rows()
        .select(|s| shape!(PerRock { rock: per(s.rock), specimens: count(), rock: per(s.rock) }));
    let _ = Specimen::rows().select(|s| shape!(Plain { rock: s.rock }));
    let _ = Specimen::rows().select(|s| shape!(Misspelt { lable: 5 }));
    let _ = Specimen::rows().shaped_as::<PerRock>();
}
