//! The verbs of the async handles.

use std::future::Future;
use std::marker::PhantomData;

use futures_util::stream::Stream;
use nepheline_core::{Error, Table, Unsaved, Upsert, Writes};

use crate::page::{self, Cursor, Page, Paging, Stretch, Way};
use crate::readable::Readable;
use crate::verbs::{
    Count, Explain, HasRows, Read, ReadAtMostOne, ReadFirst, ReadStretch, not_found,
    places_apart,
};
use crate::writing::{self, Upserted};

pub(crate) mod sealed {
    use std::future::Future;

    use futures_util::stream::BoxStream;
    use nepheline_core::Error;
    use nepheline_core::internal::{Asking, Selects};

    use crate::transaction::Together;
    use crate::verbs::Verb;

    pub trait Handle: Sync {
        fn run<V: Verb>(&self, verb: V) -> impl Future<Output = Result<V::Output, Error>> + Send;

        fn stream<'a, Q: Selects + Sync>(
            &'a self,
            query: &'a Q,
        ) -> BoxStream<'a, Result<Q::Read, Error>>;

        fn asking(&self) -> Asking<'_>;

        /// Begins what has to be done as a whole.
        fn begin_together(&self) -> impl Future<Output = Result<Together, Error>> + Send;

        /// Whether statements can run while a stream is read.
        fn check_beside_stream(&self) -> Result<(), Error>;
    }
}

/// The verbs: what can be done with a query, on every async handle: a [`Database`](crate::Database),
/// a [`Transaction`](crate::Transaction), or a session over a connection of your own.
///
/// It is in the prelude, so its methods are there without naming it. Name it to write a function
/// that takes any handle: `async fn deepest(db: &impl Handle) -> Result<Vec<Specimen>, Error>`.
/// Over a blocking handle the same verbs are in [`blocking::Handle`](crate::blocking::Handle).
pub trait Handle: sealed::Handle + Sized {
    /// Reads all rows of the query.
    ///
    /// # Errors
    ///
    /// Those of [`Query::sql`](crate::Query::sql); [`Mismatch`](crate::ErrorKind::Mismatch) for a row that
    /// does not fit its type, naming table, column and row; and what the database refuses, with the SQL and its origin.
    /// The other verbs fail in the same ways.
    fn read<Q: Readable>(
        &self,
        query: &Q,
    ) -> impl Future<Output = Result<Vec<Q::Row>, Error>> + Send {
        async move { query.complete(self, self.run(Read::all(query)).await?).await }
    }

    /// Reads the first row, or `None` if there is none. The query is sent with `LIMIT 1`.
    ///
    /// Which row is first is up to the engine, unless the query is ordered.
    fn read_first<Q: Readable>(
        &self,
        query: &Q,
    ) -> impl Future<Output = Result<Option<Q::Row>, Error>> + Send {
        async move { query.complete_one(self, self.run(ReadFirst(query)).await?).await }
    }

    /// Reads the one row that there must be.
    ///
    /// # Errors
    ///
    /// Of kind [`NotFound`](crate::ErrorKind::NotFound) without a row, naming the table and the key
    /// that was sought, and of kind [`MoreThanOne`](crate::ErrorKind::MoreThanOne) with several.
    fn read_one<Q: Readable>(
        &self,
        query: &Q,
    ) -> impl Future<Output = Result<Q::Row, Error>> + Send {
        async move {
            let row = query.complete_one(self, self.run(ReadAtMostOne(query)).await?).await?;
            row.ok_or_else(|| not_found(query))
        }
    }

    /// Reads the one row that there may be, or `None`.
    ///
    /// # Errors
    ///
    /// Of kind [`MoreThanOne`](crate::ErrorKind::MoreThanOne) if there are several.
    fn read_at_most_one<Q: Readable>(
        &self,
        query: &Q,
    ) -> impl Future<Output = Result<Option<Q::Row>, Error>> + Send {
        async move { query.complete_one(self, self.run(ReadAtMostOne(query)).await?).await }
    }

    /// How many rows the query has, counted by the database. Limit and offset count.
    fn count<Q: Readable>(
        &self,
        query: &Q,
    ) -> impl Future<Output = Result<u64, Error>> + Send {
        self.run(Count(query))
    }

    /// Whether the query has any row. The database stops at the first. Limit and offset count.
    fn has_rows<Q: Readable>(
        &self,
        query: &Q,
    ) -> impl Future<Output = Result<bool, Error>> + Send {
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
    fn read_page<Q: Readable>(
        &self,
        query: &Q,
        paging: Paging,
    ) -> impl Future<Output = Result<Page<Q::Row>, Error>> + Send {
        async move {
            let after = paging.offset().map_err(|err| err.asked_at(query.asked_at()))?;
            let all = self.count(query).await?;
            let rows = match after < all {
                true => self.run(Read::page(query, after, paging.size())).await?,
                false => Vec::new(),
            };
            Ok(Page::new(query.complete(self, rows).await?, paging, all))
        }
    }

    /// Reads so many rows after a place in the order of the query, or from its beginning, in one
    /// statement that costs the same however far that is.
    ///
    /// The order may be of any columns and expressions, in mixed directions and with NULLs; the
    /// primary key is added to it, so that no row is skipped or given twice.
    ///
    /// ```no_run
    /// # use nepheline::Database;
    /// # use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, top_m: f64 }
    /// # async fn f(db: Database) -> Result<(), Error> {
    /// let query = Specimen::rows().order_by(|s| s.top_m.desc());
    /// let first = db.read_after(&query, None, 20).await?;
    /// if let Some(cursor) = first.after() {
    ///     let text = cursor.to_string(); // to the browser and back
    ///     let second = db.read_after(&query, Some(&text.parse().unwrap()), 20).await?;
    /// }
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    ///
    /// Of kind [`UnfitPage`](crate::ErrorKind::UnfitPage) for no rows, and for a cursor of another
    /// query; [`UnfitParts`](crate::ErrorKind::UnfitParts) for a query with a limit, with groups, or
    /// whose rows have no key.
    fn read_after<Q: Readable>(
        &self,
        query: &Q,
        cursor: Option<&Cursor>,
        rows: u32,
    ) -> impl Future<Output = Result<Stretch<Q::Row>, Error>> + Send {
        read_stretch(self, query, cursor, rows, Way::After)
    }

    /// Reads so many rows before a place in the order of the query, or at its end; otherwise as
    /// [`read_after`](Self::read_after).
    ///
    /// # Errors
    ///
    /// As [`read_after`](Self::read_after).
    fn read_before<Q: Readable>(
        &self,
        query: &Q,
        cursor: Option<&Cursor>,
        rows: u32,
    ) -> impl Future<Output = Result<Stretch<Q::Row>, Error>> + Send {
        read_stretch(self, query, cursor, rows, Way::Before)
    }

    /// Reads the rows one after another, in constant memory however many there are.
    ///
    /// The stream holds a connection. Dropping it early frees the connection: what was still to
    /// come is not read. What stands alongside is read for some hundred rows at a time, through a
    /// second connection.
    ///
    /// # Errors
    ///
    /// Of kind [`Unsupported`](crate::ErrorKind::Unsupported) for rows with others alongside where
    /// there is no second connection: in a transaction, in a session, on a pool of one.
    fn read_stream<'a, Q: Readable>(
        &'a self,
        query: &'a Q,
    ) -> impl Stream<Item = Result<Q::Row, Error>> + Send + Unpin + 'a {
        query.stream(self)
    }

    /// Writes, and tells how many rows were inserted, found to be updated, or deleted. A write of many rows
    /// may take several statements: then all of them are done, or none.
    ///
    /// ```no_run
    /// # use nepheline::Database;
    /// # use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key, generated)] id: i64, label: String, top_m: f64 }
    /// # async fn f(db: Database) -> Result<(), Error> {
    /// let lowered = db.write(&Specimen::row(7).update(|s| s.top_m.set(s.top_m + 0.5))).await?;
    /// assert_eq!(lowered, 1);
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
    fn write<W: Writes>(&self, write: &W) -> impl Future<Output = Result<u64, Error>> + Send {
        writing::write(self, write, self.asking())
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
    fn write_returning<W: Writes>(
        &self,
        write: &W,
    ) -> impl Future<Output = Result<Vec<W::Row>, Error>> + Send {
        writing::write(self, write, self.asking())
    }

    /// Writes one row, and reads it as it is stored now.
    ///
    /// # Errors
    ///
    /// Those of [`write_returning`](Self::write_returning), [`NotFound`](crate::ErrorKind::NotFound) if there was no row,
    /// and [`MoreThanOne`](crate::ErrorKind::MoreThanOne) if there were several: then they have been written.
    fn write_returning_one<W: Writes>(
        &self,
        write: &W,
    ) -> impl Future<Output = Result<W::Row, Error>> + Send {
        async move { writing::sole(write, self.write_returning(write).await?) }
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
    fn write_upsert<T: Table>(
        &self,
        upsert: &Upsert<T>,
    ) -> impl Future<Output = Result<Upserted, Error>> + Send {
        writing::write(self, upsert, self.asking())
    }

    /// Inserts the rows of an iterator, however many they are, in constant memory: all of them, or none.
    /// Returns how many they were.
    ///
    /// # Errors
    ///
    /// Those of [`write`](Self::write), with the number of the row at fault.
    fn insert_each<I>(&self, rows: I) -> impl Future<Output = Result<u64, Error>> + Send
    where
        I: IntoIterator<Item: Unsaved, IntoIter: Send> + Send,
    {
        writing::insert_chunks(self, writing::Chunks::of(rows))
    }

    /// The engine's own plan of the query, as text. The query is not run.
    fn explain<Q: Readable>(
        &self,
        query: &Q,
    ) -> impl Future<Output = Result<String, Error>> + Send {
        self.run(Explain { query, analyze: false })
    }

    /// The engine's own plan of the query with what running it took, as text. The query is run.
    ///
    /// # Errors
    ///
    /// Of kind [`Unsupported`](crate::ErrorKind::Unsupported) on SQLite, which does not measure plans.
    fn explain_analyze<Q: Readable>(
        &self,
        query: &Q,
    ) -> impl Future<Output = Result<String, Error>> + Send {
        self.run(Explain { query, analyze: true })
    }
}

impl<H: sealed::Handle> Handle for H {}

async fn read_stretch<H: sealed::Handle, Q: Readable>(
    handle: &H,
    query: &Q,
    cursor: Option<&Cursor>,
    rows: u32,
    way: Way,
) -> Result<Stretch<Q::Row>, Error> {
    let asked = page::Asked::new(query, handle.asking(), cursor, rows, way)?;
    let verb = ReadStretch::<Q::Base> { asked: &asked, rows: PhantomData };
    let mut arrived = handle.run(verb).await?;
    let more = asked.has_more(&mut arrived);
    let (places, rows) = places_apart::<Q>(&asked, arrived);
    asked.stretch(query.complete(handle, rows).await?, &places, more)
}
