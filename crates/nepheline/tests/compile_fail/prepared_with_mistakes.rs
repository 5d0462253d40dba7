use nepheline::prelude::*;

#[derive(Debug, Table)]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    label: String,
    top_m: f64,
}

#[derive(Debug, BindParameters)]
struct Wanted {
    label: String,
    ids: Vec<i64>,
    rows: i64,
}

#[derive(Debug, BindParameters)]
struct Pair(i64, i64);

fn main() {
    // A parameter of another type than its column.
    let _ = Wanted::prepare(|p| Specimen::rows().filter(|s| s.top_m.gt(p.label)));
    // A list is no value, and a value no list.
    let _ = Wanted::prepare(|p| Specimen::rows().filter(|s| s.id.eq(p.ids)));
    let _ = Wanted::prepare(|p| Specimen::rows().filter(|s| s.id.one_of(p.rows)));
    // A limit is never negative.
    let _ = Wanted::prepare(|p| Specimen::rows().limit(p.rows));
    // A value of another type than the parameter.
    let by_id = <(i64,)>::prepare(|(id,)| Specimen::row(id));
    let _ = by_id.bind(("seven",));
}
