//! Keeps engines from computing what can fail for rows that a policy hides, so that no error tells anything
//! about their values.
//!
//! No engine promises the order in which it evaluates the terms of AND. Planners also move conditions into
//! derived tables, and from HAVING to WHERE. A condition that can fail is therefore written behind the policies
//! of its query, in a CASE. A derived table with policies inside gets a limit, past which no engine moves a
//! condition. All other conditions stay as they are, so that indexes serve them.

use smallvec::SmallVec;

use crate::model::{BindValue, Error, Origin, SqlType, TableInfo, function};
use crate::tree::{Call, Case, FromSource, Join, Located, Node, Path, Select, Source, SourceId};

const JOINED_LATER: &str = "a condition of a left join can fail for some rows, and a policy of the query needs a table \
     that is joined later; move the condition to `filter`";

/// The tables of one query.
type Own = SmallVec<[SourceId; 4]>;

impl Select {
    /// Returns whether something in it can fail.
    pub(super) fn can_fail(&self) -> bool {
        self.any_node(|node| node.summary().can_fail())
            || self.body.selects_what_fails()
            || self.joins.iter().any(|join| join.body.selects_what_fails())
    }

    /// Puts what can fail behind the policies of this query, which are its first filters, and behind those of its
    /// derived tables.
    pub(super) fn put_behind(&mut self, policies: usize, is_inner: bool) -> Result<(), Error> {
        let ids = self.joins.iter().map(|join| join.source);
        let own: Own = std::iter::once(self.source).chain(ids).collect();
        let is_own = |source: Source| own.contains(&source.id);
        let at = self.asked_at;
        for source in self.derived_to_fence(policies, is_inner) {
            let table = self.table_at(source);
            if let (Some(table), Some(body)) = (table, self.derived_mut(source)) {
                body.fence(table, at);
            }
        }
        if policies == 0 && !self.hides_rows() {
            return Ok(());
        }
        let having = self
            .grouping
            .iter_mut()
            .flat_map(|grouping| &mut grouping.having);
        for having in having.filter(|having| having.what.fails_on(&is_own)) {
            having.what.keep_after_grouping();
        }
        if policies == 0 {
            return Ok(());
        }
        let joins = self.joins.iter_mut().filter(|join| !join.optional);
        for join in joins {
            // In an inner join, a condition of ON means the same as a filter.
            let [fails, stays] = take(&mut join.on, &is_own);
            join.on = stays;
            self.filters.extend(fails);
        }
        let guard = self.guard(policies, &is_own);
        for filter in self.filters.iter_mut().skip(policies) {
            filter.what.put_behind(&guard, &is_own);
        }
        let (filters, joins) = (&self.filters, &mut self.joins);
        for number in 0..joins.len() {
            let is_later = |source: Source| {
                let place = own.iter().position(|id| *id == source.id);
                place.is_some_and(|place| place > number + 1 || source.path != Path::HERE)
            };
            let Some(join) = joins.get_mut(number) else { continue };
            let policies = filters.iter().take(policies).map(|policy| &policy.what);
            join.put_on_behind(policies, &is_own, &is_later)?;
        }
        if is_inner && self.merges() {
            let values = self.values.iter_mut().flat_map(|values| &mut values.what);
            values.for_each(|value| value.put_rows_behind(&guard, &is_own));
        }
        Ok(())
    }

    /// Returns the conjunction of the policies, after it has put those that can fail themselves behind the others.
    fn guard(&mut self, policies: usize, is_own: &dyn Fn(Source) -> bool) -> Node {
        let Some(policies) = self.filters.get_mut(..policies) else { return Node::constant(false) };
        policies.sort_by_key(|policy| policy.what.fails_on(is_own));
        let mut guard = Node::constant(true);
        for policy in policies {
            policy.what.put_behind(&guard, is_own);
            guard = guard.and(policy.what.clone());
        }
        guard
    }

    /// Returns the derived tables with policies inside of which this query computes what can fail.
    fn derived_to_fence(&self, policies: usize, is_inner: bool) -> SmallVec<[Source; 2]> {
        let here = |id| Source { id, path: Path::HERE };
        let own = std::iter::once((here(self.source), &self.body));
        let joins = self
            .joins
            .iter()
            .map(|join| (here(join.source), &join.body));
        let parents = self.parents.iter().map(|(source, body)| (*source, body));
        let derived = own.chain(joins).chain(parents);
        let derived = derived.filter(|(source, body)| {
            body.hides_rows()
                && (body.selects_what_fails()
                    || self
                        .computed_early(policies, is_inner)
                        .any(|node| node.fails_on(&|read| read == *source)))
        });
        derived.map(|(source, _)| source).collect()
    }

    /// Returns the conditions and values that an engine may compute before it has dropped the hidden rows. The values
    /// of an inner query are among them, because engines merge it with the query around it.
    fn computed_early(&self, policies: usize, is_inner: bool) -> impl Iterator<Item = &Node> {
        let filters = self.filters.iter().skip(policies);
        let on = self.joins.iter().flat_map(|join| &join.on);
        let grouping = self.grouping.iter().flat_map(|grouping| {
            let keys = grouping.group_keys.iter().chain(&grouping.having);
            keys.map(|key| &key.what)
        });
        let values = self.values.iter().flat_map(|values| &values.what);
        let values = values.chain(grouping).filter(move |_| is_inner);
        filters.chain(on).map(|on| &on.what).chain(values)
    }

    fn derived_mut(&mut self, source: Source) -> Option<&mut FromSource> {
        if source == (Source { id: self.source, path: Path::HERE }) {
            return Some(&mut self.body);
        }
        let parent = self.parents.iter_mut().find(|(place, _)| *place == source);
        match parent {
            Some((_, body)) => Some(body),
            None => {
                let mut joins = self.joins.iter_mut();
                joins
                    .find(|join| join.source == source.id)
                    .map(|join| &mut join.body)
            }
        }
    }

    /// Returns whether an engine may merge it with the query around it while its values can still be put behind its
    /// policies. Group keys that several clauses repeat must stay equal, so those queries get a limit instead.
    fn merges(&self) -> bool {
        let is_plain = self.orders.is_empty()
            && self.grouping.as_ref().is_none_or(|grouping| {
                grouping.group_keys.is_empty()
                    && grouping.having.is_empty()
                    && grouping.of_each.is_none()
            });
        !self.is_limited() && (is_plain || self.grouping.is_none())
    }

    /// Returns whether it, or a derived table in it, leaves out rows because of policies.
    fn hides_rows(&self) -> bool {
        self.has_policies() || self.derives_from_hidden()
    }

    /// Returns whether a derived table in it leaves out rows because of policies. This runs for every query.
    pub(super) fn derives_from_hidden(&self) -> bool {
        self.body.hides_rows()
            || self.joins.iter().any(|join| join.body.hides_rows())
            || self.parents.iter().any(|(_, body)| body.hides_rows())
    }

    /// Returns whether a filter can fail. This runs for every query over one table with policies.
    pub(super) fn filters_can_fail(&self) -> bool {
        self.filters
            .iter()
            .any(|filter| filter.what.summary().can_fail())
    }

    /// Returns whether it computes something from the row of a table that can fail.
    pub(super) fn computes_what_fails_on(&self, source: Source) -> bool {
        self.fails_on(&|read| read == source)
    }

    fn fails_on(&self, is_read: &dyn Fn(Source) -> bool) -> bool {
        self.any_node(|node| node.fails_on(is_read))
    }
}

impl Join {
    /// Puts the conditions of ON behind the policies that can stand in it.
    fn put_on_behind<'p>(
        &mut self,
        policies: impl Iterator<Item = &'p Node>,
        is_own: &dyn Fn(Source) -> bool,
        is_later: &dyn Fn(Source) -> bool,
    ) -> Result<(), Error> {
        if !self.on.iter().any(|on| on.what.fails_on(is_own)) {
            return Ok(());
        }
        let mut guard = Node::constant(true);
        for policy in policies {
            if policy.reads(is_later) {
                return Err(Error::invalid_query(JOINED_LATER).asked_at(self.asked_at));
            }
            guard = guard.and(policy.clone());
        }
        self.on
            .iter_mut()
            .for_each(|on| on.what.put_behind(&guard, is_own));
        Ok(())
    }
}

impl FromSource {
    /// Returns whether it leaves out rows because of policies. A recursion counts as one that does not, because
    /// engines compute it whole before they filter its rows.
    fn hides_rows(&self) -> bool {
        match self {
            FromSource::Table
            | FromSource::RecursiveReference
            | FromSource::Recursion(_)
            | FromSource::Text(_)
            | FromSource::Function(_) => false,
            FromSource::Query(select) => select.hides_rows(),
            FromSource::Cte(cte) => cte.select.hides_rows(),
            FromSource::Sets(sets) => {
                let others = sets.others.iter().map(|(_, select)| select);
                std::iter::once(&sets.first)
                    .chain(others)
                    .any(Select::hides_rows)
            }
        }
    }

    /// Returns whether it computes values that can fail, and that are not put behind its policies.
    fn selects_what_fails(&self) -> bool {
        let fails = |select: &Select| {
            let mut values = select.values.iter().flat_map(|values| &values.what);
            !select.merges() && values.any(|value| value.summary().can_fail())
        };
        match self {
            FromSource::Table
            | FromSource::RecursiveReference
            | FromSource::Recursion(_)
            | FromSource::Text(_)
            | FromSource::Function(_) => false,
            FromSource::Query(select) => fails(select),
            FromSource::Cte(cte) => fails(&cte.select),
            FromSource::Sets(sets) => {
                let mut others = sets.others.iter().map(|(_, select)| select);
                fails(&sets.first) || others.any(fails)
            }
        }
    }

    /// Gives it a limit that it never reaches, so that no engine moves a condition into it.
    fn fence(&mut self, table: &'static TableInfo, at: Origin) {
        let endless = Some(Located { what: BindValue::Int(i64::MAX), at });
        match self {
            FromSource::Table
            | FromSource::RecursiveReference
            | FromSource::Recursion(_)
            | FromSource::Text(_)
            | FromSource::Function(_) => {}
            FromSource::Query(select) if select.is_limited() => {}
            FromSource::Query(select) => select.limit = endless,
            FromSource::Cte(_) | FromSource::Sets(_) => {
                let around = Select::over(table, std::mem::take(self), at);
                *self = FromSource::Query(Box::new(Select { limit: endless, ..around }));
            }
        }
    }
}

impl Node {
    /// Returns whether it contains something whose result may be an error, depending on a column of those tables.
    fn fails_on(&self, is_read: &dyn Fn(Source) -> bool) -> bool {
        if !self.summary().can_fail() {
            return false;
        }
        // Hand-written text may name any column itself.
        let call_fails = |call: &Call| {
            let function = call.function;
            let reads = || {
                call.arguments
                    .iter()
                    .any(|argument| argument.reads(is_read))
            };
            function.is_verbatim() || function.can_fail() && reads()
        };
        let mut fails = match self {
            Node::RawSql(_) => true,
            Node::Call(_, call) => call_fails(call),
            Node::Aggregate(_, aggregate) => call_fails(&aggregate.call),
            Node::Window(_, window) => call_fails(&window.of.call),
            Node::Subquery(_, subquery) => subquery.select.fails_on(is_read),
            Node::InQuery(_, in_query) => in_query.select.fails_on(is_read),
            _ => false,
        };
        self.children(&mut |child| fails = fails || child.fails_on(is_read));
        fails
    }

    /// Returns whether it contains a column of those tables, also in subqueries.
    fn reads(&self, is_read: &dyn Fn(Source) -> bool) -> bool {
        let reads = |select: &Select| select.any_node(|node| node.reads(is_read));
        let mut found = match self {
            Node::Column(column) => is_read(column.source),
            Node::RawSql(text) => !text.closed,
            Node::Subquery(_, subquery) => reads(&subquery.select),
            Node::InQuery(_, in_query) => reads(&in_query.select),
            _ => false,
        };
        self.children(&mut |child| found = found || child.reads(is_read));
        found
    }

    /// Puts itself behind the policies, if it can fail for some rows of those tables.
    fn put_behind(&mut self, guard: &Node, is_own: &dyn Fn(Source) -> bool) {
        if guard.is_constant(true) || !self.fails_on(is_own) {
            return;
        }
        let function = match self.is_condition() {
            true => &function::BEHIND_CONDITION,
            false => &function::BEHIND,
        };
        let sql_type = self.sql_type();
        self.replace(|own| Node::call(function, sql_type, [guard.clone(), own]));
    }

    /// Puts those parts of it that are computed for single rows behind the policies.
    fn put_rows_behind(&mut self, guard: &Node, is_own: &dyn Fn(Source) -> bool) {
        match self {
            // Its argument is computed after the filters.
            Node::Aggregate(..) => {}
            Node::Key(..) | Node::Window(..) => {
                self.children_mut(&mut |child| child.put_rows_behind(guard, is_own));
            }
            _ if self.is_of_rows() => self.put_behind(guard, is_own),
            _ => self.children_mut(&mut |child| child.put_rows_behind(guard, is_own)),
        }
    }

    /// Returns whether it contains neither aggregates nor windows nor group keys.
    fn is_of_rows(&self) -> bool {
        let mut is_of_rows =
            !matches!(self, Node::Aggregate(..) | Node::Window(..) | Node::Key(..));
        self.children(&mut |child| is_of_rows = is_of_rows && child.is_of_rows());
        is_of_rows
    }

    /// Makes a condition of HAVING depend on an aggregate, so that no engine moves it to WHERE.
    fn keep_after_grouping(&mut self) {
        self.replace(|own| {
            let call = Call::of(&function::COUNT_ROWS, SqlType::BigInt, SmallVec::new());
            let some_group = Node::aggregate(Node::of_rows(call)).is_null().negated();
            Node::of_case(Case {
                branches: vec![[some_group, own]],
                otherwise: None,
                sql_type: SqlType::Boolean,
            })
        });
    }

    fn replace(&mut self, change: impl FnOnce(Node) -> Node) {
        let own = std::mem::replace(self, Node::TooDeep);
        *self = change(own);
    }
}

/// Takes the conditions that can fail out of a list, and returns them and the others.
fn take(
    on: &mut SmallVec<[Located<Node>; 4]>,
    is_own: &dyn Fn(Source) -> bool,
) -> [SmallVec<[Located<Node>; 4]>; 2] {
    let (fails, stays) = std::mem::take(on)
        .into_iter()
        .partition(|on| on.what.fails_on(is_own));
    [fails, stays]
}
