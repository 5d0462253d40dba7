//! A query in the tree: its clauses, each with who asked for it.

use crate::model::{BindValue, ColumnInfo, ColumnRole, Made, Origin, SqlType, TableInfo};
use crate::tree::{Path, Source, SourceId, Waived};
use std::fmt;
use std::sync::Arc;

use smallvec::SmallVec;

use super::{Facts, Node, RawColumn, together};

/// An expression that rows are ordered by.
#[derive(Debug, Clone, PartialEq)]
pub struct OrderTerm {
    pub(crate) by: Node,
    pub(crate) nullable: bool,
    pub(crate) descending: bool,
    pub(crate) nulls_first: bool,
}

/// What origins call a relation: the table that it is of, and its own name.
pub(crate) type RelationName = [&'static str; 2];

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
    /// What the rows of that are, if it is no table of the database.
    pub(crate) body: Body,
    /// The tables whose rows are read, in their order: first the one it is over or a parent that is
    /// followed from it, then those beside it.
    pub(crate) rows: SmallVec<[Source; 2]>,
    pub(crate) joins: Vec<Join>,
    pub(crate) asked_at: Origin,
    /// What each row gives, if that is not all columns of the table.
    pub(crate) values: Option<Asked<SmallVec<[Node; 1]>>>,
    /// The struct that each row is read into, if its fields are to name what is selected.
    pub(crate) named: Option<&'static TableInfo>,
    /// True if the first filter names a row by its key or a unique column, so that at most one can match.
    pub(crate) at_most_one: bool,
    // Room for what most queries have, so that they need no further allocation.
    pub(crate) filters: SmallVec<[Asked<Node>; 4]>,
    pub(crate) orders: SmallVec<[Asked<OrderTerm>; 2]>,
    pub(crate) limit: Option<Asked<BindValue>>,
    pub(crate) offset: Option<Asked<BindValue>>,
    /// What is read of each row besides: the columns by which rows are put beside others, or by which
    /// a page goes on.
    pub(crate) keys: Vec<Node>,
    /// What is asked of a query beyond the everyday, if anything is.
    pub(crate) special: Option<Box<Special>>,
    pub(crate) lock: Option<Asked<Lock>>,
    /// The relation that the query began at.
    pub(crate) relation: Option<RelationName>,
    /// The policies that it waives.
    pub(crate) waived: Option<Box<Waived>>,
    /// The parents that are read alongside, and must be there to be read.
    pub(crate) beside: Vec<Source>,
    /// What stands in the place of a parent that is followed, where not all of its rows may be seen.
    pub(crate) parents: Vec<(Source, Body)>,
}

/// What stands in the place of a table.
#[derive(Debug, Clone, Default)]
pub(crate) enum Body {
    #[default]
    Table,
    Query(Box<Select>),
    /// A query that stands in several places and is written once.
    Named(Arc<Named>),
    Sets(Box<Sets>),
    Recursion(Box<Recursion>),
    /// The rows that the round before gave, inside of a recursion.
    Again,
}

/// A query that has a name in the statement.
#[derive(Debug, Clone)]
pub(crate) struct Named {
    /// Tells it apart from the others, however often it is copied.
    pub(crate) id: SourceId,
    pub(crate) select: Select,
    /// What its rows are read into.
    pub(crate) fields: &'static TableInfo,
}

/// Rows that lead to further rows: those to start with, and those that each round finds by the ones
/// before.
#[derive(Debug, Clone)]
pub(crate) struct Recursion {
    pub(crate) start: Select,
    pub(crate) step: Select,
}

/// The number of the round that a row is from, beside the fields of its struct.
pub(crate) static ROUND: ColumnInfo = ColumnInfo::new(
    "nepheline_rows",
    "nepheline_round",
    [r#""nepheline_rows"."nepheline_round""#, "`nepheline_rows`.`nepheline_round`"],
    (SqlType::Integer, false),
    ColumnRole {
        key: false,
        generated: false,
        unique: false,
        by_code_point: false,
        retires: false,
        made: Made::Given,
    },
);

/// How rows that are read are kept from others until the transaction ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lock {
    /// Who holds one is waited for.
    Wait,
    /// Rows that somebody else has locked are left out.
    Skip,
    /// If somebody else has locked one, that is an error at once.
    NoWait,
}

/// The rows of several queries, put together from left to right.
#[derive(Debug, Clone)]
pub(crate) struct Sets {
    pub(crate) first: Select,
    pub(crate) others: Vec<(SetOperator, Select)>,
}

/// How the rows of two queries are put together.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SetOperator {
    /// Rows of either, each once.
    Union,
    /// Rows of either.
    UnionAll,
    /// Rows of both, each once.
    Intersect,
    /// Rows of the left side alone, each once.
    Except,
}

impl fmt::Display for SetOperator {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            SetOperator::Union => "UNION",
            SetOperator::UnionAll => "UNION ALL",
            SetOperator::Intersect => "INTERSECT",
            SetOperator::Except => "EXCEPT",
        })
    }
}

impl fmt::Display for JoinKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            JoinKind::Inner => "INNER",
            JoinKind::Left => "LEFT",
            JoinKind::Cross => "CROSS",
        })
    }
}

impl Body {
    /// How deep queries stand in it.
    pub(crate) fn depth(&self) -> usize {
        match self {
            Body::Table | Body::Again => 0,
            Body::Recursion(recursion) => 1 + recursion.start.depth().max(recursion.step.depth()),
            Body::Query(select) => 1 + select.depth(),
            Body::Named(named) => 1 + named.select.depth(),
            Body::Sets(sets) => {
                let others = sets.others.iter().map(|(_, select)| select.depth());
                1 + others.fold(sets.first.depth(), usize::max)
            }
        }
    }
}

/// What a query is besides the rows of its tables.
#[derive(Debug, Clone, Default)]
pub(crate) struct Special {
    /// True if there is a row for each group of rows.
    pub(crate) grouped: bool,
    /// What the rows are grouped by besides the keys that are selected.
    pub(crate) group_keys: Vec<Asked<Node>>,
    /// What groups have to fulfil.
    pub(crate) having: Vec<Asked<Node>>,
    /// Whether rows that are alike are given once, and who asked for that.
    pub(crate) distinct: Option<Origin>,
    /// How many rows are wanted of those that are alike in some expressions.
    pub(crate) of_each: Option<OfEach>,
}

/// So many rows of those that are alike in some expressions, the first by the order of the query.
#[derive(Debug, Clone)]
pub(crate) struct OfEach {
    pub(crate) alike_in: Vec<Node>,
    pub(crate) limit: Option<BindValue>,
    pub(crate) offset: Option<BindValue>,
    /// True if it is enough that those which are alike come in order.
    pub(crate) order_apart: bool,
    pub(crate) asked_at: Origin,
}

impl Special {
    fn nodes(&self) -> impl Iterator<Item = (&Node, Origin)> {
        let keys = self.group_keys.iter().chain(&self.having);
        let keys = keys.map(|asked| (&asked.what, asked.at));
        let each = self.of_each.iter();
        let each = each.flat_map(|each| each.alike_in.iter().map(|node| (node, each.asked_at)));
        keys.chain(each)
    }

    fn nodes_mut(&mut self) -> impl Iterator<Item = &mut Node> {
        let keys = self.group_keys.iter_mut().chain(&mut self.having);
        let keys = keys.map(|asked| &mut asked.what);
        let each = self.of_each.iter_mut();
        keys.chain(each.flat_map(|each| &mut each.alike_in))
    }
}

/// Which rows a join gives.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum JoinKind {
    /// Those of both sides that belong together.
    Inner,
    /// All of the left side, also those that nothing on the right belongs to.
    Left,
    /// All of one side with all of the other.
    Cross,
}

/// A table beside that of a query.
#[derive(Debug, Clone)]
pub(crate) struct Join {
    pub(crate) source: SourceId,
    pub(crate) table: &'static TableInfo,
    pub(crate) body: Body,
    /// Which rows belong together: all of them, if nothing is said.
    pub(crate) on: SmallVec<[Asked<Node>; 4]>,
    /// True if rows stay that have none beside them.
    pub(crate) optional: bool,
    pub(crate) asked_at: Origin,
}

impl PartialEq for Select {
    fn eq(&self, other: &Select) -> bool {
        std::ptr::eq(self, other)
    }
}

impl Select {
    /// All rows of a table, or of what stands in its place.
    pub(crate) fn over(table: &'static TableInfo, body: Body, asked_at: Origin) -> Select {
        let here = Source::fresh();
        Select {
            source: here.id,
            table,
            body,
            rows: smallvec::smallvec![here],
            joins: Vec::new(),
            asked_at,
            values: None,
            named: None,
            at_most_one: false,
            filters: SmallVec::new(),
            orders: SmallVec::new(),
            limit: None,
            offset: None,
            keys: Vec::new(),
            special: None,
            lock: None,
            relation: None,
            waived: None,
            beside: Vec::new(),
            parents: Vec::new(),
        }
    }

    /// Where the first table whose rows are meant stands.
    pub(crate) fn entry(&self) -> Source {
        let here = Source { id: self.source, path: Path::HERE };
        self.rows.first().copied().unwrap_or(here)
    }

    /// The table that stands there: one that the query is over, or a parent that is followed from it.
    pub(crate) fn table_at(&self, source: Source) -> Option<&'static TableInfo> {
        match source.path.last() {
            Some((before, step)) => {
                let from = self.table_at(Source { path: before, ..source })?;
                Some(from.references().get(step)?.target())
            }
            None if self.source == source.id => Some(self.table),
            None => {
                let joined = self.joins.iter().find(|join| join.source == source.id)?;
                Some(joined.table)
            }
        }
    }

    pub(crate) fn is_over(&self, source: SourceId) -> bool {
        self.source == source || self.joins.iter().any(|join| join.source == source)
    }

    fn depth(&self) -> usize {
        let joined = self.joins.iter().map(|join| join.body.depth());
        joined.fold(self.body.depth(), usize::max)
    }

    pub(crate) fn special_mut(&mut self) -> &mut Special {
        self.special.get_or_insert_default()
    }

    pub(crate) fn is_grouped(&self) -> bool {
        self.special.as_ref().is_some_and(|special| special.grouped)
    }

    /// Returns whether all rows together are one group, so that there is one result.
    pub(crate) fn is_one_group(&self) -> bool {
        let Some(special) = self.special.as_ref().filter(|special| special.grouped) else {
            return false;
        };
        let mut values = self.values.iter().flat_map(|values| &values.what);
        special.group_keys.is_empty() && !values.any(Node::holds_keys)
    }

    /// Returns whether there is more to it than all rows that pass the filters.
    pub(super) fn is_more_than_rows(&self) -> bool {
        self.is_limited() || self.special.is_some()
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
        // What is grouped or made alike decides which rows there are.
        let in_rows = in_rows || self.special.is_some();
        let special = self.special.iter().flat_map(|special| special.nodes());
        let keys = self.keys.iter().map(|key| (key, self.asked_at));
        let of_rows = values.chain(orders).chain(keys).filter(|_| in_rows);
        for (node, at) in filters.chain(joins).chain(special).chain(of_rows) {
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
        copy.beside.iter_mut().for_each(renumber);
        let waived = copy.waived.iter_mut().flat_map(|waived| &mut waived.here);
        waived.for_each(|(source, _)| renumber(source));
        copy.each_column(&mut |column| renumber(&mut column.source));
        copy
    }

    pub(crate) fn each_column(&mut self, change: &mut dyn FnMut(&mut RawColumn)) {
        for node in self.nodes_mut() {
            node.each_column(change);
        }
    }

    pub(crate) fn nodes_mut(&mut self) -> impl Iterator<Item = &mut Node> {
        let values = self.values.iter_mut().flat_map(|values| &mut values.what);
        let filters = self.filters.iter_mut().map(|filter| &mut filter.what);
        let orders = self.orders.iter_mut().map(|order| &mut order.what.by);
        let joins = self.joins.iter_mut().flat_map(|join| &mut join.on);
        let joins = joins.map(|on| &mut on.what);
        let special = self
            .special
            .iter_mut()
            .flat_map(|special| special.nodes_mut());
        let nodes = values.chain(filters).chain(orders).chain(joins);
        nodes.chain(special).chain(&mut self.keys)
    }

    /// Returns whether a column of a followed parent is in it.
    pub(crate) fn follows(&self) -> bool {
        self.any_node(|node| node.facts().follows())
    }

    /// Returns whether a query stands in it, besides those in the place of its tables.
    pub(crate) fn holds_queries(&self) -> bool {
        self.any_node(|node| node.facts().queries())
    }

    /// Whether a node of it fulfils something, in the order of [`nodes`](Self::nodes). Every query is asked, so by plain
    /// loops.
    #[inline]
    pub(crate) fn any_node<'s>(&'s self, mut holds: impl FnMut(&'s Node) -> bool) -> bool {
        self.values
            .as_ref()
            .is_some_and(|values| values.what.iter().any(&mut holds))
            || self.filters.iter().any(|filter| holds(&filter.what))
            || self.orders.iter().any(|order| holds(&order.what.by))
            || self
                .joins
                .iter()
                .any(|join| join.on.iter().any(|on| holds(&on.what)))
            || self
                .special
                .as_ref()
                .is_some_and(|special| special.nodes().any(|(node, _)| holds(node)))
            || self.keys.iter().any(&mut holds)
    }

    pub(crate) fn facts(&self) -> Facts {
        together(self.nodes())
    }

    pub(crate) fn nodes(&self) -> impl Iterator<Item = &Node> {
        let values = self.values.iter().flat_map(|values| &values.what);
        let filters = self.filters.iter().map(|filter| &filter.what);
        let orders = self.orders.iter().map(|order| &order.what.by);
        let joins = self
            .joins
            .iter()
            .flat_map(|join| &join.on)
            .map(|on| &on.what);
        let special = self.special.iter().flat_map(|special| special.nodes());
        let special = special.map(|(node, _)| node);
        let nodes = values.chain(filters).chain(orders).chain(joins);
        nodes.chain(special).chain(&self.keys)
    }
}
