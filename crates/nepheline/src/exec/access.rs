//! The traits that the verbs are written over: an `Access` runs one statement after the other. Async handles,
//! blocking handles on a server, and SQLite that is called directly implement it.

use std::future::{Future, Ready};

use futures_util::future::BoxFuture;
use nepheline_core::{Dialect, Error};
use nepheline_core::internal::CompileContext;

use super::ask::{Ask, Verb};
use super::companions::Completes;
use super::sink::{Gathering, Sink};
use super::together::Together;
use crate::observe::interceptor::Interceptors;

/// The kind of a handle, async or blocking. It decides the types of futures: async ones are `Send`, blocking
/// ones are ready at once.
pub(crate) trait Mode: 'static {
    type Fut<'f, T>: Future<Output = T>;
}

/// The futures of async handles.
#[derive(Debug)]
pub(crate) enum Async {}

impl Mode for Async {
    type Fut<'f, T> = BoxFuture<'f, T>;
}

/// The futures of blocking handles.
#[derive(Debug)]
pub(crate) enum Blocking {}

impl Mode for Blocking {
    type Fut<'f, T> = Ready<T>;
}

pub(crate) type Fut<'f, M, T> = <M as Mode>::Fut<'f, T>;

/// The associated types of a kind of handle.
pub(crate) trait Family: Mode {
    type Access<'f>: Access<Family = Self>;

    /// The rows of a statement that arrive over time.
    type Cursor<'f>: Cursor<Family = Self>;

    /// The scope that makes several statements atomic.
    type AtomicScope<'f>: AtomicScope<Family = Self>;
}

/// Runs statements.
pub(crate) trait Access {
    type Family: Family;

    fn context(&self) -> CompileContext<'_>;

    fn dialect(&self) -> Dialect;

    /// Runs a statement to its end, and passes its rows to `sink`.
    fn fetch<'f>(
        &'f self,
        ask: &'f dyn Ask,
        sink: &'f mut dyn Sink,
    ) -> Fut<'f, Self::Family, Result<(), Error>>;

    /// Runs independent reads on one connection, sent together where the driver can.
    fn fetch_together<'f>(
        &'f self,
        reads: Vec<Together<'f>>,
    ) -> Fut<'f, Self::Family, Result<(), Error>>;

    fn open<'f>(
        &'f self,
        ask: &'f dyn Ask,
    ) -> Fut<'f, Self::Family, Result<<Self::Family as Family>::Cursor<'f>, Error>>;

    fn begin_together(
        &self,
    ) -> Fut<'_, Self::Family, Result<<Self::Family as Family>::AtomicScope<'_>, Error>>;

    /// Records that a write of several statements has failed.
    fn note_write(&self, err: &Error);

    /// Returns the interceptors of the handle.
    fn interceptors(&self) -> &Interceptors;

    /// Returns whether the connection belongs to the program, which alone knows about its transactions.
    fn is_of_program(&self) -> bool;

    /// Checks that statements can run while a stream is read.
    fn check_beside_stream(&self) -> Result<(), Error>;
}

/// The rows of a statement that arrive over time. Dropping it early stops the statement.
pub(crate) trait Cursor {
    type Family: Family;

    /// Passes some rows to `sink`, at most `most`; returns whether more may come.
    fn next<'f>(
        &'f mut self,
        sink: &'f mut dyn Sink,
        most: usize,
    ) -> Fut<'f, Self::Family, Result<bool, Error>>;
}

/// An atomic scope for several statements: a transaction, or a savepoint inside one. It is rolled back if it
/// is dropped without an end.
pub(crate) trait AtomicScope {
    type Family: Family;

    fn access(&self) -> <Self::Family as Family>::Access<'_>;

    /// Keeps the changes, or rolls them back.
    fn end(&mut self, keep: bool) -> Fut<'_, Self::Family, Result<(), Error>>;
}

/// Runs one verb of a database.
pub(crate) async fn run<A: Access, V: Verb>(access: &A, verb: V) -> Result<V::Output, Error> {
    let mut sink = Gathering::<V::Row, V::Gathered>::default();
    access.fetch(&verb, &mut sink).await?;
    verb.finish(sink.finish())
}

/// Reads the companions of rows.
pub(crate) async fn complete<A: Access, Q: Completes>(
    access: &A,
    query: &Q,
    rows: Vec<Q::Read>,
) -> Result<Vec<Q::Row>, Error> {
    let mut loading = query.loading(rows);
    while query.advance(&mut loading)? {
        if let Some(step) = query.step(&mut loading) {
            access.fetch(step.ask, step.sink).await?;
        }
    }
    query.finish(loading)
}

/// Reads the companions of one row, if there is one.
pub(crate) async fn complete_one<A: Access, Q: Completes>(
    access: &A,
    query: &Q,
    row: Option<Q::Read>,
) -> Result<Option<Q::Row>, Error> {
    let Some(row) = row else { return Ok(None) };
    match query.plain(row) {
        Ok(row) => Ok(Some(row)),
        Err(row) => Ok(complete(access, query, vec![row]).await?.pop()),
    }
}
