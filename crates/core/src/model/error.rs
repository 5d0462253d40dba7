//! The one error of the workspace: what went wrong, where, and the way out.
//!
//! Every wording sits in this file, so that messages stay alike: lower case, no full stop, names
//! and values in backticks, and what to do about it where something can be done.

use std::borrow::Cow;
use std::error::Error as StdError;
use std::fmt;
use std::time::Duration;

use crate::model::{BindValue, Cell, ColumnInfo, Origin};

type Cause = Box<dyn StdError + Send + Sync>;

/// What kind of failure an [`Error`] is, for code that wants to act on it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum ErrorKind {
    /// A query that must give a row gave none.
    NotFound,
    /// A query that may give one row at most gave more.
    MoreThanOne,
    /// A value arrived that does not fit the Rust type it is read into.
    Mismatch,
    /// A value cannot be sent to a database: NaN, text with NUL, a year outside 1 to 9999.
    RefusedValue,
    /// The dialect has no form with the same meaning.
    Unsupported,
    /// The query is nested deeper than any engine would take.
    TooDeep,
    /// A column is used in a query that its table is not part of.
    ForeignColumn,
    /// Parts of a query were put together in a way that has no meaning.
    UnfitParts,
    /// A policy or a fill needs a value that the handle does not carry.
    MissingCarried,
    /// An update expected a version of a row that it no longer has: somebody else has written it since.
    StaleVersion,
    /// A row with the same value in a key or a unique column is there already.
    UniqueViolation,
    /// A row refers to one that is not there, or is referred to by one that is.
    ForeignKeyViolation,
    /// A row does not fulfil a check of its table.
    CheckViolation,
    /// A column that needs a value was given none.
    NotNullViolation,
    /// A gate of the handle did not let the statement pass.
    Refused,
    /// A page was asked for that there cannot be, or with a cursor of another query.
    UnfitPage,
    /// A required row of another table is missing: a reference leads nowhere.
    Dangling,
    /// The database could not be opened or reached, or cannot be used.
    Connection,
    /// The connection was lost while a statement ran or between two of them.
    ConnectionLost,
    /// No connection of the pool came free in time.
    PoolExhausted,
    /// The statement ran longer than this handle allows, and was stopped.
    StatementTimeout,
    /// The transaction cannot be completed because of others that ran beside it: a serialization
    /// failure or a deadlock. Begun again from the start it may succeed.
    Conflict,
    /// The transaction is over, or was ended by an earlier error, and takes no more statements.
    TransactionOver,
    /// The transaction is used for something else at this moment: an inner transaction or a stream of it is open, or
    /// the handle outside of it was used within. The statement was not sent, and nothing is undone.
    TransactionBusy,
    /// The connection was lost while a commit, or a write outside of a transaction, was under way: it may have been
    /// done or not. The name is that of SQLSTATE 08007. Look before you repeat it.
    TransactionResolutionUnknown,
    /// Somebody else holds a lock for longer than this handle waits.
    Locked,
    /// The database refused the statement, or failed while running it.
    Database,
}

/// Any failure of Nepheline: a kind, a message with its context, and the cause where there is one.
///
/// `Display` tells what happened and where, but leaves out the cause, which is in
/// [`source`](StdError::source); the alternate form `{:#}` tells the whole chain in one line.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64, name: String }
///
/// let err = Lab::rows().filter(|l| l.name.eq("a\0b")).sql(Dialect::Sqlite).unwrap_err();
/// assert_eq!(err.kind(), ErrorKind::RefusedValue);
/// ```
pub struct Error(Box<Inner>);

#[derive(Debug)]
struct Inner {
    kind: ErrorKind,
    message: Cow<'static, str>,
    /// The table and column at fault, where there is one; told before the message.
    place: Option<Box<str>>,
    row: Option<u64>,
    sql: Option<Box<str>>,
    origin: Option<Origin>,
    cause: Option<Cause>,
    violation: Option<Violation>,
}

/// What a database tells of a constraint that does not hold.
#[doc(hidden)]
#[derive(Debug, Clone, Default)]
pub struct Violation {
    pub constraint: Option<String>,
    pub table: Option<String>,
    pub column: Option<String>,
}

impl Violation {
    /// What does not hold, as far as the database tells it.
    fn tell(&self, kind: ErrorKind, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let table = self.table.as_deref().unwrap_or("a table");
        match (kind, &self.column) {
            (ErrorKind::UniqueViolation, Some(column)) => {
                write!(f, "another row of `{table}` has the same `{column}`")?;
            }
            (ErrorKind::UniqueViolation, None) => {
                write!(f, "another row of `{table}` has the same key or unique value")?;
            }
            (ErrorKind::ForeignKeyViolation, _) => {
                write!(f, "a row of `{table}` refers to one that is not there, or is referred to")?;
            }
            (ErrorKind::CheckViolation, _) => {
                write!(f, "a row of `{table}` does not pass a check")?
            }
            (ErrorKind::NotNullViolation, Some(column)) => {
                write!(f, "the column `{column}` of `{table}` cannot be NULL")?;
            }
            _ => write!(f, "a row of `{table}` does not fulfil a constraint")?,
        }
        match &self.constraint {
            Some(constraint) => write!(f, " (constraint `{constraint}`)"),
            None => Ok(()),
        }
    }
}

impl Error {
    fn new(kind: ErrorKind, message: impl Into<Cow<'static, str>>) -> Error {
        let message = message.into();
        Error(Box::new(Inner {
            kind,
            message,
            place: None,
            row: None,
            sql: None,
            origin: None,
            cause: None,
            violation: None,
        }))
    }

    /// What kind of failure this is.
    pub fn kind(&self) -> ErrorKind {
        self.0.kind
    }

    /// The name of the constraint that does not hold, as far as the database tells it: SQLite has names for
    /// checks only, and no engine for columns that are NOT NULL.
    pub fn constraint(&self) -> Option<&str> {
        self.0.violation.as_ref()?.constraint.as_deref()
    }

    /// The table whose constraint does not hold.
    pub fn table(&self) -> Option<&str> {
        self.0.violation.as_ref()?.table.as_deref()
    }

    /// The column whose constraint does not hold, or several with commas between; told of NOT NULL on all
    /// engines, and of unique columns on SQLite.
    pub fn column(&self) -> Option<&str> {
        self.0.violation.as_ref()?.column.as_deref()
    }

    /// Counts its row from so many before.
    #[doc(hidden)]
    pub fn after_rows(mut self, before: u64) -> Error {
        self.0.row = self.0.row.map(|row| row + before);
        self
    }

    /// Adds which constraint does not hold.
    #[doc(hidden)]
    pub fn violating(mut self, violation: Violation) -> Error {
        self.0.violation = Some(violation);
        self
    }

    /// Adds of which table a constraint does not hold, where the database did not tell.
    #[doc(hidden)]
    pub fn violating_of(mut self, table: &str) -> Error {
        if let Some(violation) = &mut self.0.violation {
            violation.table.get_or_insert_with(|| table.to_owned());
        }
        self
    }

    /// The SQL text that was being run, when there was one. It never holds values.
    pub fn sql(&self) -> Option<&str> {
        self.0.sql.as_deref()
    }

    /// The line of the program that asked for the query or clause at fault.
    pub fn origin(&self) -> Option<Origin> {
        self.0.origin
    }

    /// The number of the row at fault, counted from 1 in the order the rows arrived.
    pub fn row(&self) -> Option<u64> {
        self.0.row
    }

    /// Says which row was being read. The first row number given stays.
    #[doc(hidden)]
    #[must_use]
    pub fn at_row(mut self, row: u64) -> Error {
        self.0.row.get_or_insert(row);
        self
    }

    /// Says which SQL was being run.
    #[doc(hidden)]
    #[must_use]
    pub fn in_sql(mut self, sql: &str) -> Error {
        self.0.sql.get_or_insert_with(|| sql.into());
        self
    }

    /// Says which line of the program asked for it. The most precise place is given first and stays.
    #[doc(hidden)]
    #[must_use]
    pub fn asked_at(mut self, origin: Origin) -> Error {
        self.0.origin.get_or_insert(origin);
        self
    }

    #[doc(hidden)]
    #[must_use]
    pub fn caused_by(mut self, cause: impl Into<Cause>) -> Error {
        self.0.cause = Some(cause.into());
        self
    }
}

/// The wordings of core.
impl Error {
    #[cold]
    pub(crate) fn mismatch(column: &ColumnInfo, expected: &str, found: Cell<'_>) -> Error {
        let way_out = match found {
            Cell::Null => "; read it into an `Option` if it may be NULL",
            _ => "",
        };
        let message = format!("expected {expected}, found {found}{way_out}");
        let mut err = Error::new(ErrorKind::Mismatch, message);
        let place = format!("table `{}`, column `{}`", column.table(), column.name());
        err.0.place = Some(place.into());
        err
    }

    #[cold]
    pub(crate) fn mismatch_in_result(expected: &str, found: Cell<'_>) -> Error {
        let message = format!("expected {expected}, found {found}");
        let mut err = Error::new(ErrorKind::Mismatch, message);
        err.0.place = Some("the result".into());
        err
    }

    #[cold]
    pub(crate) fn refused_value(value: &BindValue, reason: &str) -> Error {
        Error::new(ErrorKind::RefusedValue, format!("the value `{value}` cannot be sent: {reason}"))
    }

    #[cold]
    pub(crate) fn unsupported(feature: &str, dialect: &str, way_out: &str) -> Error {
        let message =
            format!("{feature} has no form with the same meaning on {dialect}: {way_out}");
        Error::new(ErrorKind::Unsupported, message)
    }

    #[cold]
    pub(crate) fn too_deep() -> Error {
        Error::new(
            ErrorKind::TooDeep,
            "the conditions are nested more than 400 deep; join long lists of them with `all_of` \
             or `any_of`, which stay flat",
        )
    }

    #[cold]
    pub(crate) fn too_many_subqueries(most: usize) -> Error {
        let message =
            format!("queries stand in queries more than {most} deep, and engines give up");
        Error::new(ErrorKind::TooDeep, message)
    }

    #[cold]
    pub(crate) fn too_many_references() -> Error {
        Error::new(
            ErrorKind::TooDeep,
            "more than 8 references are followed in a row; ask a part of it as a query of its own, \
             with `one_of`",
        )
    }

    #[cold]
    pub(crate) fn unfit_parts(reason: &str) -> Error {
        Error::new(ErrorKind::UnfitParts, format!("the parts of the query do not fit: {reason}"))
    }

    #[cold]
    pub(crate) fn missing_carried(policy: &str, table: &str, value: &str) -> Error {
        let message = format!(
            "the policy `{policy}` of `{table}` needs a carried `{value}`, and there is none; give it to the \
             handle with `carrying(..)`"
        );
        Error::new(ErrorKind::MissingCarried, message)
    }

    #[cold]
    pub(crate) fn missing_fill(column: &ColumnInfo, value: &str) -> Error {
        let message = format!(
            "the column `{}` of `{}` is filled with a carried `{value}`, and there is none; give it to the \
             handle with `carrying(..)`",
            column.name(),
            column.table()
        );
        Error::new(ErrorKind::MissingCarried, message)
    }

    /// What a gate did not let pass.
    #[doc(hidden)]
    #[cold]
    pub fn refused_by_gate(reason: &str) -> Error {
        Error::new(ErrorKind::Refused, format!("a gate refused the statement: {reason}"))
    }

    #[doc(hidden)]
    #[cold]
    pub fn cannot_copy() -> Error {
        Error::new(ErrorKind::Database, "rows can be inserted into the table, and not copied")
    }

    #[doc(hidden)]
    #[cold]
    pub fn unfit_trace_parent(text: &str) -> Error {
        let message = format!(
            "{text:?} is no `traceparent` of W3C Trace Context; one is like \
             `00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01`"
        );
        Error::new(ErrorKind::RefusedValue, message)
    }

    #[doc(hidden)]
    #[cold]
    pub fn missing_mirrored(setting: &str, value: &str) -> Error {
        let message = format!(
            "the session's setting `{setting}` mirrors a carried `{value}`, and there is none; give it to the \
             handle with `carrying(..)`"
        );
        Error::new(ErrorKind::MissingCarried, message)
    }

    #[doc(hidden)]
    #[cold]
    pub fn mirrored_outside_transaction() -> Error {
        let message = "what a handle mirrors into the session holds in transactions only; run the statement in one";
        Error::new(ErrorKind::Unsupported, message)
    }

    #[doc(hidden)]
    #[cold]
    pub fn cannot_mirror(dialect: impl fmt::Display) -> Error {
        let way_out = "declare a policy on the table instead";
        Error::unsupported(
            "mirroring carried values into the session",
            &dialect.to_string(),
            way_out,
        )
    }

    /// A write of several statements, on a connection that is the program's own.
    #[doc(hidden)]
    #[cold]
    pub fn needs_transaction() -> Error {
        let message = "this write takes several statements, and a session over a connection of the program \
                       cannot make them one; write fewer rows at once, or use a `Database`";
        Error::new(ErrorKind::Unsupported, message)
    }

    /// A row that somebody else has written meanwhile.
    #[doc(hidden)]
    #[cold]
    pub fn stale_version(table: &str) -> Error {
        let message = format!(
            "no row of `{table}` has the expected version any more: somebody else has written or deleted it; \
             read it again"
        );
        Error::new(ErrorKind::StaleVersion, message)
    }

    /// A row of a table that refers by some of its columns to a row of another, which is not there.
    #[cold]
    pub(crate) fn dangling([table, row, by]: [&str; 3], [target, missing]: [&str; 2]) -> Error {
        let row = if row.is_empty() { String::new() } else { format!(" with {row}") };
        let message = format!(
            "the row{row} refers by {by} to table `{target}`, which has no row with {missing}"
        );
        let mut err = Error::new(ErrorKind::Dangling, message);
        err.0.place = Some(format!("table `{table}`").into());
        err
    }

    #[cold]
    pub(crate) fn foreign_column(column: &ColumnInfo) -> Error {
        Error::new(
            ErrorKind::ForeignColumn,
            format!(
                "column `{}` belongs to a query over `{}` that is not part of this one; use the \
                 columns that the closure is given",
                column.name(),
                column.table()
            ),
        )
    }
}

/// The wordings of the facade, kept here beside the others.
#[doc(hidden)]
impl Error {
    #[cold]
    pub fn not_found(table: &str, key: Option<String>) -> Error {
        let message = match key {
            Some(key) => format!("table `{table}` has no row with {key}"),
            None => format!("no row of table `{table}` matches, and exactly one is needed"),
        };
        Error::new(ErrorKind::NotFound, message)
    }

    #[cold]
    pub fn more_than_one(table: &str) -> Error {
        Error::new(
            ErrorKind::MoreThanOne,
            format!(
                "more than one row of table `{table}` matches, and at most one is expected; \
                 filter further, or use `read_first` with an order"
            ),
        )
    }

    #[cold]
    pub fn cannot_open(what: &str, cause: impl Into<Cause>) -> Error {
        Error::new(ErrorKind::Connection, format!("cannot open the database {what}"))
            .caused_by(cause)
    }

    #[cold]
    pub fn unfit_url(url: &str, reason: impl fmt::Display) -> Error {
        Error::new(ErrorKind::Connection, format!("the database URL `{url}` {reason}"))
    }

    /// A URL of no known form, which may hold a password anywhere: only its scheme is repeated, if it has one.
    #[cold]
    pub fn unknown_scheme(scheme: Option<&str>) -> Error {
        let found = match scheme {
            Some(scheme) => format!("begins with `{scheme}:`"),
            None => "has no scheme".to_owned(),
        };
        let message = format!(
            "the database URL {found}; it has to begin with `sqlite:`, `postgres://`, `mysql://` or `mariadb://`"
        );
        Error::new(ErrorKind::Connection, message)
    }

    #[cold]
    pub fn unfit_session(reason: String) -> Error {
        Error::new(ErrorKind::Connection, format!("this database cannot be used: {reason}"))
    }

    #[cold]
    pub fn pool_exhausted(size: usize) -> Error {
        let message = format!(
            "none of the pool's {size} connections came free, or could be opened, in time; hold them for less long, or \
             allow more with `pool_size`"
        );
        Error::new(ErrorKind::PoolExhausted, message)
    }

    /// A call whose time limit was over before its next statement.
    #[cold]
    pub fn call_over(longest: Duration) -> Error {
        let message = format!(
            "the time limit of this call, {longest:?}, was over before the statement was sent; wait for less, ask for \
             less, or allow more with `time_limit`"
        );
        Error::new(ErrorKind::StatementTimeout, message)
    }

    /// A statement to which the database gave no answer, not even that it ran too long.
    #[cold]
    pub fn unanswered(longest: Duration) -> Error {
        let message = format!(
            "no answer came within the time limit of {longest:?} and a second more, so that the connection was closed"
        );
        Error::new(ErrorKind::StatementTimeout, message)
    }

    /// A handle that was closed.
    #[cold]
    pub fn closed() -> Error {
        Error::new(
            ErrorKind::Connection,
            "this database handle was closed, and takes no more calls",
        )
    }

    /// A function of the program that was asked for a user and a password, and failed.
    #[cold]
    pub fn no_credentials(cause: impl Into<Cause>) -> Error {
        let message = "the function that gives the credentials for a new connection failed";
        Error::new(ErrorKind::Connection, message).caused_by(cause)
    }

    /// A server that takes no more prepared statements, though this program has closed all that it could.
    #[cold]
    pub fn too_many_statements() -> Error {
        let message = "the server has as many prepared statements as it takes (`max_prepared_stmt_count`), and none of \
                       them can be closed from here; raise the limit, or have every program at this server cache \
                       fewer: `pool_size` times `statements_kept` for each of this library's";
        Error::new(ErrorKind::Database, message)
    }

    /// A SQLite file that is no longer the one which was opened.
    #[cold]
    pub fn file_replaced(path: &str) -> Error {
        let message = format!(
            "the file `{path}` was deleted or replaced since it was opened, so that changes would be lost; open it again"
        );
        Error::new(ErrorKind::ConnectionLost, message)
    }

    #[cold]
    pub fn unfit_page(reason: &'static str) -> Error {
        Error::new(ErrorKind::UnfitPage, reason)
    }

    #[cold]
    pub fn stream_needs_two(place: &str) -> Error {
        let message = format!(
            "rows with others alongside cannot be streamed in {place}, because the others are read \
             while the stream is: read them all, or a part at a time"
        );
        Error::new(ErrorKind::Unsupported, message)
    }

    #[cold]
    pub fn too_large(size: usize, most: usize) -> Error {
        let message = format!(
            "the statement and its values take about {size} bytes, and the server accepts {most} \
             (`max_allowed_packet`); send fewer at a time"
        );
        Error::new(ErrorKind::RefusedValue, message)
    }

    #[cold]
    pub fn wrong_placeholders(asked: usize, given: usize) -> Error {
        let message = format!(
            "the text asks for {asked} values and has {given}; trusted text must hold no \
             placeholders (`?`, `:name`, `@name`, `$name`)"
        );
        Error::new(ErrorKind::Database, message)
    }

    #[cold]
    pub fn wrong_answer(warning: String) -> Error {
        let message = format!("the server gave a wrong answer and said so in a warning: {warning}");
        Error::new(ErrorKind::Database, message)
    }

    #[cold]
    pub fn transaction_over(why: &str) -> Error {
        Error::new(ErrorKind::TransactionOver, format!("this transaction is over: {why}"))
    }

    /// A statement of a transaction while something inside of it is open.
    #[cold]
    pub fn transaction_busy(open: &str) -> Error {
        let message = format!(
            "{open} of this transaction is open, and one connection does one thing at a time; end that first"
        );
        Error::new(ErrorKind::TransactionBusy, message)
    }

    /// The handle that began a transaction, used by the work of that transaction.
    #[cold]
    pub fn outer_handle() -> Error {
        let message = "the database's own handle was used inside a transaction of it, which would be another \
                       connection, outside of the transaction; use the handle that the closure is given, or run it \
                       in a task of its own";
        Error::new(ErrorKind::TransactionBusy, message)
    }

    /// The same error, of a statement whose effect is not known because its answer was lost.
    #[cold]
    pub fn resolution_unknown(mut self) -> Error {
        self.0.kind = ErrorKind::TransactionResolutionUnknown;
        self.0.message = "the answer was lost, so that it is not known whether this was done; look before you repeat it"
            .into();
        self
    }

    #[cold]
    pub fn too_many_binds(given: usize, most: usize) -> Error {
        let message = format!(
            "the statement binds {given} values, and the protocol of this server has room for {most}; send fewer rows \
             or values at a time"
        );
        Error::new(ErrorKind::RefusedValue, message)
    }

    #[cold]
    pub fn setting_without_dot(setting: &str) -> Error {
        let message = format!(
            "`{setting}` may be a setting of PostgreSQL's own, which a carried value must not change; name one of the \
             program with a dot, such as `core.{setting}`"
        );
        Error::new(ErrorKind::Unsupported, message)
    }

    /// A failure that the driver told of.
    #[cold]
    pub fn of_driver(kind: ErrorKind, cause: impl Into<Cause>) -> Error {
        let message = match kind {
            ErrorKind::Locked => "somebody else holds a lock for longer than is waited",
            ErrorKind::ConnectionLost => "the connection to the database was lost",
            ErrorKind::StatementTimeout => "the statement ran too long and was stopped",
            ErrorKind::Conflict => {
                "the transaction met another in a way that cannot be completed; begin it again"
            }
            _ => "the database refused the statement",
        };
        Error::new(kind, message).caused_by(cause)
    }
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let inner = &self.0;
        if let Some(place) = &inner.place {
            f.write_str(place)?;
            if let Some(row) = inner.row {
                write!(f, ", row {row}")?;
            }
            f.write_str(": ")?;
        }
        match &inner.violation {
            Some(violation) => violation.tell(inner.kind, f)?,
            None => f.write_str(&inner.message)?,
        }
        if let (None, Some(row)) = (&inner.place, inner.row) {
            write!(f, ", by row {row}")?;
        }
        if f.alternate() {
            let mut told = inner.message.to_string();
            let mut cause = self.source();
            while let Some(next) = cause {
                let text = next.to_string();
                // Drivers are fond of telling their own cause in their text too.
                if !told.contains(&text) {
                    write!(f, ": {text}")?;
                    told = text;
                }
                cause = next.source();
            }
        }
        if let Some(sql) = &inner.sql {
            write!(f, "; the SQL was `{sql}`")?;
        }
        if let Some(origin) = inner.origin {
            write!(f, "; asked for at {origin}")?;
        }
        Ok(())
    }
}

impl fmt::Debug for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Inner { kind, message, place, row, sql, origin, cause, .. } = &*self.0;
        f.debug_struct("Error")
            .field("kind", kind)
            .field("message", message)
            .field("place", place)
            .field("row", row)
            .field("sql", sql)
            .field("origin", origin)
            .field("cause", cause)
            .finish()
    }
}

impl StdError for Error {
    fn source(&self) -> Option<&(dyn StdError + 'static)> {
        self.0.cause.as_deref().map(|cause| cause as _)
    }
}
