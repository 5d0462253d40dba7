//! Reading a filter that arrives as text, against building the same query in Rust.

use nepheline::prelude::*;
use nepheline_coreshed::{Rock, Specimen, offers};

use crate::twins;

/// Ten terms.
const TEXT: &str = "depth > 100 AND depth <= 700 AND rock IN ('basalt', 'gneiss') AND region LIKE 'Upper%' AND \
     taken >= DATE('2019-01-01') AND withdrawn IS NULL AND label <> 'KP-041' AND results >= 2 AND \
     assays.element = 'Nd' AND assays.ppm > 400";

fn in_rust() -> Query<Specimen> {
    Specimen::rows().filter(|s| {
        s.top_m.gt(100)
            & s.top_m.le(700)
            & s.rock.one_of([Rock::Basalt, Rock::Gneiss])
            & s.borehole().site().region.like("Upper%")
            & s.taken_on.ge(date(2019, 1, 1))
            & s.withdrawn_at.is_null()
            & s.label.ne("KP-041")
            & s.assays().count().ge(2)
            & s.assays().any(|a| a.element.eq("Nd") & a.ppm.gt(400))
    })
}

pub(crate) fn measure() {
    let offer = offers::specimens(date(2026, 6, 15)).unwrap();
    let filter = offer.cql2_text(TEXT).unwrap();
    let filtered = Specimen::rows().filter(filter.scope());
    let text = |query: &Query<Specimen>| query.sql(Dialect::Postgres).unwrap().text().to_owned();
    assert_eq!(text(&filtered), text(&in_rust()));

    twins("parse and type ten terms of CQL2", 100, || offer.cql2_text(TEXT).unwrap(), in_rust);
    let by_scope = || Specimen::rows().filter(filter.scope());
    twins("build the query of such a filter", 100, by_scope, in_rust);
}
