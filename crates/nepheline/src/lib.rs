//! Typed, composable SQL queries that you can read before they run.
//!
//! You write small typed pieces (scopes, filters that come and go, orders) and compose them freely.
//! You can always see the exact SQL, and which line of your code asked for each part of it. What
//! comes back are typed rows, checked when they arrive.
//!
//! ```
//! use nepheline::blocking::Database;
//! use nepheline::prelude::*;
//!
//! #[derive(Debug, Clone, Table)]
//! struct Specimen {
//!     #[nepheline(key, generated)]
//!     id: i64,
//!     label: String,
//!     top_m: f64,
//!     analyst_id: Option<i64>,
//! }
//!
//! // A scope is a plain function; it goes wherever a condition goes.
//! fn unassigned(s: SpecimenColumns) -> Condition {
//!     s.analyst_id.is_null()
//! }
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! # let connection = rusqlite::Connection::open_in_memory()?;
//! # connection.execute_batch(
//! #     "CREATE TABLE specimen (id INTEGER PRIMARY KEY, label TEXT NOT NULL, top_m REAL NOT NULL, analyst_id INTEGER);
//! #      INSERT INTO specimen VALUES (1, 'KP-001', 61.5, NULL), (2, 'KP-002', 12.0, 4);",
//! # )?;
//! # let rock_depth: Option<f64> = Some(50.0);
//! // An absent value is no condition at all.
//! let query = Specimen::rows()
//!     .filter(unassigned)
//!     .filter(|s| rock_depth.map(|metres| s.top_m.gt(metres)))
//!     .order_by(|s| s.top_m.desc());
//!
//! println!("{}", query.sql(Dialect::Sqlite)?.with_origins());
//!
//! # let _ = || -> Result<(), Error> {
//! let db = Database::open("sqlite:core.db")?;
//! # Ok(()) };
//! # let db = Database::over(connection)?;
//! let specimens: Vec<Specimen> = db.read(&query)?;
//! assert_eq!(specimens[0].label, "KP-001");
//! # Ok(())
//! # }
//! ```
//!
//! # Where to start
//!
//! - [`Table`](derive@Table) makes a struct a table, and [`Storable`](derive@Storable) an enum or a
//!   newtype the type of a column.
//! - [`Query`] is what you compose: [`filter`](Query::filter), [`order_by`](Query::order_by),
//!   [`limit`](Query::limit), [`select`](Query::select). [`Expression`] has what can be asked of any
//!   column, and [`TextExpression`], [`NumberExpression`], [`TimeExpression`] and [`JsonExpression`]
//!   what can be made of some; [`case`](case()) and [`coalesce`] choose between values; [`Condition`]
//!   tells how conditions join, [`Scope`] how they get a name.
//! - [`Table`](derive@Table) also declares relations. [`Maybe`] is a parent that there may not be;
//!   [`Query::exists`], [`count`](Query::count), [`sum`](Query::sum) and their like ask a query inside
//!   another; [`Query::join`] puts tables side by side; [`Query::alongside`] reads the rows of
//!   another beside each.
//! - Groups are a selection with [`per`](per()) and aggregates such as [`count`](count()) and
//!   [`sum`](sum()); [`shape!`] selects into a struct. [`from`](from()) asks the rows of a query further,
//!   [`named`] one that is used in several places, [`Query::union`] makes sets, [`recursive`] follows rows that lead to rows, and
//!   [`row_number`] and its like look at the rows around a row.
//! - [`verbatim!`] is for the corner where only hand-written SQL will do.
//! - [`Handle::read_page`] and [`Handle::read_after`] read pages; a [`Record`] tells what ran.
//! - A table's [`Policy`] holds wherever the table appears, until it is [waived](Query::waive); a handle
//!   carries the values that policies need, as [`Carried`].
//! - [`Insert`], [`Update`] and [`Delete`] are values too, which [`Handle::write`] writes.
//! - A [`Gate`] stands around every statement; a budget caps how many there are.
//! - [`Query::sql`] shows the SQL in any [`Dialect`], with its binds and origins.
//! - [`Database`] runs queries from async code, with the verbs of [`Handle`];
//!   [`blocking::Database`] does the same without async.
//! - [`Error`] is the one error; [`ErrorKind`] tells failures apart.
//!
//! # Features
//!
//! | feature | on by default | what it adds |
//! |---|---|---|
//! | `sqlite` | yes | SQLite, embedded in the program, through `rusqlite` |
//! | `postgres` | no | PostgreSQL, through `tokio-postgres` |
//! | `mysql` | no | MariaDB and MySQL, through `mysql_async` |
//! | `serde` | no | dates, UUIDs and decimals in rows that are written out with `#[nepheline(serialize)]` |
//! | `tracing` | no | `Traced`, a gate that tells `tracing` of every statement |
//! | `tls` | no | encrypted connections to servers, through `rustls` |

// The derives write `::nepheline::..`, also inside this crate.
extern crate self as nepheline;

mod macros {
    /// Items for which at least one engine has to be there.
    macro_rules! with_an_engine {
        ($($item:item)*) => {$(
            #[cfg(any(feature = "sqlite", feature = "postgres", feature = "mysql"))]
            $item
        )*};
    }
    pub(crate) use with_an_engine;
}

pub mod prelude;

macros::with_an_engine! {
    mod access;
    mod engine;
    mod exec;
    mod observe;

    pub use access::database::Database;
    pub use access::handle::Handle;
    pub use access::options::{Credentials, Options, Pooler, Tls};
    pub use access::transaction::Transaction;
    pub use engine::metrics::{ClosedConnections, PoolMetrics};
    pub use exec::companions::Readable;
    pub use exec::cursor_keys::CursorKeys;
    pub use exec::page::{Cursor, Page, Paging, Stretch};
    pub use exec::transaction::{Isolation, TransactionOptions};
    pub use exec::write::Upserted;
    pub use observe::gate::{Gate, Passed, Passing, Verdict};
    pub use observe::record::{Ran, Record, RecordMark};
    pub use observe::trace_context::{TraceContext, TraceParent};

    pub mod blocking {
        //! Handles for code that is not async. Over SQLite a call goes straight to the driver: no runtime and
        //! no hop to another thread. Over a server it waits for the async driver, whose connections a thread of their
        //! own drives.

        pub use crate::access::blocking::{Database, Transaction};
        pub use crate::access::handle::BlockingHandle as Handle;
        #[cfg(feature = "sqlite")]
        pub use crate::engine::sqlite::Session;
    }
}
#[cfg(feature = "mysql")]
pub mod mysql {
    //! MariaDB and MySQL through `mysql_async`.

    pub use crate::engine::mysql::Session;
}
#[cfg(feature = "postgres")]
pub mod postgres {
    //! PostgreSQL through `tokio-postgres`.

    pub use crate::engine::postgres::Session;
}

#[cfg(all(
    feature = "tracing",
    any(feature = "sqlite", feature = "postgres", feature = "mysql")
))]
pub use crate::observe::traced::Traced;
pub use nepheline_core::*;
pub use nepheline_macros::{RowShape, Storable, Table, shape, verbatim};

/// What the derives and the crates beside this one rely on. It changes without notice.
#[doc(hidden)]
pub mod internal {
    pub use nepheline_core::internal::*;

    crate::macros::with_an_engine! {
        pub use crate::access::blocking::RunText as BlockingRunText;
        pub use crate::access::database::RunText;
    }
}
