//! The rows that an update or a delete changes, under the policies of the table.

use std::sync::Arc;

use smallvec::smallvec;

use super::{Part, Parts, Stamps, Step, WriteShape, found, retire};
use crate::model::{BindValue, ColumnInfo, Error, Origin, SqlType, TableInfo, ValueSource};
use crate::plan::policies::Guard;
use crate::plan::{CompileContext, Plan, Planned, Policies, Tree, required};
use crate::tree::{
    Assignment, Comparison, FromSource, Join, Located, Lock, Node, PolicyUse, RawColumn, Select,
    Source, SubqueryKind,
};

/// The rows to change: a query, and the line that asked for them.
#[derive(Debug, Clone)]
pub(crate) struct Change {
    pub(crate) select: Box<Select>,
    pub(crate) every_row: bool,
    pub(crate) at: Origin,
}

/// The known ones of the values and conditions that a run adds to an update or a delete.
#[derive(Default)]
pub(crate) struct Added {
    pub(crate) stamps: Stamps,
    /// The policies of its rows, if they are known and stand before all filters; its values have none then.
    pub(crate) policies: Option<Policies>,
}

/// A table to change: the rows under its policies, and their assignments.
#[derive(Debug)]
pub(crate) struct Target {
    select: Box<Select>,
    sets: Vec<Assignment>,
    deletes: bool,
    met: Vec<PolicyUse>,
    /// The schema of the tables that name none.
    schema: Option<Arc<str>>,
}

/// A statement of an update or a delete.
pub(crate) enum Changing {
    /// Changes the rows, and returns them if asked.
    Change { target: Target, returning: bool },
    /// Finds the rows by the values that the write reads, and locks them where the engine can.
    Find(Planned<'static>),
    /// Reads the rows as they are stored after the write.
    ReadBack(Planned<'static>),
}

const EVERY_ROW: &str =
    "a write without a condition would change every row; call `every_row()` if that is intended";
const NOT_ROWS: &str = "only rows of a table can be written, not groups, `distinct`, sets or `from(..)`; filter the \
     table with `|t| t.id.one_of(query)`";
const NO_KEY: &str = "a write whose rows are found through other tables, in an order or up to a limit needs a key, \
     and the table has none";
const WIDE_KEY: &str =
    "a write up to a limit needs a key of one column; find the rows with a filter";
const FOLLOWED: &str = "an assigned value cannot follow a parent; use a subquery, such as `Borehole::rows().filter(|b| \
     b.id.eq(s.borehole_id)).select(|b| b.depth_m).value()`";

const NOTHING_SET: &str = "the update has no assignment; pass `column.set(value)`";
const SET_TWICE: &str = "the update sets a column twice";
const CARRIED: &str = "a carried column takes its value from the handle, and cannot be set";
const VERSIONED: &str = "every update increments the version, which cannot be set";
const NO_VERSION: &str = "`expecting` needs a column marked `version`, and the table has none";

/// Returns why a program cannot set these columns, if it cannot.
pub(crate) fn refused_set(sets: &[Assignment]) -> Option<&'static str> {
    sets.iter().enumerate().find_map(|(i, set)| {
        let mut before = sets.iter().take(i);
        if before.any(|other| std::ptr::eq(other.column, set.column)) {
            return Some(SET_TWICE);
        }
        match set.column.made() {
            ValueSource::Carried(_) => Some(CARRIED),
            ValueSource::Version => Some(VERSIONED),
            ValueSource::Given | ValueSource::StampedOnInsert | ValueSource::StampedOnWrite => None,
        }
    })
}

/// Returns assignments with the policies of the tables that their subqueries read.
pub(crate) fn guarded(
    sets: &[Assignment],
    context: CompileContext<'_>,
    at: Origin,
) -> Result<Vec<Assignment>, Error> {
    let mut guard = Guard::new(context, false);
    let each = sets.iter().cloned().map(|mut set| {
        if !context.carried.required().is_empty() {
            required::check_node(&set.value, context.carried, at)?;
        }
        guard.node(&mut set.value).map_err(|err| err.asked_at(at))?;
        Ok(set)
    });
    each.collect()
}

/// Returns the plan of values that stand outside of any row: guarded assignments of new rows.
pub(crate) fn outside_rows<'a>(select: &'a Select, context: CompileContext<'a>) -> Plan<'a> {
    Plan { select, before_filters: &[], asks_others: true, schema: context.schema }
}

impl Change {
    pub(crate) fn of(select: Box<Select>, at: Origin) -> Change {
        Change { select, every_row: false, at }
    }

    /// Returns the statements of the write.
    pub(crate) fn parts(
        &self,
        table: &'static TableInfo,
        context: CompileContext<'_>,
        (shape, deletes): (WriteShape, bool),
        keyed: bool,
        children: usize,
    ) -> Result<Parts, Error> {
        let gives_back = shape == WriteShape::Rows;
        // A deleted row cannot be read afterwards, so the statement is refused there.
        let reads_after = gives_back && !deletes && !context.grammar.returns(deletes);
        if children == 0 && !reads_after && !keyed {
            return Ok(smallvec![Part::All]);
        }
        if table.key().next().is_none() {
            return Err(Error::invalid_query(NO_KEY).asked_at(self.at));
        }
        let mut parts: Parts = smallvec![Part::Keys];
        parts.extend((0..children).map(Part::Children));
        parts.push(Part::ByKeys);
        parts.extend(reads_after.then_some(Part::Stored));
        Ok(parts)
    }

    /// Returns the rows of an update and all its assignments.
    pub(crate) fn update(
        &self,
        table: &'static TableInfo,
        sets: &[Assignment],
        expected: Option<i64>,
        added: Added,
        context: CompileContext<'_>,
    ) -> Result<Target, Error> {
        let refuse = |reason: &'static str| Err(Error::invalid_query(reason).asked_at(self.at));
        if sets.is_empty() {
            return refuse(NOTHING_SET);
        }
        if let Some(reason) = refused_set(sets) {
            return refuse(reason);
        }
        let mut sets = sets.to_vec();
        let mut select = self.select.clone();
        let version = table
            .columns()
            .iter()
            .find(|column| matches!(column.made(), ValueSource::Version));
        match (expected, version) {
            (Some(expected), Some(version)) => {
                let same = found::is(select.entry(), version, BindValue::Int(expected));
                select.filters.push(Located { what: same, at: self.at });
            }
            (Some(_), None) => return refuse(NO_VERSION),
            (None, _) => {}
        }
        retire::set_audit_columns(table, select.entry(), &mut sets, &added.stamps, context);
        self.target(select, sets, added.policies, context)
    }

    /// Returns the rows of a delete. For a table that retires its rows, the retiring mark is set instead.
    pub(crate) fn delete(
        &self,
        table: &'static TableInfo,
        for_good: bool,
        added: Added,
        context: CompileContext<'_>,
    ) -> Result<Target, Error> {
        let mut select = self.select.clone();
        let mut sets = Vec::new();
        if !for_good {
            sets = retire::marks(table, &mut select, self.at, &added.stamps, context);
        }
        self.target(select, sets, added.policies, context)
    }

    /// Returns the table and the rows, under the policies of the table, which may be known.
    pub(crate) fn target(
        &self,
        mut select: Box<Select>,
        mut sets: Vec<Assignment>,
        policies: Option<Policies>,
        context: CompileContext<'_>,
    ) -> Result<Target, Error> {
        let refuse = |reason: &'static str| Err(Error::invalid_query(reason).asked_at(self.at));
        let own = &self.select;
        if !self.every_row && own.filters.is_empty() && !own.is_limited() && own.joins.is_empty() {
            return refuse(EVERY_ROW);
        }
        let entry = select.entry();
        let Some(table) = select
            .table_at(entry)
            .filter(|_| matches!(select.body, FromSource::Table))
        else {
            return refuse(NOT_ROWS);
        };
        if select.grouping.is_some() || select.lock.is_some() {
            return refuse(NOT_ROWS);
        }
        if select.rows.len() == 1 && sets.iter_mut().any(|set| select.follows_in(&mut set.value)) {
            return refuse(FOLLOWED);
        }
        if !context.carried.required().is_empty() {
            required::check_query(&select, context.carried)?;
            for set in &sets {
                required::check_node(&set.value, context.carried, self.at)?;
            }
        }
        let mut guard = Guard::new(context, context.tells);
        let mut guard_all = || {
            let guarded = match guard.select(&select)? {
                Tree::Lent(_) => None,
                Tree::Own(guarded) => Some(guarded),
            };
            for set in &mut sets {
                guard.node(&mut set.value)?;
            }
            Ok::<_, Error>(guarded)
        };
        match policies {
            Some(policies) => select.require_all(policies),
            None => {
                let guarded = guard_all().map_err(|err| err.asked_at(self.at))?;
                select = guarded.unwrap_or(select);
            }
        }
        let (met, schema) = (guard.into_met(), context.schema.cloned());
        let deletes = sets.is_empty();
        let itself = select.rows.len() == 1
            && select.source == entry.id
            && select.joins.is_empty()
            && !select.is_limited()
            && select.followed(false).is_empty();
        if itself {
            select.orders.clear();
            return Ok(Target { select, sets, deletes, met, schema });
        }
        if sets
            .iter_mut()
            .any(|set| set.value.reads_beside(entry, &select))
        {
            return self.from_joined(table, select, sets, (met, schema));
        }
        let mut outer = Box::new(Select::over(table, FromSource::Table, select.asked_at));
        let place = outer.entry();
        for set in &mut sets {
            set.value.each_column(&mut |column| {
                if column.source == entry {
                    column.source = place;
                }
            });
        }
        let keys: Vec<&'static ColumnInfo> = table.key().collect();
        let of = |source, info| Node::Column(RawColumn { source, info });
        let found = match keys.as_slice() {
            [] => return refuse(NO_KEY),
            [key] => {
                let values = smallvec::smallvec![of(entry, key)];
                select.values = Some(Located { what: values, at: self.at });
                of(place, key).in_query(select, false, false)
            }
            _ if select.is_limited() => return refuse(WIDE_KEY),
            keys => {
                for key in keys {
                    let same = Node::compare(Comparison::Equal, of(entry, key), of(place, key));
                    select.filters.push(Located { what: same, at: self.at });
                }
                Node::subquery(select, SubqueryKind::Exists)
            }
        };
        outer.filters.push(Located { what: found, at: self.at });
        Ok(Target { select: outer, sets, deletes, met, schema })
    }
}

impl Change {
    /// Returns the rows of a join with values of the joined tables: a derived table has their keys and the columns that
    /// are read beside them. Everything that reads the row itself stands outside, because PostgreSQL computes that
    /// again after it waited for another writer of the row (manual, "Read Committed Isolation Level").
    fn from_joined(
        &self,
        table: &'static TableInfo,
        mut select: Box<Select>,
        mut sets: Vec<Assignment>,
        (met, schema): (Vec<PolicyUse>, Option<Arc<str>>),
    ) -> Result<Target, Error> {
        let (at, keys) = (self.at, table.key().collect::<Vec<_>>());
        let mut outer = Box::new(Select::over(table, FromSource::Table, select.asked_at));
        let (entry, place, joined) = (select.entry(), outer.entry(), Source::fresh());
        let mut values: Vec<RawColumn> = keys
            .iter()
            .map(|info| RawColumn { source: entry, info })
            .collect();
        for set in &mut sets {
            set.value.each_column(&mut |column| {
                if column.source == entry {
                    column.source = place;
                } else if select.is_over(column.source.id) {
                    let known = values.iter().position(|value| value == column);
                    let number = known.unwrap_or_else(|| {
                        values.push(*column);
                        values.len() - 1
                    });
                    if let Some(info) = JOINED_COLUMNS.get(number) {
                        *column = RawColumn { source: joined, info };
                    }
                }
            });
        }
        let refuse = |reason: &'static str| Err(Error::invalid_query(reason).asked_at(at));
        if keys.is_empty() || values.len() > JOINED_COLUMNS.len() {
            return refuse(if keys.is_empty() { NO_KEY } else { MANY_VALUES });
        }
        for (key, info) in keys.into_iter().zip(&JOINED_COLUMNS) {
            let of = |source, info| Node::Column(RawColumn { source, info });
            let same = Node::compare(Comparison::Equal, of(place, key), of(joined, info));
            outer.filters.push(Located { what: same, at });
        }
        for filter in &select.filters {
            let mut what = filter.what.clone();
            let mut reads_itself = !what.summary().asks_others();
            what.each_column(&mut |column| {
                reads_itself &= column.source == entry;
                column.source = place;
            });
            if reads_itself {
                outer.filters.push(Located { what, at: filter.at });
            }
        }
        let values = values.into_iter().map(Node::Column).collect();
        select.values = Some(Located { what: values, at });
        outer.joins.push(Join {
            source: joined.id,
            table: &JOINED_VALUES,
            body: FromSource::Query(select),
            on: smallvec![],
            optional: false,
            full: false,
            asked_at: at,
        });
        Ok(Target { select: outer, sets, deletes: false, met, schema })
    }
}

impl Node {
    /// Returns whether it reads a table of the query other than the one that is written.
    fn reads_beside(&mut self, entry: Source, select: &Select) -> bool {
        let mut reads = false;
        self.each_column(&mut |column| {
            reads |= column.source != entry && select.is_over(column.source.id);
        });
        reads
    }
}

/// The names of the keys and values that an update takes from a join.
static JOINED_VALUES: TableInfo =
    TableInfo::new(None, "nepheline_values", ["", ""], ["", ""], &JOINED_COLUMNS);

/// Declares the columns of [`JOINED_VALUES`]. Their type is that of no text, so that none is compared by a collation.
macro_rules! joined_columns {
    ($($name:literal)*) => {
        [$(ColumnInfo::new(
            "nepheline_values",
            $name,
            [
                concat!("\"nepheline_values\".\"", $name, "\""),
                concat!("`nepheline_values`.`", $name, "`"),
            ],
            (SqlType::Boolean, true),
        )),*]
    };
}

static JOINED_COLUMNS: [ColumnInfo; 24] = joined_columns! {
    "v0" "v1" "v2" "v3" "v4" "v5" "v6" "v7" "v8" "v9" "v10" "v11"
    "v12" "v13" "v14" "v15" "v16" "v17" "v18" "v19" "v20" "v21" "v22" "v23"
};

const MANY_VALUES: &str =
    "an update that takes values from joined tables sets at most 24 columns, keys included";

impl Target {
    /// Returns a column that is assigned before a later assignment, or with `with_filters` a filter, reads
    /// it.
    pub(crate) fn read_after_set(&self, with_filters: bool) -> Option<&'static ColumnInfo> {
        let own = self.select.entry();
        let mut filters: Vec<Node> = Vec::new();
        if with_filters {
            filters.extend(self.select.filters.iter().map(|filter| filter.what.clone()));
        }
        let mut set: Vec<&'static ColumnInfo> = Vec::new();
        for Assignment { column, value } in &self.sets {
            let mut found = None;
            for mut node in filters.iter().chain([value]).cloned() {
                node.each_column(&mut |read| {
                    let before = set.iter().any(|set| std::ptr::eq(*set, read.info));
                    if before && read.source == own {
                        found = Some(read.info);
                    }
                });
            }
            if found.is_some() {
                return found;
            }
            set.push(column);
        }
        None
    }

    /// Returns the stored rows that conflict with an insert, and their assignments.
    pub(crate) fn of_stored(
        table: &'static TableInfo,
        stored: &Select,
        sets: &[Assignment],
        context: CompileContext<'_>,
        at: Origin,
    ) -> Result<Target, Error> {
        let change = Change { select: Box::new(stored.clone()), every_row: true, at };
        match sets.is_empty() {
            true => change.target(Box::new(stored.copied()), Vec::new(), None, context),
            false => change.update(table, sets, None, Added::default(), context),
        }
    }

    /// Returns what the writer reads of the rows.
    pub(crate) fn plan(&self) -> Plan<'_> {
        let schema = self.schema.as_ref();
        Plan { select: &self.select, before_filters: &[], asks_others: true, schema }
    }

    pub(crate) fn sets(&self) -> &[Assignment] {
        &self.sets
    }

    pub(crate) fn deletes(&self) -> bool {
        self.deletes
    }

    pub(crate) fn into_met(self) -> Vec<PolicyUse> {
        self.met
    }

    /// Returns one of the statements of the write.
    pub(crate) fn step(
        mut self,
        context: CompileContext<'_>,
        step: &Step<'_>,
        at: Origin,
    ) -> Result<Changing, Error> {
        let gives_back = step.shape == WriteShape::Rows;
        let keys: Vec<&'static ColumnInfo> = self.select.table.key().collect();
        let place = self.select.entry();
        match step.part {
            Part::Keys => {
                let of = |info| Node::Column(RawColumn { source: place, info });
                let values = keys.into_iter().map(of).collect();
                self.select.values = Some(Located { what: values, at });
                Ok(self.find(context))
            }
            // The policies were applied when the keys were read.
            Part::ByKeys => {
                self.only(&keys, step, at)?;
                let returns = context.grammar.returns(self.deletes);
                Ok(Changing::Change { target: self, returning: gives_back && returns })
            }
            Part::Stored => {
                self.only(&keys, step, at)?;
                Ok(Changing::ReadBack(Planned::of(self.select, self.met, context)))
            }
            _ => Ok(Changing::Change { target: self, returning: gives_back }),
        }
    }

    /// Returns the query for the rows that fulfil `there`, with whether a policy hides each.
    pub(crate) fn present(
        mut self,
        there: Node,
        context: CompileContext<'_>,
        at: Origin,
    ) -> Changing {
        let filters = self.select.filters.drain(..);
        let visible = filters.map(|filter| filter.what).reduce(Node::and);
        let visible = visible.unwrap_or_else(|| Node::Bind(BindValue::Bool(true)));
        self.select.values = Some(Located { what: smallvec![visible], at });
        self.select.filters.push(Located { what: there, at });
        self.find(context)
    }

    fn find(mut self, context: CompileContext<'_>) -> Changing {
        if context.grammar.lock(Lock::Wait).is_some() {
            self.select.lock = Some(Located { what: Lock::Wait, at: self.select.asked_at });
        }
        Changing::Find(Planned::of(self.select, self.met, context))
    }

    /// Keeps only the rows whose keys were found.
    fn only(
        &mut self,
        keys: &[&'static ColumnInfo],
        step: &Step<'_>,
        at: Origin,
    ) -> Result<(), Error> {
        let found = found::keyed(self.select.entry(), keys, step.found.unwrap_or_default())?;
        // The values of joined tables are still needed, except when the rows are only read.
        if step.part == Part::Stored {
            self.select.joins.clear();
        }
        if self.select.joins.is_empty() {
            self.select.filters.clear();
        }
        self.select.filters.push(Located { what: found, at });
        self.select.at_most_one = false;
        Ok(())
    }
}

impl Select {
    /// Returns whether a value follows a parent of these rows.
    fn follows_in(&self, value: &mut Node) -> bool {
        let mut follows = false;
        value.each_column(&mut |column| {
            let beyond = column.source.path != self.entry().path;
            follows |= beyond && self.is_over(column.source.id);
        });
        follows
    }
}
