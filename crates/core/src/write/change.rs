//! Updates and deletes: which rows, and what becomes of them.

use std::fmt;
use std::marker::PhantomData;
use std::panic::Location;

use super::assign::{Assignment, IntoAssignments};
use super::{Part, Writes};
use crate::compile::{Asking, Sql, Statement};
use crate::error::Error;
use crate::function;
use crate::origin::Origin;
use crate::policy::{Guard, PolicyUse};
use crate::query::Query;
use crate::storable::{BindValue, SqlType};
use crate::table::{ColumnInfo, Made, Table, TableInfo};
use crate::tree::{Asked, AskedOf, Body, Comparison, Node, RawColumn, Select};

/// What becomes of rows of `T`: columns are set. Made by [`Query::update`].
#[must_use = "an update does nothing until a handle writes it"]
pub struct Update<T> {
    change: Change,
    sets: Vec<Assignment>,
    expected: Option<i64>,
    rows: PhantomData<fn() -> T>,
}

/// Rows of `T` that are deleted, or where the table says so retired. Made by [`Query::delete`].
#[must_use = "a delete does nothing until a handle writes it"]
pub struct Delete<T> {
    change: Change,
    for_good: bool,
    rows: PhantomData<fn() -> T>,
}

/// Which rows are changed, and by which line.
#[derive(Debug, Clone)]
struct Change {
    select: Box<Select>,
    every_row: bool,
    at: Origin,
}

/// A table to change, with the rows that are meant, and what they are set to.
#[derive(Debug)]
pub(crate) struct Target {
    pub(crate) select: Select,
    pub(crate) sets: Vec<Assignment>,
    pub(crate) deletes: bool,
    pub(crate) met: Vec<PolicyUse>,
}

impl<T: Table> Query<T> {
    /// Sets columns of these rows. Filters, policies and the rest of the query say which they are.
    ///
    /// # Errors
    ///
    /// When compiled, [`UnfitParts`](crate::ErrorKind::UnfitParts) for a query without any condition, unless
    /// [`every_row`](Update::every_row) is said; for nothing to set; for a column that the database or the
    /// handle sets; and for groups, sets and the like, which are no rows of a table.
    #[track_caller]
    pub fn update<A: IntoAssignments>(self, sets: impl FnOnce(T::Columns) -> A) -> Update<T> {
        let mut assignments = Vec::new();
        sets(self.columns()).each(&mut |assignment| assignments.push(assignment));
        Update {
            change: Change::of(self.into_select()),
            sets: assignments,
            expected: None,
            rows: PhantomData,
        }
    }

    /// Deletes these rows; where the table is declared to `retire` them, marks them as withdrawn with the
    /// time of the handle's clock. Rows that have the mark are left as they are.
    ///
    /// # Errors
    ///
    /// As [`update`](Self::update).
    #[track_caller]
    pub fn delete(self) -> Delete<T> {
        Delete { change: Change::of(self.into_select()), for_good: false, rows: PhantomData }
    }

    /// Deletes these rows, also of a table that retires them otherwise.
    ///
    /// # Errors
    ///
    /// As [`update`](Self::update).
    #[track_caller]
    pub fn delete_for_good(self) -> Delete<T> {
        Delete { change: Change::of(self.into_select()), for_good: true, rows: PhantomData }
    }
}

impl<T: Table> Update<T> {
    /// Says that every row is meant, where the query has no condition.
    pub fn every_row(mut self) -> Update<T> {
        self.change.every_row = true;
        self
    }

    /// Only if the row still has this version in its `version` column: if somebody else has written it
    /// since, that is an error of the kind [`StaleVersion`](crate::ErrorKind::StaleVersion).
    pub fn expecting(mut self, version: i64) -> Update<T> {
        self.expected = Some(version);
        self
    }

    fn target(&self, asking: Asking<'_>) -> Result<Target, Error> {
        let refuse =
            |reason: &'static str| Err(Error::unfit_parts(reason).asked_at(self.change.at));
        if self.sets.is_empty() {
            return refuse(NOTHING_SET);
        }
        let mut sets = self.sets.clone();
        for (i, set) in sets.iter().enumerate() {
            if sets
                .iter()
                .take(i)
                .any(|other| std::ptr::eq(other.column, set.column))
            {
                return refuse(SET_TWICE);
            }
            match set.column.made() {
                Made::Filled(_) => return refuse(FILLED),
                Made::Version => return refuse(VERSIONED),
                Made::Given | Made::StampedOnInsert | Made::StampedOnWrite => {}
            }
        }
        let mut select = self.change.select.copied_with(&mut sets);
        let entry = select.entry();
        let version = T::INFO
            .columns()
            .iter()
            .find(|column| matches!(column.made(), Made::Version));
        if let Some(version) = version {
            let old = Node::Column(RawColumn { source: entry, info: version });
            if let Some(expected) = self.expected {
                let same = Node::compare(
                    Comparison::Equal,
                    old.clone(),
                    Node::Bind(BindValue::Int(expected)),
                );
                select
                    .filters
                    .push(Asked { what: same, at: self.change.at });
            }
            let next = Node::call(&function::ADD, SqlType::BigInt, [old, Node::number(1)]);
            sets.push(Assignment { column: version, value: next });
        } else if self.expected.is_some() {
            return refuse(NO_VERSION);
        }
        for column in T::INFO.columns() {
            let stamped = matches!(column.made(), Made::StampedOnWrite);
            if stamped && !sets.iter().any(|set| std::ptr::eq(set.column, column)) {
                sets.push(Assignment { column, value: Node::Bind(column.mark_of(asking)) });
            }
        }
        self.change.target(select, sets, asking)
    }
}

impl<T: Table> Delete<T> {
    /// Says that every row is meant, where the query has no condition.
    pub fn every_row(mut self) -> Delete<T> {
        self.change.every_row = true;
        self
    }

    fn target(&self, asking: Asking<'_>) -> Result<Target, Error> {
        let mut select = self.change.select.copied();
        let Some(mark) = T::INFO.retire().filter(|_| !self.for_good) else {
            return self.change.target(select, Vec::new(), asking);
        };
        let marked = Node::Column(RawColumn { source: select.entry(), info: mark });
        select
            .filters
            .push(Asked { what: marked.is_null(), at: self.change.at });
        let sets = vec![Assignment { column: mark, value: Node::Bind(mark.mark_of(asking)) }];
        self.change.target(select, sets, asking)
    }
}

const NOTHING_SET: &str = "an update sets nothing; give it a column that is set";
const SET_TWICE: &str = "an update sets one column twice";
const FILLED: &str =
    "a column that is filled from what the handle carries cannot be set to another value";
const VERSIONED: &str = "the version of a row is counted by its updates, and cannot be set";
const NO_VERSION: &str =
    "a version is expected, and the table has no column that is marked `version`";
const EVERY_ROW: &str =
    "a write without any condition is of every row; if that is meant, say `every_row()`";
const NOT_ROWS: &str = "only rows of a table can be written: not groups, distinct rows, sets, or those of \
     another query; find them by `filter(|t| t.id.one_of(query))`";
const NO_KEY: &str = "rows that are found by other tables, in an order or up to a limit are written by their \
     key, and the table has none";
const WIDE_KEY: &str = "rows with a key of several columns cannot be written up to a limit; find them by a \
     filter";
const FOLLOWED: &str = "what a column is set to cannot follow a parent; ask it by a query, such as \
     `Borehole::rows().filter(|b| b.id.eq(s.borehole_id)).select(|b| b.depth_m).value()`";

impl Change {
    #[track_caller]
    fn of(select: Box<Select>) -> Change {
        Change { select, every_row: false, at: Origin::of(Location::caller()) }
    }

    /// The table and the rows, with the policies that hold for them.
    fn target(
        &self,
        mut select: Select,
        mut sets: Vec<Assignment>,
        asking: Asking<'_>,
    ) -> Result<Target, Error> {
        let refuse = |reason: &'static str| Err(Error::unfit_parts(reason).asked_at(self.at));
        let own = &self.select;
        if !self.every_row && own.filters.is_empty() && !own.is_limited() && own.joins.is_empty() {
            return refuse(EVERY_ROW);
        }
        let entry = select.entry();
        let Some(table) = select
            .table_at(entry)
            .filter(|_| matches!(select.body, Body::Table))
        else {
            return refuse(NOT_ROWS);
        };
        if select.special.is_some() || select.lock.is_some() {
            return refuse(NOT_ROWS);
        }
        if sets.iter_mut().any(|set| select.follows_in(&mut set.value)) {
            return refuse(FOLLOWED);
        }
        let mut guard = Guard::new(asking.carried);
        let mut guarded = guard.select(&mut select);
        for set in &mut sets {
            guarded = guarded.and_then(|()| guard.node(&mut set.value));
        }
        guarded.map_err(|err| err.asked_at(self.at))?;
        let met = guard.into_met();
        let deletes = sets.is_empty();
        let itself = select.rows.len() == 1
            && select.source == entry.id
            && select.joins.is_empty()
            && !select.is_limited()
            && select.followed(false).is_empty();
        if itself {
            select.orders.clear();
            return Ok(Target { select, sets, deletes, met });
        }
        let mut outer = Select::over(table, Body::Table, select.asked_at);
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
                select.values = Some(Asked { what: values, at: self.at });
                of(place, key).in_query(Box::new(select), false, false)
            }
            _ if select.is_limited() => return refuse(WIDE_KEY),
            keys => {
                for key in keys {
                    let same = Node::compare(Comparison::Equal, of(entry, key), of(place, key));
                    select.filters.push(Asked { what: same, at: self.at });
                }
                Node::subquery(Box::new(select), AskedOf::Exists)
            }
        };
        outer.filters.push(Asked { what: found, at: self.at });
        Ok(Target { select: outer, sets, deletes, met })
    }
}

impl Target {
    /// A column that is set before something reads it: the value of another, or the filters if each value
    /// asks them.
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

    /// Stored rows that an insert comes across.
    pub(super) fn of_stored<T: Table>(
        stored: &Select,
        sets: &[Assignment],
        asking: Asking<'_>,
        at: Origin,
    ) -> Result<Target, Error> {
        let change = Change { select: Box::new(stored.clone()), every_row: true, at };
        let update = Update::<T> { change, sets: sets.to_vec(), expected: None, rows: PhantomData };
        update.target(asking)
    }
}

impl Select {
    /// A copy told apart from this query, and these values with it.
    fn copied_with(&self, sets: &mut [Assignment]) -> Select {
        let mut whole = self.clone();
        let before = whole.keys.len();
        whole.keys.extend(sets.iter().map(|set| set.value.clone()));
        let mut copy = whole.copied();
        for (set, value) in sets.iter_mut().zip(copy.keys.drain(before..)) {
            set.value = value;
        }
        copy
    }

    /// Whether a value follows a parent of these rows.
    fn follows_in(&self, value: &mut Node) -> bool {
        let mut follows = false;
        value.each_column(&mut |column| {
            let beyond = column.source.path != self.entry().path;
            follows |= beyond && self.is_over(column.source.id);
        });
        follows
    }
}

impl ColumnInfo {
    /// What marks a row in it now: a point in time, a day, or TRUE.
    pub(crate) fn mark_of(&self, asking: Asking<'_>) -> BindValue {
        let now = asking.now();
        let at = || now.to_zoned(jiff::tz::TimeZone::UTC).datetime();
        match self.sql_type() {
            SqlType::Boolean => BindValue::Bool(true),
            SqlType::Date => BindValue::Date(at().date()),
            SqlType::DateTime => BindValue::DateTime(at()),
            _ => BindValue::Timestamp(now),
        }
    }
}

impl TableInfo {
    /// The column that marks rows as withdrawn, if they are not deleted.
    fn retire(&self) -> Option<&'static ColumnInfo> {
        self.columns().iter().find(|column| column.retires())
    }
}

impl<T: Table> Writes for Update<T> {
    type Row = T;

    fn statement(
        &self,
        asking: Asking<'_>,
        _: Part,
        returning: bool,
    ) -> Result<Statement<'_>, Error> {
        Statement::to_change(&self.target(asking)?, asking, returning)
    }

    fn expects_a_version(&self) -> bool {
        self.expected.is_some()
    }

    fn shown(&self, asking: Asking<'_>) -> Result<Sql, Error> {
        Statement::to_show_change(&self.target(asking)?, asking)
    }

    fn origin(&self) -> Origin {
        self.change.at
    }

    fn table_name(&self) -> &'static str {
        T::INFO.name()
    }
}

impl<T: Table> Writes for Delete<T> {
    type Row = T;

    fn statement(
        &self,
        asking: Asking<'_>,
        _: Part,
        returning: bool,
    ) -> Result<Statement<'_>, Error> {
        Statement::to_change(&self.target(asking)?, asking, returning)
    }

    fn shown(&self, asking: Asking<'_>) -> Result<Sql, Error> {
        Statement::to_show_change(&self.target(asking)?, asking)
    }

    fn origin(&self) -> Origin {
        self.change.at
    }

    fn table_name(&self) -> &'static str {
        T::INFO.name()
    }
}

// By hand, because the derives would ask for `T: Clone` and `T: Debug`.
impl<T> Clone for Update<T> {
    fn clone(&self) -> Self {
        let Update { change, sets, expected, .. } = self;
        Update {
            change: change.clone(),
            sets: sets.clone(),
            expected: *expected,
            rows: PhantomData,
        }
    }
}

impl<T> fmt::Debug for Update<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Update")
            .field("change", &self.change)
            .field("sets", &self.sets)
            .finish()
    }
}

impl<T> Clone for Delete<T> {
    fn clone(&self) -> Self {
        Delete { change: self.change.clone(), for_good: self.for_good, rows: PhantomData }
    }
}

impl<T> fmt::Debug for Delete<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut shown = f.debug_struct("Delete");
        shown
            .field("change", &self.change)
            .field("for_good", &self.for_good)
            .finish()
    }
}
