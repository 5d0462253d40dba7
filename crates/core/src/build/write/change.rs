//! UPDATE and DELETE.

use std::fmt;
use std::marker::PhantomData;

use super::Writes;
use crate::build::table::Table;
use crate::model::{Error, Origin};
use crate::plan::CompileContext;
use crate::plan::write::{Change, Part, Parts, Step, Target, Way, WriteShape, children, ways_from};
use crate::sql::{Sql, Statement};
use crate::tree::Assignment;

/// An update of rows of `T`. Made by [`Query::update`](crate::Query::update).
#[must_use = "an update does nothing until a handle writes it"]
pub struct Update<T> {
    change: Change,
    sets: Vec<Assignment>,
    expected: Option<i64>,
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
        Update { change, sets, expected: None, rows: PhantomData }
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

    fn target(&self, context: CompileContext<'_>) -> Result<Target, Error> {
        self.change
            .update(T::INFO, &self.sets, self.expected, context)
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

    fn target(&self, context: CompileContext<'_>) -> Result<Target, Error> {
        self.change.delete(T::INFO, self.for_good, context)
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
impl<T: Table> Writes for Update<T> {
    type Row = T;

    fn parts(&self, context: CompileContext<'_>, shape: WriteShape) -> Result<Parts, Error> {
        let parts = self.change.parts(T::INFO, context, shape, false, 0)?;
        let sets_key = self.sets.iter().any(|set| set.column.is_key());
        match sets_key && parts.contains(&Part::Stored) {
            true => {
                let err = Error::unsupported(
                    KEY_SET,
                    context.grammar.name(),
                    "write, then read the rows",
                );
                Err(err.asked_at(self.change.at))
            }
            false => Ok(parts),
        }
    }

    fn statement(
        &self,
        context: CompileContext<'_>,
        step: &Step<'_>,
    ) -> Result<Statement<'_>, Error> {
        let changing = self.target(context)?.step(context, step, self.change.at)?;
        Statement::of_change(changing, context.grammar)
    }

    fn expects_a_version(&self) -> bool {
        self.expected.is_some()
    }

    fn shown(&self, context: CompileContext<'_>) -> Result<Sql, Error> {
        Statement::shown_change(self.target(context)?, context.grammar)
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

    fn parts(&self, context: CompileContext<'_>, shape: WriteShape) -> Result<Parts, Error> {
        let deletes = self.for_good || T::INFO.retire().is_none();
        let children = self.children()?.len();
        self.change
            .parts(T::INFO, context, shape, deletes, children)
    }

    fn statement(
        &self,
        context: CompileContext<'_>,
        step: &Step<'_>,
    ) -> Result<Statement<'_>, Error> {
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

    fn table_name(&self) -> &'static str {
        T::INFO.name()
    }
}

// Written by hand, because the derives would require `T: Clone` and `T: Debug`.
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
