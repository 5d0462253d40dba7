use nepheline::per_parent;
use nepheline::prelude::*;

#[derive(Debug, Table)]
struct Borehole {
    #[nepheline(key)]
    id: i64,
    depth_m: f64,
}

#[derive(Debug, Table)]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    #[nepheline(references = Borehole)]
    borehole_id: i64,
    boxes: i64,
    price: Decimal,
    checked_on: Option<Date>,
}

#[derive(Debug, RowShape)]
struct PerBorehole {
    borehole_id: i64,
    specimens: i64,
}

fn main() {
    let rows = Specimen::rows;
    // A decimal on the right of an integer column.
    let _ = rows().select(|s| s.boxes * s.price);
    // A value that may be NULL, and NULL, for fields that may not.
    let _ = rows().select(|s| shape!(PerBorehole { borehole_id: per(s.borehole_id), specimens: sum(s.boxes) }));
    let _ = rows().select(|s| shape!(PerBorehole { borehole_id: per(s.borehole_id), specimens: None }));
    // An aggregate of aggregates without a window, and over rows.
    let _ = rows().select(|s| (per(s.borehole_id), sum(sum(s.boxes))));
    let _ = rows().select(|s| (per(s.borehole_id), sum(sum(s.boxes)).over(|w| w)));
    // A window over groups whose order is of rows.
    let _ = rows().select(|s| rank().over_groups(|w| w.order_by(s.boxes.asc())));
    // The value of another query beside groups.
    let mean = rows().select(|s| avg(s.boxes)).value();
    let _ = rows().select(|s| (per(s.borehole_id), count())).having(|s| avg(s.boxes).gt(mean));
    // A column is no parent.
    let _ = rows().select(|s| (per_parent(s.borehole_id), count()));
}
