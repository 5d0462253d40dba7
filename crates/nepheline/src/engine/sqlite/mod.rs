//! SQLite through `rusqlite`.

mod cells;
pub(crate) mod direct;
mod file;
mod functions;
mod session;
mod threaded;

pub(crate) use cells::RowCells;
pub use session::Session;
pub(crate) use threaded::Connector;
