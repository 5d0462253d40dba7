//! Faults outside of the program: each is a clear error, nothing is half done, and the handle recovers.

#![allow(clippy::unwrap_used, clippy::panic, clippy::print_stdout, reason = "tests")]

#[path = "../support/mod.rs"]
mod support;

mod dropped;
#[cfg(unix)]
mod own_server;
mod programs;
mod told;
