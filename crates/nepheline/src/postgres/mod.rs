//! PostgreSQL through `tokio-postgres`.

mod binds;
mod cells;
mod connection;
mod session;

pub(crate) use connection::Manager;
pub use session::Session;
