//! Faults that a service meets at night: networks that stall, servers that restart or are full, files that vanish,
//! large rows.

#![allow(clippy::unwrap_used, clippy::panic, clippy::print_stdout, reason = "tests")]
#![cfg(unix)]

#[path = "../support/mod.rs"]
mod support;

mod chaos;
mod files;
mod full;
mod long;
mod operator;
mod pooler;
mod proxy;
mod stalled;
