//! Handles for code that is not async. Over SQLite a call goes straight to the driver: no runtime and
//! no hop to another thread. Over a server it drives the async driver on the calling thread.

mod database;
#[cfg(feature = "sqlite")]
mod session;

use std::marker::PhantomData;
use std::ops::ControlFlow;

use nepheline_core::{BindValue, Error, Table, Unsaved, Upsert, Writes};

pub use database::{Database, Transaction};
#[cfg(feature = "sqlite")]
pub use session::Session;

use crate::page::{self, Cursor, Page, Paging, Stretch, Way};
use crate::readable::Readable;
use crate::verbs::{
    Count, Explain, HasRows, Read, ReadAtMostOne, ReadFirst, ReadStretch, not_found,
    places_apart,
};
use crate::writing::{self, Upserted};

pub(crate) mod sealed {
    use std::ops::ControlFlow;

    use nepheline_core::{Error, Unsaved, Writes};
    use nepheline_core::internal::Asking;

    use crate::readable::Readable;
    use crate::verbs::Verb;
    use crate::writing::{Chunks, Outcome};

    pub trait Handle {
        fn run<V: Verb>(&self, verb: V) -> Result<V::Output, Error>;

        fn asking(&self) -> Asking<'_>;

        fn write_as<W: Writes, O: Outcome<W>>(&self, write: &W) -> Result<O, Error>;

        fn insert_chunks<I: Iterator<Item: Unsaved>>(&self, chunks: Chunks<I>) -> Result<u64, Error>;

        fn each<Q: Readable>(
            &self,
            query: &Q,
            take: impl FnMut(Q::Row) -> ControlFlow<()>,
        ) -> Result<(), Error>;
    }
}

/// The verbs: what can be done with a query, on every handle of this module.
///
/// It is in the prelude, so its methods are there without naming it. Name it to write a function
/// that takes any handle: `fn deepest(db: &impl Handle) -> Result<Vec<Specimen>, Error>`.
pub trait Handle: sealed::Handle + Sized {
    /// Reads all rows of the query.
    ///
    /// # Errors
    ///
    /// Those of [`Query::sql`](crate::Query::sql); [`Mismatch`](crate::ErrorKind::Mismatch) for a row that
    /// does not fit its type, naming table, column and row; and what the database refuses, with the SQL and its origin.
    /// The other verbs fail in the same ways.
    fn read<Q: Readable>(&self, query: &Q) -> Result<Vec<Q::Row>, Error> {
        query.complete_blocking(self, self.run(Read::all(query))?)
    }

    /// Reads the first row, or `None` if there is none. The query is sent with `LIMIT 1`.
    ///
    /// Which row is first is up to the engine, unless the query is ordered.
    fn read_first<Q: Readable>(&self, query: &Q) -> Result<Option<Q::Row>, Error> {
        query.complete_one_blocking(self, self.run(ReadFirst(query))?)
    }

    /// Reads the one row that there must be.
    ///
    /// # Errors
    ///
    /// Of kind [`NotFound`](crate::ErrorKind::NotFound) without a row, naming the table and the key
    /// that was sought, and of kind [`MoreThanOne`](crate::ErrorKind::MoreThanOne) with several.
    fn read_one<Q: Readable>(&self, query: &Q) -> Result<Q::Row, Error> {
        let row = query.complete_one_blocking(self, self.run(ReadAtMostOne(query))?)?;
        row.ok_or_else(|| not_found(query))
    }

    /// Reads the one row that there may be, or `None`.
    ///
    /// # Errors
    ///
    /// Of kind [`MoreThanOne`](crate::ErrorKind::MoreThanOne) if there are several.
    fn read_at_most_one<Q: Readable>(&self, query: &Q) -> Result<Option<Q::Row>, Error> {
        query.complete_one_blocking(self, self.run(ReadAtMostOne(query))?)
    }

    /// How many rows the query has, counted by the database. Limit and offset count.
    fn count<Q: Readable>(&self, query: &Q) -> Result<u64, Error> {
        self.run(Count(query))
    }

    /// Whether the query has any row. The database stops at the first. Limit and offset count.
    fn has_rows<Q: Readable>(&self, query: &Q) -> Result<bool, Error> {
        self.run(HasRows(query))
    }

    /// Reads a numbered page, and counts how many rows there are in all: two statements, or one where
    /// there is nothing on the page.
    ///
    /// Between the two the rows may change; in a transaction that is
    /// [serializable](crate::Isolation::Serializable) they are of one moment.
    ///
    /// # Errors
    ///
    /// Of kind [`UnfitPage`](crate::ErrorKind::UnfitPage) for page 0, and for pages of no rows.
    fn read_page<Q: Readable>(&self, query: &Q, paging: Paging) -> Result<Page<Q::Row>, Error> {
        let after = paging.offset().map_err(|err| err.asked_at(query.asked_at()))?;
        let all = self.count(query)?;
        let rows = match after < all {
            true => self.run(Read::page(query, after, paging.size()))?,
            false => Vec::new(),
        };
        Ok(Page::new(query.complete_blocking(self, rows)?, paging, all))
    }

    /// Reads so many rows after a place in the order of the query, or from its beginning; see
    /// [`read_after`](crate::Handle::read_after) of the async handles.
    ///
    /// # Errors
    ///
    /// As there.
    fn read_after<Q: Readable>(
        &self,
        query: &Q,
        cursor: Option<&Cursor>,
        rows: u32,
    ) -> Result<Stretch<Q::Row>, Error> {
        read_stretch(self, query, cursor, rows, Way::After)
    }

    /// Reads so many rows before a place in the order of the query, or at its end.
    ///
    /// # Errors
    ///
    /// As [`read_after`](Self::read_after).
    fn read_before<Q: Readable>(
        &self,
        query: &Q,
        cursor: Option<&Cursor>,
        rows: u32,
    ) -> Result<Stretch<Q::Row>, Error> {
        read_stretch(self, query, cursor, rows, Way::Before)
    }

    /// Gives the rows to `take` one after another, in constant memory however many there are, until
    /// it returns `Break`. What stands alongside is read for some hundred rows at a time.
    ///
    /// # Errors
    ///
    /// Of kind [`Unsupported`](crate::ErrorKind::Unsupported) for rows with others alongside where a
    /// server has no second connection to ask: in a transaction, on a pool of one.
    fn read_stream<Q: Readable>(
        &self,
        query: &Q,
        take: impl FnMut(Q::Row) -> ControlFlow<()>,
    ) -> Result<(), Error> {
        self.each(query, take)
    }

    /// Writes, and tells how many rows were inserted, found to be updated, or deleted. A write of many rows
    /// may take several statements: then all of them are done, or none.
    ///
    /// ```
    /// use nepheline::blocking::Database;
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Lab { #[nepheline(key, generated)] id: i64, name: String, accredited: bool }
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// # let connection = rusqlite::Connection::open_in_memory()?;
    /// # connection.execute_batch("CREATE TABLE lab (id INTEGER PRIMARY KEY, name TEXT NOT NULL, accredited INTEGER NOT NULL)")?;
    /// # let db = Database::over(connection)?;
    /// let lab = Lab::insert(UnsavedLab { name: "Ostra Assays".into(), accredited: false });
    /// let stored: Lab = db.write_returning_one(&lab)?;
    /// let accredited = db.write(&Lab::row(stored.id).update(|l| l.accredited.set(true)))?;
    /// assert_eq!(accredited, 1);
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    ///
    /// Of kind [`UniqueViolation`](crate::ErrorKind::UniqueViolation),
    /// [`ForeignKeyViolation`](crate::ErrorKind::ForeignKeyViolation),
    /// [`CheckViolation`](crate::ErrorKind::CheckViolation) and
    /// [`NotNullViolation`](crate::ErrorKind::NotNullViolation) for what the tables do not allow, with the
    /// number of the row where several are inserted;
    /// [`StaleVersion`](crate::ErrorKind::StaleVersion) for an update that expects another version.
    fn write<W: Writes>(&self, write: &W) -> Result<u64, Error> {
        self.write_as(write)
    }

    /// Writes, and reads the rows as they are stored now, with what the database generated; of a delete, as
    /// they were. Where the engine does not give back the rows of an update, as MariaDB, that is three statements
    /// in one transaction: the keys of the rows are read and locked, the rows written and read.
    ///
    /// # Errors
    ///
    /// Those of [`write`](Self::write); [`Unsupported`](crate::ErrorKind::Unsupported) on MariaDB and MySQL for an
    /// upsert that may leave rows as they are, and for an update that sets the key; on MySQL for inserts and
    /// deletes, whose rows it does not give back.
    fn write_returning<W: Writes>(&self, write: &W) -> Result<Vec<W::Row>, Error> {
        self.write_as(write)
    }

    /// Writes one row, and reads it as it is stored now.
    ///
    /// # Errors
    ///
    /// Those of [`write_returning`](Self::write_returning), [`NotFound`](crate::ErrorKind::NotFound) if there was no row,
    /// and [`MoreThanOne`](crate::ErrorKind::MoreThanOne) if there were several: then they have been written.
    fn write_returning_one<W: Writes>(&self, write: &W) -> Result<W::Row, Error> {
        writing::sole(write, self.write_returning(write)?)
    }

    /// Writes an upsert, and tells how many of its rows were inserted, updated and kept.
    ///
    /// PostgreSQL tells it of each row, and MariaDB and MySQL by their counts. Otherwise, on SQLite and for rows that
    /// a policy may hide, those that are there already are looked for first, in the same transaction. They are
    /// looked for by code point: where the column's collation takes two texts for the same, the row counts as
    /// inserted on SQLite.
    ///
    /// # Errors
    ///
    /// Those of [`write`](Self::write).
    fn write_upsert<T: Table>(&self, upsert: &Upsert<T>) -> Result<Upserted, Error> {
        self.write_as(upsert)
    }

    /// Inserts the rows of an iterator, however many they are, in constant memory: all of them, or none.
    /// Returns how many they were.
    ///
    /// # Errors
    ///
    /// Those of [`write`](Self::write), with the number of the row at fault.
    fn insert_each<I: IntoIterator<Item: Unsaved>>(&self, rows: I) -> Result<u64, Error> {
        self.insert_chunks(writing::Chunks::of(rows))
    }

    /// The engine's own plan of the query, as text. The query is not run.
    fn explain<Q: Readable>(&self, query: &Q) -> Result<String, Error> {
        self.run(Explain { query, analyze: false })
    }

    /// The engine's own plan of the query with what running it took, as text. The query is run.
    ///
    /// # Errors
    ///
    /// Of kind [`Unsupported`](crate::ErrorKind::Unsupported) on SQLite, which does not measure plans.
    fn explain_analyze<Q: Readable>(&self, query: &Q) -> Result<String, Error> {
        self.run(Explain { query, analyze: true })
    }
}

impl<H: sealed::Handle> Handle for H {}

fn read_stretch<H: sealed::Handle, Q: Readable>(
    handle: &H,
    query: &Q,
    cursor: Option<&Cursor>,
    rows: u32,
    way: Way,
) -> Result<Stretch<Q::Row>, Error> {
    let asked = page::Asked::new(query, handle.asking(), cursor, rows, way)?;
    let verb = ReadStretch::<Q::Base> { asked: &asked, rows: PhantomData };
    let mut arrived = handle.run(verb)?;
    let more = asked.has_more(&mut arrived);
    let (places, rows) = places_apart::<Q>(&asked, arrived);
    asked.stretch(query.complete_blocking(handle, rows)?, &places, more)
}

/// Runs text of a test, or of the demo when it is loaded.
#[doc(hidden)]
pub trait RunText {
    fn run_text(&self, text: &str, binds: Vec<BindValue>) -> Result<(), Error>;
}

impl<H: sealed::Handle> RunText for H {
    fn run_text(&self, text: &str, binds: Vec<BindValue>) -> Result<(), Error> {
        self.run(crate::verbs::Run(text, binds))
    }
}
