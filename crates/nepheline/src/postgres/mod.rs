//! PostgreSQL through `tokio-postgres`.

mod binds;
mod cells;
mod connection;
mod copy;
mod fault;
mod session;
mod statements;

pub(crate) use connection::Manager;
pub use session::Session;
