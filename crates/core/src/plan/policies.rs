//! Applies the policies of all tables to a query, in one pass. A query is copied only where a policy must
//! stand inside it.
//!
//! Where rows of a table are required, its policies are filters. Where the row may be missing, as after a
//! LEFT JOIN, a derived table of the visible rows replaces the table. A policy may use relations to tables
//! with policies of their own. A policy is not applied inside its own condition, which ends the recursion
//! where tables refer to each other in a circle.

use std::any::TypeId;
use std::sync::Arc;

use smallvec::SmallVec;

use super::{CompileContext, Policies, Tree};
use crate::model::{Carried, Error, MissingValue, Origin, PolicyInfo, TableInfo};
use crate::tree::{
    CteQuery, FromSource, Inner, InnerMut, Located, Node, Path, PolicyCondition, PolicyUse,
    RawColumn, Select, Source, SourceId, Waived, Waiver,
};

/// State while policies are applied to a query.
#[derive(Debug)]
pub(super) struct Guard<'a> {
    carried: &'a Carried,
    /// True if the dialect must be told to compare text by code point.
    same: bool,
    /// The policies whose conditions are being processed, from the outermost to the innermost.
    within: Within,
    /// The waivers of the enclosing queries.
    waived: Vec<Waiver>,
    all_waived: Option<Origin>,
    /// The policies of the statement, if the caller needs the list.
    met: Option<Vec<PolicyUse>>,
    /// The identities of common table expressions inside policies.
    variants: Vec<(SourceId, Within, SourceId)>,
}

type Within = SmallVec<[TypeId; 2]>;

/// Tables to apply policies to, each with the policies that led to it.
type Places = SmallVec<[(Source, Within); 2]>;

/// A changed query or common table expression inside another query.
enum Guarded {
    Query(Box<Select>),
    Cte(Arc<CteQuery>),
}

impl<'a> Guard<'a> {
    /// Returns a state that lists the policies it meets, if `tells`.
    pub(super) fn new(context: CompileContext<'a>, tells: bool) -> Guard<'a> {
        let same = context.grammar.text_sameness().is_some();
        Guard::with(context.carried, same, tells)
    }

    fn with(carried: &'a Carried, same: bool, tells: bool) -> Guard<'a> {
        Guard {
            carried,
            same,
            within: Within::new(),
            waived: Vec::new(),
            all_waived: None,
            met: tells.then(Vec::new),
            variants: Vec::new(),
        }
    }

    /// Returns the policies that were met, in their order.
    pub(super) fn into_met(self) -> Vec<PolicyUse> {
        self.met.unwrap_or_default()
    }

    /// Applies the policies to a whole query. The policies of a query over one table stand before its
    /// filters. They are kept apart from the query if they follow none of its parents, so that it need not be
    /// copied.
    pub(super) fn outermost<'q>(
        &mut self,
        select: &'q Select,
    ) -> Result<(Tree<'q>, Policies), Error> {
        if let Some(waived) = &select.waived {
            self.waived.extend(&waived.everywhere);
            self.all_waived = waived.all;
        }
        let inside = self.inside_of(select)?;
        if let (Tree::Lent(select), true) =
            (&inside, select.is_over_one_table() && !select.filters_can_fail())
        {
            let met = self.met.as_ref().map_or(0, Vec::len);
            if let Some(policies) = self.apart(select)? {
                return Ok((inside, policies));
            }
            self.met.iter_mut().for_each(|all| all.truncate(met));
        }
        Ok((self.rows_of(inside, false)?, Policies::new()))
    }

    /// Returns the conditions of the policies of a query over one table, if they can be kept apart from it.
    fn apart(&mut self, select: &Select) -> Result<Option<Policies>, Error> {
        let mut policies = Policies::new();
        for policy in select.table.policies() {
            let condition =
                self.condition(select, select.entry(), select.table, policy, &Within::new())?;
            let Some(what) = condition else { continue };
            // A filter of the query, or another policy, may be the same condition.
            let mut others = select.filters.iter().chain(&policies);
            let summary = what.summary();
            if summary.follows() || summary.can_fail() || others.any(|other| other.what == what) {
                return Ok(None);
            }
            policies.push(Located { what, at: Origin::of(policy.declared_at()) });
        }
        Ok(Some(policies))
    }

    /// Applies the policies to a query and to all queries inside it.
    pub(super) fn select<'q>(&mut self, select: &'q Select) -> Result<Tree<'q>, Error> {
        let (waived_before, all_before) = (self.waived.len(), self.all_waived);
        if let Some(waived) = &select.waived {
            self.waived.extend(&waived.everywhere);
            self.all_waived = self.all_waived.or(waived.all);
        }
        let inside = self.inside_of(select)?;
        let guarded = self.rows_of(inside, true)?;
        self.waived.truncate(waived_before);
        self.all_waived = all_before;
        Ok(guarded)
    }

    /// Applies the policies to the queries inside a query.
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
                    (InnerMut::Cte(named), Guarded::Cte(guarded)) => {
                        *named = guarded;
                    }
                    (InnerMut::Query(_) | InnerMut::Cte(_), _) => misplaced = true,
                }
            }
            number += 1;
        });
        // Both walks visit the same queries in the same order. If they ever do not, the query is refused.
        match misplaced || guarded.peek().is_some() {
            true => Err(Error::invalid_query(MISPLACED)),
            false => Ok(Tree::Own(Box::new(select))),
        }
    }

    /// Applies the policies to an inner query. Returns it if it has changed.
    fn inner(&mut self, inner: Inner<'_>) -> Result<Option<Guarded>, Error> {
        match inner {
            Inner::Query(select) => match self.select(select)? {
                Tree::Lent(_) => Ok(None),
                Tree::Own(select) => Ok(Some(Guarded::Query(select))),
            },
            // A common table expression is written once for all its uses, so the waivers around one use do
            // not count.
            Inner::Cte(named) => {
                let mut alone = Guard::with(self.carried, self.same, false);
                alone.met = self.met.take();
                alone.variants = std::mem::take(&mut self.variants);
                // A policy inside whose condition the expression stands is not applied in it either.
                alone.within.clone_from(&self.within);
                let guarded = alone.select(&named.select);
                self.met = alone.met;
                self.variants = alone.variants;
                let (guarded, is_changed) = match guarded? {
                    Tree::Lent(_) => (None, false),
                    Tree::Own(select) => (Some(*select), true),
                };
                let (id, name) = match self.within.is_empty() {
                    true => (named.id, named.name.clone()),
                    // Inside a policy the expression has other rows than outside, so it is another one there.
                    false => (self.variant(named.id), None),
                };
                if !is_changed && id == named.id {
                    return Ok(None);
                }
                let select = guarded.unwrap_or_else(|| named.select.clone());
                let guarded = CteQuery { id, select, fields: named.fields, name };
                Ok(Some(Guarded::Cte(Arc::new(guarded))))
            }
        }
    }

    /// Returns the identity of a common table expression inside the policies that are being processed.
    fn variant(&mut self, id: SourceId) -> SourceId {
        let known = self
            .variants
            .iter()
            .find(|(of, within, _)| *of == id && *within == self.within);
        if let Some((.., variant)) = known {
            return *variant;
        }
        let variant = Source::fresh().id;
        self.variants.push((id, self.within.clone(), variant));
        variant
    }

    /// Applies the policies to the queries inside a value or a condition.
    pub(super) fn node(&mut self, node: &mut Node) -> Result<(), Error> {
        if !node.summary().queries() {
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

    /// Applies the policies of the tables that a query itself reads or follows, and puts what can fail behind them.
    fn rows_of<'q>(&mut self, mut select: Tree<'q>, is_inner: bool) -> Result<Tree<'q>, Error> {
        let policies = match select.has_policies() {
            true => self.require_policies(&mut select)?,
            false => 0,
        };
        if (policies > 0 || select.derives_from_hidden()) && select.can_fail() {
            select.to_mut().put_behind(policies, is_inner)?;
        }
        Ok(select)
    }

    /// Adds the policies of the tables that a query itself reads or follows to its filters. Returns their number.
    fn require_policies(&mut self, select: &mut Tree<'_>) -> Result<usize, Error> {
        let mut places = self.places(select);
        // Policies stand before the filters, so that an engine which evaluates conditions in that order
        // computes nothing from hidden rows.
        let (mut next, mut policies) = (0, 0);
        // The rows behind bridge tables, which are guarded together with these.
        let mut guarded = Vec::new();
        while let Some((source, within)) = places.get(next).cloned() {
            next += 1;
            let Some(table) = select.table_at(source) else { continue };
            if select.is_optional(source) {
                if !guarded.contains(&source) || select.computes_what_fails_on(source) {
                    guarded.extend(self.visible_rows(select, source, table, within)?);
                }
                continue;
            }
            if table.policies().is_empty() {
                continue;
            }
            for policy in table.policies() {
                let Some(what) = self.condition(select, source, table, policy, &within)? else {
                    continue;
                };
                let follows = what.summary().follows();
                let select = select.to_mut();
                let at = Origin::of(policy.declared_at());
                select.require(Located { what, at }, &mut policies);
                if follows {
                    // The tables that the policy follows have policies too.
                    let mut within = within.clone();
                    within.push(policy.id());
                    for asked in select.followed(true) {
                        add(&mut places, asked.what, &within);
                    }
                }
            }
        }
        Ok(policies)
    }

    /// Returns the tables that a query itself reads or follows, if they may have policies.
    fn places(&self, select: &Select) -> Places {
        let mut places = Places::new();
        let here = |id| Source { id, path: Path::HERE };
        let own = std::iter::once((select.source, select.table, &select.body));
        let joined = select
            .joins
            .iter()
            .map(|join| (join.source, join.table, &join.body));
        for (id, table, body) in own.chain(joined) {
            let leads = || {
                select
                    .bridged_from(id)
                    .any(|row| select.is_behind_policies(row))
            };
            if body.has_rows_of_table() && (!table.policies().is_empty() || leads()) {
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

    /// Returns the condition of a policy, or `None` if it is waived or is being processed already.
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
        if self.same {
            condition.make_same();
        }
        if !condition.summary().queries() {
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

    /// Replaces a table whose row may be missing by a derived table of its visible rows. Returns the rows behind a
    /// bridge table, whose policies stand in the derived table too.
    fn visible_rows(
        &mut self,
        select: &mut Tree<'_>,
        source: Source,
        table: &'static TableInfo,
        within: Within,
    ) -> Result<Vec<Source>, Error> {
        let mut visible = Select::over(table, FromSource::Table, select.asked_at);
        let place = visible.entry();
        // Over a bridge table the rows of one pair are visible together: those of the bridge table count only with
        // the row that they lead to.
        let bridged: Vec<Source> = match source.path {
            Path::HERE => select.bridged_from(source.id).collect(),
            _ => Vec::new(),
        };
        let inside = |other: Source| match other == source {
            true => Some(place),
            false => bridged
                .contains(&other)
                .then_some(Source { id: place.id, path: other.path }),
        };
        let waived = select.waived.iter().flat_map(|waived| &waived.here);
        let here: Vec<_> = waived
            .filter_map(|(other, waiver)| Some((inside(*other)?, *waiver)))
            .collect();
        visible.waived = Some(Box::new(Waived { here, ..Waived::default() }));
        for row in bridged.iter().filter_map(|row| inside(*row)) {
            let what = visible.leads_to(row);
            visible.filters.push(Located { what, at: select.asked_at });
        }
        let unguarded = visible.filters.len();
        let around = std::mem::replace(&mut self.within, within);
        let guarded = self.rows_of(Tree::Own(Box::new(visible)), true);
        self.within = around;
        let visible = guarded?.into_owned();
        if visible.filters.len() == unguarded && visible.parents.is_empty() {
            return Ok(bridged);
        }
        let select = select.to_mut();
        let body = FromSource::Query(visible);
        match select
            .joins
            .iter_mut()
            .find(|join| here_is(source, join.source))
        {
            Some(join) => join.body = body,
            None => select.parents.push((source, body)),
        }
        Ok(bridged)
    }
}

const MISPLACED: &str = "the policies of a subquery could not be applied";

/// Adds a table, unless it is already listed.
fn add(places: &mut Places, source: Source, within: &Within) {
    if places.iter().all(|(known, _)| *known != source) {
        places.push((source, within.clone()));
    }
}

fn here_is(source: Source, id: SourceId) -> bool {
    source.id == id && source.path == Path::HERE
}

impl Select {
    /// Returns whether it reads one table and follows none of its parents.
    fn is_over_one_table(&self) -> bool {
        self.is_of_one_table() && !self.follows()
    }

    /// Returns whether a table that it reads or follows has policies. This runs for every query.
    pub(super) fn has_policies(&self) -> bool {
        !self.table.policies().is_empty()
            || self
                .joins
                .iter()
                .any(|join| !join.table.policies().is_empty())
            || self.leads_to_policies()
    }

    /// Returns whether no table that it reads has policies, nor one inside it.
    pub(crate) fn is_free_of_policies(&self) -> bool {
        let mut is_free = !self.has_policies() && self.parents.is_empty();
        self.each_inner(&mut |inner| {
            is_free &= match inner {
                Inner::Query(select) => select.is_free_of_policies(),
                Inner::Cte(cte) => cte.select.is_free_of_policies(),
            };
        });
        is_free
    }

    /// Returns whether the query, or one inside it, reads other tables than one.
    pub(super) fn asks_others(&self) -> bool {
        !self.is_of_one_table() || self.any_node(|node| node.summary().asks_others())
    }

    fn is_of_one_table(&self) -> bool {
        self.body.has_rows_of_table()
            && here_is(self.entry(), self.source)
            && self.rows.len() == 1
            && self.joins.is_empty()
            && self.beside.is_empty()
    }

    /// Inserts the conditions of policies before the filters.
    pub(super) fn require_all(&mut self, policies: Policies) {
        let mut before = 0;
        for policy in policies {
            self.require(policy, &mut before);
        }
    }

    /// Inserts the condition of a policy behind those that already stand before the filters.
    fn require(&mut self, policy: Located<Node>, policies: &mut usize) {
        let mut filters = self.filters.iter();
        match filters.position(|filter| filter.what == policy.what) {
            Some(place) if place < *policies => return,
            // The query has the same filter itself.
            Some(place) => drop(self.filters.remove(place)),
            None => {}
        }
        self.filters.insert(*policies, policy);
        *policies += 1;
    }

    /// Returns whether a parent that is followed, or one on the path to it, has policies. It builds no list,
    /// because it runs for every query.
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

    /// Returns the rows that the query reads behind the joined table with this source, which is a bridge table
    /// then.
    fn bridged_from(&self, id: SourceId) -> impl Iterator<Item = Source> {
        let is_joined = self
            .joins
            .iter()
            .any(|join| join.source == id && join.optional);
        let rows = self.rows.iter().copied().filter(move |_| is_joined);
        rows.filter(move |row| row.id == id && row.path != Path::HERE)
    }

    /// Returns the condition that a reference leads to a row: that the column which it refers to is not NULL.
    fn leads_to(&self, source: Source) -> Node {
        let reference = source.path.last().and_then(|(before, step)| {
            let table = self.table_at(Source { path: before, ..source })?;
            table.references().get(step)
        });
        let column = reference.and_then(|reference| reference.pairs().next());
        match column {
            Some([_, info]) => Node::Column(RawColumn { source, info }).is_null().negated(),
            None => Node::constant(false),
        }
    }

    fn is_behind_policies(&self, source: Source) -> bool {
        let Some((before, _)) = source.path.last() else { return false };
        // A table that cannot be found becomes an error later; until then it counts as one with policies.
        let has = self
            .table_at(source)
            .is_none_or(|table| !table.policies().is_empty());
        has || self.is_behind_policies(Source { path: before, ..source })
    }

    /// Returns whether the row of that table may be missing.
    fn is_optional(&self, source: Source) -> bool {
        self.may_be_missing(source) && !self.requires_row(source)
    }
}
