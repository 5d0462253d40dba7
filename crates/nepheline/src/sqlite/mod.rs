//! SQLite through `rusqlite`.

mod cells;
pub(crate) mod direct;
mod threaded;

pub(crate) use threaded::{Connection, Manager};
