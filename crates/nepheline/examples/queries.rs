//! Building queries: scopes, filters that come and go, order and limit, and the SQL of it all.
//!
//! `cargo run -p nepheline --example queries`
#![allow(clippy::print_stdout, reason = "an example")]

use nepheline::prelude::*;
use nepheline_coreshed::scopes::{deeper_than, unassigned};
use nepheline_coreshed::{Rock, Specimen, SpecimenColumns};

/// The parameters of a request; all are optional.
#[derive(Default)]
struct Request {
    rock: Option<Rock>,
    below_m: Option<f64>,
    labels: Vec<String>,
    only_unassigned: bool,
}

fn find(request: &Request) -> Query<Specimen> {
    let mut query = Specimen::rows()
        .filter(|s| request.rock.map(|rock| s.rock.eq(rock)))
        .filter(|s| request.below_m.map(|metres| s.top_m.gt(metres)));
    if request.only_unassigned {
        query = query.filter(unassigned);
    }
    for part in &request.labels {
        query = query.filter(|s| s.label.contains(part));
    }
    query
        .order_by(|s| (s.top_m.desc(), s.label.asc()))
        .limit(20)
}

fn main() -> Result<(), Error> {
    println!(
        "Nothing asked for:\n{}\n",
        find(&Request::default()).sql(Dialect::Sqlite)?.by_clause()
    );

    let request = Request {
        rock: Some(Rock::Pegmatite),
        below_m: Some(300.0),
        labels: vec!["KP".to_owned()],
        only_unassigned: true,
    };
    println!("All of it:\n{}\n", find(&request).sql(Dialect::Postgres)?.with_origins());

    // Scopes join like conditions, and are kept in variables like any function.
    let shallow_or_unassigned = deeper_than(50.0).negated().or(unassigned);
    let not_split = |s: SpecimenColumns| s.parent_id.is_null();
    let query = Specimen::rows().filter(shallow_or_unassigned.and(not_split));
    println!("Scopes:\n{}", query.sql(Dialect::MariaDb)?.by_clause());
    Ok(())
}
