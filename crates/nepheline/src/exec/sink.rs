//! The receivers of a statement's rows. Only the conversion of a row is compiled for each type. Everything
//! around it sees a [`Sink`], which costs one dynamic call for each row and none for each cell.

use std::any::Any;

use nepheline_core::internal::Written;
use nepheline_core::{Cells, Error, RowShape};

use super::answer::AnswerCells;
#[cfg(feature = "mysql")]
use crate::engine::mysql::RowCells as MySqlRow;
#[cfg(feature = "postgres")]
use crate::engine::postgres::RowCells as PostgresRow;
#[cfg(feature = "sqlite")]
use crate::engine::sqlite::RowCells as SqliteRow;

/// Receives the rows of one statement. Each method takes a row and returns whether more are wanted.
pub(crate) trait Sink: Send + Any {
    #[cfg(feature = "sqlite")]
    fn sqlite_row(&mut self, row: &mut SqliteRow<'_, '_>) -> bool;

    #[cfg(feature = "postgres")]
    fn postgres_row(&mut self, row: &mut PostgresRow<'_>) -> bool;

    #[cfg(feature = "mysql")]
    fn mysql_row(&mut self, row: &mut MySqlRow<'_>) -> bool;

    fn answer_row(&mut self, row: &mut AnswerCells<'_>) -> bool;

    /// Notes that the rows of a result set have arrived, and another result set follows.
    #[cfg_attr(not(feature = "mysql"), allow(dead_code, reason = "other engines have one result set"))]
    fn next_set(&mut self) {}

    /// Receives the counts of written rows, when all rows have arrived.
    fn wrote(&mut self, written: Written);

    /// Returns the number of rows that arrived or were written.
    fn seen(&self) -> u64;

    /// Takes the error of the first row that did not fit its type.
    fn take_misfit(&mut self) -> Option<Error>;

    /// Returns an empty sink of the same type, for another thread to fill.
    #[cfg(feature = "sqlite")]
    fn sibling(&self) -> Box<dyn Sink>;

    /// Adds the rows of a sibling.
    #[cfg(feature = "sqlite")]
    fn adopt(&mut self, sibling: Box<dyn Sink>);
}

/// A collection that receives rows as they arrive.
pub(crate) trait Gather<R>: Default + Send + 'static {
    fn take(&mut self, row: R);

    /// Returns the number of rows that arrived.
    fn seen(&self) -> u64;

    /// Receives the counts of written rows, when all have arrived.
    fn wrote(&mut self, _written: Written) {}
}

impl<R: Send + 'static> Gather<R> for Vec<R> {
    #[inline]
    fn take(&mut self, row: R) {
        self.push(row);
    }

    fn seen(&self) -> u64 {
        self.len() as u64
    }
}

/// The last row that arrived, and the number of rows.
#[derive(Debug)]
pub(crate) struct Last<R> {
    pub(crate) row: Option<R>,
    pub(crate) seen: u64,
}

impl<R> Default for Last<R> {
    fn default() -> Self {
        Last { row: None, seen: 0 }
    }
}

impl<R: Send + 'static> Gather<R> for Last<R> {
    #[inline]
    fn take(&mut self, row: R) {
        self.row = Some(row);
        self.seen += 1;
    }

    fn seen(&self) -> u64 {
        self.seen
    }
}

/// A sink that converts each row into an `R` and collects them in a `G`.
pub(crate) struct Gathering<R, G> {
    gathered: G,
    /// The number of the row that arrived last, counted from 1 over the whole stream.
    row: u64,
    misfit: Option<Error>,
    rows: std::marker::PhantomData<fn() -> R>,
}

impl<R, G: Default> Default for Gathering<R, G> {
    fn default() -> Self {
        Gathering::after(0)
    }
}

impl<R, G: Default> Gathering<R, G> {
    /// Returns a sink for rows after the first `row` rows.
    pub(crate) fn after(row: u64) -> Gathering<R, G> {
        Gathering { gathered: G::default(), row, misfit: None, rows: std::marker::PhantomData }
    }

    pub(crate) fn finish(self) -> G {
        self.gathered
    }
}

impl<R: RowShape, G: Gather<R>> Gathering<R, G> {
    #[inline(always)]
    fn take<C: Cells>(&mut self, cells: &mut C) -> bool {
        if self.misfit.is_some() {
            return false;
        }
        self.row += 1;
        match R::read(cells) {
            Ok(row) => self.gathered.take(row),
            Err(err) => self.misfit = Some(err.at_row(self.row)),
        }
        self.misfit.is_none()
    }
}

impl<R: RowShape + Send + 'static, G: Gather<R>> Sink for Gathering<R, G> {
    #[cfg(feature = "sqlite")]
    fn sqlite_row(&mut self, row: &mut SqliteRow<'_, '_>) -> bool {
        self.take(row)
    }

    #[cfg(feature = "postgres")]
    fn postgres_row(&mut self, row: &mut PostgresRow<'_>) -> bool {
        self.take(row)
    }

    #[cfg(feature = "mysql")]
    fn mysql_row(&mut self, row: &mut MySqlRow<'_>) -> bool {
        self.take(row)
    }

    fn answer_row(&mut self, row: &mut AnswerCells<'_>) -> bool {
        self.take(row)
    }

    fn wrote(&mut self, written: Written) {
        self.gathered.wrote(written);
    }

    fn seen(&self) -> u64 {
        self.gathered.seen()
    }

    fn take_misfit(&mut self) -> Option<Error> {
        self.misfit.take()
    }

    #[cfg(feature = "sqlite")]
    fn sibling(&self) -> Box<dyn Sink> {
        Box::new(Gathering::<R, G>::after(self.row))
    }

    #[cfg(feature = "sqlite")]
    fn adopt(&mut self, sibling: Box<dyn Sink>) {
        let sibling: Box<dyn Any> = sibling;
        if let Ok(sibling) = sibling.downcast::<Self>() {
            *self = *sibling;
        }
    }
}

/// A row that is not read.
#[derive(Debug)]
pub(crate) struct Nothing;

impl RowShape for Nothing {
    const WIDTH: usize = 0;

    fn read<C: Cells>(_: &mut C) -> Result<Nothing, Error> {
        Ok(Nothing)
    }
}
