//! A program that looks at its database when it starts: it verifies its tables and queries, and goes no further if they differ.
//!
//! `cargo run -p nepheline-live --example verify`

#![allow(clippy::print_stdout, reason = "an example prints")]

use nepheline::blocking::RunsQueries;
use nepheline::prelude::*;
use nepheline::{script, statement};
use nepheline_coreshed::{Assay, Site, Specimen};
use nepheline_live::Expected;
use nepheline_live::blocking::LiveDatabase;

#[derive(Debug, RowShape)]
struct Label {
    label: String,
    rock: String,
}

/// Returns what the program needs of its database.
fn expected() -> Expected {
    let overdue = Assay::rows().filter(|a| a.reported_on.is_null());
    let labels = statement!("SELECT label, rock FROM specimen ORDER BY label");
    Expected::new()
        .table::<Site>()
        .table::<Specimen>()
        .table::<Assay>()
        .query("overdue assays", overdue)
        .query("labels", labels.rows_as::<Label>())
        .telling_scans_over(1_000)
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let db = nepheline_coreshed::in_memory()?;
    println!("At first: {}\n", db.verify(&expected())?);

    // Somebody changes the database beside the program.
    db.run_script(&script!(
        "ALTER TABLE specimen RENAME COLUMN label TO tag; CREATE INDEX unreported ON assay (reported_on)"
    ))?;
    let found = db.verify(&expected())?;
    println!("Then: {found}\n");

    let described = db.describe(&Assay::rows().select(|a| (a.element, a.ppm * 2.0)))?;
    for column in described.columns {
        println!("{}: {}", column.name, column.database_type.as_deref().unwrap_or("unknown"));
    }
    Ok(())
}
