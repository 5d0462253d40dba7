//! Planning: applies the policies of all tables to a query, and splits a write into the statements that an
//! engine needs.
//!
//! The writer accepts only a [`Plan`], which only this folder creates, so that code which skips the policies
//! does not compile.

mod barrier;
mod policies;
mod required;
pub(crate) mod write;

use std::ops::Deref;
use std::sync::{Arc, OnceLock};

use jiff::Timestamp;
use smallvec::SmallVec;

use policies::Guard;

use crate::dialect::Grammar;
use crate::model::{Carried, Clock, Error};
use crate::tree::{Located, Node, PolicyUse, Select};

/// The part of a query's result that a verb reads.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReadShape {
    /// All rows.
    Rows,
    /// At most this number of rows. The limit is written only where the query could have more.
    AtMost(u8),
    /// `rows` rows after the first `after` rows.
    Page { after: u64, rows: u64 },
    /// The number of rows.
    Count,
    /// A test for any row.
    Presence,
}

/// The settings of a compilation: the dialect, the carried values, the clock.
#[doc(hidden)]
#[derive(Debug, Clone, Copy)]
pub struct CompileContext<'a> {
    pub grammar: &'static dyn Grammar,
    pub carried: &'a Carried,
    /// Returns the current time, if no clock is carried.
    pub time: fn() -> Timestamp,
    /// One time for all statements of a write.
    pub stopped_at: Option<Timestamp>,
    /// True if COPY may be used for many rows, where the engine has it.
    pub copies: bool,
    /// True if the caller needs the list of policies of a statement.
    pub tells: bool,
    /// Keeps the policies of the statement, so that their binds can be borrowed too.
    pub kept: Option<&'a PolicySlot>,
    /// The schema of the tables that name none.
    pub schema: Option<&'a Arc<str>>,
}

impl<'a> CompileContext<'a> {
    /// Returns a context for showing SQL. Its time is a placeholder, unless a clock is carried.
    pub fn to_show(grammar: &'static dyn Grammar, carried: &'a Carried) -> CompileContext<'a> {
        CompileContext {
            grammar,
            carried,
            time: || Timestamp::UNIX_EPOCH,
            stopped_at: None,
            copies: true,
            tells: true,
            kept: None,
            schema: None,
        }
    }

    /// Returns the same context with a fixed time for all statements that follow.
    pub fn stopped(self) -> CompileContext<'a> {
        CompileContext { stopped_at: Some(self.now()), ..self }
    }

    /// Returns the same context for one statement, whose policies are kept in `kept`.
    pub fn keeping<'k>(self, kept: &'k PolicySlot) -> CompileContext<'k>
    where
        'a: 'k,
    {
        CompileContext { kept: Some(kept), ..self }
    }

    /// Returns whether many rows may be written by COPY.
    pub(crate) fn can_copy(&self) -> bool {
        self.copies && self.grammar.copies()
    }

    pub(crate) fn now(&self) -> Timestamp {
        let clock = || self.carried.get::<Clock>();
        self.stopped_at
            .unwrap_or_else(|| clock().map_or_else(self.time, Clock::now))
    }
}

/// Storage for the policies of one statement that stand before its filters.
#[doc(hidden)]
#[derive(Debug, Default)]
pub struct PolicySlot(OnceLock<Policies>);

/// The conditions of policies that stand before the filters of a query.
pub(crate) type Policies = SmallVec<[Located<Node>; 2]>;

impl PolicySlot {
    /// Stores the policies, unless it already holds those of another statement.
    fn keep(&self, policies: Policies) -> Result<&[Located<Node>], Policies> {
        let mut given = Some(policies);
        let kept = self.0.get_or_init(|| given.take().unwrap_or_default());
        given.map_or(Ok(kept), Err)
    }
}

/// A query, or a changed copy of it. The copy is boxed, because most queries stay unchanged and moving a
/// large enum costs more than reading it.
#[derive(Debug)]
enum Tree<'q> {
    Lent(&'q Select),
    Own(Box<Select>),
}

impl Deref for Tree<'_> {
    type Target = Select;

    #[inline]
    fn deref(&self) -> &Select {
        match self {
            Tree::Lent(select) => select,
            Tree::Own(select) => select,
        }
    }
}

impl Tree<'_> {
    /// Returns the copy, which is made at the first call.
    fn to_mut(&mut self) -> &mut Select {
        let own = match *self {
            Tree::Own(ref mut select) => return select,
            Tree::Lent(select) => Box::new(select.clone()),
        };
        *self = Tree::Own(own);
        self.to_mut()
    }

    fn into_owned(self) -> Box<Select> {
        match self {
            Tree::Lent(select) => Box::new(select.clone()),
            Tree::Own(select) => select,
        }
    }
}

/// A query under the policies of its tables.
#[derive(Debug)]
pub(crate) struct Planned<'q> {
    /// The query itself, or a copy with policies inside.
    select: Tree<'q>,
    before_filters: BeforeFilters<'q>,
    /// True if it may read other tables than the one it is over.
    asks_others: bool,
    met: Vec<PolicyUse>,
    /// The schema of the tables that name none.
    schema: Option<Arc<str>>,
}

/// The policies that stand before the filters of the outermost query, which need no copy of the query.
#[derive(Debug)]
enum BeforeFilters<'q> {
    Lent(&'q [Located<Node>]),
    Own(Box<Policies>),
}

/// A planned query as the writer reads it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Plan<'p> {
    select: &'p Select,
    before_filters: &'p [Located<Node>],
    asks_others: bool,
    schema: Option<&'p Arc<str>>,
}

impl<'p> Plan<'p> {
    pub(crate) fn select(self) -> &'p Select {
        self.select
    }

    /// Returns the schema of the tables that name none.
    pub(crate) fn schema(self) -> Option<&'p Arc<str>> {
        self.schema
    }

    /// Returns whether it may read other tables than the one it is over: through a parent, or in a subquery.
    pub(crate) fn asks_others(self) -> bool {
        self.asks_others
    }

    /// Returns the policies that stand before the filters of the outermost query.
    pub(crate) fn before_filters(self) -> &'p [Located<Node>] {
        self.before_filters
    }
}

impl<'q> Planned<'q> {
    /// Returns a query whose policies stand inside it, or were applied before.
    fn of(select: Box<Select>, met: Vec<PolicyUse>, context: CompileContext<'_>) -> Planned<'q> {
        Planned {
            select: Tree::Own(select),
            before_filters: BeforeFilters::Lent(&[]),
            asks_others: true,
            met,
            schema: context.schema.cloned(),
        }
    }

    /// Plans a query that is read.
    pub(crate) fn read(
        select: &'q Select,
        context: CompileContext<'q>,
    ) -> Result<Planned<'q>, Error> {
        if !context.carried.required().is_empty() {
            required::check_query(select, context.carried)?;
        }
        let asks_others = select.asks_others();
        if !asks_others && select.table.policies().is_empty() {
            let schema = context.schema.cloned();
            return Ok(Planned { asks_others, schema, ..Planned::to_compare(select) });
        }
        let mut guard = Guard::new(context, context.tells);
        // The error names the caller's line, not that of the policy in which it was found.
        let (select, policies) = guard
            .outermost(select)
            .map_err(|err| err.asked_at(select.asked_at))?;
        let before_filters = match context.kept {
            _ if policies.is_empty() => BeforeFilters::Lent(&[]),
            Some(kept) => match kept.keep(policies) {
                Ok(policies) => BeforeFilters::Lent(policies),
                Err(policies) => BeforeFilters::Own(Box::new(policies)),
            },
            None => BeforeFilters::Own(Box::new(policies)),
        };
        let asks_others = asks_others || matches!(select, Tree::Own(_));
        let (met, schema) = (guard.into_met(), context.schema.cloned());
        Ok(Planned { select, before_filters, asks_others, met, schema })
    }

    /// Returns the policies of a query, if all of them can stand before its filters, so that the query itself stays as it
    /// is.
    pub(crate) fn policies_before(
        select: &Select,
        context: CompileContext<'_>,
    ) -> Result<Option<Policies>, Error> {
        if !context.carried.required().is_empty() {
            required::check_query(select, context.carried)?;
        }
        let mut guard = Guard::new(context, false);
        let guarded = guard.outermost(select);
        let (tree, policies) = guarded.map_err(|err| err.asked_at(select.asked_at))?;
        Ok(matches!(tree, Tree::Lent(_)).then_some(policies))
    }

    /// Plans a query whose policies are those that [`policies_before`](Self::policies_before) returned.
    pub(crate) fn under(
        policies: Policies,
        select: &'q Select,
        context: CompileContext<'_>,
    ) -> Planned<'q> {
        Planned {
            select: Tree::Lent(select),
            before_filters: BeforeFilters::Own(Box::new(policies)),
            asks_others: select.asks_others(),
            met: Vec::new(),
            schema: context.schema.cloned(),
        }
    }

    /// Plans a query that is never run: its text is only compared with others, so it has no policies.
    pub(crate) fn to_compare(select: &'q Select) -> Planned<'q> {
        Planned {
            select: Tree::Lent(select),
            before_filters: BeforeFilters::Lent(&[]),
            asks_others: true,
            met: Vec::new(),
            schema: None,
        }
    }

    /// Returns what the writer reads, borrowed from the query; `None` if the plan owns part of it.
    pub(crate) fn lent(&self) -> Option<Plan<'q>> {
        match (&self.select, &self.before_filters, &self.schema) {
            (Tree::Lent(select), BeforeFilters::Lent(before_filters), None) => {
                let asks_others = self.asks_others;
                Some(Plan { select, before_filters, asks_others, schema: None })
            }
            _ => None,
        }
    }

    /// Returns what the writer reads.
    pub(crate) fn plan(&self) -> Plan<'_> {
        let before_filters = match &self.before_filters {
            BeforeFilters::Lent(policies) => policies,
            BeforeFilters::Own(policies) => policies.as_slice(),
        };
        let (asks_others, schema) = (self.asks_others, self.schema.as_ref());
        Plan { select: &self.select, before_filters, asks_others, schema }
    }

    /// Returns the policies of the statement, if the context asked for them.
    pub(crate) fn into_met(self) -> Vec<PolicyUse> {
        self.met
    }
}
