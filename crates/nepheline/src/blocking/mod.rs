//! Databases for code that is not async. Over SQLite a call goes straight to the driver: no runtime
//! and no hop to another thread.

mod database;

use std::future::Future;
use std::pin::pin;
use std::task::{Context, Poll, Waker};

use nepheline_core::{Error, Query, RowShape, Table};

pub use database::Database;

use crate::verbs;

mod sealed {
    use crate::driver::Driver;

    pub trait Handle {
        fn driver(&self) -> &impl Driver;
    }
}

/// The verbs: what can be done with a query, on every handle of this module.
///
/// It is in the prelude, so its methods are there without naming it. Name it to write a function
/// that takes any handle: `fn deepest(db: &impl Handle) -> Result<Vec<Specimen>, Error>`.
pub trait Handle: sealed::Handle {
    /// Reads all rows of the query.
    ///
    /// # Errors
    ///
    /// Those of [`Query::sql`]; [`Mismatch`](crate::ErrorKind::Mismatch) for a row that does not fit
    /// `R`, naming table, column and row; and what the database refuses, with the SQL and its origin.
    /// The other verbs fail in the same ways.
    fn read<T: Table, R: RowShape + Send>(&self, query: &Query<T, R>) -> Result<Vec<R>, Error> {
        ready(verbs::read(self.driver(), query))
    }

    /// Reads the first row, or `None` if there is none. The query is sent with `LIMIT 1`.
    ///
    /// Which row is first is up to the engine, unless the query is ordered.
    fn read_first<T: Table, R: RowShape + Send>(
        &self,
        query: &Query<T, R>,
    ) -> Result<Option<R>, Error> {
        ready(verbs::read_first(self.driver(), query))
    }

    /// Reads the one row that there must be.
    ///
    /// # Errors
    ///
    /// Of kind [`NotFound`](crate::ErrorKind::NotFound) without a row, naming the table and the key
    /// that was sought, and of kind [`MoreThanOne`](crate::ErrorKind::MoreThanOne) with several.
    fn read_one<T: Table, R: RowShape + Send>(&self, query: &Query<T, R>) -> Result<R, Error> {
        ready(verbs::read_one(self.driver(), query))
    }

    /// Reads the one row that there may be, or `None`.
    ///
    /// # Errors
    ///
    /// Of kind [`MoreThanOne`](crate::ErrorKind::MoreThanOne) if there are several.
    fn read_at_most_one<T: Table, R: RowShape + Send>(
        &self,
        query: &Query<T, R>,
    ) -> Result<Option<R>, Error> {
        ready(verbs::read_at_most_one(self.driver(), query))
    }

    /// How many rows the query has, counted by the database. Limit and offset count.
    fn count<T: Table, R>(&self, query: &Query<T, R>) -> Result<u64, Error> {
        ready(verbs::count(self.driver(), query))
    }

    /// Whether the query has any row. The database stops at the first. Limit and offset count.
    fn has_rows<T: Table, R>(&self, query: &Query<T, R>) -> Result<bool, Error> {
        ready(verbs::has_rows(self.driver(), query))
    }
}

impl<H: sealed::Handle> Handle for H {}

/// The result of a future of the direct SQLite driver, which never waits.
fn ready<T>(future: impl Future<Output = T>) -> T {
    let mut future = pin!(future);
    let mut context = Context::from_waker(Waker::noop());
    loop {
        if let Poll::Ready(result) = future.as_mut().poll(&mut context) {
            return result;
        }
    }
}
