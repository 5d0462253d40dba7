use nepheline::prelude::*;

#[derive(Debug, Clone, Copy, Storable)]
struct Metres(f64);

#[derive(Debug, Table)]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    label: String,
    top: Metres,
    price: Decimal,
    analyst_id: Option<i64>,
}

fn main() {
    let _ = Specimen::rows().filter(|s| s.id.contains("4"));
    let _ = Specimen::rows().filter(|s| (s.id + "1").gt(0));
    let _ = Specimen::rows().filter(|s| s.id.between(1, "9"));
    let _ = Specimen::rows().filter(|s| s.id.within("a".."b"));
    let _ = Specimen::rows().select(|s| s.id.coalesce(0));
    let _ = Specimen::rows().select(|s| s.top + s.top);
    let _ = Specimen::rows().select(|s| s.price / 2);
    let _ = Specimen::rows().select(|s| s.label.year());
    let _ = Specimen::rows().select(|s| case().when(s.id.gt(1), "many").otherwise(1));
    let _ = Specimen::rows().filter(|s| s.id.one_of(Specimen::rows().select(|t| t.label)));
    let _ = Specimen::rows().filter(|s| s.id.one_of(Specimen::rows()));
    let _ = Specimen::rows().filter(|s| s.label.any_case().eq(s.analyst_id));
    let _ = Specimen::rows().filter(|s| s.label.is_true());
}
