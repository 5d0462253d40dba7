//! The conditions of policies as descriptors hold them, and which policies a query waives.

use std::any::TypeId;
use std::fmt;
use std::panic::Location;

use super::{Node, Source};
use crate::model::{Carried, MissingValue, Origin, PolicyInfo, TableInfo};

/// The condition of a policy, where its table stands in a query.
#[doc(hidden)]
#[derive(Debug, Clone, Copy)]
pub struct PolicyCondition(fn(Source, &Carried) -> Result<Node, MissingValue>);

impl PolicyCondition {
    pub const fn new(
        condition: fn(Source, &Carried) -> Result<Node, MissingValue>,
    ) -> PolicyCondition {
        PolicyCondition(condition)
    }

    /// Returns the condition of a policy. A descriptor that holds something else lets nothing pass.
    pub(crate) fn of(
        policy: &PolicyInfo,
        source: Source,
        carried: &Carried,
    ) -> Result<Node, MissingValue> {
        match policy.condition().downcast_ref::<PolicyCondition>() {
            Some(PolicyCondition(condition)) => condition(source, carried),
            None => Ok(Node::constant(false)),
        }
    }
}

/// What tells a function apart from all others.
#[doc(hidden)]
pub fn policy_id<F: 'static>(_: &F) -> TypeId {
    TypeId::of::<F>()
}

/// A policy that is waived, and who said so.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Waiver {
    id: TypeId,
    at: Origin,
}

impl Waiver {
    #[track_caller]
    pub(crate) fn of<F: 'static>(policy: &F) -> Waiver {
        Waiver { id: policy_id(policy), at: Origin::of(Location::caller()) }
    }

    pub(crate) fn of_all(table: &'static TableInfo, at: Origin) -> impl Iterator<Item = Waiver> {
        table
            .policies()
            .iter()
            .map(move |policy| Waiver { id: policy.id(), at })
    }

    /// The line of the program that waives it.
    pub(crate) fn at(&self) -> Origin {
        self.at
    }

    pub(crate) fn is_of(&self, policy: &PolicyInfo) -> bool {
        policy.id() == self.id
    }
}

/// The policies that a query waives.
#[derive(Debug, Clone, Default)]
pub(crate) struct Waived {
    /// For the rows of one table that it is over.
    pub(crate) here: Vec<(Source, Waiver)>,
    /// For every table in it, and in what is inside of it.
    pub(crate) everywhere: Vec<Waiver>,
    /// Each and every one, for it and what is inside of it.
    pub(crate) all: Option<Origin>,
}

/// A policy that a statement came across: applied, or waived, and by which line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PolicyUse {
    table: &'static str,
    policy: &'static str,
    waived: bool,
    origin: Origin,
}

impl PolicyUse {
    /// One that applies, or that a line of the program waives.
    pub(crate) fn of(
        table: &'static TableInfo,
        policy: &PolicyInfo,
        waived_at: Option<Origin>,
    ) -> PolicyUse {
        PolicyUse {
            table: table.name(),
            policy: policy.name(),
            waived: waived_at.is_some(),
            origin: waived_at.unwrap_or(Origin::of(policy.declared_at())),
        }
    }

    /// The table whose policy it is.
    pub fn table(&self) -> &'static str {
        self.table
    }

    /// The name of the function.
    pub fn policy(&self) -> &'static str {
        self.policy
    }

    /// Returns whether it was waived, so that it does not hold.
    pub fn is_waived(&self) -> bool {
        self.waived
    }

    /// Where the table declares it; for one that is waived, the line that waived it.
    pub fn origin(&self) -> Origin {
        self.origin
    }
}

impl fmt::Display for PolicyUse {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let PolicyUse { table, policy, waived, origin } = self;
        let state = if *waived { "waived" } else { "applied" };
        write!(f, "{policy} of {table}: {state} @ {origin}")
    }
}
