//! Typed, composable SQL queries that you can read before they run.
//!
//! You write small typed pieces (scopes, optional filters, orders) and compose them freely. You can always
//! see the exact SQL, and which line of your code asked for each part of it. The results are typed rows,
//! which are checked when they arrive.
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
//! - [`Table`](derive@Table) makes a struct a table, and [`Storable`](derive@Storable) makes an enum or a
//!   newtype a column type.
//! - [`Query`] has [`filter`](Query::filter), [`order_by`](Query::order_by), [`limit`](Query::limit) and
//!   [`select`](Query::select). [`ExprExt`] has the methods of every column; [`TextExt`], [`NumberExt`],
//!   [`TimeExt`] and [`JsonExt`] have those of some. [`case`](case()) and [`coalesce`] choose between values,
//!   [`Condition`] combines conditions, and [`Scope`] names them.
//! - [`Table`](derive@Table) also declares relations. [`Maybe`] is a parent that may be missing.
//!   [`Query::exists`], [`count`](Query::count), [`sum`](Query::sum) and the like are subqueries;
//!   [`Query::join`] joins tables; [`Query::alongside`] reads related rows with each row.
//! - Groups are a selection with [`per`](per()) and aggregates such as [`count`](count()) and [`sum`](sum());
//!   [`shape!`] selects into a struct. [`from`](from()) makes a derived table, [`cte`] a common table
//!   expression, [`Query::union`] and the like set operations, [`recursive`] a recursion, and [`row_number`]
//!   and the like are window functions.
//! - A [`Prepared`] query is built once, and run with the values of each call.
//! - [`verbatim!`] is a fragment of hand-written SQL.
//! - An [`Offer`] reads filters in CQL2, sorts, properties and totals that arrive as text, and allows only the names it has.
//! - [`RunsQueries::read_page`] and [`RunsQueries::read_after`] read pages; a [`StatementLog`] records
//!   statements.
//! - A table's [`Policy`] applies wherever the table appears, until it is [waived](Query::waive). A handle
//!   carries the values that policies need, as [`Carried`].
//! - [`Insert`], [`Update`] and [`Delete`] are values too, which [`RunsQueries::write`] runs.
//! - An [`Interceptor`] runs around every statement; a budget limits their number.
//! - [`Query::sql`] returns the SQL in any [`Dialect`], with its binds and origins.
//! - [`Database`] runs queries from async code, with the verbs of [`RunsQueries`]; [`blocking::Database`]
//!   does the same without async.
//! - [`Error`] is the error of every call; [`ErrorKind`] distinguishes failures.
//!
//! # Features
//!
//! | feature | on by default | what it adds |
//! |---|---|---|
//! | `sqlite-bundled` | yes | SQLite, embedded in the program, through `rusqlite`, and built from its C source |
//! | `sqlite` | with that | the same over the system's SQLite library, 3.40 or later |
//! | `postgres` | no | PostgreSQL, through `tokio-postgres` |
//! | `mysql` | no | MariaDB and MySQL, through `mysql_async` |
//! | `serde` | no | dates, UUIDs and decimals in rows that serde writes with `#[nepheline(serialize)]` |
//! | `tracing` | no | `Traced`, an interceptor that logs every statement with `tracing` |
//! | `tls` | no | encrypted connections to servers, through `rustls` |

// The derives write `::nepheline::..`, also inside this crate.
extern crate self as nepheline;

mod macros {
    /// Items that need at least one engine.
    macro_rules! with_an_engine {
        ($($item:item)*) => {$(
            #[cfg(any(feature = "sqlite", feature = "postgres", feature = "mysql"))]
            $item
        )*};
    }
    pub(crate) use with_an_engine;
}

pub mod prelude;

#[cfg(feature = "postgres")]
pub use engine::postgres::{Notification, Notifications};

macros::with_an_engine! {
    mod access;
    mod engine;
    mod exec;
    mod observe;

    pub use access::database::Database;
    pub use access::handle::RunsQueries;
    pub use access::options::{Credentials, Options, Plans, Pooler, Tls};
    pub use access::transaction::Transaction;
    pub use engine::metrics::{ClosedConnections, PoolMetrics};
    pub use exec::call::Calls;
    pub use exec::companions::{Explainable, OutsidePolicies, Readable};
    pub use exec::cursor_keys::CursorKeys;
    pub use exec::page::{Cursor, Page, Paging, CursoredRows};
    pub use exec::together::ReadsTogether;
    pub use exec::transaction::{Isolation, TransactionOptions};
    pub use exec::write::Upserted;
    pub use observe::added::{AddedWrite, CompletedWrite, WrittenStatement};
    pub use observe::interceptor::{Interceptor, StatementOutcome, StatementInfo, Decision};
    pub use observe::log::{LoggedStatement, StatementLog, LogMark};
    pub use observe::trace_context::{TraceContext, TraceParent};

    pub mod blocking {
        //! Handles for code that is not async. SQLite is called directly, without a runtime or another
        //! thread. For a server, a call waits for the async driver, whose connections run on a thread of
        //! their own.

        pub use crate::access::blocking::{Database, Transaction};
        pub use crate::access::handle::BlockingRunsQueries as RunsQueries;
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
pub use nepheline_macros::{BindParameters, RowShape, Storable, Table};

/// Selects into a struct with `#[derive(RowShape)]`, written like a struct literal.
///
/// A field takes what `select` takes, or a plain value, which becomes a bind; `None` is NULL. `..row` fills the other
/// fields with the columns of the same names and types of a row, such as that of a query before: a field without such a
/// column does not build.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, borehole_id: i64, base_m: f64 }
/// #[derive(Debug, RowShape)]
/// struct PerBorehole {
///     borehole_id: i64,
///     specimens: i64,
///     deepest_m: Option<f64>,
/// }
///
/// #[derive(Debug, RowShape)]
/// struct Ranked {
///     borehole_id: i64,
///     specimens: i64,
///     place: i64,
///     note: Option<String>,
/// }
///
/// let per_borehole = Specimen::rows().select(|s| {
///     shape!(PerBorehole { borehole_id: per(s.borehole_id), specimens: count(), deepest_m: max(s.base_m) })
/// });
/// let ranked: Query<PerBorehole, Ranked> = from(per_borehole).select(|b| {
///     shape!(Ranked { place: rank().over(|w| w.order_by(b.deepest_m.desc())), note: None, ..b })
/// });
/// # assert!(ranked.sql(Dialect::Sqlite).is_ok());
/// ```
#[macro_export]
macro_rules! shape {
    ($($tokens:tt)*) => {
        $crate::internal::shape!($crate, $($tokens)*)
    };
}

/// A fragment of hand-written SQL, with expressions and values in it.
///
/// ```text
/// verbatim!("soundex({}) = soundex({wanted})", s.label).condition()
/// verbatim!(postgres: "random()", sqlite: "random()", mysql: "rand()").typed::<i64>()
/// ```
///
/// The text is a literal. `{}` stands for the next argument, `{0}` for one by its number, `{name}` for
/// a variable of that name, or for an argument given as `name = expression`; `{{` and `}}` are braces.
/// An argument is a column, an expression, a condition or a value; a value becomes a bind. Arguments
/// are put in brackets where they need them.
///
/// Before a literal a dialect may be named: `sqlite`, `postgres`, `mariadb`, `mysql` (MariaDB too,
/// unless it has a variant of its own). On a dialect without a variant the query is refused, as
/// `Unsupported`, naming this line.
///
/// The fragment needs a type: `.typed::<T>()` (an `Option` if it may be NULL), `.condition()`, or
/// `.typed_per_group::<T>()` for an aggregate. The type is only checked when a row arrives.
///
/// A placeholder, a comment, a semicolon or an unbalanced bracket does not compile, because the text must
/// remain one expression. Text columns in it compare as the database declares them, so write the COLLATE that
/// you need.
///
/// # Functions of your own
///
/// A Rust function gives a database function its typed form in one place:
///
/// ```text
/// /// How a text sounds in English, as a letter and three digits.
/// pub fn soundex(text: impl Argument<Type = String>) -> Expr<String> {
///     verbatim!(sqlite: "soundex({text})", postgres: "soundex({text})", mysql: "SOUNDEX({text})").typed()
/// }
/// ```
#[macro_export]
macro_rules! verbatim {
    ($($tokens:tt)*) => {
        $crate::internal::verbatim!($crate, $($tokens)*)
    };
}

/// A decimal constant, exactly as it is written: `dec!(0.2)`, `dec!(-12.50)`.
///
/// A number with more digits than a [`Decimal`](rust_decimal::Decimal) holds does not compile.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct InvoiceLine { #[nepheline(key)] id: i64, price: Decimal, discount: Decimal }
///
/// const TAX: Decimal = dec!(0.19);
/// let due = InvoiceLine::rows().select(|l| (l.price * (1 - l.discount) * (dec!(1) + TAX)).round(2));
/// # assert!(due.sql(Dialect::Sqlite).is_ok());
/// assert_eq!(TAX.to_string(), "0.19");
/// ```
#[macro_export]
macro_rules! dec {
    ($($tokens:tt)*) => {
        $crate::internal::dec!($crate, $($tokens)*)
    };
}

/// A whole statement of hand-written SQL.
///
/// The text is a literal; `{}`, `{0}` and `{name}` are binds or expressions, as in [`verbatim!`], and so are variants
/// for dialects. The rows get a type by [`rows_as`](WholeStatement::rows_as): the columns of a struct are found by their
/// names. Policies do not apply to the tables that the text names.
///
/// ```
/// use nepheline::blocking::Database;
/// use nepheline::prelude::*;
/// use nepheline::statement;
///
/// #[derive(Debug, PartialEq, RowShape)]
/// struct Depth {
///     borehole: String,
///     metres: Option<f64>,
/// }
///
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// # let connection = rusqlite::Connection::open_in_memory()?;
/// # connection.execute_batch(
/// #     "CREATE TABLE borehole (id INTEGER PRIMARY KEY, name TEXT, depth_m REAL); INSERT INTO borehole VALUES (1, 'KP-1', 80)",
/// # )?;
/// # let db = Database::over(connection)?;
/// let (least, added) = (50, 7.5);
/// let deep = statement!("SELECT depth_m AS metres, name AS borehole FROM borehole WHERE depth_m > {least}");
/// assert_eq!(
///     db.read(&deep.rows_as::<Depth>())?,
///     [Depth { borehole: "KP-1".into(), metres: Some(80.0) }],
/// );
/// assert_eq!(db.write(&statement!("UPDATE borehole SET depth_m = depth_m + {added}"))?, 1);
/// # Ok(())
/// # }
/// ```
#[macro_export]
macro_rules! statement {
    ($($tokens:tt)*) => {
        $crate::internal::statement!($crate, $($tokens)*)
    };
}

/// A constant of the program as SQL text: a text, a number, a boolean, or a variant of an enum that derives `Storable`.
///
/// A value is a bind everywhere else. Some plans are better if the engine sees a value: a partial index whose condition names it, or
/// a value that most rows have. The compiler computes the constant, so that no value of a run can be in it. Each engine gets
/// the text in its own quotes, and numbers with their types.
///
/// ```
/// use nepheline::literal;
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Assay { #[nepheline(key)] id: i64, #[nepheline(by_code_point)] element: String, lab_id: i64 }
/// let of_neodymium = Assay::rows().filter(|a| a.element.eq(literal!("Nd")) & a.lab_id.gt(literal!(-3_i64)));
/// assert!(of_neodymium.sql(Dialect::Postgres)?.text().ends_with(
///     r#"WHERE "assay"."element" = 'Nd' AND "assay"."lab_id" > CAST(-3 AS int8)"#
/// ));
/// # Ok::<(), Error>(())
/// ```
///
/// A value that is known only when the program runs does not compile:
///
/// ```compile_fail
/// let element = std::env::args().next().unwrap();
/// nepheline::literal!(&*element);
/// ```
#[macro_export]
macro_rules! literal {
    ($constant:expr) => {
        $crate::internal::literal(const { $constant })
    };
}

/// A call of a function or procedure of the database, by its name: `call!("name"(arguments))` or
/// `call!("schema.name"(arguments))`.
///
/// The name is a literal and quoted, so that PostgreSQL finds it in exactly this case; an argument is a column, an
/// expression, or a value, which becomes a bind with the type of its Rust type. The functions that MariaDB and MySQL
/// bring along are not found by quoted names: write those with [`verbatim!`].
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::call;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, top_m: f64 }
///
/// // A function that returns one value.
/// let deep = Specimen::rows().filter(|s| call!("in_feet"(s.top_m)).typed::<f64>().gt(1000));
/// assert_eq!(
///     deep.sql(Dialect::Postgres)?.text(),
///     r#"SELECT "specimen"."id", "specimen"."top_m" FROM "specimen" WHERE "in_feet"("specimen"."top_m") > $1"#,
/// );
///
/// // A procedure with an OUT parameter.
/// # async fn close(db: &nepheline::Database) -> Result<(), Error> {
/// let (closed,) = db.call(&call!("close_site"(7_i64)).out::<(i64,)>()).await?;
/// # Ok(())
/// # }
/// # Ok::<(), Error>(())
/// ```
///
/// [`DatabaseCall`] lists what a call can become.
#[macro_export]
macro_rules! call {
    ($($tokens:tt)*) => {
        $crate::internal::call!($crate, $($tokens)*)
    };
}

/// A script: several statements of hand-written SQL without values, for `run_script`.
///
/// `script!("CREATE ..; CREATE ..")` takes a literal, `script!(file "schema.sql")` a file of the program's source, whose
/// path is relative to the file that names it.
///
/// ```
/// use nepheline::script;
///
/// let schema = script!("CREATE TABLE tray (id BIGINT PRIMARY KEY); CREATE INDEX tray_id ON tray (id)");
/// assert!(schema.text().contains("CREATE INDEX"));
/// ```
#[macro_export]
macro_rules! script {
    (file $path:literal) => {
        $crate::Script::of(::core::include_str!($path))
    };
    ($text:literal) => {
        $crate::Script::of($text)
    };
}

/// Items for the derives and for the crates beside this one. They change without notice.
#[doc(hidden)]
pub mod internal {
    pub use nepheline_core::internal::*;
    pub use nepheline_macros::{call, dec, shape, statement, verbatim};
    pub use rust_decimal::Decimal;

    crate::macros::with_an_engine! {
        pub use crate::access::blocking::{Describes as BlockingDescribes, RunText as BlockingRunText};
        pub use crate::access::database::{Describes, RunText};
        pub use crate::exec::describe::{Describable, DescribedPart, RowCells};
    }
}
