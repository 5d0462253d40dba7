//! Walks over the columns of a tree, those in subqueries too.

use std::slice;

use super::{Node, RawColumn};
use crate::query::Source;

impl Node {
    /// Shows the source of every column of a followed parent in it, those in subqueries too.
    pub(super) fn visit_followed(&self, see: &mut dyn FnMut(Source)) {
        if !self.facts().follows {
            return;
        }
        let children: &[Node] = match self {
            Node::Column(column) => return see(column.source),
            Node::Bind(_)
            | Node::Trusted(_)
            | Node::Refused(_)
            | Node::Unfit(_)
            | Node::TooDeep => &[],
            Node::Compare(_, _, sides) => &sides[..],
            Node::Between(_, parts) => &parts[..],
            Node::All(_, terms) | Node::Any(_, terms) => terms,
            Node::Not(_, inner) | Node::IsNull(_, inner) | Node::IsNotNull(_, inner) => {
                slice::from_ref(&**inner)
            }
            Node::OneOf(_, one_of) => slice::from_ref(&one_of.operand),
            Node::Like(_, like) => slice::from_ref(&like.operand),
            Node::Call(_, call) => &call.arguments,
            Node::Subquery(_, subquery) => {
                return subquery
                    .select
                    .nodes()
                    .for_each(|node| node.visit_followed(see));
            }
            Node::InQuery(_, in_query) => {
                in_query
                    .select
                    .nodes()
                    .for_each(|node| node.visit_followed(see));
                slice::from_ref(&in_query.operand)
            }
            Node::Case(_, case) => {
                if let Some(otherwise) = &case.otherwise {
                    otherwise.visit_followed(see);
                }
                case.branches.as_flattened()
            }
        };
        for child in children {
            child.visit_followed(see);
        }
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
        };
        for child in children {
            child.each_column(change);
        }
    }
}
