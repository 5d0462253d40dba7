//! Questions across tables: parents followed, children asked, rows side by side, a row in hand.
//!
//! `cargo run -p nepheline --example relations`
#![allow(clippy::print_stdout, reason = "an example")]

use nepheline::prelude::*;
use nepheline_coreshed::scopes::unassigned;
use nepheline_coreshed::{Agency, Borehole, BoreholeColumns, Site, Specimen};

/// A scope of the boreholes goes wherever boreholes stand, here inside a question to a site.
fn deep(b: BoreholeColumns) -> Condition {
    b.depth_m.gt(600)
}

fn main() -> anyhow::Result<()> {
    let db = nepheline_coreshed::in_memory()?;

    // A parent is followed by its name. The joins appear where they are used.
    let of_agency = Specimen::rows()
        .filter(|s| s.borehole().site().agency().name.starts_with("Upper"))
        .order_by(|s| (s.borehole().name.asc(), s.top_m.asc()))
        .limit(3);
    println!("{}\n", of_agency.sql(Dialect::Sqlite)?.with_origins());
    for specimen in db.read(&of_agency)? {
        println!("{} from {} m", specimen.label, specimen.top_m);
    }

    // Children are asked, never joined: no site is there twice.
    let busy = Site::rows()
        .filter(|s| s.boreholes().filter(deep).count().ge(2))
        .filter(|s| s.boreholes().flat_map(|b| b.specimens()).any(unassigned))
        .select(|s| (s.name, s.boreholes().count(), s.boreholes().max(|b| b.depth_m)));
    println!("\n{}\n", busy.sql(Dialect::Postgres)?.by_clause());
    for (name, boreholes, deepest) in db.read(&busy)? {
        println!("{name}: {boreholes} boreholes, the deepest {deepest:?} m");
    }

    // Rows side by side, read as a tuple; where there may be none, an Option.
    let described = Borehole::rows()
        .join(|b| b.specimens().filter(|s| s.top_m.gt(b.depth_m * 0.97)))
        .join(|(_, s)| s.analyst())
        .order_by(|(b, s, _)| (b.name.asc(), s.id.asc()));
    println!();
    for (borehole, specimen, analyst) in db.read(&described)? {
        let by = analyst.map_or_else(|| "nobody".to_owned(), |analyst| analyst.name);
        println!("{} ends with {}, described by {by}", borehole.name, specimen.label);
    }

    // From a row in hand.
    let agency = db.read_one(&Agency::row(1))?;
    let open = agency.sites().filter(|s| s.closed_on.is_null());
    println!("\n{} has {} open sites", agency.name, db.count(&open)?);
    Ok(())
}
