//! Applies the policies of all tables to a query, in one pass. A query is copied only where one of them has to stand
//! inside it.
//!
//! Where rows of a table are required, its policies are filters; where there may be none of it, as
//! after a LEFT JOIN, a query for the rows that may be seen stands in the place of the table.
//! A policy may use relations, to tables with policies of their own. So that tables which lead to each
//! other in a circle come to an end, a policy is not applied inside its own condition.

use std::any::TypeId;
use std::sync::Arc;

use smallvec::SmallVec;

use super::{Policies, Tree};
use crate::model::{Carried, Error, MissingValue, Origin, PolicyInfo, TableInfo};
use crate::tree::{
    Asked, Body, Inner, InnerMut, Named, Node, Path, PolicyCondition, PolicyUse, Select, Source,
    SourceId, Waived, Waiver,
};

/// State while policies are applied to a query.
#[derive(Debug)]
pub(super) struct Guard<'a> {
    carried: &'a Carried,
    /// The policies whose conditions are being guarded, from the outermost to the innermost.
    within: Within,
    /// What the queries around waive for what is inside of them.
    waived: Vec<Waiver>,
    all_waived: Option<Origin>,
    /// Those that were met, if somebody will look.
    met: Option<Vec<PolicyUse>>,
}

type Within = SmallVec<[TypeId; 2]>;

/// Tables to apply policies to, each with the policies inside of which it was met.
type Places = SmallVec<[(Source, Within); 2]>;

/// A query inside another, with policies in it.
enum Guarded {
    Query(Box<Select>),
    Named(Arc<Named>),
}

impl<'a> Guard<'a> {
    /// One that notes which policies it meets, if it is to tell of them.
    pub(super) fn new(carried: &'a Carried, tells: bool) -> Guard<'a> {
        Guard {
            carried,
            within: Within::new(),
            waived: Vec::new(),
            all_waived: None,
            met: tells.then(Vec::new),
        }
    }

    /// Returns the policies that were met, in their order.
    pub(super) fn into_met(self) -> Vec<PolicyUse> {
        self.met.unwrap_or_default()
    }

    /// Applies the policies to a whole query. Those of a query over one table stand before its filters, and apart from
    /// it if they follow none of its parents, so that it is not copied.
    pub(super) fn outermost<'q>(
        &mut self,
        select: &'q Select,
    ) -> Result<(Tree<'q>, Policies), Error> {
        if let Some(waived) = &select.waived {
            self.waived.extend(&waived.everywhere);
            self.all_waived = waived.all;
        }
        let inside = self.inside_of(select)?;
        if let (Tree::Lent(select), true) = (&inside, select.is_over_one_table()) {
            let met = self.met.as_ref().map_or(0, Vec::len);
            if let Some(policies) = self.apart(select)? {
                return Ok((inside, policies));
            }
            self.met.iter_mut().for_each(|all| all.truncate(met));
        }
        Ok((self.rows_of(inside)?, Policies::new()))
    }

    /// Returns the conditions of the policies of a query over one table, if they can stand apart from it.
    fn apart(&mut self, select: &Select) -> Result<Option<Policies>, Error> {
        let mut policies = Policies::new();
        for policy in select.table.policies() {
            let condition =
                self.condition(select, select.entry(), select.table, policy, &Within::new())?;
            let Some(what) = condition else { continue };
            // The query may ask for the same itself, or another policy.
            let mut others = select.filters.iter().chain(&policies);
            if what.facts().follows() || others.any(|other| other.what == what) {
                return Ok(None);
            }
            policies.push(Asked { what, at: Origin::of(policy.declared_at()) });
        }
        Ok(Some(policies))
    }

    /// Applies the policies to a query and all that are inside of it.
    pub(super) fn select<'q>(&mut self, select: &'q Select) -> Result<Tree<'q>, Error> {
        let (waived_before, all_before) = (self.waived.len(), self.all_waived);
        if let Some(waived) = &select.waived {
            self.waived.extend(&waived.everywhere);
            self.all_waived = self.all_waived.or(waived.all);
        }
        let inside = self.inside_of(select)?;
        let guarded = self.rows_of(inside)?;
        self.waived.truncate(waived_before);
        self.all_waived = all_before;
        Ok(guarded)
    }

    /// Applies the policies to the queries that stand in one.
    fn inside_of<'q>(&mut self, select: &'q Select) -> Result<Tree<'q>, Error> {
        let (mut number, mut failed) = (0, None);
        let mut guarded = Vec::new();
        select.each_inner(&mut |inner| {
            if failed.is_none() {
                match self.inner(inner) {
                    Ok(None) => {}
                    Ok(Some(inner)) => guarded.push((number, inner)),
                    Err(err) => failed = Some(err),
                }
            }
            number += 1;
        });
        if let Some(err) = failed {
            return Err(err);
        }
        if guarded.is_empty() {
            return Ok(Tree::Lent(select));
        }
        let (mut select, mut number, mut misplaced) = (select.clone(), 0, false);
        let mut guarded = guarded.into_iter().peekable();
        select.each_inner_mut(&mut |inner| {
            if let Some((_, guarded)) = guarded.next_if(|(place, _)| *place == number) {
                match (inner, guarded) {
                    (InnerMut::Query(select), Guarded::Query(guarded)) => *select = *guarded,
                    (InnerMut::Named(named), Guarded::Named(guarded)) => {
                        *named = guarded;
                    }
                    (InnerMut::Query(_) | InnerMut::Named(_), _) => misplaced = true,
                }
            }
            number += 1;
        });
        // Both walks show the same queries in the same order; if they ever do not, nothing is read.
        match misplaced || guarded.peek().is_some() {
            true => Err(Error::unfit_parts(MISPLACED)),
            false => Ok(Tree::Own(Box::new(select))),
        }
    }

    /// Applies the policies to a query inside, and returns it if it has changed.
    fn inner(&mut self, inner: Inner<'_>) -> Result<Option<Guarded>, Error> {
        match inner {
            Inner::Query(select) => match self.select(select)? {
                Tree::Lent(_) => Ok(None),
                Tree::Own(select) => Ok(Some(Guarded::Query(select))),
            },
            // It is written once for all places, so that nothing around a place counts.
            Inner::Named(named) => {
                let mut alone = Guard::new(self.carried, false);
                alone.met = self.met.take();
                // But a policy that names a query does not hold within itself either.
                alone.within.clone_from(&self.within);
                let guarded = alone.select(&named.select);
                self.met = alone.met;
                match guarded? {
                    Tree::Lent(_) => Ok(None),
                    Tree::Own(select) => {
                        let (id, fields) = (named.id, named.fields);
                        let guarded = Named { id, select: *select, fields };
                        Ok(Some(Guarded::Named(Arc::new(guarded))))
                    }
                }
            }
        }
    }

    /// Applies the policies to the queries that stand in a value or a condition.
    pub(super) fn node(&mut self, node: &mut Node) -> Result<(), Error> {
        if !node.facts().queries() {
            return Ok(());
        }
        let mut guarded = Ok(());
        node.each_query(&mut |select| {
            if guarded.is_ok() {
                let inside = self.select(select).map(|guarded| match guarded {
                    Tree::Lent(_) => None,
                    Tree::Own(guarded) => Some(guarded),
                });
                match inside {
                    Ok(None) => {}
                    Ok(Some(inside)) => *select = *inside,
                    Err(err) => guarded = Err(err),
                }
            }
        });
        guarded
    }

    /// Applies the policies of the tables whose rows are read or followed in a query itself.
    fn rows_of<'q>(&mut self, mut select: Tree<'q>) -> Result<Tree<'q>, Error> {
        if !select.has_policies() {
            return Ok(select);
        }
        let mut places = self.places(&select);
        // Policies stand before the filters, so that an engine which goes by that order computes nothing of rows
        // that are hidden.
        let (mut next, mut policies) = (0, 0);
        while let Some((source, within)) = places.get(next).cloned() {
            next += 1;
            let Some(table) = select.table_at(source) else { continue };
            if table.policies().is_empty() {
                continue;
            }
            if select.is_optional(source) {
                self.visible_rows(&mut select, source, table, within)?;
                continue;
            }
            for policy in table.policies() {
                let Some(what) = self.condition(&select, source, table, policy, &within)? else {
                    continue;
                };
                let (select, follows) = (select.to_mut(), what.facts().follows());
                let at = Origin::of(policy.declared_at());
                select.require(Asked { what, at }, &mut policies);
                if follows {
                    // What the policy follows has policies too.
                    let mut within = within.clone();
                    within.push(policy.id());
                    for asked in select.followed(true) {
                        add(&mut places, asked.what, &within);
                    }
                }
            }
        }
        Ok(select)
    }

    /// Returns the tables whose rows are read or followed in a query itself, as far as they may have policies.
    fn places(&self, select: &Select) -> Places {
        let mut places = Places::new();
        let here = |id| Source { id, path: Path::HERE };
        let own = std::iter::once((select.source, select.table, &select.body));
        let joined = select
            .joins
            .iter()
            .map(|join| (join.source, join.table, &join.body));
        for (id, table, body) in own.chain(joined) {
            if matches!(body, Body::Table) && !table.policies().is_empty() {
                add(&mut places, here(id), &self.within);
            }
        }
        if select.leads_to_policies() {
            let followed = select.followed(true);
            let followed = followed.iter().map(|asked| asked.what);
            for source in followed.chain(select.beside.iter().copied()) {
                add(&mut places, source, &self.within);
            }
        }
        places
    }

    /// The condition of a policy, unless it is waived or being guarded itself.
    fn condition(
        &mut self,
        select: &Select,
        source: Source,
        table: &'static TableInfo,
        policy: &'static PolicyInfo,
        within: &Within,
    ) -> Result<Option<Node>, Error> {
        if within.contains(&policy.id()) {
            return Ok(None);
        }
        let waived_at = self.waived_at(select, source, policy);
        if let Some(met) = &mut self.met {
            met.push(PolicyUse::of(table, policy, waived_at));
        }
        if waived_at.is_some() {
            return Ok(None);
        }
        let condition = PolicyCondition::of(policy, source, self.carried);
        let mut condition = condition.map_err(|missing: MissingValue| {
            Error::missing_carried(policy.name(), table.name(), missing.type_name())
        })?;
        if !condition.facts().queries() {
            return Ok(Some(condition));
        }
        let around = std::mem::replace(&mut self.within, within.clone());
        self.within.push(policy.id());
        let guarded = self.node(&mut condition);
        self.within = around;
        guarded.map(|()| Some(condition))
    }

    fn waived_at(&self, select: &Select, source: Source, policy: &PolicyInfo) -> Option<Origin> {
        let here = select.waived.iter().flat_map(|waived| &waived.here);
        let here = here
            .filter(|(place, _)| *place == source)
            .map(|(_, waiver)| waiver);
        let mut waivers = here.chain(&self.waived);
        let waiver = waivers.find(|waiver| waiver.is_of(policy)).map(Waiver::at);
        waiver.or(self.all_waived)
    }

    /// Puts a query for the rows that may be seen in the place of a table of which there may be no row.
    fn visible_rows(
        &mut self,
        select: &mut Tree<'_>,
        source: Source,
        table: &'static TableInfo,
        within: Within,
    ) -> Result<(), Error> {
        let mut visible = Select::over(table, Body::Table, select.asked_at);
        let place = visible.entry();
        let waived = select.waived.iter().flat_map(|waived| &waived.here);
        let waived = waived.filter(|(other, _)| *other == source);
        let here: Vec<_> = waived.map(|(_, waiver)| (place, *waiver)).collect();
        visible.waived = Some(Box::new(Waived { here, ..Waived::default() }));
        let around = std::mem::replace(&mut self.within, within);
        let guarded = self.rows_of(Tree::Own(Box::new(visible)));
        self.within = around;
        let visible = guarded?.into_owned();
        if visible.filters.is_empty() {
            return Ok(());
        }
        let select = select.to_mut();
        let body = Body::Query(visible);
        match select
            .joins
            .iter_mut()
            .find(|join| here_is(source, join.source))
        {
            Some(join) => join.body = body,
            None => select.parents.push((source, body)),
        }
        Ok(())
    }
}

const MISPLACED: &str = "the policies of a query inside could not be put into it";

/// Adds a place, unless the table is among them.
fn add(places: &mut Places, source: Source, within: &Within) {
    if places.iter().all(|(known, _)| *known != source) {
        places.push((source, within.clone()));
    }
}

fn here_is(source: Source, id: SourceId) -> bool {
    source.id == id && source.path == Path::HERE
}

impl Select {
    /// Returns whether its rows are those of one table, and it follows none of the parents of that.
    fn is_over_one_table(&self) -> bool {
        self.is_of_one_table() && !self.follows()
    }

    /// Returns whether a table whose rows it reads or follows has policies. Every query is asked.
    fn has_policies(&self) -> bool {
        !self.table.policies().is_empty()
            || self
                .joins
                .iter()
                .any(|join| !join.table.policies().is_empty())
            || self.leads_to_policies()
    }

    /// Returns whether others than one table are asked, by the query or by one inside of it.
    pub(super) fn asks_others(&self) -> bool {
        !self.is_of_one_table() || self.any_node(|node| node.facts().asks_others())
    }

    fn is_of_one_table(&self) -> bool {
        matches!(self.body, Body::Table)
            && here_is(self.entry(), self.source)
            && self.rows.len() == 1
            && self.joins.is_empty()
            && self.beside.is_empty()
    }

    /// Puts the condition of a policy behind those that stand before the filters already.
    fn require(&mut self, policy: Asked<Node>, policies: &mut usize) {
        let mut filters = self.filters.iter();
        match filters.position(|filter| filter.what == policy.what) {
            Some(place) if place < *policies => return,
            // The query asks for the same itself.
            Some(place) => drop(self.filters.remove(place)),
            None => {}
        }
        self.filters.insert(*policies, policy);
        *policies += 1;
    }

    /// Returns whether a parent that is followed, or one on the way to it, has policies. Without a list of them,
    /// since every query is asked.
    fn leads_to_policies(&self) -> bool {
        let mut sources = self.rows.iter().chain(&self.beside);
        if sources.any(|source| self.is_behind_policies(*source)) {
            return true;
        }
        self.any_node(|node| {
            let mut leads = false;
            node.visit_followed(&mut |source| {
                leads |= self.is_over(source.id) && self.is_behind_policies(source);
            });
            leads
        })
    }

    fn is_behind_policies(&self, source: Source) -> bool {
        let Some((before, _)) = source.path.last() else { return false };
        // What cannot be found is an error later on, and until then not let pass.
        let has = self
            .table_at(source)
            .is_none_or(|table| !table.policies().is_empty());
        has || self.is_behind_policies(Source { path: before, ..source })
    }

    /// Returns whether there may be no row of the table that stands there.
    fn is_optional(&self, source: Source) -> bool {
        match source.path.last() {
            Some((before, step)) => {
                let before = Source { path: before, ..source };
                let references = self.table_at(before).map(TableInfo::references);
                let reference = references.and_then(|references| references.get(step));
                reference.is_some_and(|reference| reference.is_optional())
                    || self.is_optional(before)
            }
            None => {
                let mut joins = self.joins.iter();
                joins.any(|join| join.source == source.id && join.optional)
            }
        }
    }
}
