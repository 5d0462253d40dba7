//! SQLite through `rusqlite`.

mod cells;
pub(crate) mod direct;
mod functions;
mod threaded;

pub(crate) use threaded::{Connection, Manager};
