//! Offers: the meaning of filters, sorts, properties and totals that arrive as text, on each engine and in plain Rust, and how
//! their mistakes read.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

#[path = "../support/mod.rs"]
mod support;

mod forms;
mod generated;
mod lists;
mod meaning;
mod mistakes;
mod plain;

use nepheline::Offer;
use nepheline::prelude::*;
use nepheline_coreshed::{Specimen, offers};

const TODAY: Date = date(2026, 6, 15);

fn offer() -> Offer<Specimen> {
    offers::specimens(TODAY).unwrap()
}
