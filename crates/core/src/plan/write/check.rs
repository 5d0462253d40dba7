//! The checks of a write: the rows that it stores satisfy the policies of their table, and their references lead to
//! rows that the handle sees.
//!
//! Where the program gives the values, the parents are looked up and locked before the write. Where an
//! expression or a query decides them, the stored rows are looked at after it. A policy whose outcome follows
//! from the given values alone needs no statement.

use smallvec::SmallVec;

use super::{Changing, Part, Parts, Step, found};
use crate::model::{
    BindValue, ColumnInfo, Error, Key, MissingValue, Origin, PolicyInfo, Reference, TableInfo,
};
use crate::plan::policies::Guard;
use crate::plan::required::needs_carried;
use crate::plan::{CompileContext, Planned};
use crate::tree::{
    Comparison, FromSource, Located, Lock, Node, PolicyCondition, PolicyUse, RawColumn, Select,
    Source, SubqueryKind, Waived, Waiver,
};

/// Values of some columns in the written rows, each combination once.
type Tuples = Vec<Vec<BindValue>>;

/// The rows that a write stores, as far as they are known before it.
pub(crate) trait StoredRows {
    fn table(&self) -> &'static TableInfo;

    /// Returns whether it writes at least one row. An update may find none, and is not refused then.
    fn writes_some(&self) -> bool;

    /// Returns whether it sets this column.
    fn sets(&self, column: &'static ColumnInfo) -> bool;

    /// Returns the values of these columns, or `None` if only the database knows them.
    fn given(&self, columns: &[&'static ColumnInfo]) -> Option<Tuples>;
}

/// The checks that a write needs.
#[doc(hidden)]
#[derive(Debug, Default)]
pub struct Checks {
    /// The parents that are looked up before the write.
    before: SmallVec<[Parents; 2]>,
    /// The references that are looked at in the stored rows.
    after: SmallVec<[&'static Reference; 2]>,
    /// The policies that the stored rows must satisfy.
    rows: SmallVec<[&'static PolicyInfo; 2]>,
    /// The policies that the given values do not satisfy.
    refused: SmallVec<[&'static PolicyInfo; 2]>,
    waived: Vec<Waiver>,
    /// The checks, for people.
    met: Vec<PolicyUse>,
}

/// The parents that the written rows refer to by one reference.
#[derive(Debug)]
struct Parents {
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
    ) -> Result<Option<Box<Checks>>, Error> {
        let (table, mut checks) =
            (stored.table(), Checks { waived: waived.to_vec(), ..Checks::default() });
        for reference in table
            .references()
            .iter()
            .filter(|reference| reference.is_foreign_key())
        {
            let own: SmallVec<[&'static ColumnInfo; 2]> =
                reference.pairs().map(|[own, _]| own).collect();
            let hides = reference
                .target()
                .policies()
                .iter()
                .any(|policy| !is_waived(policy, waived));
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
        Ok(Some(Box::new(checks)))
    }

    fn look_up(&mut self, reference: &'static Reference, asked: Tuples) {
        // A reference with a NULL leads nowhere, and need not.
        let not_null =
            |row: &Vec<BindValue>| !row.iter().any(|value| matches!(value, BindValue::Null(_)));
        let asked = asked.into_iter().filter(not_null).collect();
        self.before
            .push(Parents { reference, asked, rows: SmallVec::new() });
    }

    fn tell(
        &mut self,
        table: &'static TableInfo,
        policies: &'static [PolicyInfo],
        waived: &[Waiver],
    ) {
        for policy in policies {
            let waived_at = waived
                .iter()
                .find(|waiver| waiver.is_of(policy))
                .map(|waiver| waiver.at());
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
        if !checks.unwrap_or_else(|| needs_carried(policy, table, None, &mut Vec::new())) {
            return Ok(());
        }
        let own = Source::fresh();
        let condition = PolicyCondition::of(policy, own, context.carried);
        let condition = condition.map_err(|missing: MissingValue| {
            Error::missing_carried(policy.name(), table.name(), missing.type_name())
        })?;
        let reads = Reads::of(condition.clone(), table, own);
        if !reads.columns.iter().any(|column| stored.sets(column)) {
            return Ok(());
        }
        self.tell(table, std::slice::from_ref(policy), waived);
        if is_waived(policy, waived) {
            return Ok(());
        }
        // A policy that reads nothing but a reference is a condition of the parent.
        let known = self
            .before
            .iter()
            .position(|parents| reads.are_of(parents.reference));
        let place = known.or_else(|| {
            let mut references = table.references().iter();
            let reference = references
                .find(|reference| reference.is_foreign_key() && reads.are_of(reference))?;
            let own: SmallVec<[_; 2]> = reference.pairs().map(|[own, _]| own).collect();
            self.look_up(reference, stored.given(&own)?);
            Some(self.before.len() - 1)
        });
        if let Some(parents) = place.and_then(|place| self.before.get_mut(place)) {
            parents.rows.push(policy);
            return Ok(());
        }
        let outcome = stored.given(&reads.columns).map(|rows| {
            let outcomes = rows
                .iter()
                .map(|row| condition.outcome(own, &reads.columns, row));
            all(outcomes)
        });
        match outcome.flatten() {
            Some(true) => {}
            Some(false) if stored.writes_some() => self.refused.push(policy),
            Some(false) | None => self.rows.push(policy),
        }
        Ok(())
    }

    /// Returns whether stored rows are looked at after the write, by their keys.
    pub fn need_keys(&self) -> bool {
        !self.after.is_empty() || !self.rows.is_empty()
    }

    /// Adds the statements of the checks to those of the write.
    pub fn around(&self, write: Parts) -> Parts {
        let before = (0..self.before.len()).map(Part::Parents);
        let after = (0..self.after.len()).map(Part::WithParents);
        let rows = (!self.rows.is_empty()).then_some(Part::Satisfying);
        before.chain(write).chain(after).chain(rows).collect()
    }

    /// Refuses given values that a policy does not allow.
    pub fn refuse(&self, table: &'static TableInfo, at: Origin) -> Result<(), Error> {
        let names: Vec<&str> = self.refused.iter().map(|policy| policy.name()).collect();
        match names.is_empty() {
            true => Ok(()),
            false => Err(Error::policy_violation(table.name(), &names).asked_at(at)),
        }
    }

    /// Returns the query of a check; `None` for a part that is no check.
    pub(crate) fn query(
        &self,
        table: &'static TableInfo,
        context: CompileContext<'_>,
        step: &Step<'_>,
        at: Origin,
    ) -> Option<Result<Changing, Error>> {
        let stored = step.found.unwrap_or_default();
        let planned = match step.part {
            Part::Parents(number) => self.before.get(number)?.query(&self.waived, context, at),
            Part::WithParents(number) => {
                let reference = self.after.get(number)?;
                with_parents((table, reference), stored, &self.waived, context, at)
            }
            Part::Satisfying => satisfying((table, &self.rows), stored, &self.waived, context, at),
            _ => return None,
        };
        Some(planned.map(Changing::Find))
    }

    /// Refuses the write if a check has found fewer rows than it must.
    pub fn verify(
        &self,
        table: &'static TableInfo,
        step: &Step<'_>,
        found: &[Key],
        at: Origin,
    ) -> Result<(), Error> {
        let stored = step.found.map_or(0, <[Key]>::len);
        match step.part {
            Part::Parents(number) => match self.before.get(number) {
                Some(parents) => parents.verify(table, found, at),
                None => Ok(()),
            },
            Part::WithParents(_) if found.len() < stored => {
                Err(Error::parent_not_found(table.name(), None).asked_at(at))
            }
            Part::Satisfying if found.len() < stored => {
                let names: Vec<&str> = self.rows.iter().map(|policy| policy.name()).collect();
                Err(Error::policy_violation(table.name(), &names).asked_at(at))
            }
            _ => Ok(()),
        }
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
    fn query(
        &self,
        waived: &[Waiver],
        context: CompileContext<'_>,
        at: Origin,
    ) -> Result<Planned<'static>, Error> {
        let target = self.reference.target();
        let mut select = Box::new(Select::over(target, FromSource::Table, at));
        let place = select.entry();
        let columns: Vec<&'static ColumnInfo> =
            self.reference.pairs().map(|[_, theirs]| theirs).collect();
        let asked = found::one_of(place, &columns, self.asked.clone());
        select.filters.push(Located { what: asked, at });
        for policy in &self.rows {
            let own = Source::fresh();
            let condition = PolicyCondition::of(policy, own, context.carried);
            let Ok(mut condition) = condition else { continue };
            condition.turn_to_parent(own, self.reference, place);
            select.filters.push(Located { what: condition, at });
        }
        let values = columns
            .iter()
            .map(|info| Node::Column(RawColumn { source: place, info }));
        select.values = Some(Located { what: values.collect(), at });
        waive_everywhere(&mut select, waived);
        plan(select, Lock::Share, context, at)
    }

    /// Refuses the write if a parent is missing or hidden.
    fn verify(&self, table: &'static TableInfo, found: &[Key], at: Origin) -> Result<(), Error> {
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
fn with_parents(
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
    select
        .filters
        .push(Located { what: leads.or(leads_nowhere), at });
    waive_everywhere(&mut select, waived);
    waive_here(&mut select, table.policies().iter(), at);
    plan(select, Lock::Wait, context, at)
}

/// Returns the query for those stored rows that satisfy these policies.
fn satisfying(
    (table, policies): (&'static TableInfo, &[&'static PolicyInfo]),
    stored: &[Key],
    waived: &[Waiver],
    context: CompileContext<'_>,
    at: Origin,
) -> Result<Planned<'static>, Error> {
    let (mut select, _) = stored_rows(table, stored, at)?;
    waive_everywhere(&mut select, waived);
    let is_checked =
        |policy: &&PolicyInfo| policies.iter().any(|checked| checked.id() == policy.id());
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
    let values = keys
        .iter()
        .map(|info| Node::Column(RawColumn { source: place, info }));
    select.values = Some(Located { what: values.collect(), at });
    Ok((select, place))
}

fn waive_everywhere(select: &mut Select, waived: &[Waiver]) {
    let own = select
        .waived
        .get_or_insert_with(|| Box::new(Waived::default()));
    own.everywhere.extend(waived);
}

fn waive_here<'p>(select: &mut Select, policies: impl Iterator<Item = &'p PolicyInfo>, at: Origin) {
    let place = select.entry();
    let here = policies.map(|policy| (place, Waiver::of_policy(policy, at)));
    let here: Vec<_> = here.collect();
    let own = select
        .waived
        .get_or_insert_with(|| Box::new(Waived::default()));
    own.here.extend(here);
}

fn plan(
    select: Box<Select>,
    lock: Lock,
    context: CompileContext<'_>,
    at: Origin,
) -> Result<Planned<'static>, Error> {
    let mut guard = Guard::new(context, false);
    let mut select = guard
        .select(&select)
        .map_err(|err| err.asked_at(at))?
        .into_owned();
    if context.grammar.lock(lock).is_some() && lock == Lock::Share {
        select.lock = Some(Located { what: lock, at });
    }
    Ok(Planned::of(select, Vec::new(), context))
}

/// The columns of a table that a policy reads in the row itself, and the references that it follows from there.
struct Reads {
    columns: SmallVec<[&'static ColumnInfo; 2]>,
    references: SmallVec<[&'static Reference; 1]>,
    /// The columns that it reads in the row, not only to follow a reference.
    itself: SmallVec<[&'static ColumnInfo; 2]>,
}

impl Reads {
    fn of(mut condition: Node, table: &'static TableInfo, own: Source) -> Reads {
        let mut reads = Reads {
            columns: SmallVec::new(),
            references: SmallVec::new(),
            itself: SmallVec::new(),
        };
        condition.each_column(&mut |column| {
            if column.source.id != own.id {
                return;
            }
            let Some((step, _)) = column.source.path.first() else {
                reads.itself.push(column.info);
                return reads.add(column.info);
            };
            let Some(reference) = table.references().get(step) else { return };
            reads.references.push(reference);
            reference.pairs().for_each(|[own, _]| reads.add(own));
        });
        reads
    }

    fn add(&mut self, column: &'static ColumnInfo) {
        if !self
            .columns
            .iter()
            .any(|known| std::ptr::eq(*known, column))
        {
            self.columns.push(column);
        }
    }

    /// Returns whether the policy reads nothing of the row but this reference.
    fn are_of(&self, reference: &'static Reference) -> bool {
        let is_part = |column: &&'static ColumnInfo| {
            reference.pairs().any(|[own, _]| std::ptr::eq(own, *column))
        };
        !self.columns.is_empty()
            && self.itself.iter().all(is_part)
            && self
                .references
                .iter()
                .all(|followed| std::ptr::eq(*followed, reference))
    }
}

/// Returns the conjunction of outcomes; `None` if only the database knows.
fn all(outcomes: impl Iterator<Item = Option<bool>>) -> Option<bool> {
    let mut known = true;
    for outcome in outcomes {
        match outcome {
            Some(true) => {}
            Some(false) => return Some(false),
            None => known = false,
        }
    }
    known.then_some(true)
}

impl Node {
    /// Turns a condition of a row that refers to a parent into one of the parent.
    fn turn_to_parent(&mut self, own: Source, reference: &'static Reference, parent: Source) {
        self.each_column(&mut |column| {
            if column.source.id != own.id {
                return;
            }
            match column.source.path.first() {
                Some((_, rest)) => column.source = Source { path: rest, ..parent },
                None => {
                    let mut pairs = reference.pairs();
                    let pair = pairs.find(|[own, _]| std::ptr::eq(*own, column.info));
                    if let Some([_, theirs]) = pair {
                        *column = RawColumn { source: parent, info: theirs };
                    }
                }
            }
        });
    }

    /// Returns the outcome of a condition for given values of some columns, or `None` if only the database knows.
    fn outcome(
        &self,
        own: Source,
        columns: &[&'static ColumnInfo],
        row: &[BindValue],
    ) -> Option<bool> {
        let value = |node| Node::given(node, own, columns, row);
        match self {
            Node::All(_, terms) => all(terms.iter().map(|term| term.outcome(own, columns, row))),
            Node::Any(_, terms) => {
                let outcomes = terms
                    .iter()
                    .map(|term| Some(!term.outcome(own, columns, row)?));
                all(outcomes).map(|none| !none)
            }
            Node::IsNull(_, operand) => Some(matches!(value(operand)?, BindValue::Null(_))),
            Node::IsNotNull(_, operand) => Some(!matches!(value(operand)?, BindValue::Null(_))),
            Node::Compare(Comparison::Equal, _, sides) => {
                match (value(&sides[0])?, value(&sides[1])?) {
                    (BindValue::Int(left), BindValue::Int(right)) => Some(left == right),
                    (BindValue::Text(left), BindValue::Text(right)) => Some(left == right),
                    (BindValue::Uuid(left), BindValue::Uuid(right)) => Some(left == right),
                    (BindValue::Enum(_, left), BindValue::Enum(_, right)) => Some(left == right),
                    (BindValue::Null(_), _) | (_, BindValue::Null(_)) => Some(false),
                    _ => None,
                }
            }
            _ if self.is_constant(true) => Some(true),
            _ if self.is_constant(false) => Some(false),
            _ => None,
        }
    }

    /// Returns the value of a bind, or of one of the given columns.
    fn given<'n>(
        &'n self,
        own: Source,
        columns: &[&'static ColumnInfo],
        row: &'n [BindValue],
    ) -> Option<&'n BindValue> {
        match self {
            Node::Bind(value) => Some(value),
            Node::Column(column) if column.source == own => {
                let place = columns
                    .iter()
                    .position(|info| std::ptr::eq(*info, column.info))?;
                row.get(place)
            }
            _ => None,
        }
    }
}
