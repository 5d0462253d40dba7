//! The settings of a handle: the carried values, the interceptors, and the limits.

use std::any::{Any, type_name};
use std::fmt::{self, Display};
use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;
use nepheline_core::internal::{CompileContext, Statement};
use nepheline_core::{BindValue, Carried, Dialect, Error, Operation};

use crate::exec::limit::CallLimit;
use crate::observe::interceptor::{Interceptor, Interceptors, Running};
use crate::observe::trace_context::TraceContext;

/// The methods that return a handle with a changed setting, documented once for all handles. `this` is the
/// receiver; the handle has a method `set`.
macro_rules! set_by {
    ([$($this:tt)+] $self:ident -> $handle:ty) => {
        /// Returns the same handle with a carried value, such as the tenant or the user, for policies and
        /// carried columns. Its transactions carry it too. A handle has one value of each type: a later one
        /// replaces an earlier one.
        ///
        /// ```no_run
        /// # struct AgencyId(i64);
        /// # fn f(db: nepheline::Database) {
        /// let db = db.carrying(AgencyId(3));
        /// # }
        /// ```
        pub fn carrying<V: ::std::any::Any + Send + Sync>($($this)+, value: V) -> $handle {
            $self.set(|setting| setting.carrying(value))
        }

        /// Returns the same handle, which requires that a policy needs a carried `V` on every table that it reads or
        /// writes: a policy of the table itself, or of a table that its policies ask. All handles made from it
        /// require it too, and none gives it up. Tables that everybody shares are marked
        /// `#[nepheline(open_to_all)]`.
        ///
        /// It catches a second struct over a table without its policies, bridge tables without any, and hand-written
        /// SQL: a fragment must be declared to read its arguments only
        /// ([`of_arguments_only`](crate::Verbatim::of_arguments_only)), and plans, which tell the numbers of
        /// hidden rows, are for [`outside_policies`](crate::Readable::outside_policies).
        ///
        /// # Errors
        ///
        /// Statements outside are refused with [`PoliciesRequired`](crate::ErrorKind::PoliciesRequired).
        ///
        /// ```no_run
        /// # struct AgencyId(i64);
        /// # fn f(db: nepheline::Database, agency: i64) {
        /// let db = db.policies_required::<AgencyId>();   // once, where the program opens the database
        /// let of_request = db.carrying(AgencyId(agency));
        /// # }
        /// ```
        pub fn policies_required<V: ::std::any::Any>($($this)+) -> $handle {
            $self.set(|setting| setting.policies_required::<V>())
        }

        /// Returns the same handle, whose tables are in this schema unless they name one themselves: a tenant with a
        /// schema of its own. Its transactions are in it too. The name is quoted in each statement, so that the text of a
        /// statement, and what is cached for it, belongs to one schema. On MariaDB and MySQL a schema is a
        /// database, on SQLite an attached file.
        ///
        /// Hand-written SQL finds names in it, and nowhere else, through the search path on PostgreSQL. On other
        /// engines it must write `{schema}.` before them, and is refused otherwise.
        ///
        /// ```no_run
        /// # fn f(db: nepheline::Database) -> Result<(), nepheline::Error> {
        /// let db = db.in_schema("tenant_7")?;
        /// let count = nepheline::statement!("SELECT count(*) FROM {schema}.specimen").rows_as::<i64>();
        /// # Ok(())
        /// # }
        /// ```
        ///
        /// # Errors
        ///
        /// [`InvalidQuery`](crate::ErrorKind::InvalidQuery) for a name that is empty, longer than 63 bytes, or has a
        /// NUL character.
        pub fn in_schema($($this)+, schema: impl Into<String>) -> Result<$handle, nepheline_core::Error> {
            let schema = crate::access::setting::checked_schema(schema.into())?;
            Ok($self.set(|setting| setting.in_schema(schema)))
        }

        /// Returns the same handle with an interceptor around its statements, after those that it has
        /// already. Its transactions have it too. See [`Interceptor`](crate::Interceptor).
        pub fn intercepted_by($($this)+, interceptor: impl crate::Interceptor) -> $handle {
            $self.set(|setting| setting.intercepted_by(interceptor))
        }

        /// Returns the same handle, which logs its statements and those of its transactions in `record`.
        pub fn logging_to($($this)+, record: &crate::StatementLog) -> $handle {
            $self.set(|setting| setting.intercepted_by(record.clone()))
        }

        /// Returns the same handle with a budget: it runs this number of verbs and refuses the next with
        /// [`Refused`](crate::ErrorKind::Refused), naming the lines of those before. Clones of the handle and
        /// its transactions share the budget. A verb counts once, however many statements the engine needs
        /// for it, and each of its companions counts once.
        ///
        /// ```no_run
        /// # fn page(db: &nepheline::Database) {
        /// let db = db.budget(3); // a page of this service costs three reads at most
        /// # }
        /// ```
        pub fn budget($($this)+, verbs: usize) -> $handle {
            $self.set(|setting| setting.intercepted_by(crate::observe::interceptor::Budget::of(verbs)))
        }
    };
}

/// The method that limits the time of calls, for handles whose connections the library opens.
macro_rules! set_by_time_limit {
    ([$($this:tt)+] $self:ident -> $handle:ty) => {
        /// Returns the same handle with a time limit for each call, including the wait for a connection. It
        /// replaces `statement_timeout`, also with a longer time. Transactions inherit it: each call in them
        /// has this time, and so have BEGIN and COMMIT.
        ///
        /// The database stops a statement that exceeds the limit. If it does not answer at all, the call
        /// gives up a second later, and the connection is closed. While a stream is read, each wait for its
        /// next rows is limited.
        ///
        /// On PostgreSQL and MariaDB, a connection that had another limit costs one more round trip.
        ///
        /// # Errors
        ///
        /// [`StatementTimeout`](crate::ErrorKind::StatementTimeout) if the statement was stopped;
        /// [`PoolExhausted`](crate::ErrorKind::PoolExhausted) if no connection became free;
        /// [`TransactionResolutionUnknown`](crate::ErrorKind::TransactionResolutionUnknown) for a commit, or
        /// a write outside a transaction, that received no answer.
        ///
        /// ```no_run
        /// # use std::time::Duration;
        /// # fn page(db: &nepheline::Database) {
        /// let db = db.time_limit(Duration::from_millis(800));
        /// # }
        /// ```
        pub fn time_limit($($this)+, longest: ::std::time::Duration) -> $handle {
            $self.set(|setting| setting.within(longest))
        }
    };
}

/// The method that copies a carried value into a session setting, for handles that begin transactions.
macro_rules! set_by_session_setting {
    ([$($this:tt)+] $self:ident -> $handle:ty) => {
        /// Returns the same handle, whose transactions copy a carried value into a setting of the PostgreSQL
        /// session. Row-level security policies of the database can then read it with
        /// `nullif(current_setting('core.agency', true), '')`. The setting ends with the transaction, after
        /// which it is empty text. Its name must contain a dot, as settings of programs do.
        ///
        /// # Errors
        ///
        /// On this handle, a transaction without the carried value fails with
        /// [`MissingCarried`](crate::ErrorKind::MissingCarried). A statement outside a transaction, or on
        /// another engine, fails with [`Unsupported`](crate::ErrorKind::Unsupported).
        pub fn session_setting<V: ::std::any::Any + ::std::fmt::Display>(
            $($this)+,
            setting_name: &'static str,
        ) -> $handle {
            $self.set(|setting| setting.session_setting::<V>(setting_name))
        }
    };
}

pub(crate) use {set_by, set_by_session_setting, set_by_time_limit};

/// The settings of a handle, which its transactions inherit.
#[derive(Debug, Clone, Default)]
pub(crate) struct Setting {
    carried: Carried,
    interceptors: Interceptors,
    in_transaction: bool,
    /// The session settings that each transaction sets.
    session_settings: Vec<SessionSetting>,
    /// The trace that statements belong to; it is also among the carried values.
    trace: Option<TraceContext>,
    /// The time limit of a call.
    time_limit: Option<Duration>,
    /// True if rows are never written by COPY.
    never_copies: bool,
    /// The schema of the tables that name none.
    schema: Option<Arc<str>>,
}

/// Returns a schema name that every engine accepts.
pub(crate) fn checked_schema(schema: String) -> Result<Arc<str>, Error> {
    let fault = match () {
        () if schema.is_empty() => "is empty",
        () if schema.len() > 63 => "is longer than 63 bytes, so PostgreSQL would cut it",
        () if schema.contains('\0') => "has a NUL character",
        () => return Ok(schema.into()),
    };
    Err(Error::unfit_schema(&schema, fault))
}

/// A session setting with the value of a carried type.
#[derive(Clone)]
struct SessionSetting {
    name: &'static str,
    type_name: &'static str,
    value: fn(&Carried) -> Option<String>,
}

impl fmt::Debug for SessionSetting {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "SessionSetting({} of {})", self.name, self.type_name)
    }
}

impl Setting {
    pub(crate) fn carrying<V: Any + Send + Sync>(&self, value: V) -> Setting {
        let trace = (&value as &dyn Any).downcast_ref::<TraceContext>().cloned();
        let trace = trace.or_else(|| self.trace.clone());
        Setting { carried: self.carried.with(value), trace, ..self.clone() }
    }

    pub(crate) fn policies_required<V: Any>(&self) -> Setting {
        Setting { carried: self.carried.requiring::<V>(), ..self.clone() }
    }

    pub(crate) fn intercepted_by(&self, interceptor: impl Interceptor) -> Setting {
        Setting { interceptors: self.interceptors.with(Arc::new(interceptor)), ..self.clone() }
    }

    pub(crate) fn in_schema(&self, schema: Arc<str>) -> Setting {
        Setting { schema: Some(schema), ..self.clone() }
    }

    pub(crate) fn within(&self, longest: Duration) -> Setting {
        Setting { time_limit: Some(longest), ..self.clone() }
    }

    pub(crate) fn never_copying(self, never_copies: bool) -> Setting {
        Setting { never_copies, ..self }
    }

    #[cfg(feature = "sqlite")]
    pub(crate) fn time_limit(&self) -> Option<Duration> {
        self.time_limit
    }

    /// Begins a call of the handle.
    #[inline]
    pub(crate) fn begin_call(&self) -> Option<CallLimit> {
        self.time_limit.map(CallLimit::beginning_now)
    }

    pub(crate) fn session_setting<V: Any + Display>(&self, name: &'static str) -> Setting {
        let value = |carried: &Carried| carried.get::<V>().map(ToString::to_string);
        let setting = SessionSetting { name, type_name: type_name::<V>(), value };
        let mut session_settings = self.session_settings.clone();
        session_settings.push(setting);
        Setting { session_settings, ..self.clone() }
    }

    /// Returns the statements that set the session settings at the begin of a transaction.
    pub(crate) fn session_statements(&self, dialect: Dialect) -> Result<Vec<Statement<'static>>, Error> {
        let grammar = dialect.grammar();
        let Some(text) = grammar.session_value() else {
            let session_settings = self.session_settings.is_empty();
            return if session_settings { Ok(Vec::new()) } else { Err(Error::no_session_settings(dialect)) };
        };
        let session_statements = self.session_settings.iter().map(|SessionSetting { name, type_name, value }| {
            // PostgreSQL reserves names with a dot for programs ("Customized Options").
            if !name.contains('.') {
                return Err(Error::setting_without_dot(name));
            }
            let value = value(&self.carried);
            let value = value.ok_or_else(|| Error::missing_session_value(name, type_name))?;
            let binds = vec![BindValue::Text((*name).into()), BindValue::Text(value.into())];
            Ok(Statement::of_text(grammar, text, binds).doing(Operation::Prepare))
        });
        session_statements.collect()
    }

    pub(crate) fn interceptors(&self) -> &Interceptors {
        &self.interceptors
    }

    pub(crate) fn in_transaction(&self) -> Setting {
        Setting { in_transaction: true, ..self.clone() }
    }

    pub(crate) fn context(&self, dialect: Dialect) -> CompileContext<'_> {
        CompileContext {
            grammar: dialect.grammar(),
            carried: &self.carried,
            time: Timestamp::now,
            stopped_at: None,
            // PostgreSQL refuses COPY on tables with row-level security, which the session settings are for.
            copies: self.session_settings.is_empty() && !self.never_copies,
            tells: false,
            kept: None,
            schema: self.schema.as_ref(),
        }
    }

    /// Begins a statement that is sent.
    #[inline]
    pub(crate) fn begin(
        &self,
        dialect: Dialect,
        statement: &mut Statement<'_>,
        counts: bool,
    ) -> Result<Running, Error> {
        if !self.session_settings.is_empty() {
            self.check_session_settings(dialect).map_err(|err| err.asked_at(statement.origin()))?;
        }
        if self.in_transaction && statement.commits_implicitly() {
            return Err(Error::commits_implicitly(dialect).asked_at(statement.origin()));
        }
        let running = self.interceptors.begin(dialect, statement, (&self.carried, self.in_transaction), counts)?;
        if let Some(trace) = &self.trace {
            trace.comment(statement);
        }
        Ok(running)
    }

    /// Begins a command of the library that begins or ends a transaction.
    #[inline]
    pub(crate) fn begin_command(
        &self,
        dialect: Dialect,
        text: &str,
        operation: Operation,
    ) -> Result<Running, Error> {
        match self.interceptors.are_there() {
            false => Ok(Running::unseen()),
            true => {
                let statement = Statement::of_text(dialect.grammar(), text, Vec::new()).doing(operation);
                self.interceptors.begin(dialect, &statement, (&self.carried, self.in_transaction), false)
            }
        }
    }

    #[cold]
    fn check_session_settings(&self, dialect: Dialect) -> Result<(), Error> {
        match dialect.grammar().session_value() {
            None => Err(Error::no_session_settings(dialect)),
            Some(_) if self.in_transaction => Ok(()),
            Some(_) => Err(Error::session_setting_outside_transaction()),
        }
    }
}
