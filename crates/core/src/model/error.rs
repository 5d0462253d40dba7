//! The one error of the workspace: a kind, a message, the place, and the next step.
//!
//! All messages stand in this file, so that they read alike: lower case, no full stop, names and values in
//! backticks, and the next step where there is one.

use std::borrow::Cow;
use std::error::Error as StdError;
use std::fmt;
use std::time::Duration;

use crate::model::{BindValue, Cell, ColumnInfo, Mistake, Origin};

type Cause = Box<dyn StdError + Send + Sync>;

/// The kind of a failure, for code that acts on it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum ErrorKind {
    /// A query that must return a row returned none.
    NotFound,
    /// A query that may return at most one row returned more.
    MoreThanOne,
    /// A value that arrived does not fit the Rust type that it is read into.
    Mismatch,
    /// A value cannot be sent to a database: NaN, text with a NUL character, a year outside 1 to 9999.
    RefusedValue,
    /// The dialect has no SQL with the same meaning.
    Unsupported,
    /// The query is nested deeper than every engine allows.
    TooDeep,
    /// A query uses a column of a table that is not part of it.
    ColumnNotInQuery,
    /// The parts of a query do not fit together.
    InvalidQuery,
    /// A policy or a carried column needs a value that the handle does not carry.
    MissingCarried,
    /// An update expected a version that the row no longer has: another writer has changed the row since it
    /// was read.
    StaleVersion,
    /// Another row already has this value in a key or a unique column.
    UniqueViolation,
    /// A written row refers to a row that does not exist, or that a policy hides from this handle.
    ParentNotFound,
    /// A row cannot be deleted, or its key changed, because other rows refer to it.
    StillReferenced,
    /// A foreign key is violated, and the database does not report which side of it: the row that refers to
    /// another, or the row that is referred to.
    ForeignKeyViolation,
    /// A written row would not satisfy a policy of its table.
    PolicyViolation,
    /// The handle requires policies, and a statement reads or writes a table without one.
    PoliciesRequired,
    /// A row violates a CHECK constraint of its table.
    CheckViolation,
    /// A NOT NULL column was given no value.
    NotNullViolation,
    /// An interceptor of the handle refused the statement.
    Refused,
    /// A filter, a sort, a list of properties or totals that arrived as text is not what an offer allows;
    /// [`Error::mistake`] has the place.
    InvalidRequest,
    /// An offer has a name that cannot be one, or one name twice.
    InvalidOffer,
    /// A page of this size or number cannot be read, or the cursor belongs to another query.
    InvalidPage,
    /// A row that the query requires is missing: a reference leads nowhere.
    RequiredRowMissing,
    /// The database could not be opened or reached.
    Connection,
    /// The connection was lost while a statement ran or between two statements.
    ConnectionLost,
    /// No connection of the pool became free in time.
    PoolExhausted,
    /// The statement ran longer than the handle allows and was stopped.
    StatementTimeout,
    /// The transaction conflicts with a concurrent one: a serialization failure or a deadlock. It may succeed
    /// when it is run again from the start.
    Conflict,
    /// The transaction has ended, by the program or by an earlier error, and accepts no more statements.
    TransactionEnded,
    /// The transaction is busy: an inner transaction or a stream of it is open, or the handle outside the
    /// transaction was used inside it. The statement was not sent, and nothing is rolled back.
    TransactionBusy,
    /// The connection was lost during a commit, or during a write outside a transaction, so the write may
    /// have been done or not. Check before you repeat it. The name is that of SQLSTATE 08007.
    TransactionResolutionUnknown,
    /// Another transaction holds a lock for longer than the handle waits.
    Locked,
    /// The database refused the statement, or failed while it ran.
    Database,
}

/// The error of every call: a kind, a message with its context, and the cause where there is one.
///
/// `Display` shows the message and the place without the cause, which is in [`source`](StdError::source). The
/// alternate form `{:#}` shows the whole chain in one line.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64, name: String }
///
/// let err = Lab::rows().filter(|l| l.name.eq("a\0b")).sql(Dialect::Sqlite).unwrap_err();
/// assert_eq!(err.kind(), ErrorKind::RefusedValue);
/// ```
pub struct Error(pub(super) Box<Inner>);

#[derive(Debug)]
pub(super) struct Inner {
    kind: ErrorKind,
    message: Cow<'static, str>,
    /// The table and column at fault, if there is one; shown before the message.
    pub(super) place: Option<Box<str>>,
    row: Option<u64>,
    sql: Option<Box<str>>,
    origin: Option<Origin>,
    cause: Option<Cause>,
    violation: Option<Violation>,
    mistake: Option<Mistake>,
}

/// A violated constraint, as the database reports it.
#[doc(hidden)]
#[derive(Debug, Clone, Default)]
pub struct Violation {
    pub constraint: Option<String>,
    pub table: Option<String>,
    pub column: Option<String>,
}

impl Violation {
    /// Writes which constraint is violated, as far as the database reports it.
    fn tell(&self, kind: ErrorKind, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let table = self.table.as_deref().unwrap_or("a table");
        match (kind, &self.column) {
            (ErrorKind::UniqueViolation, Some(column)) => {
                write!(f, "another row of `{table}` already has the same `{column}`")?;
            }
            (ErrorKind::UniqueViolation, None) => {
                write!(f, "another row of `{table}` already has the same key or unique value")?;
            }
            (ErrorKind::ForeignKeyViolation, _) => {
                write!(f, "a row of `{table}` refers to a missing row, or is still referred to")?;
            }
            (ErrorKind::ParentNotFound, Some(column)) => {
                write!(
                    f,
                    "a row of `{table}` refers by `{column}` to a row that does not exist or is hidden"
                )?;
            }
            (ErrorKind::ParentNotFound, None) => {
                write!(f, "a row of `{table}` refers to a row that does not exist or is hidden")?;
            }
            (ErrorKind::StillReferenced, _) => {
                write!(f, "rows of `{table}` still refer to the row")?;
            }
            (ErrorKind::CheckViolation, _) => {
                write!(f, "a row of `{table}` violates a CHECK constraint")?
            }
            (ErrorKind::NotNullViolation, Some(column)) => {
                write!(f, "the column `{column}` of `{table}` cannot be NULL")?;
            }
            _ => write!(f, "a row of `{table}` violates a constraint")?,
        }
        match &self.constraint {
            Some(constraint) => write!(f, " (constraint `{constraint}`)"),
            None => Ok(()),
        }
    }
}

impl Error {
    pub(super) fn new(kind: ErrorKind, message: impl Into<Cow<'static, str>>) -> Error {
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
            mistake: None,
        }))
    }

    /// Returns the kind of the failure.
    pub fn kind(&self) -> ErrorKind {
        self.0.kind
    }

    /// Returns the name of the violated constraint, if the database reports it. SQLite names CHECK
    /// constraints only; no engine names NOT NULL constraints.
    pub fn constraint(&self) -> Option<&str> {
        self.0.violation.as_ref()?.constraint.as_deref()
    }

    /// Returns the mistake in a text that arrived from outside, with its place, for kind
    /// [`InvalidRequest`](ErrorKind::InvalidRequest).
    pub fn mistake(&self) -> Option<&Mistake> {
        self.0.mistake.as_ref()
    }

    pub(crate) fn with_mistake(mut self, mistake: Mistake) -> Error {
        self.0.mistake = Some(mistake);
        self
    }

    /// Returns the table whose constraint is violated, if the database reports it.
    pub fn table(&self) -> Option<&str> {
        self.0.violation.as_ref()?.table.as_deref()
    }

    /// Returns the column whose constraint is violated, or several with commas between. Every engine reports
    /// it for NOT NULL, and SQLite for unique columns too.
    pub fn column(&self) -> Option<&str> {
        self.0.violation.as_ref()?.column.as_deref()
    }

    /// Adds `before` to the number of the row at fault.
    #[doc(hidden)]
    pub fn after_rows(mut self, before: u64) -> Error {
        self.0.row = self.0.row.map(|row| row + before);
        self
    }

    /// Adds the violated constraint.
    #[doc(hidden)]
    pub fn violating(mut self, violation: Violation) -> Error {
        self.0.violation = Some(violation);
        self
    }

    /// Adds the table of a violated constraint, where the database did not report it.
    #[doc(hidden)]
    pub fn violating_of(mut self, table: &str) -> Error {
        if let Some(violation) = &mut self.0.violation {
            violation.table.get_or_insert_with(|| table.to_owned());
        }
        self
    }

    /// Makes a violated foreign key more precise: as one of a row that refers to another, or of a row that is
    /// referred to.
    #[doc(hidden)]
    #[must_use]
    pub fn of_foreign_key(mut self, kind: ErrorKind) -> Error {
        if self.0.kind == ErrorKind::ForeignKeyViolation {
            self.0.kind = kind;
        }
        self
    }

    /// Returns the SQL text that was run, if there was one. It never contains values.
    pub fn sql(&self) -> Option<&str> {
        self.0.sql.as_deref()
    }

    /// Returns what went wrong and its causes, without the SQL, the line of the program and the number of the row: for people
    /// who wrote none of these.
    ///
    /// ```
    /// use nepheline::blocking::Database;
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64 }
    /// let db = Database::open("sqlite::memory:")?;
    /// let err = db.read(&Lab::rows()).unwrap_err();
    /// assert!(err.summary().to_string().starts_with("the database refused the statement: no such table: lab"));
    /// # Ok::<(), Error>(())
    /// ```
    pub fn summary(&self) -> impl fmt::Display {
        struct Summary<'e>(&'e Error);
        impl fmt::Display for Summary<'_> {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                self.0.tell_message(f)?;
                self.0.tell_causes(f)
            }
        }
        Summary(self)
    }

    fn tell_message(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (&self.0.violation, &self.0.mistake) {
            (Some(violation), _) => violation.tell(self.0.kind, f),
            (None, Some(mistake)) => write!(f, "{mistake}"),
            (None, None) => f.write_str(&self.0.message),
        }
    }

    fn tell_causes(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut told = self.0.message.to_string();
        let mut cause = self.source();
        while let Some(next) = cause {
            let text = next.to_string();
            // Drivers often repeat their own cause in their text.
            if !told.contains(&text) {
                write!(f, ": {text}")?;
                told = text;
            }
            cause = next.source();
        }
        Ok(())
    }

    /// Returns the line of the program that asked for the query or clause at fault.
    pub fn origin(&self) -> Option<Origin> {
        self.0.origin
    }

    /// Returns the number of the row at fault, counted from 1 in the order in which the rows arrived.
    pub fn row(&self) -> Option<u64> {
        self.0.row
    }

    /// Adds the number of the row that was read. The first number given is kept.
    #[doc(hidden)]
    #[must_use]
    pub fn at_row(mut self, row: u64) -> Error {
        self.0.row.get_or_insert(row);
        self
    }

    /// Adds the SQL that was run.
    #[doc(hidden)]
    #[must_use]
    pub fn in_sql(mut self, sql: &str) -> Error {
        self.0.sql.get_or_insert_with(|| sql.into());
        self
    }

    /// Adds the line of the program that asked for it. The first line given is kept, because it is the most
    /// precise.
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

/// The messages of core.
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

    /// Returns the error for a cell that is read under a name which is known at run time.
    #[cold]
    pub(crate) fn mismatch_of_name(name: &str, expected: &str, found: Cell<'_>) -> Error {
        let mut err = Error::mismatch_in_result(expected, found);
        err.0.place = Some(format!("the value `{name}`").into());
        err
    }

    /// Returns the error for a table or column that a catalog does not have; `what` says which.
    #[doc(hidden)]
    #[cold]
    pub fn unknown_name(what: &str, name: &str, known: &[&str]) -> Error {
        let nearest = known
            .iter()
            .min_by_key(|known| strsim::osa_distance(name, known));
        let nearest =
            nearest.filter(|nearest| strsim::osa_distance(name, nearest) <= 1 + nearest.len() / 4);
        let message = match (nearest, known) {
            (Some(nearest), _) => format!("unknown {what} `{name}`; did you mean `{nearest}`?"),
            (None, []) => format!("unknown {what} `{name}`; there are none"),
            (None, known) => format!("unknown {what} `{name}`; there are: {}", known.join(", ")),
        };
        Error::new(ErrorKind::InvalidRequest, message)
    }

    #[cold]
    pub(crate) fn invalid_offer(message: String) -> Error {
        Error::new(ErrorKind::InvalidOffer, message)
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
            "the conditions are nested more than 400 levels deep; combine long lists with `all_of` or \
             `any_of`, which stay flat",
        )
    }

    #[cold]
    pub(crate) fn too_many_subqueries(most: usize) -> Error {
        let message = format!(
            "queries are nested more than {most} levels deep, which engines refuse; split the query"
        );
        Error::new(ErrorKind::TooDeep, message)
    }

    #[cold]
    pub(crate) fn too_many_references() -> Error {
        Error::new(
            ErrorKind::TooDeep,
            "a path follows more than 8 references; make a part of it a query of its own, with \
             `one_of`",
        )
    }

    #[cold]
    pub(crate) fn invalid_query(reason: &str) -> Error {
        Error::new(ErrorKind::InvalidQuery, format!("the query is not valid: {reason}"))
    }

    #[cold]
    pub(crate) fn missing_carried(policy: &str, table: &str, value: &str) -> Error {
        let message = format!(
            "the policy `{policy}` of `{table}` needs a `{value}`, which the handle does not carry; pass it to \
             `carrying(..)`"
        );
        Error::new(ErrorKind::MissingCarried, message)
    }

    #[cold]
    pub(crate) fn missing_carried_column(column: &ColumnInfo, value: &str) -> Error {
        let message = format!(
            "the column `{}` of `{}` takes its value from a `{value}`, which the handle does not carry; pass it to \
             `carrying(..)`",
            column.name(),
            column.table()
        );
        Error::new(ErrorKind::MissingCarried, message)
    }

    /// Returns the error for a statement that an interceptor refused.
    #[doc(hidden)]
    #[cold]
    pub fn refused_by_interceptor(reason: &str) -> Error {
        Error::new(ErrorKind::Refused, format!("an interceptor refused the statement: {reason}"))
    }

    #[doc(hidden)]
    #[cold]
    pub fn cannot_copy() -> Error {
        Error::new(ErrorKind::Database, "the table accepts INSERT but not COPY")
    }

    #[doc(hidden)]
    #[cold]
    pub fn unfit_trace_parent(text: &str) -> Error {
        let message = format!(
            "{text:?} is not a `traceparent` of W3C Trace Context, such as \
             `00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01`"
        );
        Error::new(ErrorKind::RefusedValue, message)
    }

    #[doc(hidden)]
    #[cold]
    pub fn missing_session_value(setting: &str, value: &str) -> Error {
        let message = format!(
            "the session setting `{setting}` takes its value from a `{value}`, which the handle does not carry; pass it \
             to `carrying(..)`"
        );
        Error::new(ErrorKind::MissingCarried, message)
    }

    #[doc(hidden)]
    #[cold]
    pub fn session_setting_outside_transaction() -> Error {
        let message = "session settings of a handle apply in transactions only; run the statement in a transaction";
        Error::new(ErrorKind::Unsupported, message)
    }

    #[doc(hidden)]
    #[cold]
    pub fn no_session_settings(dialect: impl fmt::Display) -> Error {
        let way_out = "declare a policy on the table instead";
        Error::unsupported("a session setting with a carried value", &dialect.to_string(), way_out)
    }

    /// Returns the error for a write of several statements on a connection that belongs to the program.
    #[doc(hidden)]
    #[cold]
    pub fn needs_transaction() -> Error {
        let message = "this write takes several statements, and a session over a connection of the program cannot \
                       put them into a transaction; write fewer rows at once, or use a `Database`";
        Error::new(ErrorKind::Unsupported, message)
    }

    /// Returns the error for a row that another writer has changed since it was read.
    #[doc(hidden)]
    #[cold]
    pub fn stale_version(table: &str) -> Error {
        let message = format!(
            "no row of `{table}` has the expected version: it was changed or deleted after it was read; read it \
             again"
        );
        Error::new(ErrorKind::StaleVersion, message)
    }

    /// Returns the error for a written row whose reference leads to no row that the handle sees.
    #[cold]
    pub(crate) fn parent_not_found(table: &str, column: Option<String>) -> Error {
        let message = "a written row refers to a row that does not exist or is hidden";
        let violation = Violation { constraint: None, table: Some(table.to_owned()), column };
        Error::new(ErrorKind::ParentNotFound, message).violating(violation)
    }

    /// Returns the error for a written row that its table's policies do not allow.
    #[cold]
    pub(crate) fn policy_violation(table: &str, policies: &[&str]) -> Error {
        let names = policies.join("`, `");
        let message = format!(
            "a written row of `{table}` would not satisfy its policy `{names}`; write rows that this handle may see, or \
             use `waive_check`"
        );
        Error::new(ErrorKind::PolicyViolation, message)
    }

    #[cold]
    pub(crate) fn policies_required(table: &str, value: &str) -> Error {
        let message = format!(
            "this handle requires policies that need a `{value}`, and no policy of `{table}` or of the tables that its \
             policies ask does; declare one, or mark the table `open_to_all`"
        );
        Error::new(ErrorKind::PoliciesRequired, message)
    }

    #[cold]
    pub(crate) fn text_outside_policies(value: &str, declaration: &str) -> Error {
        let message = format!(
            "this handle requires policies that need a `{value}`, and hand-written text may read any table; {declaration}"
        );
        Error::new(ErrorKind::PoliciesRequired, message)
    }

    /// Returns the error for a plan, which tells of rows that policies hide.
    #[doc(hidden)]
    #[cold]
    pub fn plan_outside_policies() -> Error {
        let message = "this handle requires policies, and a plan tells the numbers of rows that they hide; explain \
                       `query.outside_policies()` if that is intended";
        Error::new(ErrorKind::PoliciesRequired, message)
    }

    /// Returns the error for a row that refers to a row of another table which does not exist.
    #[cold]
    pub(crate) fn required_row_missing(
        [table, row, by]: [&str; 3],
        [target, missing]: [&str; 2],
    ) -> Error {
        let row = if row.is_empty() { String::new() } else { format!(" with {row}") };
        let message = format!(
            "the row{row} refers to table `{target}` by {by}, but that table has no row with {missing}"
        );
        let mut err = Error::new(ErrorKind::RequiredRowMissing, message);
        err.0.place = Some(format!("table `{table}`").into());
        err
    }

    #[cold]
    pub(crate) fn column_not_in_query(column: &ColumnInfo) -> Error {
        Error::new(
            ErrorKind::ColumnNotInQuery,
            format!(
                "column `{}` belongs to a query over `{}` that is not part of this one; use the columns \
                 that the closure receives",
                column.name(),
                column.table()
            ),
        )
    }
}

/// The messages of the crate `nepheline`, kept beside the others.
#[doc(hidden)]
impl Error {
    #[cold]
    pub fn not_found(table: &str, key: Option<String>) -> Error {
        let message = match key {
            Some(key) => format!("table `{table}` has no row with {key}"),
            None => format!("no row of table `{table}` matches, but one is required"),
        };
        Error::new(ErrorKind::NotFound, message)
    }

    #[cold]
    pub fn more_than_one(table: &str) -> Error {
        Error::new(
            ErrorKind::MoreThanOne,
            format!(
                "more than one row of table `{table}` matches, but at most one is expected; add a \
                 filter, or use `read_first` with an order"
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

    /// Returns the error for a URL of an unknown form. It may contain a password anywhere, so only its scheme is repeated.
    #[cold]
    pub fn unknown_scheme(scheme: Option<&str>) -> Error {
        let found = match scheme {
            Some(scheme) => format!("starts with `{scheme}:`"),
            None => "has no scheme".to_owned(),
        };
        let message = format!(
            "the database URL {found}; it must start with `sqlite:`, `postgres://`, `mysql://` or `mariadb://`"
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
            "none of the pool's {size} connections became free or could be opened in time; hold connections for a shorter \
             time, or raise `pool_size`"
        );
        Error::new(ErrorKind::PoolExhausted, message)
    }

    /// Returns the error for a call that exceeded its time limit before its next statement.
    #[cold]
    pub fn call_over(longest: Duration) -> Error {
        let message = format!(
            "the time limit of this call, {longest:?}, ended before the statement was sent; raise it with `time_limit`, or \
             split the call"
        );
        Error::new(ErrorKind::StatementTimeout, message)
    }

    /// Returns the error for a statement to which the database gave no answer, not even that it ran too long.
    #[cold]
    pub fn unanswered(longest: Duration) -> Error {
        let message = format!(
            "no answer arrived within the time limit of {longest:?} and one more second; the connection was closed"
        );
        Error::new(ErrorKind::StatementTimeout, message)
    }

    /// Returns the error for a handle that was closed.
    #[cold]
    pub fn closed() -> Error {
        Error::new(ErrorKind::Connection, "this database handle is closed; open the database again")
    }

    /// Returns the error for a function of the program that was called for a user name and a password, and failed.
    #[cold]
    pub fn no_credentials(cause: impl Into<Cause>) -> Error {
        let message = "the function for the credentials of a new connection failed";
        Error::new(ErrorKind::Connection, message).caused_by(cause)
    }

    /// Returns the error for a server that accepts no more prepared statements, although this program has closed all that
    /// it can.
    #[cold]
    pub fn too_many_statements() -> Error {
        let message = "the server has reached its limit of prepared statements (`max_prepared_stmt_count`), and this \
                       program has none left to close; raise the limit, or lower `statements_kept` or `pool_size` in \
                       the programs that use this server";
        Error::new(ErrorKind::Database, message)
    }

    /// Returns the error for a SQLite file that was replaced after it was opened.
    #[cold]
    pub fn file_replaced(path: &str) -> Error {
        let message = format!(
            "the file `{path}` was deleted or replaced after it was opened, so changes would be lost; open it again"
        );
        Error::new(ErrorKind::ConnectionLost, message)
    }

    #[cold]
    pub fn invalid_page(reason: &'static str) -> Error {
        Error::new(ErrorKind::InvalidPage, reason)
    }

    #[cold]
    pub fn stream_needs_two(place: &str) -> Error {
        let message = format!(
            "rows with companions cannot be streamed in {place}, because companions need a second connection; use \
             `read`, or read in pages"
        );
        Error::new(ErrorKind::Unsupported, message)
    }

    #[cold]
    pub fn too_large(size: usize, most: usize) -> Error {
        let message = format!(
            "the statement and its values take about {size} bytes, but the server accepts {most} \
             (`max_allowed_packet`); send fewer values at a time"
        );
        Error::new(ErrorKind::RefusedValue, message)
    }

    #[cold]
    pub fn wrong_placeholders(asked: usize, given: usize) -> Error {
        let message = format!(
            "the text has {asked} placeholders for {given} values; trusted text must not contain placeholders \
             (`?`, `:name`, `@name`, `$name`)"
        );
        Error::new(ErrorKind::Database, message)
    }

    #[cold]
    pub fn wrong_answer(warning: String) -> Error {
        let message = format!("the server returned a wrong result, as its warning says: {warning}");
        Error::new(ErrorKind::Database, message)
    }

    #[cold]
    pub fn transaction_ended(why: &str) -> Error {
        Error::new(ErrorKind::TransactionEnded, format!("this transaction has ended: {why}"))
    }

    /// Returns the error for a statement of a transaction while something inside it is open.
    #[cold]
    pub fn transaction_busy(open: &str) -> Error {
        let message = format!(
            "{open} of this transaction is open, and a connection runs one thing at a time; end it first"
        );
        Error::new(ErrorKind::TransactionBusy, message)
    }

    /// Returns the error for the handle that began a transaction, used inside that transaction.
    #[cold]
    pub fn outer_handle() -> Error {
        let message = "the database's own handle was used inside one of its transactions, where it would take another \
                       connection outside the transaction; use the handle that the closure receives, or spawn a \
                       task";
        Error::new(ErrorKind::TransactionBusy, message)
    }

    /// Returns the same error for a statement whose effect is unknown because its answer was lost.
    #[cold]
    pub fn resolution_unknown(mut self) -> Error {
        self.0.kind = ErrorKind::TransactionResolutionUnknown;
        self.0.message = "the answer was lost, so it is unknown whether this was done; check before you repeat it"
            .into();
        self
    }

    #[cold]
    pub fn too_many_binds(given: usize, most: usize) -> Error {
        let message = format!(
            "the statement binds {given} values, but the protocol of this server allows {most}; send fewer rows or \
             values at a time"
        );
        Error::new(ErrorKind::RefusedValue, message)
    }

    #[cold]
    pub fn setting_without_dot(setting: &str) -> Error {
        let message = format!(
            "`{setting}` may be one of PostgreSQL's own settings, which a carried value must not change; use a name with \
             a dot, such as `core.{setting}`"
        );
        Error::new(ErrorKind::Unsupported, message)
    }

    /// Returns the error for a failure of the driver.
    #[cold]
    pub fn of_driver(kind: ErrorKind, cause: impl Into<Cause>) -> Error {
        let message = match kind {
            ErrorKind::Locked => {
                "another transaction holds a lock for longer than the lock timeout"
            }
            ErrorKind::ConnectionLost => "the connection to the database was lost",
            ErrorKind::StatementTimeout => "the statement ran too long and was stopped",
            ErrorKind::Conflict => {
                "the transaction conflicts with a concurrent one; run it again from the start"
            }
            _ => "the database refused the statement",
        };
        Error::new(kind, message).caused_by(cause)
    }
}

/// The number of characters of the SQL in the message of a statement that ran too long.
const MOST_SHOWN: usize = 500;

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
        self.tell_message(f)?;
        if let (None, Some(row)) = (&inner.place, inner.row) {
            write!(f, ", by row {row}")?;
        }
        if f.alternate() {
            self.tell_causes(f)?;
        }
        if let Some(sql) = &inner.sql {
            match sql.char_indices().nth(MOST_SHOWN) {
                // A report that runs too long has a long text, and its begin tells which one it is.
                Some((end, _)) if inner.kind == ErrorKind::StatementTimeout => {
                    let (begin, _) = sql.split_at(end);
                    write!(f, "; the SQL began with `{begin}`")?;
                }
                _ => write!(f, "; the SQL was `{sql}`")?,
            }
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
