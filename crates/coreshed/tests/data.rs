//! The shipped data: it is what the generator makes, it loads fast, and all of it can be read.

#![allow(clippy::unwrap_used, reason = "tests")]

#[path = "../examples/generate.rs"]
mod generate;

use std::time::{Duration, Instant};

use nepheline::prelude::*;
use nepheline_coreshed::data::TABLES;
use nepheline_coreshed::{
    Agency, Analyst, Assay, Borehole, Collar, Hazard, Invoice, InvoiceLine, Lab, Site, Specimen,
    SpecimenHazard,
};

#[test]
fn the_files_are_what_the_generator_makes() {
    let files = generate::files();
    assert_eq!(files.len(), TABLES.len());
    for (table, shipped) in TABLES {
        assert!(files[table.name()] == shipped, "`{}` is not as generated", table.name());
    }
}

#[test]
fn every_table_is_read_back_whole() {
    let started = Instant::now();
    let db = nepheline_coreshed::in_memory().unwrap();
    assert!(started.elapsed() < Duration::from_secs(5), "loading is slow, even for a debug build");
    let counts = [
        db.read(&Agency::rows()).unwrap().len(),
        db.read(&Site::rows()).unwrap().len(),
        db.read(&Borehole::rows()).unwrap().len(),
        db.read(&Collar::rows()).unwrap().len(),
        db.read(&Analyst::rows()).unwrap().len(),
        db.read(&Specimen::rows()).unwrap().len(),
        db.read(&Lab::rows()).unwrap().len(),
        db.read(&Assay::rows()).unwrap().len(),
        db.read(&Hazard::rows()).unwrap().len(),
        db.read(&Invoice::rows()).unwrap().len(),
    ];
    assert_eq!(counts, [3, 10, 40, 40, 8, 600, 5, 3_000, 4, 150]);
    assert!(db.exists(&InvoiceLine::rows()).unwrap());
    assert!(db.exists(&SpecimenHazard::rows()).unwrap());
}
