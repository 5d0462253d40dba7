//! The untyped syntax tree: what typed expressions and queries become, and all that the compiler reads.
//!
//! Nodes are made by the constructors below only. They keep lists of conditions flat and the tree
//! shallow, so that cloning, dropping and walking it may simply recurse.

use std::{ptr, slice};

use smallvec::SmallVec;

use crate::function::{self, Function};
use crate::origin::Origin;
use crate::query::{Path, Source, SourceId};
use crate::storable::{BindValue, List, SqlType};
use crate::table::{ColumnInfo, TableInfo};

/// A node deeper than this becomes [`Node::TooDeep`], which no dialect prints. Engines give up not far beyond.
const DEEPEST: u16 = 400;

/// A column of one of the tables that a query reads.
#[derive(Debug, Clone, Copy)]
pub struct RawColumn {
    pub(crate) source: Source,
    pub(crate) info: &'static ColumnInfo,
}

impl RawColumn {
    pub(crate) fn needs_collation(&self) -> bool {
        self.info.sql_type() == SqlType::Text && !self.info.is_by_code_point()
    }
}

/// A value or a condition.
#[derive(Debug, Clone)]
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
    /// SQL text that was made at run time and is trusted.
    Trusted(Box<Trusted>),
    /// A value that makes no sense where it was given; no dialect prints it.
    Refused(Box<Refused>),
    TooDeep,
}

/// What is known of a node without looking into it.
#[derive(Debug, Clone, Copy, Default)]
pub struct Facts {
    /// How many nodes stand below one another, this one included.
    depth: u16,
    /// Whether a column of a followed parent is among them, so that there is a join to write.
    pub(crate) follows: bool,
}

impl Facts {
    fn beside(self, other: Facts) -> Facts {
        Facts { depth: self.depth.max(other.depth), follows: self.follows | other.follows }
    }

    /// Of the terms of a list without the list itself.
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

/// A query inside another, and what is asked of it.
#[derive(Debug, Clone)]
pub struct Subquery {
    pub(crate) select: Box<Select>,
    pub(crate) asked: AskedOf,
}

/// What is asked of a query inside another.
#[derive(Debug, Clone)]
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

impl AskedOf {
    /// Whether it asks for a value; else it asks if there are rows, which is never NULL and has an
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
                .compared(comparison, number, subquery.select.is_limited())
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
        let facts = self.facts().beside(select.facts());
        let in_query = InQuery { operand: self, select, may_be_null, negated };
        Node::above(facts, |facts| Node::InQuery(facts, Box::new(in_query)))
    }

    pub(crate) fn subquery(select: Box<Select>, asked: AskedOf) -> Node {
        let subquery = Subquery { select, asked };
        Node::above(subquery.select.facts(), |facts| Node::Subquery(facts, Box::new(subquery)))
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
        Node::above(together(&call.arguments), |facts| Node::Call(facts, Box::new(call)))
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

    pub(crate) fn refused(value: BindValue, reason: &'static str) -> Node {
        Node::Refused(Box::new(Refused { value, reason }))
    }

    fn above(children: Facts, node: impl FnOnce(Facts) -> Node) -> Node {
        match children.depth < DEEPEST {
            true => node(Facts { depth: children.depth + 1, ..children }),
            false => Node::TooDeep,
        }
    }

    pub(crate) fn facts(&self) -> Facts {
        match self {
            Node::Column(column) => Facts { depth: 0, follows: column.source.path != Path::HERE },
            Node::Bind(_) | Node::Trusted(_) | Node::Refused(_) | Node::TooDeep => Facts::default(),
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
            | Node::Case(facts, _) => *facts,
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

    /// Whether a dialect has to be told to compare this by code point.
    pub(crate) fn needs_collation(&self) -> bool {
        match self {
            Node::Column(column) => column.needs_collation(),
            Node::Call(_, call) => {
                call.sql_type == SqlType::Text && !call.function.is_by_code_point()
            }
            Node::Bind(_) => false,
            other => other.sql_type() == SqlType::Text,
        }
    }

    /// Shows the source of every column of a followed parent in it, those in subqueries too.
    fn visit_followed(&self, see: &mut dyn FnMut(Source)) {
        if !self.facts().follows {
            return;
        }
        let children: &[Node] = match self {
            Node::Column(column) => return see(column.source),
            Node::Bind(_) | Node::Trusted(_) | Node::Refused(_) | Node::TooDeep => &[],
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

fn constant(holds: bool) -> &'static Function {
    if holds { &function::ALWAYS } else { &function::NEVER }
}

fn together<'n>(nodes: impl IntoIterator<Item = &'n Node>) -> Facts {
    let facts = nodes.into_iter().map(Node::facts);
    facts.reduce(Facts::beside).unwrap_or_default()
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
pub struct Select {
    pub(crate) source: SourceId,
    pub(crate) table: &'static TableInfo,
    /// The tables whose rows are read, in their order: first the one it is over or a parent that is
    /// followed from it, then those beside it.
    pub(crate) rows: SmallVec<[Source; 2]>,
    pub(crate) joins: Vec<Join>,
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

/// A table beside that of a query.
#[derive(Debug, Clone)]
pub(crate) struct Join {
    pub(crate) source: SourceId,
    pub(crate) table: &'static TableInfo,
    /// Which rows belong together: all of them, if nothing is said.
    pub(crate) on: SmallVec<[Asked<Node>; 4]>,
    /// Whether rows stay that have none beside them.
    pub(crate) optional: bool,
    pub(crate) asked_at: Origin,
}

impl Select {
    /// Where the first table whose rows are meant stands.
    pub(crate) fn entry(&self) -> Source {
        let here = Source { id: self.source, path: Path::HERE };
        self.rows.first().copied().unwrap_or(here)
    }

    fn is_over(&self, source: SourceId) -> bool {
        self.source == source || self.joins.iter().any(|join| join.source == source)
    }

    pub(crate) fn is_limited(&self) -> bool {
        self.limit.is_some() || self.offset.is_some()
    }

    /// The parents that are followed from its table, each path once, after the paths that lead to
    /// it, and with the line that asked for it first. Without `in_rows` only what decides which rows
    /// there are is looked at.
    pub(crate) fn followed(&self, in_rows: bool) -> Vec<Asked<Source>> {
        let mut followed: Vec<Asked<Source>> = Vec::new();
        let mut add = |source: Source, at: Origin| {
            let mut steps = SmallVec::<[Path; 8]>::new();
            let mut end = source.path;
            while let Some((before, _)) = end.last() {
                steps.push(end);
                end = before;
            }
            for path in steps.into_iter().rev() {
                let step = Source { path, ..source };
                if followed.iter().all(|known| known.what != step) {
                    followed.push(Asked { what: step, at });
                }
            }
        };
        let values = self.values.iter().flat_map(|values| {
            let nodes = values.what.iter();
            nodes.map(|node| (node, values.at))
        });
        let filters = self.filters.iter().map(|filter| (&filter.what, filter.at));
        let joins = self
            .joins
            .iter()
            .flat_map(|join| &join.on)
            .map(|on| (&on.what, on.at));
        let orders = self.orders.iter().map(|order| (&order.what.by, order.at));
        let of_rows = values.chain(orders).filter(|_| in_rows);
        for (node, at) in filters.chain(joins).chain(of_rows) {
            node.visit_followed(&mut |source| {
                if self.is_over(source.id) {
                    add(source, at);
                }
            });
        }
        // A table that is joined decides which rows there are, whatever is read of it.
        let beside = self
            .rows
            .iter()
            .skip(1)
            .filter(|_| !in_rows || self.values.is_some());
        let read = self
            .rows
            .iter()
            .filter(|_| in_rows && self.values.is_none());
        for source in beside.chain(read) {
            add(*source, self.asked_at);
        }
        followed
    }

    /// The same query, its table told apart from this one's: so that a copy can stand inside the
    /// original, and the columns of each are its own.
    pub(crate) fn copied(&self) -> Select {
        let mut copy = self.clone();
        let mut renumbered = SmallVec::<[(SourceId, SourceId); 2]>::new();
        let joins = copy.joins.iter_mut().map(|join| &mut join.source);
        for source in joins.chain([&mut copy.source]) {
            let fresh = SourceId::fresh();
            renumbered.push((*source, fresh));
            *source = fresh;
        }
        let renumber = |source: &mut Source| {
            if let Some((_, fresh)) = renumbered.iter().find(|(old, _)| *old == source.id) {
                source.id = *fresh;
            }
        };
        copy.rows.iter_mut().for_each(renumber);
        copy.each_column(&mut |column| renumber(&mut column.source));
        copy
    }

    fn each_column(&mut self, change: &mut dyn FnMut(&mut RawColumn)) {
        let values = self.values.iter_mut().flat_map(|values| &mut values.what);
        let filters = self.filters.iter_mut().map(|filter| &mut filter.what);
        let orders = self.orders.iter_mut().map(|order| &mut order.what.by);
        let joins = self.joins.iter_mut().flat_map(|join| &mut join.on);
        let joins = joins.map(|on| &mut on.what);
        for node in values.chain(filters).chain(orders).chain(joins) {
            node.each_column(change);
        }
    }

    pub(crate) fn facts(&self) -> Facts {
        together(self.nodes())
    }

    fn nodes(&self) -> impl Iterator<Item = &Node> {
        let values = self.values.iter().flat_map(|values| &values.what);
        let filters = self.filters.iter().map(|filter| &filter.what);
        let orders = self.orders.iter().map(|order| &order.what.by);
        let joins = self
            .joins
            .iter()
            .flat_map(|join| &join.on)
            .map(|on| &on.what);
        values.chain(filters).chain(orders).chain(joins)
    }
}
