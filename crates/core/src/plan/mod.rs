//! From a tree to a tree that may be written: the policies of its tables are applied, and a write is taken apart into
//! the statements that an engine needs for it.
//!
//! A writer takes a [`Planned`] query only, which nothing but this folder can make, so that code which forgets the
//! policies does not compile.

mod policies;
pub(crate) mod write;

use std::ops::Deref;
use std::sync::OnceLock;

use jiff::Timestamp;
use smallvec::SmallVec;

use policies::Guard;

use crate::dialect::Grammar;
use crate::model::{Carried, Clock, Error};
use crate::tree::{Asked, Node, PolicyUse, Select};

/// The answer that a reading verb wants of a query.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wanted {
    /// All its rows.
    Rows,
    /// No more rows than this, which matters only where the query could have more.
    AtMost(u8),
    /// So many rows after the first so many.
    Page { after: u64, rows: u64 },
    /// How many rows it has.
    Count,
    /// Tells whether it has any row.
    Presence,
}

/// Who asks: in which dialect, and with which values for the policies.
#[doc(hidden)]
#[derive(Debug, Clone, Copy)]
pub struct Asking<'a> {
    pub grammar: &'static dyn Grammar,
    pub carried: &'a Carried,
    /// Tells the time, where no clock is carried.
    pub time: fn() -> Timestamp,
    /// The time for all statements of a write.
    pub stopped_at: Option<Timestamp>,
    /// True if many rows may be copied, where the engine does that faster.
    pub copies: bool,
    /// True if somebody will look at which policies a statement met.
    pub tells: bool,
    /// Where the policies of the statement stay, so that what they bind can be lent too.
    pub kept: Option<&'a Kept>,
}

impl<'a> Asking<'a> {
    /// To look at SQL: the time is not known then, unless a clock is carried.
    pub fn to_show(grammar: &'static dyn Grammar, carried: &'a Carried) -> Asking<'a> {
        Asking {
            grammar,
            carried,
            time: || Timestamp::UNIX_EPOCH,
            stopped_at: None,
            copies: true,
            tells: true,
            kept: None,
        }
    }

    /// The same, with this time for all that follows.
    pub fn stopped(self) -> Asking<'a> {
        Asking { stopped_at: Some(self.now()), ..self }
    }

    /// The same for one statement, whose policies stay there.
    pub fn keeping<'k>(self, kept: &'k Kept) -> Asking<'k>
    where
        'a: 'k,
    {
        Asking { kept: Some(kept), ..self }
    }

    /// Returns whether rows are copied into their table, if there are many.
    pub(crate) fn can_copy(&self) -> bool {
        self.copies && self.grammar.copies()
    }

    pub(crate) fn now(&self) -> Timestamp {
        let clock = || self.carried.get::<Clock>();
        self.stopped_at
            .unwrap_or_else(|| clock().map_or_else(self.time, Clock::now))
    }
}

/// Room for the policies that stand before the filters of one statement.
#[doc(hidden)]
#[derive(Debug, Default)]
pub struct Kept(OnceLock<Policies>);

/// Conditions of policies that stand before the filters of a query.
type Policies = SmallVec<[Asked<Node>; 2]>;

impl Kept {
    /// Leaves them here, unless there are those of another statement.
    fn keep(&self, policies: Policies) -> Result<&[Asked<Node>], Policies> {
        let mut given = Some(policies);
        let kept = self.0.get_or_init(|| given.take().unwrap_or_default());
        given.map_or(Ok(kept), Err)
    }
}

/// A query, or a copy of it that had to be changed. The copy is in a box, because most queries stay as they are and
/// moving a large enum costs more than reading it.
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
    /// The copy, made now if there is none yet.
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
    /// The query itself, where its policies need not stand inside it.
    select: Tree<'q>,
    before_filters: BeforeFilters<'q>,
    /// True if it may ask others than its one table.
    asks_others: bool,
    met: Vec<PolicyUse>,
}

/// The policies that stand before the filters of the outermost query, which need not be copied for them.
#[derive(Debug)]
enum BeforeFilters<'q> {
    Lent(&'q [Asked<Node>]),
    Own(Box<Policies>),
}

/// A planned query as a writer reads it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Plan<'p> {
    select: &'p Select,
    before_filters: &'p [Asked<Node>],
    asks_others: bool,
}

impl<'p> Plan<'p> {
    pub(crate) fn select(self) -> &'p Select {
        self.select
    }

    /// Returns whether it may ask others than its one table: by a parent that is followed, or by a query inside.
    pub(crate) fn asks_others(self) -> bool {
        self.asks_others
    }

    /// The policies that stand before the filters of the outermost query.
    pub(crate) fn before_filters(self) -> &'p [Asked<Node>] {
        self.before_filters
    }
}

impl<'q> Planned<'q> {
    /// A query whose policies stand inside it, or were asked before.
    fn of(select: Box<Select>, met: Vec<PolicyUse>) -> Planned<'q> {
        Planned {
            select: Tree::Own(select),
            before_filters: BeforeFilters::Lent(&[]),
            asks_others: true,
            met,
        }
    }

    /// Plans a query that is read.
    pub(crate) fn read(select: &'q Select, asking: Asking<'q>) -> Result<Planned<'q>, Error> {
        let asks_others = select.asks_others();
        if !asks_others && select.table.policies().is_empty() {
            return Ok(Planned { asks_others, ..Planned::to_compare(select) });
        }
        let mut guard = Guard::new(asking.carried, asking.tells);
        // The caller is told, not the policy inside of which it was found.
        let (select, policies) = guard
            .outermost(select)
            .map_err(|err| err.asked_at(select.asked_at))?;
        let before_filters = match asking.kept {
            _ if policies.is_empty() => BeforeFilters::Lent(&[]),
            Some(kept) => match kept.keep(policies) {
                Ok(policies) => BeforeFilters::Lent(policies),
                Err(policies) => BeforeFilters::Own(Box::new(policies)),
            },
            None => BeforeFilters::Own(Box::new(policies)),
        };
        let asks_others = asks_others || matches!(select, Tree::Own(_));
        Ok(Planned { select, before_filters, asks_others, met: guard.into_met() })
    }

    /// A query that is never run: its text alone is compared with others, and has none of its policies.
    pub(crate) fn to_compare(select: &'q Select) -> Planned<'q> {
        Planned {
            select: Tree::Lent(select),
            before_filters: BeforeFilters::Lent(&[]),
            asks_others: true,
            met: Vec::new(),
        }
    }

    /// Returns what a writer reads for as long as the query is lent; nothing if some of it is the plan's own.
    pub(crate) fn lent(&self) -> Option<Plan<'q>> {
        match (&self.select, &self.before_filters) {
            (Tree::Lent(select), BeforeFilters::Lent(before_filters)) => {
                Some(Plan { select, before_filters, asks_others: self.asks_others })
            }
            _ => None,
        }
    }

    /// Returns what a writer reads.
    pub(crate) fn plan(&self) -> Plan<'_> {
        let before_filters = match &self.before_filters {
            BeforeFilters::Lent(policies) => policies,
            BeforeFilters::Own(policies) => policies.as_slice(),
        };
        Plan { select: &self.select, before_filters, asks_others: self.asks_others }
    }

    /// Returns the policies that were met, if somebody looks.
    pub(crate) fn into_met(self) -> Vec<PolicyUse> {
        self.met
    }
}
