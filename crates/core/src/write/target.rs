//! Which rows a write changes, and how these are found: by its conditions, under the policies that hold.

use std::panic::Location;

use smallvec::smallvec;

use super::found;
use super::{Assignment, Part, Parts, Step, Update, WantedBack};
use crate::compile::{Asking, Statement};
use crate::error::Error;
use crate::origin::Origin;
use crate::policy::{Guard, PolicyUse};
use crate::table::{ColumnInfo, Table, TableInfo};
use crate::tree::{Asked, AskedOf, Body, Comparison, Node, RawColumn, Select};

/// Which rows are changed, and by which line.
#[derive(Debug, Clone)]
pub(super) struct Change {
    pub(super) select: Box<Select>,
    pub(super) every_row: bool,
    pub(super) at: Origin,
}

/// A table to change, with the rows that are meant, and what they are set to.
#[derive(Debug)]
pub(crate) struct Target {
    pub(crate) select: Select,
    pub(crate) sets: Vec<Assignment>,
    pub(crate) deletes: bool,
    pub(crate) met: Vec<PolicyUse>,
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

impl Change {
    #[track_caller]
    pub(super) fn of(select: Box<Select>) -> Change {
        Change { select, every_row: false, at: Origin::of(Location::caller()) }
    }

    /// The statements that it takes.
    pub(super) fn parts(
        &self,
        table: &'static TableInfo,
        asking: Asking<'_>,
        wanted: WantedBack,
        deletes: bool,
        children: usize,
    ) -> Result<Parts, Error> {
        let gives_back = wanted == WantedBack::Rows;
        // What is deleted cannot be read afterwards: there, the statement is refused.
        let reads_after = gives_back && !deletes && !asking.dialect.returns(deletes);
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

    /// The table and the rows, with the policies that hold for them.
    pub(super) fn target(
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
        let mut guard = Guard::telling(asking.carried);
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

    /// Stored rows that an insert comes across, and what is set of them.
    pub(super) fn of_stored<T: Table>(
        stored: &Select,
        sets: &[Assignment],
        asking: Asking<'_>,
        at: Origin,
    ) -> Result<Target, Error> {
        let change = Change { select: Box::new(stored.clone()), every_row: true, at };
        match sets.is_empty() {
            true => change.target(stored.copied(), Vec::new(), asking),
            false => Update::<T>::of(change, sets.to_vec()).target(asking),
        }
    }

    /// One of the statements that the write takes.
    pub(super) fn statement<'q>(
        mut self,
        asking: Asking<'_>,
        step: &Step<'_>,
        at: Origin,
    ) -> Result<Statement<'q>, Error> {
        let gives_back = step.wanted == WantedBack::Rows;
        let keys: Vec<&'static ColumnInfo> = self.select.table.key().collect();
        let place = self.select.entry();
        match step.part {
            Part::Keys => {
                let of = |info| Node::Column(RawColumn { source: place, info });
                let values = keys.into_iter().map(of).collect();
                self.select.values = Some(Asked { what: values, at });
                Statement::to_find(self.select, asking.dialect)
            }
            // The policies were asked when the keys were found.
            Part::ByKeys => {
                self.only(&keys, step, at)?;
                let returns = asking.dialect.returns(self.deletes);
                Statement::to_change(&self, asking, gives_back && returns)
            }
            Part::Stored => {
                self.only(&keys, step, at)?;
                Statement::to_read_back(self.select, asking.dialect)
            }
            _ => Statement::to_change(&self, asking, gives_back),
        }
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
    pub(super) fn copied_with(&self, sets: &mut [Assignment]) -> Select {
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
