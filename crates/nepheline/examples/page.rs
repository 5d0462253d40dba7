//! A page made of parents and their children, and a test's way to know what it costs.
//!
//! `cargo run -p nepheline --example page`
#![allow(clippy::print_stdout, reason = "an example")]

use std::sync::Arc;

use nepheline::StatementLog;
use nepheline::blocking::Database;
use nepheline::prelude::*;
use nepheline_coreshed::{Analyst, Assay, Borehole, Site, Specimen};

/// The page of a site: a struct of the program, filled from the queries.
struct Page {
    site: Site,
    boreholes: Vec<Card>,
}

#[derive(Clone)]
struct Card {
    borehole: Borehole,
    newest: Vec<Entry>,
}

#[derive(Clone)]
struct Entry {
    specimen: Specimen,
    assays: Vec<Assay>,
    analyst: Option<Arc<Analyst>>,
}

fn page(db: &Database, site: i64) -> Result<Page, Error> {
    let query = Site::row(site)
        .alongside(|s| {
            s.boreholes()
                .order_by(|b| b.name.asc())
                .alongside(|b| {
                    b.specimens()
                        .order_by(|s| (s.taken_on.desc(), s.id.asc()))
                        .limit(3) // of each borehole
                        .alongside(|s| s.assays().order_by(|a| a.ppm.desc()).limit(2))
                        .alongside(|s| s.analyst())
                        .map_rows(|(specimen, assays, analyst)| Entry { specimen, assays, analyst })
                })
                .map_rows(|(borehole, newest)| Card { borehole, newest })
        })
        .map_rows(|(site, boreholes)| Page { site, boreholes });
    db.read_one(&query)
}

fn main() -> anyhow::Result<()> {
    let record = StatementLog::new();
    let db = nepheline_coreshed::in_memory()?.logging_to(&record);

    let page = page(&db, 1)?;
    println!("{}, {}", page.site.name, page.site.region);
    for Card { borehole, newest } in &page.boreholes {
        println!("  {}, {} m deep", borehole.name, borehole.depth_m);
        for Entry { specimen, assays, analyst } in newest {
            let by = analyst.as_ref().map_or("nobody", |analyst| &analyst.name);
            let most = assays
                .iter()
                .map(|a| format!("{} {} ppm", a.element, a.ppm));
            let most = most.collect::<Vec<_>>().join(", ");
            println!("    {} {} by {by}: {most}", specimen.taken_on, specimen.label);
        }
    }

    // However many boreholes and specimens there are, the page costs one statement a table.
    anyhow::ensure!(record.len() == 5, "this page costs {} statements", record.len());
    println!("\nwhat ran:");
    for ran in record.all() {
        let sql: String = ran.sql().chars().take(60).collect();
        println!("  {} rows, asked for at {}: {sql}..", ran.rows(), ran.origin());
    }
    Ok(())
}
