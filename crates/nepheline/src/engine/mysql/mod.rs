//! MariaDB and MySQL through `mysql_async`.

mod cells;
mod connection;
mod fault;
mod session;
mod wire;

pub(crate) use cells::RowCells;
pub(crate) use connection::Connector;
pub use session::Session;
