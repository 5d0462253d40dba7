//! PostgreSQL through `tokio-postgres`.

mod binds;
mod cells;
mod connection;
mod copy;
mod fault;
mod listen;
mod native;
mod session;
mod settings;
mod statements;
mod wire;

use nepheline_core::Dialect;

pub(crate) use cells::RowCells;
pub(crate) use connection::Connector;
pub use listen::{Notification, Notifications};
pub use session::Session;

const DIALECT: Dialect = Dialect::Postgres;
