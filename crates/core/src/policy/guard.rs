//! Puts the policies of all tables into a query, before it is written: what the walker then sees is a
//! query like any other.
//!
//! Where rows of a table are required, its policies are filters; where there may be none of it, as
//! after a LEFT JOIN, a query for the rows that may be seen stands in the place of the table.
//! A policy may use relations, to tables with policies of their own. So that tables which lead to each
//! other in a circle come to an end, a policy does not hold within itself.

use std::any::TypeId;
use std::sync::Arc;

use smallvec::SmallVec;

use super::{Carried, MissingValue, PolicyInfo, PolicyUse, Waived, Waiver};
use crate::error::Error;
use crate::expr::Expression;
use crate::origin::Origin;
use crate::query::{Path, Source};
use crate::table::TableInfo;
use crate::tree::{Asked, Body, Named, Node, Select};

/// What is known on the way through a query.
#[derive(Debug)]
pub(crate) struct Guard<'a> {
    carried: &'a Carried,
    /// The policies whose conditions are being guarded, from the outermost to the innermost.
    within: Vec<TypeId>,
    /// What the queries around waive for what is inside of them.
    waived: Vec<Waiver>,
    all_waived: Option<Origin>,
    /// Those that were met, if somebody will look.
    met: Option<Vec<PolicyUse>>,
}

impl<'a> Guard<'a> {
    pub(crate) fn new(carried: &'a Carried) -> Guard<'a> {
        Guard { carried, within: Vec::new(), waived: Vec::new(), all_waived: None, met: None }
    }

    /// One that tells which policies it met.
    pub(crate) fn telling(carried: &'a Carried) -> Guard<'a> {
        Guard { met: Some(Vec::new()), ..Guard::new(carried) }
    }

    /// The policies that were met, in their order.
    pub(crate) fn into_met(self) -> Vec<PolicyUse> {
        self.met.unwrap_or_default()
    }

    /// The conditions of the policies of a query over one table and nothing else, if they stay within it:
    /// then they can stand beside its filters, and it need not be copied.
    pub(crate) fn beside_filters(
        &mut self,
        select: &Select,
    ) -> Result<Option<SmallVec<[Asked<Node>; 2]>>, Error> {
        let source = select.entry();
        let alone = matches!(select.body, Body::Table)
            && here_is(source, select.source)
            && select.rows.len() == 1
            && select.joins.is_empty()
            && select.beside.is_empty()
            && !select.follows()
            && !select.holds_queries();
        if !alone {
            return Ok(None);
        }
        if let Some(waived) = &select.waived {
            self.waived.extend(&waived.everywhere);
            self.all_waived = waived.all;
        }
        let mut conditions = SmallVec::<[Asked<Node>; 2]>::new();
        for policy in select.table.policies() {
            let condition = self.condition(select, source, select.table, policy, &[])?;
            let Some(what) = condition else { continue };
            let stays_within = !what.facts().follows && !what.facts().queries;
            // The query may ask for the same itself, or another policy.
            let mut others = select.filters.iter().chain(&conditions);
            if !stays_within || others.any(|other| other.what == what) {
                return Ok(None);
            }
            conditions.push(Asked { what, at: Origin::of(policy.declared_at) });
        }
        Ok(Some(conditions))
    }

    /// Puts the policies into a query and all that are inside of it.
    pub(crate) fn select(&mut self, select: &mut Select) -> Result<(), Error> {
        let (waived_before, all_before) = (self.waived.len(), self.all_waived);
        if let Some(waived) = &select.waived {
            self.waived.extend(&waived.everywhere);
            self.all_waived = self.all_waived.or(waived.all);
        }
        self.inside_of(select)?;
        self.rows_of(select)?;
        self.waived.truncate(waived_before);
        self.all_waived = all_before;
        Ok(())
    }

    /// The queries that stand in one.
    fn inside_of(&mut self, select: &mut Select) -> Result<(), Error> {
        self.body(&mut select.body)?;
        for join in &mut select.joins {
            self.body(&mut join.body)?;
        }
        for node in select.nodes_mut() {
            self.node(node)?;
        }
        Ok(())
    }

    pub(crate) fn node(&mut self, node: &mut Node) -> Result<(), Error> {
        if !node.facts().queries {
            return Ok(());
        }
        let mut guarded = Ok(());
        node.each_query(&mut |select| {
            if guarded.is_ok() {
                guarded = self.select(select);
            }
        });
        guarded
    }

    fn body(&mut self, body: &mut Body) -> Result<(), Error> {
        match body {
            Body::Table | Body::Again => Ok(()),
            Body::Query(select) => self.select(select),
            Body::Recursion(recursion) => {
                self.select(&mut recursion.start)?;
                self.select(&mut recursion.step)
            }
            Body::Sets(sets) => {
                self.select(&mut sets.first)?;
                sets.others
                    .iter_mut()
                    .try_for_each(|(_, select)| self.select(select))
            }
            // It is written once for all places, so that nothing around a place counts.
            Body::Named(named) => {
                let met = self.met.take();
                let mut alone = Guard { met, ..Guard::new(self.carried) };
                // But a policy that names a query does not hold within itself either.
                alone.within.clone_from(&self.within);
                alone.select(&mut Arc::<Named>::make_mut(named).select)?;
                self.met = alone.met;
                Ok(())
            }
        }
    }

    /// The tables whose rows are read or followed in a query itself.
    fn rows_of(&mut self, select: &mut Select) -> Result<(), Error> {
        // Each with the policies within which it was come to.
        let mut met: Vec<(Source, Vec<TypeId>)> = Vec::new();
        let add = |met: &mut Vec<(Source, Vec<TypeId>)>, source: Source, within: &[TypeId]| {
            if met.iter().all(|(known, _)| *known != source) {
                met.push((source, within.to_vec()));
            }
        };
        let here = |id| Source { id, path: Path::HERE };
        if let Body::Table = select.body {
            add(&mut met, here(select.source), &self.within);
        }
        for join in select
            .joins
            .iter()
            .filter(|join| matches!(join.body, Body::Table))
        {
            add(&mut met, here(join.source), &self.within);
        }
        for source in select
            .followed(true)
            .iter()
            .map(|asked| asked.what)
            .chain(select.beside.clone())
        {
            add(&mut met, source, &self.within);
        }
        // Policies stand before the filters, so that an engine which goes by that order computes nothing of rows
        // that are hidden.
        let (mut next, mut policies) = (0, 0);
        while let Some((source, within)) = met.get(next).cloned() {
            next += 1;
            let Some(table) = select.table_at(source) else { continue };
            if table.policies().is_empty() {
                continue;
            }
            if select.is_optional(source) {
                self.visible_rows(select, source, table, within)?;
                continue;
            }
            for policy in table.policies() {
                let Some(condition) = self.condition(select, source, table, policy, &within)?
                else {
                    continue;
                };
                let at = Origin::of(policy.declared_at);
                select.require(Asked { what: condition, at }, &mut policies);
                // What the policy follows has policies too.
                let mut within = within.clone();
                within.push((policy.id)());
                for asked in select.followed(true) {
                    add(&mut met, asked.what, &within);
                }
            }
        }
        Ok(())
    }

    /// The condition of a policy, unless it is waived or being guarded itself.
    fn condition(
        &mut self,
        select: &Select,
        source: Source,
        table: &'static TableInfo,
        policy: &'static PolicyInfo,
        within: &[TypeId],
    ) -> Result<Option<Node>, Error> {
        if within.contains(&(policy.id)()) {
            return Ok(None);
        }
        let waived_at = self.waived_at(select, source, policy);
        if let Some(met) = &mut self.met {
            met.push(PolicyUse {
                table: table.name(),
                policy: policy.name,
                waived: waived_at.is_some(),
                origin: waived_at.unwrap_or(Origin::of(policy.declared_at)),
            });
        }
        if waived_at.is_some() {
            return Ok(None);
        }
        let condition =
            (policy.condition)(source, self.carried).map_err(|MissingValue(value)| {
                Error::missing_carried(policy.name, table.name(), value)
            })?;
        let mut condition = condition.into_node();
        if !condition.facts().queries {
            return Ok(Some(condition));
        }
        let around = std::mem::replace(&mut self.within, within.to_vec());
        self.within.push((policy.id)());
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
        let waiver = waivers
            .find(|waiver| waiver.is_of(policy))
            .map(|waiver| waiver.at);
        waiver.or(self.all_waived)
    }

    /// Puts a query for the rows that may be seen in the place of a table of which there may be no row.
    fn visible_rows(
        &mut self,
        select: &mut Select,
        source: Source,
        table: &'static TableInfo,
        within: Vec<TypeId>,
    ) -> Result<(), Error> {
        let mut visible = Select::over(table, Body::Table, select.asked_at);
        let place = visible.entry();
        let waived = select.waived.iter().flat_map(|waived| &waived.here);
        let waived = waived.filter(|(other, _)| *other == source);
        let here: Vec<_> = waived.map(|(_, waiver)| (place, *waiver)).collect();
        visible.waived = Some(Box::new(Waived { here, ..Waived::default() }));
        let around = std::mem::replace(&mut self.within, within);
        let guarded = self.rows_of(&mut visible);
        self.within = around;
        guarded?;
        if visible.filters.is_empty() {
            return Ok(());
        }
        let body = Body::Query(Box::new(visible));
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

fn here_is(source: Source, id: crate::query::SourceId) -> bool {
    source.id == id && source.path == Path::HERE
}

impl Select {
    /// Whether any table in it, or in what is inside of it, has policies. Every query is asked.
    pub(crate) fn is_under_policies(&self) -> bool {
        let by_path = || {
            self.rows.iter().any(|source| source.path != Path::HERE)
                || !self.beside.is_empty()
                || self.follows()
        };
        !self.table.policies().is_empty()
            || self.body.is_under_policies()
            || self
                .joins
                .iter()
                .any(|join| !join.table.policies().is_empty() || join.body.is_under_policies())
            || self.any_node(|node| node.facts().queries && node.is_under_policies())
            || by_path() && self.leads_to_policies()
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

    /// Whether a parent that is followed, or one on the way to it, has policies. Without a list of them,
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

    /// Whether there may be no row of the table that stands there.
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

impl Body {
    fn is_under_policies(&self) -> bool {
        match self {
            Body::Table | Body::Again => false,
            Body::Query(select) => select.is_under_policies(),
            Body::Named(named) => named.select.is_under_policies(),
            Body::Recursion(recursion) => {
                recursion.start.is_under_policies() || recursion.step.is_under_policies()
            }
            Body::Sets(sets) => {
                sets.first.is_under_policies()
                    || sets
                        .others
                        .iter()
                        .any(|(_, select)| select.is_under_policies())
            }
        }
    }
}

impl Node {
    fn is_under_policies(&self) -> bool {
        if !self.facts().queries {
            return false;
        }
        let of_query = match self {
            Node::Subquery(_, subquery) => subquery.select.is_under_policies(),
            Node::InQuery(_, in_query) => in_query.select.is_under_policies(),
            _ => false,
        };
        let mut found = of_query;
        self.children(&mut |child| found |= child.is_under_policies());
        found
    }
}
