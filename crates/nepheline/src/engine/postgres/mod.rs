//! PostgreSQL through `tokio-postgres`.

mod binds;
mod cells;
mod connection;
mod copy;
mod fault;
mod session;
mod settings;
mod statements;
mod wire;

pub(crate) use cells::RowCells;
pub(crate) use connection::Connector;
pub use session::Session;
