//! A query in the tree: its clauses, each with who asked for it.

use smallvec::SmallVec;

use super::{Facts, Node, RawColumn, together};
use crate::origin::Origin;
use crate::query::{Path, Source, SourceId};
use crate::storable::BindValue;
use crate::table::TableInfo;

/// An expression that rows are ordered by.
#[derive(Debug, Clone)]
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
    /// What is read of each row besides: the columns by which rows are put beside others.
    pub(crate) keys: Vec<RawColumn>,
    /// To how many of the first of `keys` the limit applies, for each of their values; with none it
    /// applies to all rows together.
    pub(crate) limited_by: usize,
    /// The relation that the query began at.
    pub(crate) relation: Option<RelationName>,
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

    pub(crate) fn is_over(&self, source: SourceId) -> bool {
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
        for key in self.keys.iter().filter(|_| in_rows) {
            add(key.source, self.asked_at);
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
        copy.keys
            .iter_mut()
            .for_each(|key| renumber(&mut key.source));
        copy.each_column(&mut |column| renumber(&mut column.source));
        copy
    }

    pub(crate) fn each_column(&mut self, change: &mut dyn FnMut(&mut RawColumn)) {
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

    pub(super) fn nodes(&self) -> impl Iterator<Item = &Node> {
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
