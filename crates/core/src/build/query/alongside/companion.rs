//! Companions: queries whose rows are read together with those of another. The columns that relate both are
//! taken out of the filters, and become a list of values when the rows have been read.

use std::fmt;
use std::marker::PhantomData;

use super::{Lookup, Selects};
use crate::build::prepared::{Derived, KeptCompanion};
use crate::build::query::Query;
use crate::build::table::Table;
use crate::model::{BindValue, ColumnInfo, Error, KeyPart, Origin, TableInfo};
use crate::plan::{CompileContext, ReadShape};
use crate::sql::{Sql, Statement};
use crate::tree::{Comparison, Located, Node, RawColumn, Select, Source, TopPerGroup};

/// A companion query, and how its rows are matched.
#[doc(hidden)]
pub struct Companion<Q, A> {
    pub(super) query: Q,
    /// The pairs of equal columns: of the rows, and of the companion.
    pub(super) pairs: Vec<[&'static ColumnInfo; 2]>,
    /// The index of the first key cell with the values of the rows' columns.
    first: usize,
    /// The columns that name a row in the message about a missing parent, and the index of their first key
    /// cell.
    named_by: (Vec<&'static ColumnInfo>, usize),
    /// Its texts and values, if it is part of a prepared query.
    pub(super) kept: Option<KeptCompanion>,
    as_found: PhantomData<fn() -> A>,
}

/// The reason for refusing a query that cannot be matched.
const UNRELATED: &str = "a companion must compare its own columns with columns of the row; begin it with a relation, \
     such as `b.specimens()`, or filter it with `eq`";
const CORRELATED: &str = "a companion is read for all rows together, so its filters and values cannot use columns of one \
     row; follow the relation back from its own columns";
const LIMITED_TWICE: &str =
    "the limit of a companion already applies to each row, so it cannot have `limit_each` too";
const NOT_FOLLOWED: &str = "a row cannot be read alongside itself; use one of its relations";

impl<Q: Selects, A> Companion<Q, A> {
    pub(super) fn many(mut query: Q, rows: &mut Select) -> Companion<Q, A> {
        let pairs = query.select_mut().relate_to(rows);
        let select = query.select_mut();
        select.waive_as(rows);
        // The companion's own keys come first, because it may have companions itself.
        let keys: Vec<Node> = pairs.iter().map(|[_, own]| Node::Column(*own)).collect();
        select.limit_each(&keys);
        select.keys.splice(0..0, keys);
        let of_rows: Vec<RawColumn> = pairs.iter().map(|[of_row, _]| *of_row).collect();
        let first = rows.read_keys(&of_rows);
        let named_by = (Vec::new(), 0);
        let (pairs, as_found) = (infos(&pairs), PhantomData);
        Companion { query, pairs, first, named_by, kept: None, as_found }
    }
}

impl<T: Table, A> Companion<Query<T>, A> {
    pub(super) fn one(followed: Source, rows: &mut Select, at: Origin) -> Companion<Query<T>, A> {
        let mut query = Query::<T>::over_table();
        query.select.asked_at = at;
        query.select.waive_as(rows);
        // A row whose required parent is hidden is hidden too.
        rows.beside.push(followed);
        let target = query.select.entry();
        let step = followed.path.last().and_then(|(before, step)| {
            let from = Source { path: before, ..followed };
            let reference = rows.table_at(from)?.references().get(step)?;
            Some((from, reference))
        });
        let pairs: Vec<[RawColumn; 2]> = match step {
            Some((from, reference)) => {
                let table = rows.table_at(from);
                query.select.relation = table.map(|table| [table.name(), reference.name()]);
                reference.pairs_at(from, target).collect()
            }
            None => {
                rows.filters
                    .push(Located { what: Node::Unfit(NOT_FOLLOWED), at: rows.asked_at });
                Vec::new()
            }
        };
        query.select.keys = pairs.iter().map(|[_, own]| Node::Column(*own)).collect();
        let of_rows: Vec<RawColumn> = pairs.iter().map(|[of_row, _]| *of_row).collect();
        let first = rows.read_keys(&of_rows);
        let from = step.map(|(from, _)| from);
        let names: Vec<RawColumn> = from
            .into_iter()
            .flat_map(|source| {
                let table = rows.table_at(source).into_iter();
                let columns = table.flat_map(TableInfo::key);
                columns.map(move |info| RawColumn { source, info })
            })
            .collect();
        let named_first = rows.read_keys(&names);
        let named_by = (names.iter().map(|column| column.info).collect(), named_first);
        let (pairs, as_found) = (infos(&pairs), PhantomData);
        Companion { query, pairs, first, named_by, kept: None, as_found }
    }
}

fn part(keys: &[KeyPart], first: usize, width: usize) -> &[KeyPart] {
    keys.get(first..first + width).unwrap_or_default()
}

fn infos(pairs: &[[RawColumn; 2]]) -> Vec<[&'static ColumnInfo; 2]> {
    let each = pairs.iter();
    each.map(|[of_row, own]| [of_row.info, own.info]).collect()
}

impl<Q, A> Companion<Q, A> {
    /// Returns the key cells of a row that match the companion's rows.
    pub fn key<'k>(&self, keys: &'k [KeyPart]) -> &'k [KeyPart] {
        part(keys, self.first, self.pairs.len())
    }

    /// Returns the columns that name a row in messages, with its values.
    pub(super) fn name<'k>(&self, keys: &'k [KeyPart]) -> (&[&'static ColumnInfo], &'k [KeyPart]) {
        let (columns, first) = &self.named_by;
        (columns, part(keys, *first, columns.len()))
    }
}

impl<Q: Selects + Clone, A> Companion<Q, A> {
    /// Returns the query for the rows that belong to any row of the lookup.
    pub fn of_parents<R>(&self, lookup: &Lookup<R>) -> Result<OfParents<Q>, Error> {
        let mut query = self.query.clone();
        let mut derived = self.kept.as_ref().and_then(KeptCompanion::derived);
        let lists = lookup.lists(&self.pairs)?;
        let select = query.select_mut();
        // A clone has new source numbers, and its first keys are those of the pairs.
        for (place, list) in lists.into_iter().enumerate() {
            let Some(key) = select.keys.get(place) else { continue };
            let list = BindValue::List(Box::new(list));
            let list = match &mut derived {
                Some(derived) => derived.parameter(list),
                None => list,
            };
            let belongs = key.clone().one_of_bind(list, None, false);
            select
                .filters
                .push(Located { what: belongs, at: select.asked_at });
        }
        Ok(OfParents { query, derived })
    }
}

/// The query for the rows of a companion that belong to some parents.
#[doc(hidden)]
#[derive(Debug)]
pub struct OfParents<Q> {
    query: Q,
    /// Its values, if it is part of a prepared query.
    derived: Option<Derived>,
}

impl<Q: Selects> OfParents<Q> {
    /// Returns the query, which has bind parameters if it is part of a prepared one.
    pub fn query(&self) -> &Q {
        &self.query
    }

    pub fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        match &self.derived {
            Some(derived) => derived.statement(self.query.select(), context),
            None => self.query.statement(context, ReadShape::Rows),
        }
    }

    pub(super) fn show(
        mut self,
        context: CompileContext<'_>,
        shown: &mut Vec<Sql>,
    ) -> Result<(), Error> {
        if let Some(derived) = self.derived {
            derived.fill(self.query.select_mut());
        }
        self.query.show(context, shown)
    }
}

impl<Q: Clone, A> Clone for Companion<Q, A> {
    fn clone(&self) -> Self {
        Companion {
            query: self.query.clone(),
            pairs: self.pairs.clone(),
            first: self.first,
            named_by: self.named_by.clone(),
            kept: self.kept.clone(),
            as_found: PhantomData,
        }
    }
}

impl<Q: fmt::Debug, A> fmt::Debug for Companion<Q, A> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Companion")
            .field("query", &self.query)
            .field("pairs", &self.pairs)
            .finish()
    }
}

impl Select {
    /// Adds the waivers that apply everywhere in the rows' query.
    fn waive_as(&mut self, rows: &Select) {
        if let Some(of_rows) = &rows.waived {
            let waived = self.waived.get_or_insert_default();
            waived.everywhere.extend(&of_rows.everywhere);
            waived.all = waived.all.or(of_rows.all);
        }
    }

    /// Reads additional columns with each row, and returns the index of the first.
    fn read_keys(&mut self, columns: &[RawColumn]) -> usize {
        if columns.is_empty() {
            return 0;
        }
        let columns: Vec<Node> = columns.iter().map(|column| Node::Column(*column)).collect();
        let mut runs = self.keys.windows(columns.len());
        runs.position(|run| run == columns).unwrap_or_else(|| {
            let first = self.keys.len();
            self.keys.extend(columns);
            first
        })
    }

    /// Applies the limit and the groups to each value of these columns.
    fn limit_each(&mut self, own: &[Node]) {
        if self.is_grouped() {
            let at = self.asked_at;
            let keys = own
                .iter()
                .cloned()
                .map(|what| Located { what: what.key(false), at });
            self.grouping_mut().group_keys.extend(keys);
        }
        if let Some(each) = self
            .grouping
            .as_mut()
            .and_then(|grouping| grouping.of_each.as_mut())
        {
            each.alike_in.extend_from_slice(own);
            if self.limit.is_some() || self.offset.is_some() {
                self.filters
                    .push(Located { what: Node::Unfit(LIMITED_TWICE), at: self.asked_at });
            }
        } else if self.is_limited() {
            let each = TopPerGroup {
                alike_in: own.to_vec(),
                limit: self.limit.take().map(|limit| limit.what),
                offset: self.offset.take().map(|offset| offset.what),
                order_apart: true,
                asked_at: self.asked_at,
            };
            self.grouping_mut().of_each = Some(each);
        }
    }

    /// Removes from the filters the columns that equal columns of `rows`, and returns the pairs.
    fn relate_to(&mut self, rows: &Select) -> Vec<[RawColumn; 2]> {
        let mut pairs = Vec::new();
        let filters = std::mem::take(&mut self.filters);
        for Located { what, at } in filters {
            let rest = match what {
                Node::All(_, terms) => {
                    let rest = terms
                        .into_iter()
                        .filter_map(|term| self.keep_unless_pair(term, rows, &mut pairs));
                    rest.reduce(Node::and)
                }
                other => self.keep_unless_pair(other, rows, &mut pairs),
            };
            self.filters.extend(rest.map(|what| Located { what, at }));
        }
        let mut correlated = false;
        self.each_column(&mut |column| correlated |= rows.is_over(column.source.id));
        let reason = match () {
            () if pairs.is_empty() => Some(UNRELATED),
            () if correlated => Some(CORRELATED),
            () => None,
        };
        if let Some(reason) = reason {
            self.filters.clear();
            self.filters
                .push(Located { what: Node::Unfit(reason), at: self.asked_at });
        }
        pairs
    }

    fn keep_unless_pair(
        &self,
        condition: Node,
        rows: &Select,
        pairs: &mut Vec<[RawColumn; 2]>,
    ) -> Option<Node> {
        let Node::Compare(Comparison::Equal, _, sides) = &condition else { return Some(condition) };
        let [Node::Column(left), Node::Column(right)] = &**sides else { return Some(condition) };
        let (own, of_row) = match () {
            () if self.is_over(left.source.id) && rows.is_over(right.source.id) => (left, right),
            () if self.is_over(right.source.id) && rows.is_over(left.source.id) => (right, left),
            () => return Some(condition),
        };
        pairs.push([*of_row, *own]);
        None
    }
}
