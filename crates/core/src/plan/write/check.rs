//! The checks of a write: the rows that it stores satisfy the policies of their table, and their references lead to
//! rows that the handle sees.
//!
//! Where the program gives the values, the parents are looked up and locked before the write. Where an
//! expression or a query decides them, the stored rows are looked at after it. A policy whose outcome follows
//! from the given values alone needs no statement.

use std::any::TypeId;
use std::collections::HashSet;

use smallvec::{SmallVec, smallvec};

use super::found;
use crate::model::{
    BindValue, Carried, ColumnInfo, Error, Key, MissingValue, Origin, PolicyInfo, Reference, TableInfo,
};
use crate::plan::policies::Guard;
use crate::plan::{CompileContext, Planned};
use crate::tree::{
    Comparison, FromSource, Located, Lock, Node, Path, PolicyCondition, PolicyUse, RawColumn, Select, Source,
    SubqueryKind, Waived, Waiver,
};

/// Values of some columns in the written rows, each combination once.
type Tuples = Vec<Vec<BindValue>>;

/// The rows that a write stores, as far as they are known before it.
pub(crate) trait StoredRows {
    fn table(&self) -> &'static TableInfo;

    /// Returns whether it sets this column.
    fn sets(&self, column: &'static ColumnInfo) -> bool;

    /// Returns the values of these columns, or `None` if only the database knows them.
    fn given(&self, columns: &[&'static ColumnInfo]) -> Option<Tuples>;
}

/// The checks that a write needs.
#[derive(Debug, Default)]
pub(crate) struct Checks {
    /// The parents that are looked up before the write.
    pub(crate) before: SmallVec<[Parents; 2]>,
    /// The references that are looked at in the stored rows.
    pub(crate) after: SmallVec<[&'static Reference; 2]>,
    /// The policies that the stored rows must satisfy.
    pub(crate) rows: SmallVec<[&'static PolicyInfo; 2]>,
    /// The policies that the given values do not satisfy.
    pub(crate) refused: SmallVec<[&'static PolicyInfo; 2]>,
    /// The checks, for people.
    met: Vec<PolicyUse>,
}

/// The parents that the written rows refer to by one reference.
#[derive(Debug)]
pub(crate) struct Parents {
    reference: &'static Reference,
    asked: Tuples,
    /// The policies of the written rows, as conditions of the parent.
    rows: SmallVec<[&'static PolicyInfo; 1]>,
}

impl Checks {
    /// Returns the checks of a write, without those that `waived` names.
    pub(crate) fn of(
        stored: &dyn StoredRows,
        waived: &[Waiver],
        context: CompileContext<'_>,
    ) -> Result<Checks, Error> {
        let (table, mut checks) = (stored.table(), Checks::default());
        for reference in table.references().iter().filter(|reference| reference.is_foreign_key()) {
            let own: SmallVec<[&'static ColumnInfo; 2]> =
                reference.pairs().map(|[own, _]| own).collect();
            let hides = reference.target().policies().iter().any(|policy| !is_waived(policy, waived));
            if !hides || !own.iter().any(|column| stored.sets(column)) {
                continue;
            }
            let target = reference.target();
            checks.tell(target, target.policies(), waived);
            match stored.given(&own) {
                Some(asked) => checks.look_up(reference, asked),
                None => checks.after.push(reference),
            }
        }
        for policy in table.policies() {
            checks.add_policy(policy, stored, waived, context)?;
        }
        checks.before.retain(|parents| !parents.asked.is_empty());
        Ok(checks)
    }

    fn look_up(&mut self, reference: &'static Reference, asked: Tuples) {
        // A reference with a NULL leads nowhere, and need not.
        let not_null = |row: &Vec<BindValue>| !row.iter().any(|value| matches!(value, BindValue::Null(_)));
        let asked = asked.into_iter().filter(not_null).collect();
        self.before.push(Parents { reference, asked, rows: SmallVec::new() });
    }

    fn tell(&mut self, table: &'static TableInfo, policies: &'static [PolicyInfo], waived: &[Waiver]) {
        for policy in policies {
            let waived_at = waived.iter().find(|waiver| waiver.is_of(policy)).map(|waiver| waiver.at());
            let check = PolicyUse::of_check(table, policy, waived_at);
            if !self.met.contains(&check) {
                self.met.push(check);
            }
        }
    }

    /// Adds the check of a policy, if the write sets a column that it reads.
    fn add_policy(
        &mut self,
        policy: &'static PolicyInfo,
        stored: &dyn StoredRows,
        waived: &[Waiver],
        context: CompileContext<'_>,
    ) -> Result<(), Error> {
        let table = stored.table();
        let checks = policy.checks_writes();
        if !checks.unwrap_or_else(|| needs_carried(policy, &mut Vec::new())) {
            return Ok(());
        }
        let own = Source::fresh();
        let condition = PolicyCondition::of(policy, own, context.carried);
        let condition = condition.map_err(|missing: MissingValue| {
            Error::missing_carried(policy.name(), table.name(), missing.type_name())
        })?;
        let reads = condition.columns_of(table, own);
        if !reads.iter().any(|column| stored.sets(column)) {
            return Ok(());
        }
        self.tell(table, std::slice::from_ref(policy), waived);
        if is_waived(policy, waived) {
            return Ok(());
        }
        let is_own = |parents: &Parents| {
            let own = |column: &&ColumnInfo| parents.reference.pairs().any(|[own, _]| std::ptr::eq(own, *column));
            reads.iter().all(own)
        };
        // A policy that reads nothing but a reference is one of the parent.
        if let Some(parents) = self.before.iter_mut().find(|parents| is_own(parents)) {
            parents.rows.push(policy);
            return Ok(());
        }
        let outcome = stored.given(&reads).map(|rows| {
            let outcomes = rows.iter().map(|row| condition.outcome(own, &reads, row));
            outcomes.fold(Some(true), |all, one| match (all, one) {
                (Some(false), _) | (_, Some(false)) => Some(false),
                (Some(true), Some(true)) => Some(true),
                _ => None,
            })
        });
        match outcome.flatten() {
            Some(true) => {}
            Some(false) => self.refused.push(policy),
            None => self.rows.push(policy),
        }
        Ok(())
    }

    /// Returns whether stored rows are looked at after the write.
    pub(crate) fn looks_after(&self) -> bool {
        !self.after.is_empty() || !self.rows.is_empty()
    }

    /// Returns the error for values that a policy does not allow, if there are any.
    pub(crate) fn refusal(&self, table: &'static TableInfo, at: Origin) -> Option<Error> {
        let names: Vec<&str> = self.refused.iter().map(|policy| policy.name()).collect();
        (!names.is_empty()).then(|| Error::policy_violation(table.name(), &names).asked_at(at))
    }

    pub(crate) fn into_met(self) -> Vec<PolicyUse> {
        self.met
    }
}

fn is_waived(policy: &PolicyInfo, waived: &[Waiver]) -> bool {
    waived.iter().any(|waiver| waiver.is_of(policy))
}

impl Parents {
    /// Returns the query for those of the parents that the handle sees. It locks them, so that nobody moves them
    /// elsewhere before the write is committed.
    pub(crate) fn query(
        &self,
        waived: &[Waiver],
        context: CompileContext<'_>,
        at: Origin,
    ) -> Result<Planned<'static>, Error> {
        let target = self.reference.target();
        let mut select = Box::new(Select::over(target, FromSource::Table, at));
        let place = select.entry();
        let columns: Vec<&'static ColumnInfo> = self.reference.pairs().map(|[_, theirs]| theirs).collect();
        let asked = found::one_of(place, &columns, self.asked.clone());
        select.filters.push(Located { what: asked, at });
        for policy in &self.rows {
            let own = Source::fresh();
            let condition = PolicyCondition::of(policy, own, context.carried);
            let Ok(mut condition) = condition else { continue };
            condition.turn_to_parent(own, self.reference, place);
            select.filters.push(Located { what: condition, at });
        }
        let values = columns.iter().map(|info| Node::Column(RawColumn { source: place, info }));
        select.values = Some(Located { what: values.collect(), at });
        waive_everywhere(&mut select, waived);
        plan(select, Lock::Share, context, at)
    }

    /// Refuses the write if a parent is missing or hidden.
    pub(crate) fn verify(
        &self,
        table: &'static TableInfo,
        found: &[Key],
        at: Origin,
    ) -> Result<(), Error> {
        if found.len() >= self.asked.len() {
            return Ok(());
        }
        let columns = self.reference.pairs().map(|[own, _]| own.name());
        let columns = columns.collect::<Vec<_>>().join(", ");
        // Without policies of its own, a parent that is there is refused by those of the row.
        match self.reference.target().policies().is_empty() {
            true => {
                let names: Vec<&str> = self.rows.iter().map(|policy| policy.name()).collect();
                Err(Error::policy_violation(table.name(), &names).asked_at(at))
            }
            false => Err(Error::parent_not_found(table.name(), Some(columns)).asked_at(at)),
        }
    }
}

/// Returns the query for those stored rows whose reference leads to a row that the handle sees, or nowhere.
pub(crate) fn with_parents(
    (table, reference): (&'static TableInfo, &'static Reference),
    stored: &[Key],
    waived: &[Waiver],
    context: CompileContext<'_>,
    at: Origin,
) -> Result<Planned<'static>, Error> {
    let (mut select, place) = stored_rows(table, stored, at)?;
    let mut parents = Box::new(Select::over(reference.target(), FromSource::Table, at));
    let mut leads_nowhere = Node::constant(false);
    for [own, theirs] in reference.pairs_at(place, parents.entry()) {
        leads_nowhere = leads_nowhere.or(Node::Column(own).is_null());
        let same = Node::compare(Comparison::Equal, Node::Column(theirs), Node::Column(own));
        parents.filters.push(Located { what: same, at });
    }
    let leads = Node::subquery(parents, SubqueryKind::Exists);
    select.filters.push(Located { what: leads.or(leads_nowhere), at });
    waive_everywhere(&mut select, waived);
    waive_here(&mut select, table.policies().iter(), at);
    plan(select, Lock::Wait, context, at)
}

/// Returns the query for those stored rows that satisfy these policies.
pub(crate) fn satisfying(
    (table, policies): (&'static TableInfo, &[&'static PolicyInfo]),
    stored: &[Key],
    waived: &[Waiver],
    context: CompileContext<'_>,
    at: Origin,
) -> Result<Planned<'static>, Error> {
    let (mut select, _) = stored_rows(table, stored, at)?;
    waive_everywhere(&mut select, waived);
    let is_checked = |policy: &&PolicyInfo| policies.iter().any(|checked| checked.id() == policy.id());
    waive_here(&mut select, table.policies().iter().filter(|policy| !is_checked(policy)), at);
    plan(select, Lock::Wait, context, at)
}

/// Returns the query for the keys of the written rows.
fn stored_rows(
    table: &'static TableInfo,
    stored: &[Key],
    at: Origin,
) -> Result<(Box<Select>, Source), Error> {
    let mut select = Box::new(Select::over(table, FromSource::Table, at));
    let place = select.entry();
    let keys: Vec<&'static ColumnInfo> = table.key().collect();
    let is_written = found::keyed(place, &keys, stored)?;
    select.filters.push(Located { what: is_written, at });
    let values = keys.iter().map(|info| Node::Column(RawColumn { source: place, info }));
    select.values = Some(Located { what: values.collect(), at });
    Ok((select, place))
}

fn waive_everywhere(select: &mut Select, waived: &[Waiver]) {
    let own = select.waived.get_or_insert_with(|| Box::new(Waived::default()));
    own.everywhere.extend(waived);
}

fn waive_here<'p>(select: &mut Select, policies: impl Iterator<Item = &'p PolicyInfo>, at: Origin) {
    let place = select.entry();
    let here = policies.map(|policy| (place, Waiver::of_policy(policy, at)));
    let here: Vec<_> = here.collect();
    let own = select.waived.get_or_insert_with(|| Box::new(Waived::default()));
    own.here.extend(here);
}

fn plan(
    select: Box<Select>,
    lock: Lock,
    context: CompileContext<'_>,
    at: Origin,
) -> Result<Planned<'static>, Error> {
    let mut guard = Guard::new(context.carried, false);
    let mut select = guard.select(&select).map_err(|err| err.asked_at(at))?.into_owned();
    if context.grammar.lock(lock).is_some() && lock == Lock::Share {
        select.lock = Some(Located { what: lock, at });
    }
    Ok(Planned::of(select, Vec::new()))
}

/// Returns whether a policy depends on a carried value: itself, or through the tables that it asks.
fn needs_carried(policy: &'static PolicyInfo, seen: &mut Vec<TypeId>) -> bool {
    if seen.contains(&policy.id()) {
        return false;
    }
    seen.push(policy.id());
    // Its condition over the table itself tells which tables it asks.
    match PolicyCondition::of(policy, Source::NOWHERE, &Carried::new()) {
        Err(MissingValue { .. }) => true,
        Ok(condition) => {
            let mut tables = Vec::new();
            condition.each_asked_table(&mut |table| tables.push(table));
            let mut policies = tables.into_iter().flat_map(|table: &TableInfo| table.policies());
            policies.any(|policy| needs_carried(policy, seen))
        }
    }
}
