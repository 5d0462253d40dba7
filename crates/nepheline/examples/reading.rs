//! Reading: each verb over the demo data, and what comes back when something is not there.
//!
//! `cargo run -p nepheline --example reading`
#![allow(clippy::print_stdout, reason = "an example")]

use nepheline::blocking::RunsQueries;
use nepheline::prelude::*;
use nepheline_coreshed::{Analyst, Lab, Specimen};

fn main() -> anyhow::Result<()> {
    let db = nepheline_coreshed::in_memory()?;

    let labs: Vec<Lab> = db.read(&Lab::rows().order_by(|l| l.name.asc()))?;
    println!("{} labs, the first is {}", labs.len(), labs[0].name);

    let deepest = db.read_first(&Specimen::rows().order_by(|s| s.base_m.desc()))?;
    println!("the deepest specimen: {deepest:?}");

    let specimen = db.read_one(&Specimen::row_by_label("100%"))?;
    println!("its label is unique: {} is specimen {}", specimen.label, specimen.id);

    println!("an accredited lab in Westerlo: {:?}", accredited_in(&db, "Westerlo")?);
    println!(
        "withdrawn: {}",
        db.count(&Specimen::rows().filter(|s| s.withdrawn_at.is_not_null()))?
    );
    println!(
        "any without length: {}",
        db.exists(&Specimen::rows().filter(|s| s.top_m.eq(s.base_m)))?
    );

    // A missing row, or a second one, is an error that says so.
    for outcome in [
        db.read_one(&Analyst::row(99)),
        db.read_one(&Analyst::rows().filter(|a| a.name.eq("Robin Hale"))),
    ] {
        if let Err(err) = outcome {
            println!("{:?}: {err}", err.kind());
        }
    }
    Ok(())
}

/// Takes any handle, so it can be called with whatever the program has at hand.
fn accredited_in(db: &impl RunsQueries, country: &str) -> Result<Option<String>, Error> {
    let query = Lab::rows()
        .filter(|l| l.accredited)
        .filter(|l| l.country.eq(country));
    Ok(db.read_at_most_one(&query)?.map(|lab| lab.name))
}
