//! SQLite through `rusqlite`.

mod cells;
mod decimals;
pub(crate) mod direct;
mod file;
mod functions;
mod session;
mod statistics;
mod threaded;

use nepheline_core::Dialect;

pub(crate) use cells::RowCells;
pub use session::Session;
pub(crate) use threaded::Connector;

pub(crate) const DIALECT: Dialect = Dialect::Sqlite;
