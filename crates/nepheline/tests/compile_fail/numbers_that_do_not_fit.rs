use nepheline::prelude::*;

#[derive(Debug, Table)]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    top_m: f64,
    price: Decimal,
}

fn main() {
    let (count, narrow, metres) = (3_usize, 4_u32, 1.5_f64);
    let _ = Specimen::rows().filter(|s| s.id.eq(count));
    let _ = Specimen::rows().filter(|s| s.id.gt(narrow));
    let _ = Specimen::rows().filter(|s| s.id.one_of([narrow]));
    let _ = Specimen::rows().filter(|s| s.id.gt(metres));
    let _ = Specimen::rows().filter(|s| s.top_m.lt(7_i64));
    let _ = Specimen::rows().filter(|s| s.price.gt(metres));
    let _ = Specimen::rows().select(|s| s.price * 1.5);
}
