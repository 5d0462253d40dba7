//! How nodes are made. Lists of conditions stay flat here, and what is too deep becomes a node that
//! says so.

use std::ptr;

use super::{
    Aggregate, AskedOf, Call, Case, Comparison, DEEPEST, Facts, InQuery, Key, Like, Node, OneOf,
    Refused, Select, Subquery, Trusted, Window, together,
};
use crate::model::{BindValue, Function, List, SqlType, function};

impl AskedOf {
    /// Returns whether it asks for a value; else it asks if there are rows, which is never NULL and has an
    /// opposite.
    pub(crate) fn is_a_value(&self) -> bool {
        matches!(self, AskedOf::Count | AskedOf::Value)
    }

    fn opposite(self) -> AskedOf {
        match self {
            AskedOf::Exists => AskedOf::NotExists,
            AskedOf::NotExists => AskedOf::Exists,
            AskedOf::MoreThan(rows) => AskedOf::AtMost(rows),
            AskedOf::AtMost(rows) => AskedOf::MoreThan(rows),
            other => other,
        }
    }

    /// What a comparison of the number of rows with `number` asks for, if not for counting them:
    /// an answer that does not depend on the rows, or a question that is answered by the first few.
    fn compared(
        &self,
        comparison: Comparison,
        number: i64,
        limited: bool,
    ) -> Option<Result<AskedOf, bool>> {
        let AskedOf::Count = self else { return None };
        if limited {
            return None;
        }
        // As "more than so many", or its opposite.
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
            (0, true) => Ok(AskedOf::Exists),
            (0, false) => Ok(AskedOf::NotExists),
            (most, true) => Ok(AskedOf::MoreThan(BindValue::Int(most))),
            (most, false) => Ok(AskedOf::AtMost(BindValue::Int(most))),
        })
    }
}

impl Node {
    pub(crate) fn compare(comparison: Comparison, left: Node, right: Node) -> Node {
        let (left, right) = match (left, right) {
            // Where it is enough to know that there are so many, nobody needs to count them all.
            (Node::Subquery(facts, subquery), Node::Bind(BindValue::Int(number))) => match subquery
                .asked
                .compared(comparison, number, subquery.select.is_more_than_rows())
            {
                Some(Ok(asked)) => {
                    let select = subquery.select;
                    return Node::Subquery(facts, Box::new(Subquery { select, asked }));
                }
                Some(Err(always)) => return Node::constant(always),
                None => (Node::Subquery(facts, subquery), Node::Bind(BindValue::Int(number))),
            },
            sides => sides,
        };
        let facts = left.facts().beside(right.facts());
        Node::above(facts, |facts| Node::Compare(comparison, facts, Box::new([left, right])))
    }

    /// Both conditions, in one flat list however they were bracketed. TRUE changes nothing.
    pub(crate) fn and(self, other: Node) -> Node {
        if self.is_constant(true) {
            return other;
        }
        if other.is_constant(true) {
            return self;
        }
        let (facts, terms) = joined(self, other, |node| match node {
            Node::All(_, terms) => Ok(terms),
            other => Err(other),
        });
        Node::above(facts, |facts| Node::All(facts, terms))
    }

    /// Either condition, in one flat list however they were bracketed. FALSE changes nothing.
    pub(crate) fn or(self, other: Node) -> Node {
        if self.is_constant(false) {
            return other;
        }
        if other.is_constant(false) {
            return self;
        }
        let (facts, terms) = joined(self, other, |node| match node {
            Node::Any(_, terms) => Ok(terms),
            other => Err(other),
        });
        Node::above(facts, |facts| Node::Any(facts, terms))
    }

    /// The opposite; what is NULL stays NULL.
    pub(crate) fn negated(self) -> Node {
        match self {
            Node::Not(_, inner) => *inner,
            Node::Subquery(facts, subquery) if !subquery.asked.is_a_value() => {
                let Subquery { select, asked } = *subquery;
                Node::Subquery(facts, Box::new(Subquery { select, asked: asked.opposite() }))
            }
            Node::IsNull(facts, operand) => Node::IsNotNull(facts, operand),
            Node::IsNotNull(facts, operand) => Node::IsNull(facts, operand),
            Node::Like(facts, like) => {
                Node::Like(facts, Box::new(Like { negated: !like.negated, ..*like }))
            }
            Node::Compare(Comparison::Distinct, facts, sides) => {
                Node::Compare(Comparison::NotDistinct, facts, sides)
            }
            Node::Compare(Comparison::NotDistinct, facts, sides) => {
                Node::Compare(Comparison::Distinct, facts, sides)
            }
            other => Node::above(other.facts(), |facts| Node::Not(facts, Box::new(other))),
        }
    }

    pub(crate) fn is_null(self) -> Node {
        Node::above(self.facts(), |facts| Node::IsNull(facts, Box::new(self)))
    }

    /// `items` without NULLs; `with_null` says whether there was one, where there may be.
    pub(crate) fn one_of(self, items: List, with_null: Option<bool>, negated: bool) -> Node {
        let one_of = OneOf {
            operand: self,
            list: BindValue::List(Box::new(items)),
            with_null: with_null.map(BindValue::Bool),
            negated,
        };
        Node::above(one_of.operand.facts(), |facts| Node::OneOf(facts, Box::new(one_of)))
    }

    /// `select` has one column.
    pub(crate) fn in_query(self, select: Box<Select>, may_be_null: bool, negated: bool) -> Node {
        let of_select = select.facts().without(Facts::WINDOWS).with(Facts::QUERIES);
        let facts = self.facts().beside(of_select);
        let in_query = InQuery { operand: self, select, may_be_null, negated };
        Node::above(facts, |facts| Node::InQuery(facts, Box::new(in_query)))
    }

    pub(crate) fn subquery(select: Box<Select>, asked: AskedOf) -> Node {
        let subquery = Subquery { select, asked };
        let facts = subquery
            .select
            .facts()
            .without(Facts::WINDOWS)
            .with(Facts::QUERIES);
        Node::above(facts, |facts| Node::Subquery(facts, Box::new(subquery)))
    }

    pub(crate) fn like(self, pattern: Box<str>, any_case: bool) -> Node {
        let pattern = BindValue::Text(pattern);
        let like = Like { operand: self, pattern, any_case, negated: false };
        Node::above(like.operand.facts(), |facts| Node::Like(facts, Box::new(like)))
    }

    pub(crate) fn between(self, low: Node, high: Node) -> Node {
        let facts = self.facts().beside(low.facts()).beside(high.facts());
        Node::above(facts, |facts| Node::Between(facts, Box::new([self, low, high])))
    }

    pub(crate) fn call(
        function: &'static Function,
        sql_type: SqlType,
        arguments: impl IntoIterator<Item = Node>,
    ) -> Node {
        let arguments = arguments.into_iter().collect();
        Node::of_call(Call { function, sql_type, arguments, asked_at: None })
    }

    pub(crate) fn of_call(call: Call) -> Node {
        let facts = together(&call.arguments).of_function(call.function);
        Node::above(facts, |facts| Node::Call(facts, Box::new(call)))
    }

    /// TRUE or FALSE.
    pub(crate) fn constant(holds: bool) -> Node {
        Node::call(constant(holds), SqlType::Boolean, [])
    }

    pub(crate) fn is_constant(&self, holds: bool) -> bool {
        matches!(self, Node::Call(_, call) if ptr::eq(call.function, constant(holds)))
    }

    pub(crate) fn of_case(case: Case) -> Node {
        let nodes = case.branches.as_flattened().iter().chain(&case.otherwise);
        let facts = together(nodes);
        Node::above(facts, |facts| Node::Case(facts, Box::new(case)))
    }

    pub(crate) fn aggregate(aggregate: Aggregate) -> Node {
        let facts = together(aggregate.nodes()).of_function(aggregate.call.function);
        Node::above(facts, |facts| Node::Aggregate(facts, Box::new(aggregate)))
    }

    /// A function of all rows of a group, each of them once or more.
    pub(crate) fn of_rows(call: Call) -> Aggregate {
        Aggregate { call, distinct: false, among: None, orders: Vec::new() }
    }

    pub(crate) fn window(window: Window) -> Node {
        let facts = together(window.nodes()).of_function(window.of.call.function);
        let facts = facts.with(Facts::WINDOWS);
        Node::above(facts, |facts| Node::Window(facts, Box::new(window)))
    }

    /// What rows are grouped by. Text is a key by code point.
    pub(crate) fn key(self, rolled_up: bool) -> Node {
        let key = Key { of: self.in_code_point_order(), rolled_up };
        Node::above(key.of.facts(), |facts| Node::Key(facts, Box::new(key)))
    }

    /// A number that is part of the text.
    pub(crate) fn number(number: u32) -> Node {
        let text = number.to_string().into();
        Node::Trusted(Box::new(Trusted { text, closed: true, sql_type: SqlType::Integer }))
    }

    pub(crate) fn refused(value: BindValue, reason: &'static str) -> Node {
        Node::Refused(Box::new(Refused { value, reason }))
    }

    fn above(children: Facts, node: impl FnOnce(Facts) -> Node) -> Node {
        match children.depth < DEEPEST {
            true => node(Facts { depth: children.depth + 1, ..children }),
            false => Node::TooDeep,
        }
    }
}

fn constant(holds: bool) -> &'static Function {
    if holds { &function::ALWAYS } else { &function::NEVER }
}

/// The terms of two conditions in one list, and what is known of them together.
fn joined(
    left: Node,
    right: Node,
    terms_of: impl Fn(Node) -> Result<Vec<Node>, Node>,
) -> (Facts, Vec<Node>) {
    let (of_left, of_right) = (left.facts(), right.facts());
    // The facts of a list count the list itself, which is not added again when its terms are taken over.
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
