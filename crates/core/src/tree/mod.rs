//! The untyped syntax tree, which typed expressions and queries build and the writer reads.
//!
//! Only the constructors of `construct` create nodes. They keep lists of conditions flat and the tree
//! shallow, so that cloning, dropping and walking it may recurse.

mod construct;
mod policy;
mod select;
mod source;
mod walk;

use smallvec::SmallVec;

pub use policy::{PolicyCondition, PolicyUse, is_function, policy_id};
pub(crate) use policy::{Waived, Waiver};
pub(crate) use select::{
    CteQuery, FromSource, GroupingClauses, Join, Located, OrderTerm, ROUND, Recursion,
    RelationName, Select, Sets, TopPerGroup, rows_left,
};
pub use select::{JoinKind, Lock, SetOperator};
pub use source::Source;
pub(crate) use source::{Path, SourceId};
pub(crate) use walk::{Inner, InnerMut};

use crate::model::{BindValue, ColumnInfo, Function, Origin, SqlType, TableInfo};

/// The depth beyond which a node becomes [`Node::TooDeep`], which is an error. Engines give up not far
/// beyond.
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
#[must_use = "an assignment does nothing until it is passed to `update`"]
pub struct Assignment {
    pub(crate) column: &'static ColumnInfo,
    pub(crate) value: Node,
}

/// A value or a condition. Equal nodes have the same text and the same binds.
#[derive(Debug, Clone, PartialEq)]
pub enum Node {
    Column(RawColumn),
    Bind(BindValue),
    Compare(Comparison, NodeSummary, Box<[Node; 2]>),
    /// The first is not less than the second and not greater than the third.
    Between(NodeSummary, Box<[Node; 3]>),
    All(NodeSummary, Vec<Node>),
    Any(NodeSummary, Vec<Node>),
    Not(NodeSummary, Box<Node>),
    IsNull(NodeSummary, Box<Node>),
    IsNotNull(NodeSummary, Box<Node>),
    OneOf(NodeSummary, Box<OneOf>),
    InQuery(NodeSummary, Box<InQuery>),
    Subquery(NodeSummary, Box<Subquery>),
    Like(NodeSummary, Box<Like>),
    Call(NodeSummary, Box<Call>),
    Case(NodeSummary, Box<Case>),
    Aggregate(NodeSummary, Box<Aggregate>),
    Window(NodeSummary, Box<Window>),
    /// A group key.
    Key(NodeSummary, Box<Key>),
    /// Trusted SQL text that was made at run time.
    RawSql(Box<RawSql>),
    /// The columns of a struct, for a select list of hand-written SQL.
    ColumnsOf(Box<ColumnsOf>),
    /// The name of the handle's schema, in hand-written SQL.
    SchemaName,
    /// A value that is not allowed where it was given; compiling it is an error.
    Refused(Box<Refused>),
    /// Parts that do not fit together, with the reason; compiling it is an error.
    Unfit(&'static str),
    TooDeep,
}

/// A summary of a node and everything below it, kept by the constructors.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct NodeSummary {
    /// The depth of the tree, this node included.
    depth: u16,
    /// A bit for each property below. A constructor combines those of its children in one operation.
    holds: u8,
}

impl NodeSummary {
    /// It contains a column of a parent, which needs a join, or of a row that must exist.
    const FOLLOWS: u8 = 1;
    /// It contains a window function, not counting subqueries.
    const WINDOWS: u8 = 1 << 1;
    /// It contains a subquery.
    const QUERIES: u8 = 1 << 2;
    /// It contains something whose evaluation can fail for some values on some engine.
    const CAN_FAIL: u8 = 1 << 3;

    /// Returns the summary of a node without children.
    fn of(bit: u8, holds: bool) -> NodeSummary {
        NodeSummary { depth: 0, holds: if holds { bit } else { 0 } }
    }

    fn with(self, bit: u8) -> NodeSummary {
        NodeSummary { holds: self.holds | bit, ..self }
    }

    fn without(self, bit: u8) -> NodeSummary {
        NodeSummary { holds: self.holds & !bit, ..self }
    }

    pub(crate) fn follows(self) -> bool {
        self.holds & NodeSummary::FOLLOWS != 0
    }

    pub(crate) fn windows(self) -> bool {
        self.holds & NodeSummary::WINDOWS != 0
    }

    pub(crate) fn queries(self) -> bool {
        self.holds & NodeSummary::QUERIES != 0
    }

    pub(crate) fn can_fail(self) -> bool {
        self.holds & NodeSummary::CAN_FAIL != 0
    }

    /// Returns whether it may read other tables than the query's own: in a subquery, or through a parent.
    pub(crate) fn asks_others(self) -> bool {
        self.holds & (NodeSummary::FOLLOWS | NodeSummary::QUERIES) != 0
    }

    fn beside(self, other: NodeSummary) -> NodeSummary {
        NodeSummary { depth: self.depth.max(other.depth), holds: self.holds | other.holds }
    }

    /// Returns the summary of a function, from that of its arguments.
    fn of_function(self, function: &Function) -> NodeSummary {
        if function.can_fail() { self.with(NodeSummary::CAN_FAIL) } else { self }
    }

    /// Returns the summary of the terms of a list, without the list itself.
    fn inside(self) -> NodeSummary {
        NodeSummary { depth: self.depth - 1, ..self }
    }
}

/// SQL's comparison operators.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Comparison {
    Equal,
    /// `=` by code point, whatever the collation of a column treats as equal.
    Same,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
    /// IS DISTINCT FROM: FALSE for two NULLs, never NULL.
    Distinct,
    /// IS NOT DISTINCT FROM: TRUE for two NULLs, never NULL.
    NotDistinct,
}

/// `operand` is, or is not, in a list of values.
#[derive(Debug, Clone, PartialEq)]
pub struct OneOf {
    pub(crate) operand: Node,
    pub(crate) list: BindValue,
    /// Tells whether NULL is in the list too. It is a bind of its own, present only where items may be NULL.
    pub(crate) with_null: Option<BindValue>,
    pub(crate) negated: bool,
    /// True if text is compared by code point, whatever the collation of a column treats as equal.
    pub(crate) same: bool,
}

/// `operand` is, or is not, in the result of a query with one column.
#[derive(Debug, Clone, PartialEq)]
pub struct InQuery {
    pub(crate) operand: Node,
    pub(crate) select: Box<Select>,
    /// True if the query may return NULL.
    pub(crate) may_be_null: bool,
    pub(crate) negated: bool,
    /// True if text is compared by code point, whatever the collation of a column treats as equal.
    pub(crate) same: bool,
}

/// A subquery, and the kind of its result.
#[derive(Debug, Clone, PartialEq)]
pub struct Subquery {
    pub(crate) select: Box<Select>,
    pub(crate) asked: SubqueryKind,
}

/// The kind of a subquery's result.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum SubqueryKind {
    /// EXISTS.
    Exists,
    /// NOT EXISTS.
    NotExists,
    /// True if it has more rows than this.
    MoreThan(BindValue),
    /// True if it has at most this number of rows.
    AtMost(BindValue),
    /// The number of rows.
    Count,
    /// The single value of its first row.
    Value,
}

/// `operand` does, or does not, match a pattern in which `!` is the escape character.
#[derive(Debug, Clone, PartialEq)]
pub struct Like {
    pub(crate) operand: Node,
    pub(crate) pattern: BindValue,
    pub(crate) any_case: bool,
    pub(crate) negated: bool,
}

/// A function, operator or fragment with its arguments.
#[derive(Debug, Clone, PartialEq)]
pub struct Call {
    pub(crate) function: &'static Function,
    pub(crate) sql_type: SqlType,
    pub(crate) arguments: SmallVec<[Node; 2]>,
    /// The line of the program that wrote it, if it is more precise than the clause's.
    pub(crate) asked_at: Option<Origin>,
    /// True for hand-written text that the program has declared to read nothing but its arguments.
    pub(crate) reads_arguments_only: bool,
}

impl Call {
    /// Returns a function of the library with its arguments.
    pub(crate) fn of(
        function: &'static Function,
        sql_type: SqlType,
        arguments: SmallVec<[Node; 2]>,
    ) -> Call {
        Call { function, sql_type, arguments, asked_at: None, reads_arguments_only: false }
    }

    /// Returns whether it is hand-written text that may name tables itself.
    pub(crate) fn may_read_tables(&self) -> bool {
        self.function.is_verbatim() && !self.reads_arguments_only
    }
}

/// CASE: the first value whose condition is true.
#[derive(Debug, Clone, PartialEq)]
pub struct Case {
    /// The branches: conditions with their values.
    pub(crate) branches: Vec<[Node; 2]>,
    pub(crate) otherwise: Option<Node>,
    pub(crate) sql_type: SqlType,
}

/// An aggregate function, over a group or a window.
#[derive(Debug, Clone, PartialEq)]
pub struct Aggregate {
    pub(crate) call: Call,
    /// True for DISTINCT.
    pub(crate) distinct: bool,
    /// The condition on the rows that count, if there is one.
    pub(crate) filter: Option<Node>,
    /// The order of the rows, where that matters.
    pub(crate) orders: Vec<OrderTerm>,
}

/// A group key.
#[derive(Debug, Clone, PartialEq)]
pub struct Key {
    pub(crate) of: Node,
    /// True if ROLLUP adds groups for all its values together.
    pub(crate) rolled_up: bool,
    /// The keys that decide its value, if it is a column of a parent that is grouped by.
    pub(crate) decided_by: Vec<Node>,
}

/// A window function.
#[derive(Debug, Clone, PartialEq)]
pub struct Window {
    pub(crate) of: Aggregate,
    /// PARTITION BY.
    pub(crate) partition: Vec<Node>,
    pub(crate) orders: Vec<OrderTerm>,
    pub(crate) frame: Option<Frame>,
}

/// The frame: the rows that the function sees around each row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Frame {
    /// The offset of the first row, negative before the current one; `None` for UNBOUNDED PRECEDING.
    pub(crate) first: Option<i32>,
    /// The offset of the last row; `None` for UNBOUNDED FOLLOWING.
    pub(crate) last: Option<i32>,
}

#[derive(Debug, Clone, PartialEq)]
pub struct RawSql {
    pub(crate) text: Box<str>,
    /// True if it is a single word, which never needs brackets.
    pub(crate) closed: bool,
    /// True if the program has declared that it reads no table.
    pub(crate) reads_arguments_only: bool,
    pub(crate) sql_type: SqlType,
}

/// The columns of a struct under an alias of hand-written SQL.
#[derive(Debug, Clone)]
pub struct ColumnsOf {
    pub(crate) table: &'static TableInfo,
    pub(crate) alias: &'static str,
    /// True if the alias is part of the names, because there are other columns with the same name.
    pub(crate) prefixed: bool,
}

impl PartialEq for ColumnsOf {
    fn eq(&self, other: &ColumnsOf) -> bool {
        std::ptr::eq(self.table, other.table)
            && (self.alias, self.prefixed) == (other.alias, other.prefixed)
    }
}

#[derive(Debug, Clone, PartialEq)]
pub struct Refused {
    pub(crate) value: BindValue,
    pub(crate) reason: &'static str,
}

/// Returns the summary that a node keeps, if it has nodes below it.
macro_rules! kept_summary {
    ($node:expr) => {
        match $node {
            Node::Column(_)
            | Node::RawSql(_)
            | Node::Bind(_)
            | Node::ColumnsOf(_)
            | Node::SchemaName
            | Node::Refused(_)
            | Node::Unfit(_)
            | Node::TooDeep => None,
            Node::Compare(_, summary, _)
            | Node::Between(summary, _)
            | Node::All(summary, _)
            | Node::Any(summary, _)
            | Node::Not(summary, _)
            | Node::IsNull(summary, _)
            | Node::IsNotNull(summary, _)
            | Node::OneOf(summary, _)
            | Node::InQuery(summary, _)
            | Node::Subquery(summary, _)
            | Node::Like(summary, _)
            | Node::Call(summary, _)
            | Node::Case(summary, _)
            | Node::Aggregate(summary, _)
            | Node::Window(summary, _)
            | Node::Key(summary, _) => Some(summary),
        }
    };
}

impl Node {
    /// Returns the terms of a conjunction, or this one condition.
    pub(crate) fn terms(&self) -> &[Node] {
        match self {
            Node::All(_, terms) => terms,
            other => std::slice::from_ref(other),
        }
    }

    pub(crate) fn summary(&self) -> NodeSummary {
        match self {
            Node::Column(column) => {
                let follows = column.source.path != Path::HERE || column.source.is_marked();
                NodeSummary::of(NodeSummary::FOLLOWS, follows)
            }
            // Hand-written text may do anything, unless it is a single word.
            Node::RawSql(trusted) => NodeSummary::of(NodeSummary::CAN_FAIL, !trusted.closed),
            other => kept_summary!(other).copied().unwrap_or_default(),
        }
    }

    fn summary_mut(&mut self) -> Option<&mut NodeSummary> {
        kept_summary!(self)
    }

    /// Returns the type of the value; a condition is a boolean.
    pub(crate) fn sql_type(&self) -> SqlType {
        match self {
            Node::Column(column) => column.info.sql_type(),
            Node::Bind(value) => value.sql_type(),
            Node::Call(_, call) => call.sql_type,
            Node::Case(_, case) => case.sql_type,
            Node::Aggregate(_, aggregate) => aggregate.call.sql_type,
            Node::Window(_, window) => window.of.call.sql_type,
            Node::Key(_, key) => key.of.sql_type(),
            Node::RawSql(trusted) => trusted.sql_type,
            Node::Refused(refused) => refused.value.sql_type(),
            Node::Subquery(_, subquery) => match subquery.asked {
                SubqueryKind::Count => SqlType::BigInt,
                SubqueryKind::Value => match subquery.select.values.as_ref() {
                    Some(values) => values.what.first().map_or(SqlType::Boolean, Node::sql_type),
                    None => SqlType::Boolean,
                },
                _ => SqlType::Boolean,
            },
            _ => SqlType::Boolean,
        }
    }

    /// Returns whether it is a condition, which not every dialect accepts as a value.
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
            | Node::RawSql(_)
            | Node::ColumnsOf(_)
            | Node::SchemaName
            | Node::Refused(_)
            | Node::Unfit(_)
            | Node::TooDeep => false,
        }
    }

    /// Returns whether it is a column that identifies rows.
    pub(crate) fn identifies(&self) -> bool {
        matches!(self, Node::Column(column) if column.info.identifies())
    }

    /// Returns whether it is a column whose collation treats different texts as equal.
    pub(crate) fn is_nondeterministic(&self) -> bool {
        match self {
            Node::Column(column) => column.info.is_nondeterministic(),
            Node::Key(_, key) => key.of.is_nondeterministic(),
            _ => false,
        }
    }

    /// Compares text by code point everywhere in it, whatever the collation of a column treats as equal.
    pub(crate) fn make_same(&mut self) {
        match self {
            Node::Compare(comparison @ Comparison::Equal, _, sides)
                if sides.iter().any(Node::needs_collation) =>
            {
                *comparison = Comparison::Same;
            }
            Node::OneOf(_, one_of) => one_of.same = true,
            Node::InQuery(_, in_query) => in_query.same = true,
            _ => {}
        }
        self.each_query(&mut |select| select.nodes_mut().for_each(Node::make_same));
        self.children_mut(&mut Node::make_same);
    }

    /// Returns whether a dialect needs a COLLATE to compare this by code point.
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

fn together<'n>(nodes: impl IntoIterator<Item = &'n Node>) -> NodeSummary {
    let summary = nodes.into_iter().map(Node::summary);
    summary.reduce(NodeSummary::beside).unwrap_or_default()
}
