//! What a handle is set to: what it carries for policies, and the gates around its statements.

use std::any::{Any, type_name};
use std::fmt::{self, Display};
use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;
use nepheline_core::internal::{Asking, Statement};
use nepheline_core::{BindValue, Carried, Dialect, Error, Operation};

use crate::exec::limit::CallLimit;
use crate::observe::gate::{Gate, Gates, Running};
use crate::observe::trace_context::TraceContext;

/// The methods that give a handle a setting, told once for all: `this` is how they take the handle, which
/// has a method `set`.
macro_rules! set_by {
    ([$($this:tt)+] $self:ident -> $handle:ty) => {
        /// The same handle, which carries a value, such as who is asking, for policies and fills; transactions
        /// that it begins carry it too. There is one of each type: a later one takes the place of an earlier.
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

        /// The same handle, whose statements pass a gate, after those that it has already, in its
        /// transactions too. See [`Gate`](crate::Gate).
        pub fn through($($this)+, gate: impl crate::Gate) -> $handle {
            $self.set(|setting| setting.through(gate))
        }

        /// The same handle, which notes in `record` what it runs, as its transactions do.
        pub fn recording_to($($this)+, record: &crate::Record) -> $handle {
            $self.set(|setting| setting.through(record.clone()))
        }

        /// The same handle, which lets so many verbs run, and refuses the next with an error of the kind
        /// [`Refused`](crate::ErrorKind::Refused) that names the lines of those before. Clones of the handle,
        /// and its transactions, share the budget. A verb counts once, whatever statements the engine takes for it, and
        /// each of its companions once.
        ///
        /// ```no_run
        /// # fn page(db: &nepheline::Database) {
        /// let db = db.budget(3); // a page of this service costs three reads at most
        /// # }
        /// ```
        pub fn budget($($this)+, verbs: usize) -> $handle {
            $self.set(|setting| setting.through(crate::observe::gate::Budget::of(verbs)))
        }
    };
}

/// The method that limits the time of calls, of handles whose connections are our own.
macro_rules! set_by_time_limit {
    ([$($this:tt)+] $self:ident -> $handle:ty) => {
        /// The same handle, each call of which has to be done within `longest`, waiting for a connection included. It
        /// takes the place of `statement_timeout`, also where it is longer, and transactions inherit it: there each
        /// call has as much time, and so have beginning and committing.
        ///
        /// The database stops the statement that runs into the limit. If it does not answer at all, the call gives up a
        /// second later, and the connection is closed. While a stream is read, each wait for its next rows is limited.
        ///
        /// On PostgreSQL and MariaDB a connection that was under another limit costs one more round trip.
        ///
        /// # Errors
        ///
        /// [`StatementTimeout`](crate::ErrorKind::StatementTimeout) if it was stopped;
        /// [`PoolExhausted`](crate::ErrorKind::PoolExhausted) if no connection came free; and
        /// [`TransactionResolutionUnknown`](crate::ErrorKind::TransactionResolutionUnknown) for a commit, or a write
        /// outside of a transaction, to which no answer came.
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

/// The method that mirrors what is carried, of handles that begin transactions.
macro_rules! set_by_mirroring {
    ([$($this:tt)+] $self:ident -> $handle:ty) => {
        /// The same handle, whose transactions tell the session of PostgreSQL a carried value, as a setting that
        /// is theirs alone, so that row security policies of the database itself can ask for it with
        /// `nullif(current_setting('core.agency', true), '')`: after the transaction it is empty text. The name
        /// has a dot in it, as settings of programs have.
        ///
        /// # Errors
        ///
        /// On the handle a transaction without the value is refused with
        /// [`MissingCarried`](crate::ErrorKind::MissingCarried), and a statement outside of a transaction, or on
        /// another engine, with [`Unsupported`](crate::ErrorKind::Unsupported).
        pub fn mirroring<V: ::std::any::Any + ::std::fmt::Display>(
            $($this)+,
            setting_name: &'static str,
        ) -> $handle {
            $self.set(|setting| setting.mirroring::<V>(setting_name))
        }
    };
}

pub(crate) use {set_by, set_by_mirroring, set_by_time_limit};

/// The setting of a handle, which its transactions inherit.
#[derive(Debug, Clone, Default)]
pub(crate) struct Setting {
    carried: Carried,
    gates: Gates,
    in_transaction: bool,
    /// What the session of a server is told of it in each transaction.
    mirrors: Vec<Mirror>,
    /// What each statement tells of the trace that it is part of; also among what is carried.
    trace: Option<TraceContext>,
    /// The time limit of a call.
    time_limit: Option<Duration>,
    /// True if rows are never copied into a table, only inserted.
    never_copies: bool,
}

/// A setting of the session that takes its value from what is carried.
#[derive(Clone)]
struct Mirror {
    name: &'static str,
    type_name: &'static str,
    value: fn(&Carried) -> Option<String>,
}

impl fmt::Debug for Mirror {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Mirror({} of {})", self.name, self.type_name)
    }
}

impl Setting {
    pub(crate) fn carrying<V: Any + Send + Sync>(&self, value: V) -> Setting {
        let trace = (&value as &dyn Any).downcast_ref::<TraceContext>().cloned();
        let trace = trace.or_else(|| self.trace.clone());
        Setting { carried: self.carried.with(value), trace, ..self.clone() }
    }

    pub(crate) fn through(&self, gate: impl Gate) -> Setting {
        Setting { gates: self.gates.with(Arc::new(gate)), ..self.clone() }
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

    /// To be called when a call of the handle begins.
    #[inline]
    pub(crate) fn begin_call(&self) -> Option<CallLimit> {
        self.time_limit.map(CallLimit::beginning_now)
    }

    pub(crate) fn mirroring<V: Any + Display>(&self, name: &'static str) -> Setting {
        let value = |carried: &Carried| carried.get::<V>().map(ToString::to_string);
        let mirror = Mirror { name, type_name: type_name::<V>(), value };
        let mut mirrors = self.mirrors.clone();
        mirrors.push(mirror);
        Setting { mirrors, ..self.clone() }
    }

    /// The statements that a transaction begins with, which tell the session what is carried.
    pub(crate) fn mirrored(&self, dialect: Dialect) -> Result<Vec<Statement<'static>>, Error> {
        let grammar = dialect.grammar();
        let Some(text) = grammar.session_value() else {
            let mirrors = self.mirrors.is_empty();
            return if mirrors { Ok(Vec::new()) } else { Err(Error::cannot_mirror(dialect)) };
        };
        let mirrored = self.mirrors.iter().map(|Mirror { name, type_name, value }| {
            // PostgreSQL keeps names with a dot for programs ("Customized Options").
            if !name.contains('.') {
                return Err(Error::setting_without_dot(name));
            }
            let value = value(&self.carried);
            let value = value.ok_or_else(|| Error::missing_mirrored(name, type_name))?;
            let binds = vec![BindValue::Text((*name).into()), BindValue::Text(value.into())];
            Ok(Statement::of_text(grammar, text, binds).doing(Operation::Prepare))
        });
        mirrored.collect()
    }

    pub(crate) fn in_transaction(&self) -> Setting {
        Setting { in_transaction: true, ..self.clone() }
    }

    pub(crate) fn asking(&self, dialect: Dialect) -> Asking<'_> {
        Asking {
            grammar: dialect.grammar(),
            carried: &self.carried,
            time: Timestamp::now,
            stopped_at: None,
            // Row security, which the mirrors are for, does not let rows be copied.
            copies: self.mirrors.is_empty() && !self.never_copies,
            tells: false,
            kept: None,
        }
    }

    /// To be called when a statement is sent.
    #[inline]
    pub(crate) fn begin(
        &self,
        dialect: Dialect,
        statement: &mut Statement<'_>,
        counts: bool,
    ) -> Result<Running, Error> {
        if !self.mirrors.is_empty() {
            self.check_mirrored(dialect).map_err(|err| err.asked_at(statement.origin()))?;
        }
        let running = self.gates.begin(dialect, statement, self.in_transaction, counts)?;
        if let Some(trace) = &self.trace {
            trace.comment(statement);
        }
        Ok(running)
    }

    /// To be called when text of our own is sent that begins or ends a transaction.
    #[inline]
    pub(crate) fn begin_command(
        &self,
        dialect: Dialect,
        text: &str,
        operation: Operation,
    ) -> Result<Running, Error> {
        match self.gates.are_there() {
            false => Ok(Running::unseen()),
            true => {
                let statement = Statement::of_text(dialect.grammar(), text, Vec::new()).doing(operation);
                self.gates.begin(dialect, &statement, self.in_transaction, false)
            }
        }
    }

    #[cold]
    fn check_mirrored(&self, dialect: Dialect) -> Result<(), Error> {
        match dialect.grammar().session_value() {
            None => Err(Error::cannot_mirror(dialect)),
            Some(_) if self.in_transaction => Ok(()),
            Some(_) => Err(Error::mirrored_outside_transaction()),
        }
    }
}
