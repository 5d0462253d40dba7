//! The number of allocations for building and compiling a query. The count is exact, so it can be a test.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

use nepheline::prelude::*;
use nepheline_coreshed::scopes::{deeper_than, unassigned};
use nepheline_coreshed::{Rock, Specimen};

#[test]
fn a_query_with_relations_takes_few_allocations() {
    let region = Some("Upper Tarn");
    let build_and_compile = || {
        let query = Specimen::rows()
            .filter(unassigned)
            .filter(deeper_than(50.0))
            .filter(|s| region.map(|region| s.borehole().site().region.eq(region)))
            .filter(|s| {
                s.assays()
                    .filter(|a| a.element.eq("Nd") & a.ppm.ge(400.0))
                    .exists()
            })
            .order_by(|s| (s.borehole().name.asc(), s.top_m.asc()))
            .limit(20);
        let _sql = query.sql(Dialect::Postgres).unwrap();
    };
    build_and_compile();
    let allocations = allocation_counter::measure(build_and_compile).count_total;
    assert!(allocations <= 25, "{allocations} allocations");
}

#[test]
fn a_query_of_five_clauses_takes_few_allocations() {
    let build_and_compile = || {
        let query = Specimen::rows()
            .filter(unassigned)
            .filter(|s| s.rock.eq(Rock::Basalt))
            .filter(|s| s.label.gt("KP") & s.top_m.gt(50.0))
            .order_by(|s| (s.top_m.asc(), s.label.asc()))
            .limit(20);
        let _sql = query.sql(Dialect::Postgres).unwrap();
    };
    build_and_compile();
    let allocations = allocation_counter::measure(build_and_compile).count_total;
    assert!(allocations <= 25, "{allocations} allocations");
}
