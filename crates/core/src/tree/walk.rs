//! Walks over the nodes and columns of a tree, also in subqueries.

use std::sync::Arc;

use super::{
    Aggregate, CteQuery, FromSource, Node, RawColumn, Select, Source, SourceId, SubqueryKind,
    Window,
};
use crate::model::BindValue;

impl Aggregate {
    pub(crate) fn nodes(&self) -> impl Iterator<Item = &Node> {
        let orders = self.orders.iter().map(|order| &order.by);
        self.call.arguments.iter().chain(&self.filter).chain(orders)
    }

    fn nodes_mut(&mut self) -> impl Iterator<Item = &mut Node> {
        let orders = self.orders.iter_mut().map(|order| &mut order.by);
        let arguments = self.call.arguments.iter_mut();
        arguments.chain(&mut self.filter).chain(orders)
    }
}

impl Window {
    pub(crate) fn nodes(&self) -> impl Iterator<Item = &Node> {
        let orders = self.orders.iter().map(|order| &order.by);
        self.of.nodes().chain(&self.partition).chain(orders)
    }

    fn nodes_mut(&mut self) -> impl Iterator<Item = &mut Node> {
        let orders = self.orders.iter_mut().map(|order| &mut order.by);
        self.of.nodes_mut().chain(&mut self.partition).chain(orders)
    }
}

impl Node {
    /// Visits the nodes directly below this one, without those of subqueries.
    pub(crate) fn children<'n>(&'n self, see: &mut dyn FnMut(&'n Node)) {
        match self {
            Node::Column(_)
            | Node::Bind(_)
            | Node::RawSql(_)
            | Node::ColumnsOf(_)
            | Node::SchemaName
            | Node::Refused(_)
            | Node::Unfit(_)
            | Node::Subquery(..)
            | Node::TooDeep => {}
            Node::Compare(_, _, sides) => sides.iter().for_each(see),
            Node::Between(_, parts) => parts.iter().for_each(see),
            Node::All(_, terms) | Node::Any(_, terms) => terms.iter().for_each(see),
            Node::Not(_, inner) | Node::IsNull(_, inner) | Node::IsNotNull(_, inner) => see(inner),
            Node::Key(_, key) => {
                see(&key.of);
                key.decided_by.iter().for_each(see);
            }
            Node::OneOf(_, one_of) => see(&one_of.operand),
            Node::InQuery(_, in_query) => see(&in_query.operand),
            Node::Like(_, like) => see(&like.operand),
            Node::Call(_, call) => call.arguments.iter().for_each(see),
            Node::Aggregate(_, aggregate) => aggregate.nodes().for_each(see),
            Node::Window(_, window) => window.nodes().for_each(see),
            Node::Case(_, case) => {
                let branches = case.branches.as_flattened().iter();
                branches.chain(&case.otherwise).for_each(see);
            }
        }
    }

    /// Returns whether it contains a group key.
    pub(super) fn holds_keys(&self) -> bool {
        let mut holds = matches!(self, Node::Key(..));
        self.children(&mut |child| holds |= child.holds_keys());
        holds
    }

    /// Visits the source of every column of a parent in it, also in subqueries.
    pub(crate) fn visit_followed(&self, see: &mut dyn FnMut(Source)) {
        if !self.summary().follows() {
            return;
        }
        let inside = match self {
            Node::Column(column) => return see(column.source),
            Node::Subquery(_, subquery) => Some(&subquery.select),
            Node::InQuery(_, in_query) => Some(&in_query.select),
            _ => None,
        };
        for node in inside.iter().flat_map(|select| select.nodes()) {
            node.visit_followed(see);
        }
        self.children(&mut |child| child.visit_followed(see));
    }

    /// Visits every column in it, also in subqueries.
    pub(crate) fn visit_columns(&self, see: &mut dyn FnMut(&RawColumn)) {
        match self {
            Node::Column(column) => return see(column),
            Node::Subquery(_, subquery) => subquery.select.visit_columns(see),
            Node::InQuery(_, in_query) => in_query.select.visit_columns(see),
            _ => {}
        }
        self.children(&mut |child| child.visit_columns(see));
    }

    /// Visits the nodes directly below this one for changes, without those of subqueries.
    pub(crate) fn children_mut(&mut self, change: &mut dyn FnMut(&mut Node)) {
        match self {
            Node::Column(_)
            | Node::Bind(_)
            | Node::RawSql(_)
            | Node::ColumnsOf(_)
            | Node::SchemaName
            | Node::Refused(_)
            | Node::Unfit(_)
            | Node::Subquery(..)
            | Node::TooDeep => {}
            Node::Compare(_, _, sides) => sides.iter_mut().for_each(change),
            Node::Between(_, parts) => parts.iter_mut().for_each(change),
            Node::All(_, terms) | Node::Any(_, terms) => terms.iter_mut().for_each(change),
            Node::Not(_, inner) | Node::IsNull(_, inner) | Node::IsNotNull(_, inner) => {
                change(inner)
            }
            Node::Key(_, key) => {
                change(&mut key.of);
                key.decided_by.iter_mut().for_each(change);
            }
            Node::OneOf(_, one_of) => change(&mut one_of.operand),
            Node::InQuery(_, in_query) => change(&mut in_query.operand),
            Node::Like(_, like) => change(&mut like.operand),
            Node::Call(_, call) => call.arguments.iter_mut().for_each(change),
            Node::Aggregate(_, aggregate) => aggregate.nodes_mut().for_each(change),
            Node::Window(_, window) => window.nodes_mut().for_each(change),
            Node::Case(_, case) => {
                let branches = case.branches.as_flattened_mut().iter_mut();
                branches.chain(&mut case.otherwise).for_each(change);
            }
        }
    }

    /// Replaces columns in it, without those of subqueries, by the nodes that `by` returns.
    pub(crate) fn replace_columns(&mut self, by: &dyn Fn(&RawColumn) -> Option<Node>) {
        if let Node::Column(column) = self {
            if let Some(node) = by(column) {
                *self = node;
            }
            return;
        }
        self.children_mut(&mut |child| child.replace_columns(by));
        self.summarize_again();
    }

    /// Visits each query inside it, but not the queries inside those.
    pub(crate) fn each_inner<'n>(&'n self, see: &mut dyn FnMut(Inner<'n>)) {
        if !self.summary().queries() {
            return;
        }
        match self {
            Node::Subquery(_, subquery) => see(Inner::Query(&subquery.select)),
            Node::InQuery(_, in_query) => see(Inner::Query(&in_query.select)),
            _ => {}
        }
        self.children(&mut |child| child.each_inner(see));
    }

    /// Visits each query inside it for changes, but not the queries inside those.
    pub(crate) fn each_query(&mut self, change: &mut dyn FnMut(&mut Select)) {
        if !self.summary().queries() {
            return;
        }
        match self {
            Node::Subquery(_, subquery) => change(&mut subquery.select),
            Node::InQuery(_, in_query) => change(&mut in_query.select),
            _ => {}
        }
        self.children_mut(&mut |child| child.each_query(change));
    }

    /// Changes every column in it, also in subqueries.
    pub(crate) fn each_column(&mut self, change: &mut dyn FnMut(&mut RawColumn)) {
        if let Node::Column(column) = self {
            return change(column);
        }
        self.each_query(&mut |select| select.each_column(change));
        self.each_own_column(change);
    }

    /// Visits the value of every bind in it for changes, also in subqueries, but not the patterns of LIKE, which engines
    /// write in different ways.
    pub(crate) fn each_bind(&mut self, change: &mut dyn FnMut(&mut BindValue)) {
        match self {
            Node::Bind(value) => return change(value),
            Node::OneOf(_, one_of) => {
                change(&mut one_of.list);
                one_of.with_null.iter_mut().for_each(&mut *change);
            }
            Node::Subquery(_, subquery) => {
                if let SubqueryKind::MoreThan(rows) | SubqueryKind::AtMost(rows) =
                    &mut subquery.asked
                {
                    change(rows);
                }
                subquery.select.each_bind(change);
            }
            Node::InQuery(_, in_query) => in_query.select.each_bind(change),
            _ => {}
        }
        self.children_mut(&mut |child| child.each_bind(change));
    }

    /// Turns the columns of a table into those of nowhere, as in [`Select::copied_nowhere`].
    pub(crate) fn stand_nowhere(&mut self, table: SourceId) {
        self.each_column(&mut |column| {
            if column.source.id == table {
                column.source.id = Source::NOWHERE.id;
            }
        });
    }

    fn each_own_column(&mut self, change: &mut dyn FnMut(&mut RawColumn)) {
        if let Node::Column(column) = self {
            return change(column);
        }
        self.children_mut(&mut |child| child.each_own_column(change));
    }
}

/// A query inside another: a derived table, or in an expression.
pub(crate) enum Inner<'s> {
    Query(&'s Select),
    Cte(&'s Arc<CteQuery>),
}

/// A query inside another, to be changed.
pub(crate) enum InnerMut<'s> {
    Query(&'s mut Select),
    Cte(&'s mut Arc<CteQuery>),
}

impl FromSource {
    fn each_inner<'s>(&'s self, see: &mut dyn FnMut(Inner<'s>)) {
        match self {
            FromSource::Table | FromSource::RecursiveReference => {}
            FromSource::Text(text) | FromSource::Function(text) => text.each_inner(see),
            FromSource::Query(select) => see(Inner::Query(select)),
            FromSource::Cte(named) => see(Inner::Cte(named)),
            FromSource::Sets(sets) => {
                see(Inner::Query(&sets.first));
                sets.others
                    .iter()
                    .for_each(|(_, select)| see(Inner::Query(select)));
            }
            FromSource::Recursion(recursion) => {
                see(Inner::Query(&recursion.start));
                see(Inner::Query(&recursion.step));
            }
        }
    }

    fn each_bind(&mut self, change: &mut dyn FnMut(&mut BindValue)) {
        if let FromSource::Text(text) | FromSource::Function(text) = self {
            return text.each_bind(change);
        }
        self.each_inner_mut(&mut |inner| match inner {
            InnerMut::Query(select) => select.each_bind(change),
            InnerMut::Cte(named) => Arc::make_mut(named).select.each_bind(change),
        });
    }

    fn each_inner_mut(&mut self, change: &mut dyn FnMut(InnerMut<'_>)) {
        match self {
            FromSource::Table | FromSource::RecursiveReference => {}
            FromSource::Text(text) | FromSource::Function(text) => {
                text.each_query(&mut |select| change(InnerMut::Query(select)));
            }
            FromSource::Query(select) => change(InnerMut::Query(select)),
            FromSource::Cte(named) => change(InnerMut::Cte(named)),
            FromSource::Sets(sets) => {
                change(InnerMut::Query(&mut sets.first));
                sets.others
                    .iter_mut()
                    .for_each(|(_, select)| change(InnerMut::Query(select)));
            }
            FromSource::Recursion(recursion) => {
                change(InnerMut::Query(&mut recursion.start));
                change(InnerMut::Query(&mut recursion.step));
            }
        }
    }
}

impl Select {
    /// Visits every column in its clauses, also in subqueries.
    pub(crate) fn visit_columns(&self, see: &mut dyn FnMut(&RawColumn)) {
        self.nodes().for_each(|node| node.visit_columns(see));
    }

    /// Visits the value of every bind in it for changes, as [`Node::each_bind`].
    pub(crate) fn each_bind(&mut self, change: &mut dyn FnMut(&mut BindValue)) {
        self.body.each_bind(change);
        let joined = self.joins.iter_mut().map(|join| &mut join.body);
        let parents = self.parents.iter_mut().map(|(_, body)| body);
        joined
            .chain(parents)
            .for_each(|body| body.each_bind(change));
        self.nodes_mut().for_each(|node| node.each_bind(change));
        let limits = [&mut self.limit, &mut self.offset].into_iter().flatten();
        limits.for_each(|limit| change(&mut limit.what));
        let of_each = self.grouping.iter_mut();
        let of_each = of_each.flat_map(|grouping| &mut grouping.of_each);
        of_each
            .flat_map(|each| [&mut each.limit, &mut each.offset])
            .flatten()
            .for_each(change);
    }

    /// Visits each query inside it, but not the queries inside those.
    pub(crate) fn each_inner<'s>(&'s self, see: &mut dyn FnMut(Inner<'s>)) {
        self.body.each_inner(see);
        for join in &self.joins {
            join.body.each_inner(see);
        }
        self.any_node(|node| {
            node.each_inner(see);
            false
        });
    }

    /// Visits the same queries for changes, in the same order.
    pub(crate) fn each_inner_mut(&mut self, change: &mut dyn FnMut(InnerMut<'_>)) {
        self.body.each_inner_mut(change);
        for join in &mut self.joins {
            join.body.each_inner_mut(change);
        }
        if self.holds_queries() {
            self.nodes_mut().for_each(|node| {
                node.each_query(&mut |select| change(InnerMut::Query(select)));
            });
        }
    }
}
