//! The untyped syntax tree: what typed expressions and queries become, and all that the compiler reads.
//!
//! Nodes are made by the constructors below only. They keep lists of conditions flat and the tree
//! shallow, so that cloning, dropping and walking it may simply recurse.

use smallvec::SmallVec;

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
    All(Depth, Vec<Node>),
    Any(Depth, Vec<Node>),
    Not(Depth, Box<Node>),
    IsNull(Depth, Box<Node>),
    IsNotNull(Depth, Box<Node>),
    OneOf(Depth, Box<OneOf>),
    Like(Depth, Box<Like>),
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

/// `operand` matches a pattern, in which `!` escapes what follows it.
#[derive(Debug, Clone)]
pub struct Like {
    pub(crate) operand: Node,
    pub(crate) pattern: BindValue,
}

impl Node {
    pub(crate) fn compare(comparison: Comparison, left: Node, right: Node) -> Node {
        let depth = left.depth().max(right.depth());
        Node::above(depth, |depth| Node::Compare(comparison, depth, Box::new([left, right])))
    }

    /// Both conditions, in one flat list however they were bracketed.
    pub(crate) fn and(self, other: Node) -> Node {
        let (depth, terms) = joined(self, other, |node| match node {
            Node::All(_, terms) => Ok(terms),
            other => Err(other),
        });
        Node::above(depth, |depth| Node::All(depth, terms))
    }

    /// Either condition, in one flat list however they were bracketed.
    pub(crate) fn or(self, other: Node) -> Node {
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

    pub(crate) fn like(self, pattern: Box<str>) -> Node {
        let like = Like { operand: self, pattern: BindValue::Text(pattern) };
        Node::above(like.operand.depth(), |depth| Node::Like(depth, Box::new(like)))
    }

    fn above(children: Depth, node: impl FnOnce(Depth) -> Node) -> Node {
        match children < DEEPEST {
            true => node(children + 1),
            false => Node::TooDeep,
        }
    }

    fn depth(&self) -> Depth {
        match self {
            Node::Column(_) | Node::Bind(_) | Node::TooDeep => 0,
            Node::Compare(_, depth, _)
            | Node::All(depth, _)
            | Node::Any(depth, _)
            | Node::Not(depth, _)
            | Node::IsNull(depth, _)
            | Node::IsNotNull(depth, _)
            | Node::OneOf(depth, _)
            | Node::Like(depth, _) => *depth,
        }
    }

    /// The type of the value; a condition is a truth value.
    pub(crate) fn sql_type(&self) -> SqlType {
        match self {
            Node::Column(column) => column.info.sql_type(),
            Node::Bind(value) => value.sql_type(),
            _ => SqlType::Boolean,
        }
    }
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
    /// Whether the first filter names a row by its key or a unique column, so that at most one can match.
    pub(crate) at_most_one: bool,
    // Room for what most queries have, so that they need no further allocation.
    pub(crate) filters: SmallVec<[Asked<Node>; 4]>,
    pub(crate) orders: SmallVec<[Asked<OrderTerm>; 2]>,
    pub(crate) limit: Option<Asked<BindValue>>,
    pub(crate) offset: Option<Asked<BindValue>>,
}
