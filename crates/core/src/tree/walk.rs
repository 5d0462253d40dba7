//! Walks over the columns of a tree, those in subqueries too.

use std::slice;

use super::{Aggregate, Node, RawColumn, Window};
use crate::query::Source;

impl Aggregate {
    pub(crate) fn nodes(&self) -> impl Iterator<Item = &Node> {
        let orders = self.orders.iter().map(|order| &order.by);
        self.call.arguments.iter().chain(&self.among).chain(orders)
    }

    fn each_column(&mut self, change: &mut dyn FnMut(&mut RawColumn)) {
        let orders = self.orders.iter_mut().map(|order| &mut order.by);
        for node in self
            .call
            .arguments
            .iter_mut()
            .chain(&mut self.among)
            .chain(orders)
        {
            node.each_column(change);
        }
    }
}

impl Window {
    pub(crate) fn nodes(&self) -> impl Iterator<Item = &Node> {
        let orders = self.orders.iter().map(|order| &order.by);
        self.of.nodes().chain(&self.partition).chain(orders)
    }
}

impl Node {
    /// Shows the nodes directly below this one, without those of queries inside.
    pub(crate) fn children<'n>(&'n self, see: &mut dyn FnMut(&'n Node)) {
        match self {
            Node::Column(_)
            | Node::Bind(_)
            | Node::Trusted(_)
            | Node::Refused(_)
            | Node::Unfit(_)
            | Node::Subquery(..)
            | Node::TooDeep => {}
            Node::Compare(_, _, sides) => sides.iter().for_each(see),
            Node::Between(_, parts) => parts.iter().for_each(see),
            Node::All(_, terms) | Node::Any(_, terms) => terms.iter().for_each(see),
            Node::Not(_, inner) | Node::IsNull(_, inner) | Node::IsNotNull(_, inner) => see(inner),
            Node::Key(_, key) => see(&key.of),
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

    /// Whether a key of groups is in it.
    pub(super) fn holds_keys(&self) -> bool {
        let mut holds = matches!(self, Node::Key(..));
        self.children(&mut |child| holds |= child.holds_keys());
        holds
    }

    /// Shows the source of every column of a followed parent in it, those in subqueries too.
    pub(super) fn visit_followed(&self, see: &mut dyn FnMut(Source)) {
        if !self.facts().follows {
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

    /// Runs `change` on every column in it, those of subqueries too.
    pub(super) fn each_column(&mut self, change: &mut dyn FnMut(&mut RawColumn)) {
        let children: &mut [Node] = match self {
            Node::Column(column) => return change(column),
            Node::Bind(_)
            | Node::Trusted(_)
            | Node::Refused(_)
            | Node::Unfit(_)
            | Node::TooDeep => &mut [],
            Node::Compare(_, _, sides) => &mut sides[..],
            Node::Between(_, parts) => &mut parts[..],
            Node::All(_, terms) | Node::Any(_, terms) => terms,
            Node::Not(_, inner) | Node::IsNull(_, inner) | Node::IsNotNull(_, inner) => {
                slice::from_mut(&mut **inner)
            }
            Node::OneOf(_, one_of) => slice::from_mut(&mut one_of.operand),
            Node::Like(_, like) => slice::from_mut(&mut like.operand),
            Node::Call(_, call) => &mut call.arguments,
            Node::Subquery(_, subquery) => return subquery.select.each_column(change),
            Node::InQuery(_, in_query) => {
                in_query.select.each_column(change);
                slice::from_mut(&mut in_query.operand)
            }
            Node::Case(_, case) => {
                if let Some(otherwise) = &mut case.otherwise {
                    otherwise.each_column(change);
                }
                case.branches.as_flattened_mut()
            }
            Node::Aggregate(_, aggregate) => return aggregate.each_column(change),
            Node::Window(_, window) => {
                window.of.each_column(change);
                let orders = window.orders.iter_mut().map(|order| &mut order.by);
                for node in window.partition.iter_mut().chain(orders) {
                    node.each_column(change);
                }
                return;
            }
            Node::Key(_, key) => slice::from_mut(&mut key.of),
        };
        for child in children {
            child.each_column(change);
        }
    }
}
