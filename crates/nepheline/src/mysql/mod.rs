//! MariaDB and MySQL through `mysql_async`.

mod cells;
mod connection;
mod session;

pub(crate) use connection::Manager;
pub use session::Session;
