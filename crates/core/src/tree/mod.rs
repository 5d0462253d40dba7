//! The untyped syntax tree: what typed expressions and queries become, and all that the compiler reads.
//!
//! Nodes are made by the constructors of `construct` only. They keep lists of conditions flat and the tree
//! shallow, so that cloning, dropping and walking it may simply recurse.

mod construct;
mod policy;
mod select;
mod source;
mod walk;

use smallvec::SmallVec;

pub use policy::{PolicyCondition, PolicyUse, policy_id};
pub(crate) use policy::{Waived, Waiver};
pub(crate) use select::{
    Asked, Body, Join, Named, OfEach, OrderTerm, ROUND, Recursion, RelationName, Select, Sets,
    Special,
};
pub use select::{JoinKind, Lock, SetOperator};
pub use source::Source;
pub(crate) use source::{Path, SourceId};
pub(crate) use walk::{Inner, InnerMut};

use crate::model::{BindValue, ColumnInfo, Function, Origin, SqlType};

/// A node deeper than this becomes [`Node::TooDeep`], which no dialect prints. Engines give up not far beyond.
const DEEPEST: u16 = 400;

/// A column of one of the tables that a query reads.
#[derive(Debug, Clone, Copy)]
pub struct RawColumn {
    pub(crate) source: Source,
    pub(crate) info: &'static ColumnInfo,
}

impl PartialEq for RawColumn {
    fn eq(&self, other: &RawColumn) -> bool {
        self.source == other.source && std::ptr::eq(self.info, other.info)
    }
}

impl RawColumn {
    pub(crate) fn needs_collation(&self) -> bool {
        self.info.sql_type() == SqlType::Text && !self.info.is_by_code_point()
    }
}

/// A column and what an update sets it to; made by [`Column::set`](crate::Column::set).
#[derive(Debug, Clone)]
#[must_use = "an assignment does nothing until an update is given it"]
pub struct Assignment {
    pub(crate) column: &'static ColumnInfo,
    pub(crate) value: Node,
}

/// A value or a condition. Two that are equal are the same text with the same binds; two queries
/// inside are never equal.
#[derive(Debug, Clone, PartialEq)]
pub enum Node {
    Column(RawColumn),
    Bind(BindValue),
    Compare(Comparison, Facts, Box<[Node; 2]>),
    /// The first is not less than the second and not greater than the third.
    Between(Facts, Box<[Node; 3]>),
    All(Facts, Vec<Node>),
    Any(Facts, Vec<Node>),
    Not(Facts, Box<Node>),
    IsNull(Facts, Box<Node>),
    IsNotNull(Facts, Box<Node>),
    OneOf(Facts, Box<OneOf>),
    InQuery(Facts, Box<InQuery>),
    Subquery(Facts, Box<Subquery>),
    Like(Facts, Box<Like>),
    Call(Facts, Box<Call>),
    Case(Facts, Box<Case>),
    Aggregate(Facts, Box<Aggregate>),
    Window(Facts, Box<Window>),
    /// What rows are grouped by.
    Key(Facts, Box<Key>),
    /// SQL text that was made at run time and is trusted.
    Trusted(Box<Trusted>),
    /// A value that makes no sense where it was given; no dialect prints it.
    Refused(Box<Refused>),
    /// Parts that do not fit together, and why; no dialect prints it.
    Unfit(&'static str),
    TooDeep,
}

/// A summary of a node and all below it, kept by the constructors.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Facts {
    /// The number of nodes below one another, this one included.
    depth: u16,
    /// A bit for each thing among them. Every constructor joins those of its children, which is one operation so.
    holds: u8,
}

impl Facts {
    /// A column of a followed parent, so that there is a join to write.
    const FOLLOWS: u8 = 1;
    /// A function of a window, outside of queries inside.
    const WINDOWS: u8 = 1 << 1;
    /// A query.
    const QUERIES: u8 = 1 << 2;
    /// Something whose computing can be an error for some values on some engine.
    const CAN_FAIL: u8 = 1 << 3;

    /// Those of a node without others below it.
    fn of(bit: u8, holds: bool) -> Facts {
        Facts { depth: 0, holds: if holds { bit } else { 0 } }
    }

    fn with(self, bit: u8) -> Facts {
        Facts { holds: self.holds | bit, ..self }
    }

    fn without(self, bit: u8) -> Facts {
        Facts { holds: self.holds & !bit, ..self }
    }

    pub(crate) fn follows(self) -> bool {
        self.holds & Facts::FOLLOWS != 0
    }

    pub(crate) fn windows(self) -> bool {
        self.holds & Facts::WINDOWS != 0
    }

    pub(crate) fn queries(self) -> bool {
        self.holds & Facts::QUERIES != 0
    }

    pub(crate) fn can_fail(self) -> bool {
        self.holds & Facts::CAN_FAIL != 0
    }

    /// Returns whether other tables than the query's own may be asked: by a query, or by a parent that is followed.
    pub(crate) fn asks_others(self) -> bool {
        self.holds & (Facts::FOLLOWS | Facts::QUERIES) != 0
    }

    fn beside(self, other: Facts) -> Facts {
        Facts { depth: self.depth.max(other.depth), holds: self.holds | other.holds }
    }

    /// Returns the facts of a function from those of its arguments.
    fn of_function(self, function: &Function) -> Facts {
        if function.can_fail() { self.with(Facts::CAN_FAIL) } else { self }
    }

    /// Returns the facts of the terms of a list, without the list itself.
    fn inside(self) -> Facts {
        Facts { depth: self.depth - 1, ..self }
    }
}

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
#[derive(Debug, Clone, PartialEq)]
pub struct OneOf {
    pub(crate) operand: Node,
    pub(crate) list: BindValue,
    /// Whether NULL is in the list too: a bind of its own, present only where the items may be NULL.
    pub(crate) with_null: Option<BindValue>,
    pub(crate) negated: bool,
}

/// `operand` is among the values of a query with one column, or is not.
#[derive(Debug, Clone, PartialEq)]
pub struct InQuery {
    pub(crate) operand: Node,
    pub(crate) select: Box<Select>,
    /// True if NULL may be among what is selected.
    pub(crate) may_be_null: bool,
    pub(crate) negated: bool,
}

/// A query inside another, and what is asked of it.
#[derive(Debug, Clone, PartialEq)]
pub struct Subquery {
    pub(crate) select: Box<Select>,
    pub(crate) asked: AskedOf,
}

/// What is asked of a query inside another.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum AskedOf {
    /// Whether it has any row.
    Exists,
    /// Whether it has none.
    NotExists,
    /// Whether it has more rows than this.
    MoreThan(BindValue),
    /// Whether it has no more rows than this.
    AtMost(BindValue),
    /// How many rows it has.
    Count,
    /// The one value that it selects, of its first row.
    Value,
}

/// `operand` matches a pattern, in which `!` escapes what follows it, or does not.
#[derive(Debug, Clone, PartialEq)]
pub struct Like {
    pub(crate) operand: Node,
    pub(crate) pattern: BindValue,
    pub(crate) any_case: bool,
    pub(crate) negated: bool,
}

/// A function, an operator or a fragment with its arguments.
#[derive(Debug, Clone, PartialEq)]
pub struct Call {
    pub(crate) function: &'static Function,
    pub(crate) sql_type: SqlType,
    pub(crate) arguments: SmallVec<[Node; 2]>,
    /// The line of the program that wrote it, where that says more than the clause's.
    pub(crate) asked_at: Option<Origin>,
}

/// The first value whose condition is true.
#[derive(Debug, Clone, PartialEq)]
pub struct Case {
    /// Conditions, each followed by its value.
    pub(crate) branches: Vec<[Node; 2]>,
    pub(crate) otherwise: Option<Node>,
    pub(crate) sql_type: SqlType,
}

/// A function of all rows of a group together, or of a window.
#[derive(Debug, Clone, PartialEq)]
pub struct Aggregate {
    pub(crate) call: Call,
    /// True if each value counts once.
    pub(crate) distinct: bool,
    /// Which rows count, if not all of them.
    pub(crate) among: Option<Node>,
    /// The order in which the rows are taken, where that matters.
    pub(crate) orders: Vec<OrderTerm>,
}

/// What rows are grouped by.
#[derive(Debug, Clone, PartialEq)]
pub struct Key {
    pub(crate) of: Node,
    /// True if there are groups of all its values together too.
    pub(crate) rolled_up: bool,
}

/// A function of the rows around each row.
#[derive(Debug, Clone, PartialEq)]
pub struct Window {
    pub(crate) of: Aggregate,
    /// Only rows with the same values of these are around each other.
    pub(crate) partition: Vec<Node>,
    pub(crate) orders: Vec<OrderTerm>,
    pub(crate) frame: Option<Frame>,
}

/// Which of the rows before and after it a row sees.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Frame {
    /// The place of the first from its own, negative before it, if not the first of all.
    pub(crate) first: Option<i32>,
    /// The place of the last, if not the last of all.
    pub(crate) last: Option<i32>,
}

#[derive(Debug, Clone, PartialEq)]
pub struct Trusted {
    pub(crate) text: Box<str>,
    /// True if it is one word, which never needs brackets.
    pub(crate) closed: bool,
    pub(crate) sql_type: SqlType,
}

#[derive(Debug, Clone, PartialEq)]
pub struct Refused {
    pub(crate) value: BindValue,
    pub(crate) reason: &'static str,
}

impl Node {
    pub(crate) fn facts(&self) -> Facts {
        match self {
            Node::Column(column) => Facts::of(Facts::FOLLOWS, column.source.path != Path::HERE),
            // The program's own text may do anything, but for one word of ours.
            Node::Trusted(trusted) => Facts::of(Facts::CAN_FAIL, !trusted.closed),
            Node::Bind(_) | Node::Refused(_) | Node::Unfit(_) | Node::TooDeep => Facts::default(),
            Node::Compare(_, facts, _)
            | Node::Between(facts, _)
            | Node::All(facts, _)
            | Node::Any(facts, _)
            | Node::Not(facts, _)
            | Node::IsNull(facts, _)
            | Node::IsNotNull(facts, _)
            | Node::OneOf(facts, _)
            | Node::InQuery(facts, _)
            | Node::Subquery(facts, _)
            | Node::Like(facts, _)
            | Node::Call(facts, _)
            | Node::Case(facts, _)
            | Node::Aggregate(facts, _)
            | Node::Window(facts, _)
            | Node::Key(facts, _) => *facts,
        }
    }

    /// The type of the value; a condition is a truth value.
    pub(crate) fn sql_type(&self) -> SqlType {
        match self {
            Node::Column(column) => column.info.sql_type(),
            Node::Bind(value) => value.sql_type(),
            Node::Call(_, call) => call.sql_type,
            Node::Case(_, case) => case.sql_type,
            Node::Aggregate(_, aggregate) => aggregate.call.sql_type,
            Node::Window(_, window) => window.of.call.sql_type,
            Node::Key(_, key) => key.of.sql_type(),
            Node::Trusted(trusted) => trusted.sql_type,
            Node::Refused(refused) => refused.value.sql_type(),
            Node::Subquery(_, subquery) => match subquery.asked {
                AskedOf::Count => SqlType::BigInt,
                AskedOf::Value => match subquery.select.values.as_ref() {
                    Some(values) => values.what.first().map_or(SqlType::Boolean, Node::sql_type),
                    None => SqlType::Boolean,
                },
                _ => SqlType::Boolean,
            },
            _ => SqlType::Boolean,
        }
    }

    /// Whether it is a condition, which not every dialect takes for a value; else it is a value, perhaps a truth value.
    pub(crate) fn is_condition(&self) -> bool {
        match self {
            Node::Compare(..)
            | Node::Between(..)
            | Node::All(..)
            | Node::Any(..)
            | Node::Not(..)
            | Node::IsNull(..)
            | Node::IsNotNull(..)
            | Node::OneOf(..)
            | Node::InQuery(..)
            | Node::Like(..) => true,
            Node::Subquery(_, subquery) => !subquery.asked.is_a_value(),
            Node::Call(_, call) => call.function.is_condition(),
            Node::Column(_)
            | Node::Bind(_)
            | Node::Case(..)
            | Node::Aggregate(..)
            | Node::Window(..)
            | Node::Key(..)
            | Node::Trusted(_)
            | Node::Refused(_)
            | Node::Unfit(_)
            | Node::TooDeep => false,
        }
    }

    /// Returns whether a dialect has to be told to compare this by code point.
    pub(crate) fn needs_collation(&self) -> bool {
        match self {
            Node::Column(column) => column.needs_collation(),
            Node::Call(_, call) => {
                call.sql_type == SqlType::Text && !call.function.is_by_code_point()
            }
            Node::Key(_, key) => key.of.needs_collation(),
            Node::Bind(_) => false,
            other => other.sql_type() == SqlType::Text,
        }
    }
}

fn together<'n>(nodes: impl IntoIterator<Item = &'n Node>) -> Facts {
    let facts = nodes.into_iter().map(Node::facts);
    facts.reduce(Facts::beside).unwrap_or_default()
}
