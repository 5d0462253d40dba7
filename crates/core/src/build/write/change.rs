//! UPDATE and DELETE.

use std::fmt;
use std::marker::PhantomData;

use super::Writes;
use crate::build::policy::Policy;
use crate::build::prepared::{KeepsText, WriteKind, known_write_by_key};
use crate::build::table::Table;
use crate::model::{BindValue, ColumnInfo, Error, ErrorKind, Origin, TableInfo};
use crate::plan::CompileContext;
use crate::plan::write::{
    Added, Change, Checks, Part, Parts, Stamps, Step, StoredRows, Target, Way, WriteShape,
    children, stamps, ways_from,
};
use crate::sql::{Sql, Statement};
use crate::tree::{Assignment, Node, Waiver};

/// An update of rows of `T`. Made by [`Query::update`](crate::Query::update).
#[must_use = "an update does nothing until a handle writes it"]
pub struct Update<T> {
    change: Change,
    sets: Vec<Assignment>,
    expected: Option<i64>,
    waived: Vec<Waiver>,
    rows: PhantomData<fn() -> T>,
}

/// A delete of rows of `T`, or a soft delete if the table retires its rows. Made by
/// [`Query::delete`](crate::Query::delete).
#[must_use = "a delete does nothing until a handle writes it"]
pub struct Delete<T> {
    change: Change,
    for_good: bool,
    rows: PhantomData<fn() -> T>,
}

impl<T: Table> Update<T> {
    pub(crate) fn of(change: Change, sets: Vec<Assignment>) -> Update<T> {
        Update { change, sets, expected: None, waived: Vec::new(), rows: PhantomData }
    }

    /// Allows the update to change every row, where the query has no condition.
    pub fn every_row(mut self) -> Update<T> {
        self.change.every_row = true;
        self
    }

    /// Updates only if the row still has this version in its `version` column. If another writer has changed
    /// it since, the error is of kind [`StaleVersion`](crate::ErrorKind::StaleVersion).
    pub fn expecting(mut self, version: i64) -> Update<T> {
        self.expected = Some(version);
        self
    }

    /// Waives the check of a policy for the rows that are written and for the rows that they refer to, as
    /// [`Insert::waive_check`](crate::Insert::waive_check). The policy still applies to the rows that are found.
    #[track_caller]
    pub fn waive_check<C, N>(mut self, policy: impl Policy<C, N>) -> Update<T> {
        self.waived.push(Waiver::of(&policy));
        self
    }
}

impl<T: Table> Delete<T> {
    pub(crate) fn of(change: Change, for_good: bool) -> Delete<T> {
        Delete { change, for_good, rows: PhantomData }
    }

    /// Allows the delete to remove every row, where the query has no condition.
    pub fn every_row(mut self) -> Delete<T> {
        self.change.every_row = true;
        self
    }

    /// Returns the paths to tables whose rows are retired with these.
    fn children(&self) -> Result<Vec<Way>, Error> {
        match self.for_good {
            true => Ok(Vec::new()),
            false => ways_from(T::INFO).map_err(|err| err.asked_at(self.change.at)),
        }
    }
}

const KEY_SET: &str = "returning rows whose key is assigned";
const KEY_CHECKED: &str = "checking rows whose key is computed";

/// The rows of an update as the checks see them.
struct Updated<'u> {
    table: &'static TableInfo,
    sets: &'u [Assignment],
}

impl StoredRows for Updated<'_> {
    fn table(&self) -> &'static TableInfo {
        self.table
    }

    fn writes_some(&self) -> bool {
        false
    }

    fn sets(&self, column: &'static ColumnInfo) -> bool {
        self.sets.iter().any(|set| std::ptr::eq(set.column, column))
    }

    fn given(&self, columns: &[&'static ColumnInfo]) -> Option<Vec<Vec<BindValue>>> {
        let tuple = columns.iter().map(|column| {
            let set = self
                .sets
                .iter()
                .find(|set| std::ptr::eq(set.column, *column))?;
            match &set.value {
                Node::Bind(value) => Some(value.clone()),
                _ => None,
            }
        });
        Some(vec![tuple.collect::<Option<Vec<BindValue>>>()?])
    }
}

impl<T: Table> Writes for Update<T> {
    type Row = T;
    type Read = T;

    fn row_of(read: T) -> T {
        read
    }

    fn parts(
        &self,
        context: CompileContext<'_>,
        shape: WriteShape,
        keyed: bool,
    ) -> Result<Parts, Error> {
        let parts = self
            .change
            .parts(T::INFO, context, (shape, false), keyed, 0)?;
        let sets_key = self.sets.iter().any(|set| set.column.is_key());
        let refused = match (sets_key, keyed) {
            (true, true) => {
                Some((KEY_CHECKED, "insert the row with its new key, and delete the other"))
            }
            (true, false) if parts.contains(&Part::Stored) => {
                Some((KEY_SET, "write, then read the rows"))
            }
            _ => None,
        };
        match refused {
            Some((what, way_out)) => {
                let err = Error::unsupported(what, context.grammar.name(), way_out);
                Err(err.asked_at(self.change.at))
            }
            None => Ok(parts),
        }
    }

    fn checks(&self, context: CompileContext<'_>) -> Result<Option<Box<Checks>>, Error> {
        match T::INFO.is_checked() {
            true => {
                Checks::of(&Updated { table: T::INFO, sets: &self.sets }, &self.waived, context)
                    .map_err(|err| err.asked_at(self.change.at))
            }
            false => Ok(None),
        }
    }

    fn foreign_key(&self, table: Option<&str>) -> ErrorKind {
        violated_by(T::INFO, &self.sets, table)
    }

    fn statement(
        &self,
        context: CompileContext<'_>,
        step: &Step<'_>,
    ) -> Result<Statement<'_>, Error> {
        if let Some(known) = known_write_by_key(self, context, step)? {
            return Ok(known);
        }
        let changing = self.target(context)?.step(context, step, self.change.at)?;
        Statement::of_change(changing, context.grammar)
    }

    fn finds_rows(&self) -> bool {
        true
    }

    fn expects_a_version(&self) -> bool {
        self.expected.is_some()
    }

    fn shown(&self, context: CompileContext<'_>) -> Result<Sql, Error> {
        let sql = Statement::shown_change(self.target(context)?, context.grammar)?;
        Ok(sql.and_policies(
            self.checks(context)?
                .map_or(Vec::new(), |checks| checks.into_met()),
        ))
    }

    fn origin(&self) -> Origin {
        self.change.at
    }

    fn table(&self) -> &'static TableInfo {
        T::INFO
    }
}

impl<T: Table> Writes for Delete<T> {
    type Row = T;
    type Read = T;

    fn row_of(read: T) -> T {
        read
    }

    fn parts(
        &self,
        context: CompileContext<'_>,
        shape: WriteShape,
        keyed: bool,
    ) -> Result<Parts, Error> {
        let deletes = self.for_good || T::INFO.retire().is_none();
        let children = self.children()?.len();
        self.change
            .parts(T::INFO, context, (shape, deletes), keyed, children)
    }

    fn foreign_key(&self, _: Option<&str>) -> ErrorKind {
        ErrorKind::StillReferenced
    }

    fn statement(
        &self,
        context: CompileContext<'_>,
        step: &Step<'_>,
    ) -> Result<Statement<'_>, Error> {
        if let Some(known) = known_write_by_key(self, context, step)? {
            return Ok(known);
        }
        if let Part::Children(number) = step.part {
            let ways = self.children()?;
            let way = ways.get(number).map(Vec::as_slice).unwrap_or_default();
            let retiring = children(T::INFO, way, &self.change, context, step)?;
            return Statement::of_change(retiring, context.grammar);
        }
        let changing = self.target(context)?.step(context, step, self.change.at)?;
        Statement::of_change(changing, context.grammar)
    }

    fn shown(&self, context: CompileContext<'_>) -> Result<Sql, Error> {
        Statement::shown_change(self.target(context)?, context.grammar)
    }

    fn origin(&self) -> Origin {
        self.change.at
    }

    fn table(&self) -> &'static TableInfo {
        T::INFO
    }
}

impl<T: Table> KeepsText for Update<T> {
    fn each_bind(&mut self, change: &mut dyn FnMut(&mut BindValue)) {
        self.change.select.each_bind(change);
        let values = self.sets.iter_mut().map(|set| &mut set.value);
        values.for_each(|value| value.each_bind(change));
    }

    fn change(&self) -> &Change {
        &self.change
    }

    fn change_mut(&mut self) -> &mut Change {
        &mut self.change
    }

    fn sets(&self) -> Option<&[Assignment]> {
        Some(&self.sets)
    }

    fn kind(&self) -> WriteKind {
        WriteKind::Updates
    }

    fn stamps(&self, context: CompileContext<'_>) -> Stamps {
        stamps(T::INFO, false, context)
    }

    fn target_with(&self, added: Added, context: CompileContext<'_>) -> Result<Target, Error> {
        self.change
            .update(T::INFO, &self.sets, self.expected, added, context)
    }
}

impl<T: Table> KeepsText for Delete<T> {
    fn each_bind(&mut self, change: &mut dyn FnMut(&mut BindValue)) {
        self.change.select.each_bind(change);
    }

    fn change(&self) -> &Change {
        &self.change
    }

    fn change_mut(&mut self) -> &mut Change {
        &mut self.change
    }

    fn sets(&self) -> Option<&[Assignment]> {
        None
    }

    fn kind(&self) -> WriteKind {
        match self.for_good || T::INFO.retire().is_none() {
            true => WriteKind::Deletes,
            false => WriteKind::Retires,
        }
    }

    fn stamps(&self, context: CompileContext<'_>) -> Stamps {
        match self.kind() {
            WriteKind::Retires => stamps(T::INFO, true, context),
            WriteKind::Updates | WriteKind::Deletes => Stamps::new(),
        }
    }

    fn target_with(&self, added: Added, context: CompileContext<'_>) -> Result<Target, Error> {
        self.change.delete(T::INFO, self.for_good, added, context)
    }
}

// Written by hand, because the derives would require `T: Clone` and `T: Debug`.
impl<T> Clone for Update<T> {
    fn clone(&self) -> Self {
        let Update { change, sets, expected, waived, rows: _ } = self;
        Update {
            change: change.clone(),
            sets: sets.clone(),
            expected: *expected,
            waived: waived.clone(),
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

/// Returns the kind of an error for a foreign key that an update with these assignments violates: of `table`, if the
/// database reports it.
pub(super) fn violated_by(
    own: &'static TableInfo,
    sets: &[Assignment],
    table: Option<&str>,
) -> ErrorKind {
    let refers = |column: &ColumnInfo| {
        let mut references = own
            .references()
            .iter()
            .filter(|reference| reference.is_foreign_key());
        references.any(|reference| {
            reference
                .pairs()
                .any(|[of_own, _]| std::ptr::eq(of_own, column))
        })
    };
    // A reference leads to columns that are unique, which a key is.
    let is_referred_to = |column: &ColumnInfo| column.is_key() || column.is_unique();
    let to_parents = sets.iter().any(|set| refers(set.column));
    let of_children = sets.iter().any(|set| is_referred_to(set.column));
    let is_own_parent = own
        .references()
        .iter()
        .any(|reference| std::ptr::eq(reference.target(), own));
    match (to_parents, of_children, table) {
        (true, false, _) => ErrorKind::ParentNotFound,
        (false, true, _) => ErrorKind::StillReferenced,
        (true, true, Some(table)) if table != own.name() => ErrorKind::StillReferenced,
        (true, true, Some(_)) if !is_own_parent => ErrorKind::ParentNotFound,
        _ => ErrorKind::ForeignKeyViolation,
    }
}
