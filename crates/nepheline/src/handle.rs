//! The verbs of the async handles.

use std::future::Future;

use futures_util::stream::Stream;
use nepheline_core::{Error, Query, RowShape, Tables};

use crate::verbs::{Count, Explain, HasRows, Read, ReadAtMostOne, ReadFirst, ReadOne};

pub(crate) mod sealed {
    use std::future::Future;

    use futures_util::stream::BoxStream;
    use nepheline_core::{Error, Query, RowShape, Tables};

    use crate::verbs::Verb;

    pub trait Handle: Sync {
        fn run<V: Verb>(&self, verb: V) -> impl Future<Output = Result<V::Output, Error>> + Send;

        fn stream<'a, T: Tables, R: RowShape + Send + 'static>(
            &'a self,
            query: &'a Query<T, R>,
        ) -> BoxStream<'a, Result<R, Error>>;
    }
}

/// The verbs: what can be done with a query, on every async handle: a [`Database`](crate::Database),
/// a [`Transaction`](crate::Transaction), or a session over a connection of your own.
///
/// It is in the prelude, so its methods are there without naming it. Name it to write a function
/// that takes any handle: `async fn deepest(db: &impl Handle) -> Result<Vec<Specimen>, Error>`.
/// Over a blocking handle the same verbs are in [`blocking::Handle`](crate::blocking::Handle).
pub trait Handle: sealed::Handle {
    /// Reads all rows of the query.
    ///
    /// # Errors
    ///
    /// Those of [`Query::sql`]; [`Mismatch`](crate::ErrorKind::Mismatch) for a row that does not fit
    /// `R`, naming table, column and row; and what the database refuses, with the SQL and its origin.
    /// The other verbs fail in the same ways.
    fn read<T: Tables, R: RowShape + Send + 'static>(
        &self,
        query: &Query<T, R>,
    ) -> impl Future<Output = Result<Vec<R>, Error>> + Send {
        self.run(Read(query))
    }

    /// Reads the first row, or `None` if there is none. The query is sent with `LIMIT 1`.
    ///
    /// Which row is first is up to the engine, unless the query is ordered.
    fn read_first<T: Tables, R: RowShape + Send + 'static>(
        &self,
        query: &Query<T, R>,
    ) -> impl Future<Output = Result<Option<R>, Error>> + Send {
        self.run(ReadFirst(query))
    }

    /// Reads the one row that there must be.
    ///
    /// # Errors
    ///
    /// Of kind [`NotFound`](crate::ErrorKind::NotFound) without a row, naming the table and the key
    /// that was sought, and of kind [`MoreThanOne`](crate::ErrorKind::MoreThanOne) with several.
    fn read_one<T: Tables, R: RowShape + Send + 'static>(
        &self,
        query: &Query<T, R>,
    ) -> impl Future<Output = Result<R, Error>> + Send {
        self.run(ReadOne(query))
    }

    /// Reads the one row that there may be, or `None`.
    ///
    /// # Errors
    ///
    /// Of kind [`MoreThanOne`](crate::ErrorKind::MoreThanOne) if there are several.
    fn read_at_most_one<T: Tables, R: RowShape + Send + 'static>(
        &self,
        query: &Query<T, R>,
    ) -> impl Future<Output = Result<Option<R>, Error>> + Send {
        self.run(ReadAtMostOne(query))
    }

    /// How many rows the query has, counted by the database. Limit and offset count.
    fn count<T: Tables, R>(
        &self,
        query: &Query<T, R>,
    ) -> impl Future<Output = Result<u64, Error>> + Send {
        self.run(Count(query))
    }

    /// Whether the query has any row. The database stops at the first. Limit and offset count.
    fn has_rows<T: Tables, R>(
        &self,
        query: &Query<T, R>,
    ) -> impl Future<Output = Result<bool, Error>> + Send {
        self.run(HasRows(query))
    }

    /// Reads the rows one after another, in constant memory however many there are.
    ///
    /// The stream holds a connection. Dropping it early frees the connection: what was still to
    /// come is not read.
    fn read_stream<'a, T: Tables, R: RowShape + Send + 'static>(
        &'a self,
        query: &'a Query<T, R>,
    ) -> impl Stream<Item = Result<R, Error>> + Send + Unpin + 'a {
        self.stream(query)
    }

    /// The engine's own plan of the query, as text. The query is not run.
    fn explain<T: Tables, R>(
        &self,
        query: &Query<T, R>,
    ) -> impl Future<Output = Result<String, Error>> + Send {
        self.run(Explain { query, analyze: false })
    }

    /// The engine's own plan of the query with what running it took, as text. The query is run.
    ///
    /// # Errors
    ///
    /// Of kind [`Unsupported`](crate::ErrorKind::Unsupported) on SQLite, which does not measure plans.
    fn explain_analyze<T: Tables, R>(
        &self,
        query: &Query<T, R>,
    ) -> impl Future<Output = Result<String, Error>> + Send {
        self.run(Explain { query, analyze: true })
    }
}

impl<H: sealed::Handle> Handle for H {}
