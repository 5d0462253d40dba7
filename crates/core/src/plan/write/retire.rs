//! Rows that are withdrawn instead of deleted, with those of other tables that go with them; and what every
//! change of a row leaves in it.

use super::{Change, Changing, Step, found};
use crate::model::{
    BindValue, ColumnInfo, Error, Made, Origin, Reference, SqlType, TableInfo, function,
};
use crate::plan::Asking;
use crate::tree::{
    Asked, AskedOf, Assignment, Body, Comparison, Node, RawColumn, Select, Source, Waived,
};

/// From the rows of a table to those of another that are retired with them: one relation after the other.
pub(crate) type Way = Vec<&'static Reference>;

/// Has the mark of a table set where it is not, if it retires its rows.
pub(super) fn marks(
    table: &'static TableInfo,
    select: &mut Select,
    at: Origin,
    asking: Asking<'_>,
) -> Vec<Assignment> {
    let Some(mark) = table.retire() else { return Vec::new() };
    let marked = Node::Column(RawColumn { source: select.entry(), info: mark });
    select.filters.push(Asked { what: marked.is_null(), at });
    let mut sets = vec![Assignment { column: mark, value: Node::Bind(mark.mark_of(asking)) }];
    keep_books(table, select.entry(), &mut sets, asking);
    sets
}

/// Adds the assignments of every update: the version counts on, and the time of the last write is now.
pub(super) fn keep_books(
    table: &'static TableInfo,
    entry: Source,
    sets: &mut Vec<Assignment>,
    asking: Asking<'_>,
) {
    for column in table.columns() {
        if sets.iter().any(|set| std::ptr::eq(set.column, column)) {
            continue;
        }
        let value = match column.made() {
            Made::Version => {
                let old = Node::Column(RawColumn { source: entry, info: column });
                Node::call(&function::ADD, SqlType::BigInt, [old, Node::number(1)])
            }
            Made::StampedOnWrite => Node::Bind(column.mark_of(asking)),
            Made::Given | Made::Filled(_) | Made::StampedOnInsert => continue,
        };
        sets.push(Assignment { column, value });
    }
}

/// The ways to all tables whose rows are retired with those of this one. Rows that are found by others come
/// before these, because what is retired is not found any more.
pub(crate) fn ways_from(table: &'static TableInfo) -> Result<Vec<Way>, Error> {
    fn add(
        table: &'static TableInfo,
        way: &mut Way,
        passed: &mut Vec<&'static TableInfo>,
        ways: &mut Vec<Way>,
    ) -> Result<(), Error> {
        if passed.iter().any(|other| std::ptr::eq(*other, table)) {
            return Err(Error::unfit_parts(CIRCLE));
        }
        passed.push(table);
        for reference in table.retired_with() {
            way.push(reference);
            add(reference.target(), way, passed, ways)?;
            ways.push(way.clone());
            way.pop();
        }
        passed.pop();
        Ok(())
    }
    let mut ways = Vec::new();
    add(table, &mut Way::new(), &mut Vec::new(), &mut ways)?;
    Ok(ways)
}

const CIRCLE: &str = "tables are declared to retire each other's rows in a circle, `retire(.., with(..))`; one of \
     them has to leave it to the program";

/// Retires the rows at the end of a way that begins at the rows whose keys were found.
pub(crate) fn children(
    table: &'static TableInfo,
    way: &[&'static Reference],
    change: &Change,
    asking: Asking<'_>,
    step: &Step<'_>,
) -> Result<Changing, Error> {
    let keys: Vec<&'static ColumnInfo> = table.key().collect();
    let mut rows = Box::new(Select::over(table, Body::Table, change.at));
    let those = found::keyed(rows.entry(), &keys, step.found.unwrap_or_default())?;
    rows.filters.push(Asked { what: those, at: change.at });
    // Their policies were asked when the keys were found.
    rows.waived = Some(Box::new(Waived { all: Some(change.at), ..Waived::default() }));
    let mut sets = Vec::new();
    for reference in way {
        rows = belonging_to(rows, reference, change.at);
        if let Some(waived) = &change.select.waived {
            let (everywhere, all) = (waived.everywhere.clone(), waived.all);
            rows.waived = Some(Box::new(Waived { here: Vec::new(), everywhere, all }));
        }
        sets = marks(reference.target(), &mut rows, change.at, asking);
    }
    let retired = Change { select: rows.clone(), every_row: true, at: change.at };
    let target = retired.target(rows, sets, asking)?;
    Ok(Changing::Change { target, returning: false })
}

/// The rows of another table that belong to these.
fn belonging_to(
    mut parents: Box<Select>,
    reference: &'static Reference,
    at: Origin,
) -> Box<Select> {
    let mut rows = Box::new(Select::over(reference.target(), Body::Table, at));
    let pairs: Vec<[RawColumn; 2]> = reference.pairs_at(parents.entry(), rows.entry()).collect();
    let belong = match pairs.as_slice() {
        [[of_parent, own]] => {
            let values = smallvec::smallvec![Node::Column(*of_parent)];
            parents.values = Some(Asked { what: values, at });
            Node::Column(*own).in_query(parents, of_parent.info.is_nullable(), false)
        }
        pairs => {
            for pair in pairs {
                let [of_parent, own] = pair.map(Node::Column);
                let same = Node::compare(Comparison::Equal, of_parent, own);
                parents.filters.push(Asked { what: same, at });
            }
            Node::subquery(parents, AskedOf::Exists)
        }
    };
    rows.filters.push(Asked { what: belong, at });
    rows
}

impl ColumnInfo {
    /// Returns the value that marks a row in it now: a point in time, a day, or TRUE.
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
    pub(crate) fn retire(&self) -> Option<&'static ColumnInfo> {
        self.columns().iter().find(|column| column.retires())
    }
}
