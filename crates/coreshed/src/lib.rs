//! The demo world of Nepheline: the core shed of a regional geological survey, where drill cores are kept.
//!
//! An agency has sites, a site boreholes, a borehole a collar and specimens, a specimen assays and hazards. A lab bills
//! agencies by invoices, whose lines have exact prices.
//! All names are made up. The data is a set of CSV files, generated from a fixed seed by `cargo run -p
//! nepheline-coreshed --example generate`. It includes awkward rows: NULLs, empty text, labels with `%`, `_`,
//! quotes and letters beyond ASCII, a site without boreholes, a specimen without length, two analysts of one
//! name.
//!
//! The tour, the examples, the tests and the benches all use it. It is never published.
//!
//! ```
//! use nepheline::prelude::*;
//! use nepheline_coreshed::{Specimen, scopes};
//!
//! let db = nepheline_coreshed::in_memory()?;
//! let deep = Specimen::rows().filter(scopes::deeper_than(700.0));
//! assert!(db.count(&deep)? > 0);
//! # Ok::<(), anyhow::Error>(())
//! ```

pub mod data;
pub mod guarded;
pub mod offers;
pub mod scopes;
mod tables;

pub use data::{drop_tables, in_memory, in_memory_for_async, load};
pub use tables::*;
