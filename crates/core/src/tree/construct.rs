//! The constructors of nodes. They keep lists of conditions flat, and turn a tree that is too deep into a
//! node that compiles to an error.

use std::ptr;

use super::{
    Aggregate, Call, Case, Comparison, DEEPEST, InQuery, Key, Like, Node, NodeSummary, OneOf,
    RawSql, Refused, Select, Subquery, SubqueryKind, Window, together,
};
use crate::model::{BindValue, Function, List, SqlType, function};

impl SubqueryKind {
    /// Returns whether it is a value. Otherwise it is a test for rows, which is never NULL and has an
    /// opposite.
    pub(crate) fn is_a_value(&self) -> bool {
        matches!(self, SubqueryKind::Count | SubqueryKind::Value)
    }

    fn opposite(self) -> SubqueryKind {
        match self {
            SubqueryKind::Exists => SubqueryKind::NotExists,
            SubqueryKind::NotExists => SubqueryKind::Exists,
            SubqueryKind::MoreThan(rows) => SubqueryKind::AtMost(rows),
            SubqueryKind::AtMost(rows) => SubqueryKind::MoreThan(rows),
            other => other,
        }
    }

    /// Returns what a comparison of the row count with `number` amounts to, if no full count is needed: a
    /// constant, or a test that the first few rows decide.
    fn compared(
        &self,
        comparison: Comparison,
        number: i64,
        limited: bool,
    ) -> Option<Result<SubqueryKind, bool>> {
        let SubqueryKind::Count = self else { return None };
        if limited {
            return None;
        }
        // Each comparison becomes "more than `most`" or its opposite.
        let (most, more) = match (comparison, number) {
            (Comparison::Greater, most) => (most, true),
            (Comparison::GreaterOrEqual, least) => (least.saturating_sub(1), true),
            (Comparison::LessOrEqual, most) => (most, false),
            (Comparison::Less, beyond) => (beyond.saturating_sub(1), false),
            (Comparison::Equal, 0) => (0, false),
            (Comparison::NotEqual, 0) => (0, true),
            _ => return None,
        };
        Some(match (most, more) {
            (..0, more) => Err(more),
            (0, true) => Ok(SubqueryKind::Exists),
            (0, false) => Ok(SubqueryKind::NotExists),
            (most, true) => Ok(SubqueryKind::MoreThan(BindValue::Int(most))),
            (most, false) => Ok(SubqueryKind::AtMost(BindValue::Int(most))),
        })
    }
}

impl Node {
    pub(crate) fn compare(comparison: Comparison, left: Node, right: Node) -> Node {
        let (left, right) = match (left, right) {
            // Where a comparison only needs to know that enough rows exist, counting all of them is wasted.
            (Node::Subquery(summary, subquery), Node::Bind(BindValue::Int(number))) => {
                match subquery.asked.compared(
                    comparison,
                    number,
                    subquery.select.is_more_than_rows(),
                ) {
                    Some(Ok(asked)) => {
                        let select = subquery.select;
                        return Node::Subquery(summary, Box::new(Subquery { select, asked }));
                    }
                    Some(Err(always)) => return Node::constant(always),
                    None => (Node::Subquery(summary, subquery), Node::Bind(BindValue::Int(number))),
                }
            }
            sides => sides,
        };
        let summary = left.summary().beside(right.summary());
        Node::above(summary, |summary| Node::Compare(comparison, summary, Box::new([left, right])))
    }

    /// Returns the conjunction as one flat list, however it was bracketed. TRUE changes nothing.
    pub(crate) fn and(self, other: Node) -> Node {
        if self.is_constant(true) {
            return other;
        }
        if other.is_constant(true) {
            return self;
        }
        let (summary, terms) = joined(self, other, |node| match node {
            Node::All(_, terms) => Ok(terms),
            other => Err(other),
        });
        Node::above(summary, |summary| Node::All(summary, terms))
    }

    /// Returns the disjunction as one flat list, however it was bracketed. FALSE changes nothing.
    pub(crate) fn or(self, other: Node) -> Node {
        if self.is_constant(false) {
            return other;
        }
        if other.is_constant(false) {
            return self;
        }
        let (summary, terms) = joined(self, other, |node| match node {
            Node::Any(_, terms) => Ok(terms),
            other => Err(other),
        });
        Node::above(summary, |summary| Node::Any(summary, terms))
    }

    /// Returns the opposite. NULL stays NULL.
    pub(crate) fn negated(self) -> Node {
        match self {
            Node::Not(_, inner) => *inner,
            Node::Subquery(summary, subquery) if !subquery.asked.is_a_value() => {
                let Subquery { select, asked } = *subquery;
                Node::Subquery(summary, Box::new(Subquery { select, asked: asked.opposite() }))
            }
            Node::IsNull(summary, operand) => Node::IsNotNull(summary, operand),
            Node::IsNotNull(summary, operand) => Node::IsNull(summary, operand),
            Node::Like(summary, like) => {
                Node::Like(summary, Box::new(Like { negated: !like.negated, ..*like }))
            }
            Node::Compare(Comparison::Distinct, summary, sides) => {
                Node::Compare(Comparison::NotDistinct, summary, sides)
            }
            Node::Compare(Comparison::NotDistinct, summary, sides) => {
                Node::Compare(Comparison::Distinct, summary, sides)
            }
            other => Node::above(other.summary(), |summary| Node::Not(summary, Box::new(other))),
        }
    }

    pub(crate) fn is_null(self) -> Node {
        Node::above(self.summary(), |summary| Node::IsNull(summary, Box::new(self)))
    }

    /// Returns a lookup in a list: `items` has no NULLs, and `with_null` says whether there was one, where
    /// NULL is possible.
    pub(crate) fn one_of(self, items: List, with_null: Option<bool>, negated: bool) -> Node {
        self.one_of_bind(BindValue::List(Box::new(items)), with_null, negated)
    }

    pub(crate) fn one_of_bind(
        self,
        list: BindValue,
        with_null: Option<bool>,
        negated: bool,
    ) -> Node {
        let one_of = OneOf {
            operand: self,
            list,
            with_null: with_null.map(BindValue::Bool),
            negated,
            same: false,
        };
        Node::above(one_of.operand.summary(), |summary| Node::OneOf(summary, Box::new(one_of)))
    }

    /// Returns a lookup in a query, which has one column.
    pub(crate) fn in_query(
        self,
        mut select: Box<Select>,
        may_be_null: bool,
        negated: bool,
    ) -> Node {
        select.join_between();
        let of_select = select
            .summary()
            .without(NodeSummary::WINDOWS)
            .with(NodeSummary::QUERIES);
        let summary = self.summary().beside(of_select);
        let in_query = InQuery { operand: self, select, may_be_null, negated, same: false };
        Node::above(summary, |summary| Node::InQuery(summary, Box::new(in_query)))
    }

    pub(crate) fn subquery(mut select: Box<Select>, asked: SubqueryKind) -> Node {
        select.join_between();
        let subquery = Subquery { select, asked };
        let summary = subquery
            .select
            .summary()
            .without(NodeSummary::WINDOWS)
            .with(NodeSummary::QUERIES);
        Node::above(summary, |summary| Node::Subquery(summary, Box::new(subquery)))
    }

    pub(crate) fn like(self, pattern: Box<str>, any_case: bool) -> Node {
        let pattern = BindValue::Text(pattern);
        let like = Like { operand: self, pattern, any_case, negated: false };
        Node::above(like.operand.summary(), |summary| Node::Like(summary, Box::new(like)))
    }

    pub(crate) fn between(self, low: Node, high: Node) -> Node {
        let summary = self.summary().beside(low.summary()).beside(high.summary());
        Node::above(summary, |summary| Node::Between(summary, Box::new([self, low, high])))
    }

    pub(crate) fn call(
        function: &'static Function,
        sql_type: SqlType,
        arguments: impl IntoIterator<Item = Node>,
    ) -> Node {
        let arguments = arguments.into_iter().collect();
        Node::of_call(Call::of(function, sql_type, arguments))
    }

    pub(crate) fn of_call(call: Call) -> Node {
        let summary = together(&call.arguments).of_function(call.function);
        Node::above(summary, |summary| Node::Call(summary, Box::new(call)))
    }

    /// Returns TRUE or FALSE.
    pub(crate) fn constant(holds: bool) -> Node {
        Node::call(constant(holds), SqlType::Boolean, [])
    }

    pub(crate) fn is_constant(&self, holds: bool) -> bool {
        matches!(self, Node::Call(_, call) if ptr::eq(call.function, constant(holds)))
    }

    pub(crate) fn of_case(case: Case) -> Node {
        let nodes = case.branches.as_flattened().iter().chain(&case.otherwise);
        let summary = together(nodes);
        Node::above(summary, |summary| Node::Case(summary, Box::new(case)))
    }

    pub(crate) fn aggregate(aggregate: Aggregate) -> Node {
        let summary = together(aggregate.nodes()).of_function(aggregate.call.function);
        Node::above(summary, |summary| Node::Aggregate(summary, Box::new(aggregate)))
    }

    /// Returns an aggregate function over all rows of a group.
    pub(crate) fn of_rows(call: Call) -> Aggregate {
        Aggregate { call, distinct: false, filter: None, orders: Vec::new() }
    }

    pub(crate) fn window(window: Window) -> Node {
        let summary = together(window.nodes()).of_function(window.of.call.function);
        let summary = summary.with(NodeSummary::WINDOWS);
        Node::above(summary, |summary| Node::Window(summary, Box::new(window)))
    }

    /// Returns a group key. Text is grouped by code point.
    pub(crate) fn key(self, rolled_up: bool) -> Node {
        let of = self.in_code_point_order();
        let key = Key { of, rolled_up, decided_by: Vec::new() };
        Node::above(key.of.summary(), |summary| Node::Key(summary, Box::new(key)))
    }

    /// Returns a column of a parent as a value of each group, which the keys of the parent decide.
    pub(crate) fn key_of_parent(self, decided_by: Vec<Node>) -> Node {
        let summary = self.summary().beside(together(&decided_by));
        let key = Key { of: self, rolled_up: false, decided_by };
        Node::above(summary, |summary| Node::Key(summary, Box::new(key)))
    }

    /// Returns a number that is part of the text.
    pub(crate) fn number(number: u32) -> Node {
        let text = number.to_string().into();
        Node::RawSql(Box::new(RawSql {
            text,
            closed: true,
            reads_arguments_only: true,
            sql_type: SqlType::Integer,
        }))
    }

    pub(crate) fn refused(value: BindValue, reason: &'static str) -> Node {
        Node::Refused(Box::new(Refused { value, reason }))
    }

    /// Adds the summaries of its children to its own, after these have changed.
    pub(super) fn summarize_again(&mut self) {
        let mut below = NodeSummary::default();
        self.children(&mut |child| below = below.beside(child.summary()));
        if below.depth >= DEEPEST {
            *self = Node::TooDeep;
        } else if let Some(summary) = self.summary_mut() {
            let depth = summary.depth.max(below.depth + 1);
            *summary = NodeSummary { depth, ..summary.beside(below) };
        }
    }

    fn above(children: NodeSummary, node: impl FnOnce(NodeSummary) -> Node) -> Node {
        match children.depth < DEEPEST {
            true => node(NodeSummary { depth: children.depth + 1, ..children }),
            false => Node::TooDeep,
        }
    }
}

fn constant(holds: bool) -> &'static Function {
    if holds { &function::ALWAYS } else { &function::NEVER }
}

/// Returns the terms of two conditions in one list, with the summary of both.
fn joined(
    left: Node,
    right: Node,
    terms_of: impl Fn(Node) -> Result<Vec<Node>, Node>,
) -> (NodeSummary, Vec<Node>) {
    let (of_left, of_right) = (left.summary(), right.summary());
    // The summary of a list counts the list itself, which is not added again when its terms are moved.
    match (terms_of(left), terms_of(right)) {
        (Ok(mut terms), Ok(more)) => {
            terms.extend(more);
            (of_left.inside().beside(of_right.inside()), terms)
        }
        (Ok(mut terms), Err(one)) => {
            terms.push(one);
            (of_left.inside().beside(of_right), terms)
        }
        (Err(one), Ok(mut terms)) => {
            terms.insert(0, one);
            (of_left.beside(of_right.inside()), terms)
        }
        (Err(one), Err(other)) => (of_left.beside(of_right), vec![one, other]),
    }
}
