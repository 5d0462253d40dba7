//! Soft deletes, also of the rows of other tables that are retired with a row; and the audit columns of every
//! update.

use smallvec::SmallVec;

use super::{Change, Changing, Step, found};
use crate::model::{
    BindValue, ColumnInfo, Error, Origin, Reference, SqlType, TableInfo, ValueSource, function,
};
use crate::plan::CompileContext;
use crate::tree::{
    Assignment, Comparison, FromSource, Located, Node, RawColumn, Select, Source, SubqueryKind,
    Waived,
};

/// A path of relations from a table to another whose rows are retired with its own.
pub(crate) type Way = Vec<&'static Reference>;

/// Adds the assignment that marks a row as retired, if the table retires its rows.
pub(super) fn marks(
    table: &'static TableInfo,
    select: &mut Select,
    at: Origin,
    stamps: &Stamps,
    context: CompileContext<'_>,
) -> Vec<Assignment> {
    let Some(mark) = table.retire() else { return Vec::new() };
    let marked = Node::Column(RawColumn { source: select.entry(), info: mark });
    select.filters.push(Located { what: marked.is_null(), at });
    let value = Node::Bind(stamp_of(mark, stamps, context));
    let mut sets = vec![Assignment { column: mark, value }];
    set_audit_columns(table, select.entry(), &mut sets, stamps, context);
    sets
}

/// Values that a write adds by itself, where they are known: the times of its stamps, and the mark of retired rows.
pub(crate) type Stamps = SmallVec<[(&'static ColumnInfo, BindValue); 2]>;

/// Returns the values that an update of a table adds, or one that retires its rows.
pub(crate) fn stamps(
    table: &'static TableInfo,
    retires: bool,
    context: CompileContext<'_>,
) -> Stamps {
    let columns = table.columns().iter().filter(|column| {
        matches!(column.made(), ValueSource::StampedOnWrite) || retires && column.retires()
    });
    columns
        .map(|column| (column, column.mark_of(context)))
        .collect()
}

/// Returns the value of a column that a write adds by itself: a known one, or that of now.
fn stamp_of(
    column: &'static ColumnInfo,
    stamps: &Stamps,
    context: CompileContext<'_>,
) -> BindValue {
    let known = stamps.iter().find(|(of, _)| std::ptr::eq(*of, column));
    known.map_or_else(|| column.mark_of(context), |(_, value)| value.clone())
}

/// Adds the assignments of every update: the next version, and the time of the write.
pub(super) fn set_audit_columns(
    table: &'static TableInfo,
    entry: Source,
    sets: &mut Vec<Assignment>,
    stamps: &Stamps,
    context: CompileContext<'_>,
) {
    for column in table.columns() {
        if sets.iter().any(|set| std::ptr::eq(set.column, column)) {
            continue;
        }
        let value = match column.made() {
            ValueSource::Version => {
                let old = Node::Column(RawColumn { source: entry, info: column });
                Node::call(&function::ADD, SqlType::BigInt, [old, Node::number(1)])
            }
            ValueSource::StampedOnWrite => Node::Bind(stamp_of(column, stamps, context)),
            ValueSource::Given | ValueSource::Carried(_) | ValueSource::StampedOnInsert => continue,
        };
        sets.push(Assignment { column, value });
    }
}

/// Returns the paths to all tables whose rows are retired with those of this one. A longer path comes before
/// the paths it goes through, because retired rows are no longer found.
pub(crate) fn ways_from(table: &'static TableInfo) -> Result<Vec<Way>, Error> {
    fn add(
        table: &'static TableInfo,
        way: &mut Way,
        passed: &mut Vec<&'static TableInfo>,
        ways: &mut Vec<Way>,
    ) -> Result<(), Error> {
        if passed.iter().any(|other| std::ptr::eq(*other, table)) {
            return Err(Error::invalid_query(CIRCLE));
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

const CIRCLE: &str = "tables retire each other's rows in a circle with `retire(.., with(..))`; remove `with(..)` \
     from one of them";

/// Retires the rows at the end of a path that begins at the rows whose keys were found.
pub(crate) fn children(
    table: &'static TableInfo,
    way: &[&'static Reference],
    change: &Change,
    context: CompileContext<'_>,
    step: &Step<'_>,
) -> Result<Changing, Error> {
    let keys: Vec<&'static ColumnInfo> = table.key().collect();
    let mut rows = Box::new(Select::over(table, FromSource::Table, change.at));
    let those = found::keyed(rows.entry(), &keys, step.found.unwrap_or_default())?;
    rows.filters.push(Located { what: those, at: change.at });
    // Their policies were applied when the keys were read.
    rows.waived = Some(Box::new(Waived { all: Some(change.at), ..Waived::default() }));
    let mut sets = Vec::new();
    for reference in way {
        rows = belonging_to(rows, reference, change.at);
        if let Some(waived) = &change.select.waived {
            let (everywhere, all) = (waived.everywhere.clone(), waived.all);
            rows.waived = Some(Box::new(Waived { here: Vec::new(), everywhere, all }));
        }
        sets = marks(reference.target(), &mut rows, change.at, &Stamps::new(), context);
    }
    let retired = Change { select: rows.clone(), every_row: true, at: change.at };
    let target = retired.target(rows, sets, None, context)?;
    Ok(Changing::Change { target, returning: false })
}

/// Returns the rows of another table that belong to these.
fn belonging_to(
    mut parents: Box<Select>,
    reference: &'static Reference,
    at: Origin,
) -> Box<Select> {
    let mut rows = Box::new(Select::over(reference.target(), FromSource::Table, at));
    let pairs: Vec<[RawColumn; 2]> = reference.pairs_at(parents.entry(), rows.entry()).collect();
    let belong = match pairs.as_slice() {
        [[of_parent, own]] => {
            let values = smallvec::smallvec![Node::Column(*of_parent)];
            parents.values = Some(Located { what: values, at });
            Node::Column(*own).in_query(parents, of_parent.info.is_nullable(), false)
        }
        pairs => {
            for pair in pairs {
                let [of_parent, own] = pair.map(Node::Column);
                let same = Node::compare(Comparison::Equal, of_parent, own);
                parents.filters.push(Located { what: same, at });
            }
            Node::subquery(parents, SubqueryKind::Exists)
        }
    };
    rows.filters.push(Located { what: belong, at });
    rows
}

impl ColumnInfo {
    /// Returns the value that marks a row now: a point in time, a date, or TRUE.
    pub(crate) fn mark_of(&self, context: CompileContext<'_>) -> BindValue {
        let now = context.now();
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
    /// Returns the column that marks rows as retired, if the table has one.
    pub(crate) fn retire(&self) -> Option<&'static ColumnInfo> {
        self.columns().iter().find(|column| column.retires())
    }
}
