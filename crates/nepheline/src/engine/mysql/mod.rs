//! MariaDB and MySQL through `mysql_async`.

mod cells;
mod connection;
mod fault;
mod session;
mod wire;

use nepheline_core::Dialect;

pub(crate) use cells::RowCells;
pub(crate) use connection::Connector;
pub use session::Session;

/// The two servers, which differ in a few settings and types.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Flavour {
    MariaDb,
    MySql,
}

impl Flavour {
    fn dialect(self) -> Dialect {
        match self {
            Flavour::MariaDb => Dialect::MariaDb,
            Flavour::MySql => Dialect::MySql,
        }
    }
}
