//! Inserts, updates and deletes on every engine: what they store, what they refuse, and that several
//! statements are one.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod changes;
mod inserts;
mod refusals;
mod retiring;
mod several;
#[path = "../support/mod.rs"]
mod support;
mod tables;
mod upserts;
