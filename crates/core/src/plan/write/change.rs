//! Which rows a write changes, and how these are found: by its conditions, under the policies that hold.

use smallvec::smallvec;

use super::{Part, Parts, Step, WantedBack, found, retire};
use crate::model::{BindValue, ColumnInfo, Error, Made, Origin, TableInfo};
use crate::plan::policies::Guard;
use crate::plan::{Asking, Plan, Planned, Tree};
use crate::tree::{
    Asked, AskedOf, Assignment, Body, Comparison, Lock, Node, PolicyUse, RawColumn, Select,
};

/// Which rows are changed, and by which line.
#[derive(Debug, Clone)]
pub(crate) struct Change {
    pub(crate) select: Box<Select>,
    pub(crate) every_row: bool,
    pub(crate) at: Origin,
}

/// A table to change, with the rows that are meant under its policies, and what they are set to.
#[derive(Debug)]
pub(crate) struct Target {
    select: Box<Select>,
    sets: Vec<Assignment>,
    deletes: bool,
    met: Vec<PolicyUse>,
}

/// A statement of a write that changes rows.
pub(crate) enum Changing {
    /// It changes them, and gives them back if that is wanted.
    Change { target: Target, returning: bool },
    /// It finds them again by the values that it reads, and locks them where rows can be locked.
    Find(Planned<'static>),
    /// It reads them as they are stored now.
    ReadBack(Planned<'static>),
}

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

const NOTHING_SET: &str = "an update sets nothing; give it a column that is set";
const SET_TWICE: &str = "an update sets one column twice";
const FILLED: &str =
    "a column that is filled from what the handle carries cannot be set to another value";
const VERSIONED: &str = "the version of a row is counted by its updates, and cannot be set";
const NO_VERSION: &str =
    "a version is expected, and the table has no column that is marked `version`";

impl Change {
    pub(crate) fn of(select: Box<Select>, at: Origin) -> Change {
        Change { select, every_row: false, at }
    }

    /// The statements that it takes.
    pub(crate) fn parts(
        &self,
        table: &'static TableInfo,
        asking: Asking<'_>,
        wanted: WantedBack,
        deletes: bool,
        children: usize,
    ) -> Result<Parts, Error> {
        let gives_back = wanted == WantedBack::Rows;
        // A deleted row cannot be read afterwards: there, the statement is refused.
        let reads_after = gives_back && !deletes && !asking.grammar.returns(deletes);
        if children == 0 && !reads_after {
            return Ok(smallvec![Part::All]);
        }
        if table.key().next().is_none() {
            return Err(Error::unfit_parts(NO_KEY).asked_at(self.at));
        }
        let mut parts: Parts = smallvec![Part::Keys];
        parts.extend((0..children).map(Part::Children));
        parts.push(Part::ByKeys);
        parts.extend(reads_after.then_some(Part::Stored));
        Ok(parts)
    }

    /// The rows of an update, and all that it sets of them.
    pub(crate) fn update(
        &self,
        table: &'static TableInfo,
        sets: &[Assignment],
        expected: Option<i64>,
        asking: Asking<'_>,
    ) -> Result<Target, Error> {
        let refuse = |reason: &'static str| Err(Error::unfit_parts(reason).asked_at(self.at));
        if sets.is_empty() {
            return refuse(NOTHING_SET);
        }
        let mut sets = sets.to_vec();
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
        let mut select = Box::new(self.select.copied_with(&mut sets));
        let version = table
            .columns()
            .iter()
            .find(|column| matches!(column.made(), Made::Version));
        match (expected, version) {
            (Some(expected), Some(version)) => {
                let same = found::is(select.entry(), version, BindValue::Int(expected));
                select.filters.push(Asked { what: same, at: self.at });
            }
            (Some(_), None) => return refuse(NO_VERSION),
            (None, _) => {}
        }
        retire::keep_books(table, select.entry(), &mut sets, asking);
        self.target(select, sets, asking)
    }

    /// The rows of a delete: of a table that retires them, the mark is set.
    pub(crate) fn delete(
        &self,
        table: &'static TableInfo,
        for_good: bool,
        asking: Asking<'_>,
    ) -> Result<Target, Error> {
        let mut select = Box::new(self.select.copied());
        let mut sets = Vec::new();
        if !for_good {
            sets = retire::marks(table, &mut select, self.at, asking);
        }
        self.target(select, sets, asking)
    }

    /// The table and the rows, with the policies that hold for them.
    pub(crate) fn target(
        &self,
        select: Box<Select>,
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
        let mut guard = Guard::new(asking.carried, asking.tells);
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
        let guarded = guard_all().map_err(|err| err.asked_at(self.at))?;
        let mut select = guarded.unwrap_or(select);
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
        let mut outer = Box::new(Select::over(table, Body::Table, select.asked_at));
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
                of(place, key).in_query(select, false, false)
            }
            _ if select.is_limited() => return refuse(WIDE_KEY),
            keys => {
                for key in keys {
                    let same = Node::compare(Comparison::Equal, of(entry, key), of(place, key));
                    select.filters.push(Asked { what: same, at: self.at });
                }
                Node::subquery(select, AskedOf::Exists)
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

    /// Stored rows that an insert comes across, and what is set of them.
    pub(crate) fn of_stored(
        table: &'static TableInfo,
        stored: &Select,
        sets: &[Assignment],
        asking: Asking<'_>,
        at: Origin,
    ) -> Result<Target, Error> {
        let change = Change { select: Box::new(stored.clone()), every_row: true, at };
        match sets.is_empty() {
            true => change.target(Box::new(stored.copied()), Vec::new(), asking),
            false => change.update(table, sets, None, asking),
        }
    }

    /// Returns what a writer reads of the rows.
    pub(crate) fn plan(&self) -> Plan<'_> {
        Plan { select: &self.select, before_filters: &[], asks_others: true }
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

    /// One of the statements that the write takes.
    pub(crate) fn step(
        mut self,
        asking: Asking<'_>,
        step: &Step<'_>,
        at: Origin,
    ) -> Result<Changing, Error> {
        let gives_back = step.wanted == WantedBack::Rows;
        let keys: Vec<&'static ColumnInfo> = self.select.table.key().collect();
        let place = self.select.entry();
        match step.part {
            Part::Keys => {
                let of = |info| Node::Column(RawColumn { source: place, info });
                let values = keys.into_iter().map(of).collect();
                self.select.values = Some(Asked { what: values, at });
                Ok(self.find(asking))
            }
            // The policies were asked when the keys were found.
            Part::ByKeys => {
                self.only(&keys, step, at)?;
                let returns = asking.grammar.returns(self.deletes);
                Ok(Changing::Change { target: self, returning: gives_back && returns })
            }
            Part::Stored => {
                self.only(&keys, step, at)?;
                Ok(Changing::ReadBack(Planned::of(self.select, self.met)))
            }
            _ => Ok(Changing::Change { target: self, returning: gives_back }),
        }
    }

    /// Asks for the rows of which `there` is true whether no policy hides them.
    pub(crate) fn present(mut self, there: Node, asking: Asking<'_>, at: Origin) -> Changing {
        let filters = self.select.filters.drain(..);
        let visible = filters.map(|filter| filter.what).reduce(Node::and);
        let visible = visible.unwrap_or_else(|| Node::Bind(BindValue::Bool(true)));
        self.select.values = Some(Asked { what: smallvec![visible], at });
        self.select.filters.push(Asked { what: there, at });
        self.find(asking)
    }

    fn find(mut self, asking: Asking<'_>) -> Changing {
        if asking.grammar.lock(Lock::Wait).is_some() {
            self.select.lock = Some(Asked { what: Lock::Wait, at: self.select.asked_at });
        }
        Changing::Find(Planned::of(self.select, self.met))
    }

    /// Only the rows whose keys were found.
    fn only(
        &mut self,
        keys: &[&'static ColumnInfo],
        step: &Step<'_>,
        at: Origin,
    ) -> Result<(), Error> {
        let found = found::keyed(self.select.entry(), keys, step.found.unwrap_or_default())?;
        self.select.filters.clear();
        self.select.filters.push(Asked { what: found, at });
        self.select.at_most_one = false;
        Ok(())
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
