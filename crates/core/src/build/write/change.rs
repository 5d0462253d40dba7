//! Updates and deletes: which rows, and what becomes of them.

use std::fmt;
use std::marker::PhantomData;

use super::Writes;
use crate::build::table::Table;
use crate::model::{Error, Origin};
use crate::plan::Asking;
use crate::plan::write::{Change, Part, Parts, Step, Target, WantedBack, Way, children, ways_from};
use crate::sql::{Sql, Statement};
use crate::tree::Assignment;

/// What becomes of rows of `T`: columns are set. Made by [`Query::update`](crate::Query::update).
#[must_use = "an update does nothing until a handle writes it"]
pub struct Update<T> {
    change: Change,
    sets: Vec<Assignment>,
    expected: Option<i64>,
    rows: PhantomData<fn() -> T>,
}

/// Rows of `T` that are deleted, or where the table says so retired. Made by [`Query::delete`](crate::Query::delete).
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
        self.change
            .update(T::INFO, &self.sets, self.expected, asking)
    }
}

impl<T: Table> Delete<T> {
    pub(crate) fn of(change: Change, for_good: bool) -> Delete<T> {
        Delete { change, for_good, rows: PhantomData }
    }

    /// Says that every row is meant, where the query has no condition.
    pub fn every_row(mut self) -> Delete<T> {
        self.change.every_row = true;
        self
    }

    fn target(&self, asking: Asking<'_>) -> Result<Target, Error> {
        self.change.delete(T::INFO, self.for_good, asking)
    }

    /// The tables whose rows are retired with these.
    fn children(&self) -> Result<Vec<Way>, Error> {
        match self.for_good {
            true => Ok(Vec::new()),
            false => ways_from(T::INFO).map_err(|err| err.asked_at(self.change.at)),
        }
    }
}

const KEY_SET: &str = "giving back rows whose key is set";
impl<T: Table> Writes for Update<T> {
    type Row = T;

    fn parts(&self, asking: Asking<'_>, wanted: WantedBack) -> Result<Parts, Error> {
        let parts = self.change.parts(T::INFO, asking, wanted, false, 0)?;
        let sets_key = self.sets.iter().any(|set| set.column.is_key());
        match sets_key && parts.contains(&Part::Stored) {
            true => {
                let err = Error::unsupported(
                    KEY_SET,
                    asking.grammar.name(),
                    "write, and then read the rows",
                );
                Err(err.asked_at(self.change.at))
            }
            false => Ok(parts),
        }
    }

    fn statement(&self, asking: Asking<'_>, step: &Step<'_>) -> Result<Statement<'_>, Error> {
        let changing = self.target(asking)?.step(asking, step, self.change.at)?;
        Statement::of_change(changing, asking.grammar)
    }

    fn expects_a_version(&self) -> bool {
        self.expected.is_some()
    }

    fn shown(&self, asking: Asking<'_>) -> Result<Sql, Error> {
        Statement::shown_change(self.target(asking)?, asking.grammar)
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

    fn parts(&self, asking: Asking<'_>, wanted: WantedBack) -> Result<Parts, Error> {
        let deletes = self.for_good || T::INFO.retire().is_none();
        let children = self.children()?.len();
        self.change
            .parts(T::INFO, asking, wanted, deletes, children)
    }

    fn statement(&self, asking: Asking<'_>, step: &Step<'_>) -> Result<Statement<'_>, Error> {
        if let Part::Children(number) = step.part {
            let ways = self.children()?;
            let way = ways.get(number).map(Vec::as_slice).unwrap_or_default();
            let retiring = children(T::INFO, way, &self.change, asking, step)?;
            return Statement::of_change(retiring, asking.grammar);
        }
        let changing = self.target(asking)?.step(asking, step, self.change.at)?;
        Statement::of_change(changing, asking.grammar)
    }

    fn shown(&self, asking: Asking<'_>) -> Result<Sql, Error> {
        Statement::shown_change(self.target(asking)?, asking.grammar)
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
