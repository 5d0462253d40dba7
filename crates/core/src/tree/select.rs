//! A query in the tree: its clauses, each with the line that asked for it.

use crate::model::{BindValue, ColumnInfo, Origin, SqlType, TableInfo};
use crate::tree::{Path, Source, SourceId, Waived};
use std::fmt;
use std::sync::Arc;

use smallvec::SmallVec;

use super::{Comparison, Node, NodeSummary, RawColumn, SubqueryKind, together};

/// An expression that rows are ordered by.
#[derive(Debug, Clone, PartialEq)]
pub struct OrderTerm {
    pub(crate) by: Node,
    pub(crate) nullable: bool,
    pub(crate) descending: bool,
    pub(crate) nulls_first: bool,
    /// True for a key that only makes the order complete: it sorts as the engine's index does.
    pub(crate) as_stored: bool,
    /// True if it names a selected value, which is not written a second time.
    pub(crate) selected: bool,
}

/// A relation in origins: the table that declares it, and its name.
pub(crate) type RelationName = [&'static str; 2];

/// A clause, and the line of the program that asked for it.
#[derive(Debug, Clone)]
pub(crate) struct Located<T> {
    pub(crate) what: T,
    pub(crate) at: Origin,
}

/// A query.
#[derive(Debug, Clone)]
pub struct Select {
    pub(crate) source: SourceId,
    pub(crate) table: &'static TableInfo,
    /// The rows that it is over, if they are not those of a table.
    pub(crate) body: FromSource,
    /// The tables whose rows are read: first the table it is over or a parent followed from it, then the
    /// joined ones.
    pub(crate) rows: SmallVec<[Source; 2]>,
    pub(crate) joins: Vec<Join>,
    pub(crate) asked_at: Origin,
    /// The selected values, if they are not all columns of the table.
    pub(crate) values: Option<Located<SmallVec<[Node; 1]>>>,
    /// The struct that each row is read into, if its fields name the selected values.
    pub(crate) named: Option<&'static TableInfo>,
    /// True if the first filter compares the key or a unique column, so that at most one row matches.
    pub(crate) at_most_one: bool,
    // Inline capacity for what most queries have, which saves an allocation.
    pub(crate) filters: SmallVec<[Located<Node>; 4]>,
    pub(crate) orders: SmallVec<[Located<OrderTerm>; 2]>,
    pub(crate) limit: Option<Located<BindValue>>,
    pub(crate) offset: Option<Located<BindValue>>,
    /// The additional columns that are read with each row: the keys that connect companions, or those of a
    /// cursor.
    pub(crate) keys: Vec<Node>,
    /// The less common clauses, if there are any.
    pub(crate) grouping: Option<Box<GroupingClauses>>,
    pub(crate) lock: Option<Located<Lock>>,
    /// True if it is planned for its values each time it runs.
    pub(crate) custom_plan: bool,
    /// The relation that the query began with.
    pub(crate) relation: Option<RelationName>,
    /// The policies that it waives.
    pub(crate) waived: Option<Box<Waived>>,
    /// The parents that are read alongside, which must exist.
    pub(crate) beside: Vec<Source>,
    /// The derived tables that replace parents of which not all rows are visible.
    pub(crate) parents: Vec<(Source, FromSource)>,
    /// True if it stands in an EXISTS between two relations, and each row beyond it belongs to at most one of its rows.
    pub(crate) between: bool,
}

/// The rows that a query is over, in place of a table.
#[derive(Debug, Clone, Default)]
pub(crate) enum FromSource {
    #[default]
    Table,
    Query(Box<Select>),
    /// A common table expression, which is written once and used in several places.
    Cte(Arc<CteQuery>),
    Sets(Box<Sets>),
    Recursion(Box<Recursion>),
    /// The rows of the previous round, inside a recursion.
    RecursiveReference,
    /// Hand-written text of a whole statement.
    Text(Box<Node>),
    /// A function of the database that returns rows. Its arguments may be columns of tables before it.
    Function(Box<Node>),
}

/// A common table expression.
#[derive(Debug, Clone)]
pub(crate) struct CteQuery {
    /// Identifies the expression, also in its copies.
    pub(crate) id: SourceId,
    pub(crate) select: Select,
    /// The struct that its rows are read into.
    pub(crate) fields: &'static TableInfo,
    /// Its name in the SQL, if the program gives one.
    pub(crate) name: Option<Arc<str>>,
}

/// A recursive common table expression: the rows to start with, and the step that finds further rows from
/// those of the previous round.
#[derive(Debug, Clone)]
pub(crate) struct Recursion {
    pub(crate) start: Select,
    pub(crate) step: Select,
}

/// The number of the round that found a row, beside the fields of its struct.
pub(crate) static ROUND: ColumnInfo = ColumnInfo::new(
    "nepheline_rows",
    "nepheline_round",
    [r#""nepheline_rows"."nepheline_round""#, "`nepheline_rows`.`nepheline_round`"],
    (SqlType::Integer, false),
);

/// A row lock, held until the transaction ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lock {
    /// Waits for a transaction that holds the row.
    Wait,
    /// Skips rows that are locked by others.
    Skip,
    /// Fails at once if a row is locked by others.
    NoWait,
    /// Waits, and lets others lock the row in the same way but not change it.
    Share,
}

/// A set operation over several queries, from left to right.
#[derive(Debug, Clone)]
pub(crate) struct Sets {
    pub(crate) first: Select,
    pub(crate) others: Vec<(SetOperator, Select)>,
}

/// The operator between two queries of a set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SetOperator {
    /// UNION.
    Union,
    /// UNION ALL.
    UnionAll,
    /// INTERSECT.
    Intersect,
    /// EXCEPT.
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
            JoinKind::Right => "RIGHT",
            JoinKind::Full => "FULL",
            JoinKind::Cross => "CROSS",
        })
    }
}

impl FromSource {
    /// Returns whether its rows are rows of the table, so that its policies apply to them.
    pub(crate) fn has_rows_of_table(&self) -> bool {
        matches!(self, FromSource::Table | FromSource::Function(_))
    }

    /// Returns whether it is a function with an argument that follows a parent.
    pub(crate) fn calls_of_parents(&self) -> bool {
        matches!(self, FromSource::Function(call) if call.summary().follows())
    }

    /// Returns the depth of the queries nested in it.
    pub(crate) fn depth(&self) -> usize {
        match self {
            FromSource::Table
            | FromSource::RecursiveReference
            | FromSource::Text(_)
            | FromSource::Function(_) => 0,
            FromSource::Recursion(recursion) => {
                1 + recursion.start.depth().max(recursion.step.depth())
            }
            FromSource::Query(select) => 1 + select.depth(),
            FromSource::Cte(named) => 1 + named.select.depth(),
            FromSource::Sets(sets) => {
                let others = sets.others.iter().map(|(_, select)| select.depth());
                1 + others.fold(sets.first.depth(), usize::max)
            }
        }
    }
}

/// GROUP BY and its relatives: the clauses that few queries have.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct GroupingClauses {
    /// True if the query groups its rows.
    pub(crate) grouped: bool,
    /// The group keys that are not selected.
    pub(crate) group_keys: Vec<Located<Node>>,
    /// The conditions of HAVING.
    pub(crate) having: Vec<Located<Node>>,
    /// The line that asked for DISTINCT, if there is one.
    pub(crate) distinct: Option<Origin>,
    /// The limit of rows for each value of an expression, if there is one.
    pub(crate) of_each: Option<TopPerGroup>,
}

/// A limit of rows for each value of some expressions, in the order of the query.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct TopPerGroup {
    pub(crate) alike_in: Vec<Node>,
    pub(crate) limit: Option<BindValue>,
    pub(crate) offset: Option<BindValue>,
    /// True if only the order within each group matters.
    pub(crate) order_apart: bool,
    pub(crate) asked_at: Origin,
}

impl GroupingClauses {
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

/// The kind of a join.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum JoinKind {
    /// INNER JOIN.
    Inner,
    /// LEFT JOIN.
    Left,
    /// RIGHT JOIN.
    Right,
    /// FULL JOIN.
    Full,
    /// CROSS JOIN.
    Cross,
}

/// A joined table.
#[derive(Debug, Clone)]
pub(crate) struct Join {
    pub(crate) source: SourceId,
    pub(crate) table: &'static TableInfo,
    pub(crate) body: FromSource,
    /// The conditions of ON; empty for all combinations.
    pub(crate) on: SmallVec<[Located<Node>; 4]>,
    /// True if rows without a match are kept.
    pub(crate) optional: bool,
    /// True if its own rows without a match are kept too.
    pub(crate) full: bool,
    pub(crate) asked_at: Origin,
}

/// Equal queries have the same text and the same binds. The numbers of their sources may differ.
impl PartialEq for Select {
    fn eq(&self, other: &Select) -> bool {
        if std::ptr::eq(self, other) {
            return true;
        }
        if !std::ptr::eq(self.table, other.table) || self.joins.len() != other.joins.len() {
            return false;
        }
        let own = self.joins.iter().map(|join| join.source);
        let mut own = own.chain([self.source]);
        let other = other.renumbered(|| own.next().unwrap_or(self.source));
        let joins = self.joins.iter().zip(&other.joins);
        let is_common = |select: &Select| {
            select.lock.is_none() && select.waived.is_none() && select.beside.is_empty()
        };
        is_common(self)
            && is_common(&other)
            && self.body == other.body
            && self.rows == other.rows
            && joins.into_iter().all(|(join, other)| join.is_same(other))
            && self.values == other.values
            && self.filters == other.filters
            && self.orders == other.orders
            && (&self.limit, &self.offset) == (&other.limit, &other.offset)
            && self.keys == other.keys
            && self.grouping == other.grouping
            && self.parents == other.parents
    }
}

/// Equal clauses say the same, whichever lines asked for them.
impl<T: PartialEq> PartialEq for Located<T> {
    fn eq(&self, other: &Located<T>) -> bool {
        self.what == other.what
    }
}

/// Only what a query can hold inside an expression is compared; anything else differs.
impl PartialEq for FromSource {
    fn eq(&self, other: &FromSource) -> bool {
        match (self, other) {
            (FromSource::Table, FromSource::Table) => true,
            (FromSource::Query(select), FromSource::Query(other)) => select == other,
            (FromSource::Cte(cte), FromSource::Cte(other)) => cte.id == other.id,
            (FromSource::Function(call), FromSource::Function(other)) => call == other,
            _ => false,
        }
    }
}

/// Returns how many of `rows` a limit leaves after the first `after` rows.
pub(crate) fn rows_left(limit: i64, after: i64, rows: i64) -> i64 {
    rows.min(limit.saturating_sub(after).max(0))
}

impl Join {
    fn is_same(&self, other: &Join) -> bool {
        std::ptr::eq(self.table, other.table)
            && (self.optional, self.full) == (other.optional, other.full)
            && (&self.body, &self.on) == (&other.body, &other.on)
    }
}

impl Select {
    /// Returns the query for all rows of a table, or of what replaces it.
    pub(crate) fn over(table: &'static TableInfo, body: FromSource, asked_at: Origin) -> Select {
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
            grouping: None,
            lock: None,
            custom_plan: false,
            relation: None,
            waived: None,
            beside: Vec::new(),
            parents: Vec::new(),
            between: false,
        }
    }

    /// Returns the source of the first table whose rows are read.
    pub(crate) fn entry(&self) -> Source {
        let here = Source { id: self.source, path: Path::HERE };
        self.rows.first().copied().unwrap_or(here)
    }

    /// Returns the table of a source: one that the query is over, or a parent followed from it.
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

    /// Returns the columns of the tables whose rows are read.
    pub(crate) fn row_columns(&self) -> impl Iterator<Item = Node> {
        let tables = self
            .rows
            .iter()
            .filter_map(|source| Some((*source, self.table_at(*source)?)));
        tables.flat_map(|(source, table)| {
            let columns = table.columns().iter();
            columns.map(move |info| Node::Column(RawColumn { source, info }))
        })
    }

    /// Returns whether its rows are those of a function.
    pub(crate) fn is_called(&self) -> bool {
        matches!(self.body, FromSource::Function(_))
    }

    /// Returns whether some of its rows are computed by another query, whose text may have collations of its own.
    pub(crate) fn is_over_computed_rows(&self) -> bool {
        let bodies = self.joins.iter().map(|join| &join.body);
        let mut bodies = std::iter::once(&self.body).chain(bodies);
        bodies.any(|body| !matches!(body, FromSource::Table))
    }

    pub(crate) fn is_over(&self, source: SourceId) -> bool {
        self.source == source || self.joins.iter().any(|join| join.source == source)
    }

    /// Returns whether its filters compare the whole key of a row with columns of another table, so that each row there
    /// belongs to at most one row of this query.
    pub(crate) fn is_found_by_key(&self, other: Source) -> bool {
        let terms = self.filters.iter().flat_map(|filter| match &filter.what {
            Node::All(_, terms) => terms.as_slice(),
            one => std::slice::from_ref(one),
        });
        let (entry, mut compared) = (self.entry(), SmallVec::<[&ColumnInfo; 2]>::new());
        for term in terms {
            let Node::Compare(Comparison::Equal | Comparison::Same, _, sides) = term else {
                continue;
            };
            let [Node::Column(one), Node::Column(two)] = &**sides else { continue };
            for (own, of_other) in [(one, two), (two, one)] {
                if own.source == entry && of_other.source == other {
                    compared.push(own.info);
                }
            }
        }
        let is_compared = |key: &ColumnInfo| compared.iter().any(|info| std::ptr::eq(*info, key));
        let mut keys = self.table.key().peekable();
        keys.peek().is_some() && keys.all(is_compared)
    }

    /// Replaces the EXISTS of a relation between by a join: some engines run the EXISTS for every row of the table.
    pub(super) fn join_between(&mut self) {
        if self.rows.len() != 1 || self.lock.is_some() || self.waived.is_some() {
            return;
        }
        let is_between = |filter: &Located<Node>| match &filter.what {
            Node::Subquery(_, subquery) => {
                subquery.asked == SubqueryKind::Exists && subquery.select.between
            }
            _ => false,
        };
        while let Some(place) = self.filters.iter().position(is_between) {
            let Node::Subquery(_, subquery) = self.filters.remove(place).what else { return };
            let between = *subquery.select;
            self.joins.push(Join {
                source: between.source,
                table: between.table,
                body: between.body,
                on: between.filters,
                optional: false,
                full: false,
                asked_at: between.asked_at,
            });
            self.joins.extend(between.joins);
        }
    }

    /// Returns the join that keeps the unmatched rows of both sides, if there is one. It is the first join.
    pub(crate) fn full_join(&self) -> Option<&Join> {
        self.joins.first().filter(|join| join.full)
    }

    /// Returns whether the row of a table may be missing, as its references and joins say.
    pub(crate) fn may_be_missing(&self, source: Source) -> bool {
        match source.path.last() {
            Some((before, step)) => {
                let before = Source { path: before, ..source };
                let references = self.table_at(before).map(TableInfo::references);
                let reference = references.and_then(|references| references.get(step));
                reference.is_some_and(|reference| reference.is_optional())
                    || self.may_be_missing(before)
            }
            None => {
                let mut joins = self.joins.iter();
                joins.any(|join| join.source == source.id && join.optional)
                    || (self.source == source.id && self.full_join().is_some())
            }
        }
    }

    /// Returns whether the row of a source must exist, because a clause names it by `required`.
    pub(crate) fn requires_row(&self, source: Source) -> bool {
        let mut rows = self.rows.iter().chain(&self.beside);
        rows.any(|row| row.requires(source))
            || self.any_node(|node| {
                let mut requires = false;
                node.visit_followed(&mut |followed| requires |= followed.requires(source));
                requires
            })
    }

    fn depth(&self) -> usize {
        let joined = self.joins.iter().map(|join| join.body.depth());
        joined.fold(self.body.depth(), usize::max)
    }

    pub(crate) fn grouping_mut(&mut self) -> &mut GroupingClauses {
        self.grouping.get_or_insert_default()
    }

    pub(crate) fn is_grouped(&self) -> bool {
        self.grouping
            .as_ref()
            .is_some_and(|grouping| grouping.grouped)
    }

    /// Returns whether all rows form one group, so that there is one result row.
    pub(crate) fn is_one_group(&self) -> bool {
        let Some(grouping) = self.grouping.as_ref().filter(|grouping| grouping.grouped) else {
            return false;
        };
        let mut values = self.values.iter().flat_map(|values| &values.what);
        grouping.group_keys.is_empty() && !values.any(Node::holds_keys)
    }

    /// Returns whether it reads all columns of a table's rows, with filters and nothing else.
    pub(crate) fn is_plain(&self) -> bool {
        matches!(self.body, FromSource::Table)
            && self.rows.len() == 1
            && self.values.is_none()
            && self.joins.is_empty()
            && self.orders.is_empty()
            && self.keys.is_empty()
            && !self.is_more_than_rows()
            && self.lock.is_none()
            && !self.custom_plan
            && self.waived.is_none()
            && self.beside.is_empty()
            && self.parents.is_empty()
    }

    /// Returns whether there is more to it than rows, filters and orders.
    pub(super) fn is_more_than_rows(&self) -> bool {
        self.is_limited() || self.grouping.is_some()
    }

    pub(crate) fn is_limited(&self) -> bool {
        self.limit.is_some() || self.offset.is_some()
    }

    /// Returns the parents that are followed from its table: each path once, after its prefixes, with the
    /// line that first asked for it. Without `in_rows`, only clauses that decide the set of rows are
    /// considered.
    pub(crate) fn followed(&self, in_rows: bool) -> Vec<Located<Source>> {
        let mut followed: Vec<Located<Source>> = Vec::new();
        let mut add = |source: Source, at: Origin| {
            let mut steps = SmallVec::<[Path; 8]>::new();
            let mut end = source.path;
            while let Some((before, _)) = end.last() {
                steps.push(end);
                end = before;
            }
            for path in steps.into_iter().rev() {
                let step = Source { path, ..source };
                match followed.iter_mut().find(|known| known.what == step) {
                    Some(known) => known.what.id = known.what.id.marked_as(step.id),
                    None => followed.push(Located { what: step, at }),
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
        // The selected values of a grouped or distinct query decide its set of rows.
        let in_rows = in_rows || self.grouping.is_some();
        let grouping = self.grouping.iter().flat_map(|grouping| grouping.nodes());
        let keys = self.keys.iter().map(|key| (key, self.asked_at));
        let of_set = filters
            .chain(joins)
            .chain(grouping)
            .map(|asked| (asked, true));
        let of_rows = values
            .chain(orders)
            .chain(keys)
            .map(|asked| (asked, in_rows));
        for ((node, at), counts) in of_set.chain(of_rows) {
            node.visit_followed(&mut |source| {
                // A required row decides the set of rows wherever it is named.
                if (counts || source.is_marked()) && self.is_over(source.id) {
                    add(source, at);
                }
            });
        }
        // A joined table decides the set of rows, whether or not it is read.
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

    /// Copies the query with new source numbers, so that the copy can stand inside the original and each
    /// keeps its own columns.
    pub(crate) fn copied(&self) -> Select {
        self.renumbered(SourceId::fresh)
    }

    /// Copies the query of one table, whose source number becomes that of nowhere.
    pub(crate) fn copied_nowhere(&self) -> Select {
        self.renumbered(|| Source::NOWHERE.id)
    }

    /// Copies the query with these source numbers: those of its joins in order, then its own.
    fn renumbered(&self, mut number: impl FnMut() -> SourceId) -> Select {
        let mut copy = self.clone();
        let mut renumbered = SmallVec::<[(SourceId, SourceId); 2]>::new();
        let joins = copy.joins.iter_mut().map(|join| &mut join.source);
        for source in joins.chain([&mut copy.source]) {
            let fresh = number();
            renumbered.push((*source, fresh));
            *source = fresh;
        }
        let renumber = |source: &mut Source| {
            if let Some((_, fresh)) = renumbered.iter().find(|(old, _)| *old == source.id) {
                source.id = fresh.marked_as(source.id);
            }
        };
        copy.rows.iter_mut().for_each(renumber);
        copy.beside.iter_mut().for_each(renumber);
        let parents = copy.parents.iter_mut().map(|(source, _)| source);
        parents.for_each(renumber);
        let waived = copy.waived.iter_mut().flat_map(|waived| &mut waived.here);
        waived.for_each(|(source, _)| renumber(source));
        copy.each_column(&mut |column| renumber(&mut column.source));
        copy
    }

    pub(crate) fn each_column(&mut self, change: &mut dyn FnMut(&mut RawColumn)) {
        for node in self.nodes_mut() {
            node.each_column(change);
        }
        let joined = self.joins.iter_mut().map(|join| &mut join.body);
        for body in joined.chain([&mut self.body]) {
            if let FromSource::Function(call) = body {
                call.each_column(change);
            }
        }
    }

    pub(crate) fn nodes_mut(&mut self) -> impl Iterator<Item = &mut Node> {
        let values = self.values.iter_mut().flat_map(|values| &mut values.what);
        let filters = self.filters.iter_mut().map(|filter| &mut filter.what);
        let orders = self.orders.iter_mut().map(|order| &mut order.what.by);
        let joins = self.joins.iter_mut().flat_map(|join| &mut join.on);
        let joins = joins.map(|on| &mut on.what);
        let grouping = self
            .grouping
            .iter_mut()
            .flat_map(|grouping| grouping.nodes_mut());
        let nodes = values.chain(filters).chain(orders).chain(joins);
        nodes.chain(grouping).chain(&mut self.keys)
    }

    /// Returns whether it contains a column of a parent.
    pub(crate) fn follows(&self) -> bool {
        self.any_node(|node| node.summary().follows())
    }

    /// Returns whether it contains a subquery, not counting derived tables.
    pub(crate) fn holds_queries(&self) -> bool {
        self.any_node(|node| node.summary().queries())
    }

    /// Returns whether one of its nodes fulfils `holds`, in the order of [`nodes`](Self::nodes). It uses
    /// plain loops, because it runs for every query.
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
                .grouping
                .as_ref()
                .is_some_and(|grouping| grouping.nodes().any(|(node, _)| holds(node)))
            || self.keys.iter().any(&mut holds)
    }

    pub(crate) fn summary(&self) -> NodeSummary {
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
        let grouping = self.grouping.iter().flat_map(|grouping| grouping.nodes());
        let grouping = grouping.map(|(node, _)| node);
        let nodes = values.chain(filters).chain(orders).chain(joins);
        nodes.chain(grouping).chain(&self.keys)
    }
}
