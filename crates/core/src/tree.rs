//! The untyped syntax tree: what typed expressions and queries become, and all that the compiler reads.
//!
//! Nodes are made by the constructors below only. They keep lists of conditions flat and the tree
//! shallow, so that cloning, dropping and walking it may simply recurse.

use std::{ptr, slice};

use smallvec::SmallVec;

use crate::function::{self, Function};
use crate::origin::Origin;
use crate::query::SourceId;
use crate::storable::{BindValue, List, SqlType};
use crate::table::{ColumnInfo, TableInfo};

/// A node deeper than this becomes [`Node::TooDeep`], which no dialect prints. Engines give up not far beyond.
const DEEPEST: u16 = 400;

/// A column of one of the tables that a query reads.
#[derive(Debug, Clone, Copy)]
pub struct RawColumn {
    pub(crate) source: SourceId,
    pub(crate) info: &'static ColumnInfo,
}

/// A value or a condition.
#[derive(Debug, Clone)]
pub enum Node {
    Column(RawColumn),
    Bind(BindValue),
    Compare(Comparison, Depth, Box<[Node; 2]>),
    /// The first is not less than the second and not greater than the third.
    Between(Depth, Box<[Node; 3]>),
    All(Depth, Vec<Node>),
    Any(Depth, Vec<Node>),
    Not(Depth, Box<Node>),
    IsNull(Depth, Box<Node>),
    IsNotNull(Depth, Box<Node>),
    OneOf(Depth, Box<OneOf>),
    InQuery(Depth, Box<InQuery>),
    Like(Depth, Box<Like>),
    Call(Depth, Box<Call>),
    Case(Depth, Box<Case>),
    /// SQL text that was made at run time and is trusted.
    Trusted(Box<Trusted>),
    /// A value that makes no sense where it was given; no dialect prints it.
    Refused(Box<Refused>),
    TooDeep,
}

/// How many nodes stand below one another, this one included.
pub(crate) type Depth = u16;

/// SQL's comparison operators.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Comparison {
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
    /// Never NULL: of two NULLs it is false.
    Distinct,
    /// Never NULL: of two NULLs it is true.
    NotDistinct,
}

/// `operand` is in a list of values, or is not.
#[derive(Debug, Clone)]
pub struct OneOf {
    pub(crate) operand: Node,
    pub(crate) list: BindValue,
    /// Whether NULL is in the list too: a bind of its own, present only where the items may be NULL.
    pub(crate) with_null: Option<BindValue>,
    pub(crate) negated: bool,
}

/// `operand` is among the values of a query with one column, or is not.
#[derive(Debug, Clone)]
pub struct InQuery {
    pub(crate) operand: Node,
    pub(crate) select: Box<Select>,
    /// Whether NULL may be among what is selected.
    pub(crate) may_be_null: bool,
    pub(crate) negated: bool,
}

/// `operand` matches a pattern, in which `!` escapes what follows it, or does not.
#[derive(Debug, Clone)]
pub struct Like {
    pub(crate) operand: Node,
    pub(crate) pattern: BindValue,
    pub(crate) any_case: bool,
    pub(crate) negated: bool,
}

/// A function, an operator or a fragment with its arguments.
#[derive(Debug, Clone)]
pub struct Call {
    pub(crate) function: &'static Function,
    pub(crate) sql_type: SqlType,
    pub(crate) arguments: SmallVec<[Node; 2]>,
    /// The line of the program that wrote it, where that says more than the clause's.
    pub(crate) asked_at: Option<Origin>,
}

/// The first value whose condition is true.
#[derive(Debug, Clone)]
pub struct Case {
    /// Conditions, each followed by its value.
    pub(crate) branches: Vec<[Node; 2]>,
    pub(crate) otherwise: Option<Node>,
    pub(crate) sql_type: SqlType,
}

#[derive(Debug, Clone)]
pub struct Trusted {
    pub(crate) text: Box<str>,
    pub(crate) sql_type: SqlType,
}

#[derive(Debug, Clone)]
pub struct Refused {
    pub(crate) value: BindValue,
    pub(crate) reason: &'static str,
}

impl Node {
    pub(crate) fn compare(comparison: Comparison, left: Node, right: Node) -> Node {
        let depth = left.depth().max(right.depth());
        Node::above(depth, |depth| Node::Compare(comparison, depth, Box::new([left, right])))
    }

    /// Both conditions, in one flat list however they were bracketed. TRUE changes nothing.
    pub(crate) fn and(self, other: Node) -> Node {
        if self.is_constant(true) {
            return other;
        }
        if other.is_constant(true) {
            return self;
        }
        let (depth, terms) = joined(self, other, |node| match node {
            Node::All(_, terms) => Ok(terms),
            other => Err(other),
        });
        Node::above(depth, |depth| Node::All(depth, terms))
    }

    /// Either condition, in one flat list however they were bracketed. FALSE changes nothing.
    pub(crate) fn or(self, other: Node) -> Node {
        if self.is_constant(false) {
            return other;
        }
        if other.is_constant(false) {
            return self;
        }
        let (depth, terms) = joined(self, other, |node| match node {
            Node::Any(_, terms) => Ok(terms),
            other => Err(other),
        });
        Node::above(depth, |depth| Node::Any(depth, terms))
    }

    /// The opposite; what is NULL stays NULL.
    pub(crate) fn negated(self) -> Node {
        match self {
            Node::Not(_, inner) => *inner,
            Node::IsNull(depth, operand) => Node::IsNotNull(depth, operand),
            Node::IsNotNull(depth, operand) => Node::IsNull(depth, operand),
            Node::Like(depth, like) => {
                Node::Like(depth, Box::new(Like { negated: !like.negated, ..*like }))
            }
            Node::Compare(Comparison::Distinct, depth, sides) => {
                Node::Compare(Comparison::NotDistinct, depth, sides)
            }
            Node::Compare(Comparison::NotDistinct, depth, sides) => {
                Node::Compare(Comparison::Distinct, depth, sides)
            }
            other => Node::above(other.depth(), |depth| Node::Not(depth, Box::new(other))),
        }
    }

    pub(crate) fn is_null(self) -> Node {
        Node::above(self.depth(), |depth| Node::IsNull(depth, Box::new(self)))
    }

    /// `items` without NULLs; `with_null` says whether there was one, where there may be.
    pub(crate) fn one_of(self, items: List, with_null: Option<bool>, negated: bool) -> Node {
        let one_of = OneOf {
            operand: self,
            list: BindValue::List(Box::new(items)),
            with_null: with_null.map(BindValue::Bool),
            negated,
        };
        Node::above(one_of.operand.depth(), |depth| Node::OneOf(depth, Box::new(one_of)))
    }

    /// `select` has one column.
    pub(crate) fn in_query(self, select: Box<Select>, may_be_null: bool, negated: bool) -> Node {
        let depth = self.depth().max(select.depth());
        let in_query = InQuery { operand: self, select, may_be_null, negated };
        Node::above(depth, |depth| Node::InQuery(depth, Box::new(in_query)))
    }

    pub(crate) fn like(self, pattern: Box<str>, any_case: bool) -> Node {
        let pattern = BindValue::Text(pattern);
        let like = Like { operand: self, pattern, any_case, negated: false };
        Node::above(like.operand.depth(), |depth| Node::Like(depth, Box::new(like)))
    }

    pub(crate) fn between(self, low: Node, high: Node) -> Node {
        let depth = self.depth().max(low.depth()).max(high.depth());
        Node::above(depth, |depth| Node::Between(depth, Box::new([self, low, high])))
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
        Node::above(deepest(&call.arguments), |depth| Node::Call(depth, Box::new(call)))
    }

    /// TRUE or FALSE.
    pub(crate) fn constant(holds: bool) -> Node {
        Node::call(constant(holds), SqlType::Boolean, [])
    }

    pub(crate) fn is_constant(&self, holds: bool) -> bool {
        matches!(self, Node::Call(_, call) if ptr::eq(call.function, constant(holds)))
    }

    pub(crate) fn of_case(case: Case) -> Node {
        let depth = deepest(case.branches.as_flattened())
            .max(case.otherwise.as_ref().map_or(0, Node::depth));
        Node::above(depth, |depth| Node::Case(depth, Box::new(case)))
    }

    pub(crate) fn refused(value: BindValue, reason: &'static str) -> Node {
        Node::Refused(Box::new(Refused { value, reason }))
    }

    fn above(children: Depth, node: impl FnOnce(Depth) -> Node) -> Node {
        match children < DEEPEST {
            true => node(children + 1),
            false => Node::TooDeep,
        }
    }

    fn depth(&self) -> Depth {
        match self {
            Node::Column(_)
            | Node::Bind(_)
            | Node::Trusted(_)
            | Node::Refused(_)
            | Node::TooDeep => 0,
            Node::Compare(_, depth, _)
            | Node::Between(depth, _)
            | Node::All(depth, _)
            | Node::Any(depth, _)
            | Node::Not(depth, _)
            | Node::IsNull(depth, _)
            | Node::IsNotNull(depth, _)
            | Node::OneOf(depth, _)
            | Node::InQuery(depth, _)
            | Node::Like(depth, _)
            | Node::Call(depth, _)
            | Node::Case(depth, _) => *depth,
        }
    }

    /// The type of the value; a condition is a truth value.
    pub(crate) fn sql_type(&self) -> SqlType {
        match self {
            Node::Column(column) => column.info.sql_type(),
            Node::Bind(value) => value.sql_type(),
            Node::Call(_, call) => call.sql_type,
            Node::Case(_, case) => case.sql_type,
            Node::Trusted(trusted) => trusted.sql_type,
            Node::Refused(refused) => refused.value.sql_type(),
            _ => SqlType::Boolean,
        }
    }

    /// Whether a dialect has to be told to compare this by code point.
    pub(crate) fn needs_collation(&self) -> bool {
        match self {
            Node::Column(column) => {
                column.info.sql_type() == SqlType::Text && !column.info.is_by_code_point()
            }
            Node::Call(_, call) => {
                call.sql_type == SqlType::Text && !call.function.is_by_code_point()
            }
            Node::Bind(_) => false,
            other => other.sql_type() == SqlType::Text,
        }
    }

    /// Runs `change` on every column in it, those of subqueries too.
    fn each_column(&mut self, change: &mut dyn FnMut(&mut RawColumn)) {
        let children: &mut [Node] = match self {
            Node::Column(column) => return change(column),
            Node::Bind(_) | Node::Trusted(_) | Node::Refused(_) | Node::TooDeep => &mut [],
            Node::Compare(_, _, sides) => &mut sides[..],
            Node::Between(_, parts) => &mut parts[..],
            Node::All(_, terms) | Node::Any(_, terms) => terms,
            Node::Not(_, inner) | Node::IsNull(_, inner) | Node::IsNotNull(_, inner) => {
                slice::from_mut(&mut **inner)
            }
            Node::OneOf(_, one_of) => slice::from_mut(&mut one_of.operand),
            Node::Like(_, like) => slice::from_mut(&mut like.operand),
            Node::Call(_, call) => &mut call.arguments,
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

fn constant(holds: bool) -> &'static Function {
    if holds { &function::ALWAYS } else { &function::NEVER }
}

fn deepest(nodes: &[Node]) -> Depth {
    nodes.iter().map(Node::depth).max().unwrap_or(0)
}

/// The terms of two conditions in one list, and the depth of the deepest.
fn joined(
    left: Node,
    right: Node,
    terms_of: impl Fn(Node) -> Result<Vec<Node>, Node>,
) -> (Depth, Vec<Node>) {
    let (left_depth, right_depth) = (left.depth(), right.depth());
    // The depth of a list counts the list itself, which is not added again when its terms are taken over.
    match (terms_of(left), terms_of(right)) {
        (Ok(mut terms), Ok(more)) => {
            terms.extend(more);
            (left_depth.max(right_depth) - 1, terms)
        }
        (Ok(mut terms), Err(one)) => {
            terms.push(one);
            ((left_depth - 1).max(right_depth), terms)
        }
        (Err(one), Ok(mut terms)) => {
            terms.insert(0, one);
            (left_depth.max(right_depth - 1), terms)
        }
        (Err(one), Err(other)) => (left_depth.max(right_depth), vec![one, other]),
    }
}

/// An expression that rows are ordered by.
#[derive(Debug, Clone)]
pub struct OrderTerm {
    pub(crate) by: Node,
    pub(crate) nullable: bool,
    pub(crate) descending: bool,
    pub(crate) nulls_first: bool,
}

/// A clause and the line of the program that asked for it.
#[derive(Debug, Clone)]
pub(crate) struct Asked<T> {
    pub(crate) what: T,
    pub(crate) at: Origin,
}

/// A query over one table.
#[derive(Debug, Clone)]
pub(crate) struct Select {
    pub(crate) source: SourceId,
    pub(crate) table: &'static TableInfo,
    pub(crate) asked_at: Origin,
    /// What each row gives, if that is not all columns of the table.
    pub(crate) values: Option<Asked<SmallVec<[Node; 1]>>>,
    /// Whether the first filter names a row by its key or a unique column, so that at most one can match.
    pub(crate) at_most_one: bool,
    // Room for what most queries have, so that they need no further allocation.
    pub(crate) filters: SmallVec<[Asked<Node>; 4]>,
    pub(crate) orders: SmallVec<[Asked<OrderTerm>; 2]>,
    pub(crate) limit: Option<Asked<BindValue>>,
    pub(crate) offset: Option<Asked<BindValue>>,
}

impl Select {
    /// The same query, its table told apart from this one's: so that a copy can stand inside the
    /// original, and the columns of each are its own.
    pub(crate) fn copied(&self) -> Select {
        let mut copy = self.clone();
        copy.source = SourceId::fresh();
        let (from, to) = (self.source, copy.source);
        copy.each_column(&mut |column| {
            if column.source == from {
                column.source = to;
            }
        });
        copy
    }

    fn each_column(&mut self, change: &mut dyn FnMut(&mut RawColumn)) {
        let values = self.values.iter_mut().flat_map(|values| &mut values.what);
        let filters = self.filters.iter_mut().map(|filter| &mut filter.what);
        let orders = self.orders.iter_mut().map(|order| &mut order.what.by);
        for node in values.chain(filters).chain(orders) {
            node.each_column(change);
        }
    }

    fn depth(&self) -> Depth {
        let values = self.values.iter().flat_map(|values| &values.what);
        let filters = self.filters.iter().map(|filter| &filter.what);
        let orders = self.orders.iter().map(|order| &order.what.by);
        let nodes = values.chain(filters).chain(orders);
        nodes.map(Node::depth).max().unwrap_or(0)
    }
}
