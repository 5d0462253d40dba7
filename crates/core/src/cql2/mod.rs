//! CQL2, the query language of the Open Geospatial Consortium (OGC 21-065r2): its tree, with its text and its JSON.
//!
//! An [`Offer`](crate::Offer) reads filters that arrive, and gives their names a meaning. [`property`] begins a filter that is
//! built in Rust.

// The tree knows no tables.

mod expression;
mod json;
mod lexer;
mod print;
mod text;

pub(crate) use expression::{Arithmetic, Kind, Number, Relation, TemporalOperator};
pub use expression::{Cql2, property};
pub(crate) use json::read as read_json;
pub(crate) use text::read as read_text;

/// The bounds of a filter that arrives.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Bounds {
    /// The most bytes of its text.
    pub(crate) bytes: usize,
    /// The most names and values in it.
    pub(crate) terms: usize,
}

impl Bounds {
    pub(crate) const DEFAULT: Bounds = Bounds { bytes: 65_536, terms: 1_000 };
}
