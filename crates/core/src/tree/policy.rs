//! The conditions of policies, as descriptors hold them, and the waivers of a query.

use std::any::TypeId;
use std::fmt;
use std::panic::Location;

use super::{Node, Source};
use crate::model::{Carried, MissingValue, Origin, PolicyInfo, TableInfo};

/// The condition of a policy, for the source of its table.
#[doc(hidden)]
#[derive(Debug, Clone, Copy)]
pub struct PolicyCondition(fn(Source, &Carried) -> Result<Node, MissingValue>);

impl PolicyCondition {
    pub const fn new(
        condition: fn(Source, &Carried) -> Result<Node, MissingValue>,
    ) -> PolicyCondition {
        PolicyCondition(condition)
    }

    /// Returns the condition of a policy. A descriptor with another type inside gives FALSE, so that nothing
    /// is visible.
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

/// Returns whether a policy is a function itself. A pointer to one has the type of all pointers, so that two such
/// policies would be one.
#[doc(hidden)]
pub const fn is_function<F>(_: &F) -> bool {
    size_of::<F>() == 0
}

/// Returns the identity of a policy: the type of its function.
#[doc(hidden)]
pub fn policy_id<F: 'static>(_: &F) -> TypeId {
    TypeId::of::<F>()
}

/// A waived policy, and the line that waived it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Waiver {
    id: TypeId,
    at: Origin,
}

impl Waiver {
    #[track_caller]
    pub(crate) fn of<F: 'static>(policy: &F) -> Waiver {
        const {
            assert!(
                size_of::<F>() == 0,
                "a policy is waived by its function itself, not by a pointer to it"
            );
        }
        Waiver { id: policy_id(policy), at: Origin::of(Location::caller()) }
    }

    pub(crate) fn of_all(table: &'static TableInfo, at: Origin) -> impl Iterator<Item = Waiver> {
        table
            .policies()
            .iter()
            .map(move |policy| Waiver { id: policy.id(), at })
    }

    /// Returns the waiver of a policy by the library itself.
    pub(crate) fn of_policy(policy: &PolicyInfo, at: Origin) -> Waiver {
        Waiver { id: policy.id(), at }
    }

    /// Returns the line of the program that waives it.
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
    /// Waivers for one table that the query is over.
    pub(crate) here: Vec<(Source, Waiver)>,
    /// Waivers for every table in the query and its subqueries.
    pub(crate) everywhere: Vec<Waiver>,
    /// The line that waives all policies of the query and its subqueries, if there is one.
    pub(crate) all: Option<Origin>,
}

/// A policy of a statement: applied to the rows that it finds or checked for those that it writes, or waived by a line
/// of the program.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PolicyUse {
    table: &'static str,
    policy: &'static str,
    waived: bool,
    check: bool,
    origin: Origin,
}

impl PolicyUse {
    /// Returns the use of a policy that is applied, or waived by a line of the program.
    pub(crate) fn of(
        table: &'static TableInfo,
        policy: &PolicyInfo,
        waived_at: Option<Origin>,
    ) -> PolicyUse {
        PolicyUse {
            table: table.name(),
            policy: policy.name(),
            waived: waived_at.is_some(),
            check: false,
            origin: waived_at.unwrap_or(Origin::of(policy.declared_at())),
        }
    }

    /// Returns the check of written rows by a policy, or of the rows that they refer to.
    pub(crate) fn of_check(
        table: &'static TableInfo,
        policy: &PolicyInfo,
        waived_at: Option<Origin>,
    ) -> PolicyUse {
        PolicyUse { check: true, ..PolicyUse::of(table, policy, waived_at) }
    }

    /// Returns whether it checks the rows that a write stores, or those that they refer to.
    pub fn is_check(&self) -> bool {
        self.check
    }

    /// Returns the table of the policy.
    pub fn table(&self) -> &'static str {
        self.table
    }

    /// Returns the name of the policy's function.
    pub fn policy(&self) -> &'static str {
        self.policy
    }

    /// Returns whether it was waived, so that it does not apply.
    pub fn is_waived(&self) -> bool {
        self.waived
    }

    /// Returns the line where the table declares it; for a waived policy, the line that waived it.
    pub fn origin(&self) -> Origin {
        self.origin
    }
}

impl fmt::Display for PolicyUse {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let PolicyUse { table, policy, waived, check, origin } = self;
        let state = match (check, waived) {
            (false, false) => "applied",
            (false, true) => "waived",
            (true, false) => "checked",
            (true, true) => "check waived",
        };
        write!(f, "{policy} of {table}: {state} @ {origin}")
    }
}
