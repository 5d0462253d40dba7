//! The verbs of all handles. Each is defined once in `verbs!`, with its docs, and expands to a method of the async trait
//! and to one of the blocking trait; what they do is in `exec`.

use std::future::Future;
use std::ops::ControlFlow;

use futures_util::stream::{self, Stream, StreamExt, TryStreamExt};
use nepheline_core::{Error, Table, Unsaved, Upsert, Writes};

use super::direct::now;
use crate::exec::companions::Readable;
use crate::exec::page::{Cursor, Page, Paging, Stretch, Way};
use crate::exec::write::{self, Upserted};
use crate::exec::read;

pub(crate) mod sealed {
    use crate::access::asynchronous::AsyncAccess;
    use crate::access::blocking::BlockingAccess;

    pub trait Handle: Sync {
        #[expect(private_interfaces, reason = "only the verbs call it")]
        fn access(&self) -> AsyncAccess<'_>;
    }

    pub trait BlockingHandle {
        #[expect(private_interfaces, reason = "only the verbs call it")]
        fn access(&self) -> BlockingAccess<'_>;
    }
}

/// A method of one of the two traits.
macro_rules! verb {
    (
        asynchronous,
        { $(#[$docs:meta])* } { $(#[$example:meta])* } { $(#[$other:meta])* }
        $name:ident [$($generic:tt)*] ($($argument:ident: $type:ty),*) -> $output:ty, $run:expr
    ) => {
        $(#[$docs])* $(#[$example])*
        fn $name<$($generic)*>(
            &self,
            $($argument: $type),*
        ) -> impl Future<Output = Result<$output, Error>> + Send {
            $run(self.access(), $($argument),*)
        }
    };
    (
        blocking,
        { $(#[$docs:meta])* } { $(#[$other:meta])* } { $(#[$example:meta])* }
        $name:ident [$($generic:tt)*] ($($argument:ident: $type:ty),*) -> $output:ty, $run:expr
    ) => {
        $(#[$docs])* $(#[$example])*
        fn $name<$($generic)*>(&self, $($argument: $type),*) -> Result<$output, Error> {
            now($run(self.access(), $($argument),*))
        }
    };
}

/// Every verb that is the same for async and blocking handles: its docs, the examples of the two, and what runs.
macro_rules! verbs {
    ($form:ident) => {
        verb! { $form,
            {
                /// Reads all rows of the query.
                ///
                /// # Errors
                ///
                /// Those of [`Query::sql`](crate::Query::sql); [`Mismatch`](crate::ErrorKind::Mismatch) for a row that
                /// does not fit its type, naming table, column and row; and what the database refuses, with the SQL and
                /// its origin. The other verbs fail in the same ways.
            } {} {}
            read [Q: Readable] (query: &Q) -> Vec<Q::Row>, read::all
        }
        verb! { $form,
            {
                /// Reads the first row, or `None` if there is none. The query is sent with `LIMIT 1`.
                ///
                /// Which row is first is up to the engine, unless the query is ordered.
            } {} {}
            read_first [Q: Readable] (query: &Q) -> Option<Q::Row>, read::first
        }
        verb! { $form,
            {
                /// Reads the one row that there must be.
                ///
                /// # Errors
                ///
                /// Of kind [`NotFound`](crate::ErrorKind::NotFound) without a row, naming the table and the key
                /// that was sought, and of kind [`MoreThanOne`](crate::ErrorKind::MoreThanOne) with several.
            } {} {}
            read_one [Q: Readable] (query: &Q) -> Q::Row, read::one
        }
        verb! { $form,
            {
                /// Reads the one row that there may be, or `None`.
                ///
                /// # Errors
                ///
                /// Of kind [`MoreThanOne`](crate::ErrorKind::MoreThanOne) if there are several.
            } {} {}
            read_at_most_one [Q: Readable] (query: &Q) -> Option<Q::Row>, read::at_most_one
        }
        verb! { $form,
            {
                /// Counts the rows of the query, in the database. Limit and offset count.
            } {} {}
            count [Q: Readable] (query: &Q) -> u64, read::count
        }
        verb! { $form,
            {
                /// Returns whether the query has any row. The database stops at the first. Limit and offset count.
            } {} {}
            has_rows [Q: Readable] (query: &Q) -> bool, read::has_rows
        }
        verb! { $form,
            {
                /// Reads a numbered page, and counts how many rows there are in all: two statements, or one where
                /// there is nothing on the page.
                ///
                /// Between the two the rows may change; in a transaction that is
                /// [serializable](crate::Isolation::Serializable) they are of one moment.
                ///
                /// # Errors
                ///
                /// Of kind [`UnfitPage`](crate::ErrorKind::UnfitPage) for page 0, and for pages of no rows.
            } {} {}
            read_page [Q: Readable] (query: &Q, paging: Paging) -> Page<Q::Row>, read::page
        }
        verb! { $form,
            {
                /// Reads so many rows after a place in the order of the query, or from its beginning, in one
                /// statement that costs the same however far that is.
                ///
                /// The order may be of any columns and expressions, in mixed directions and with NULLs; the
                /// primary key is added to it, so that no row is skipped or given twice.
                ///
                /// # Errors
                ///
                /// Of kind [`UnfitPage`](crate::ErrorKind::UnfitPage) for no rows, and for a cursor of another
                /// query; [`UnfitParts`](crate::ErrorKind::UnfitParts) for a query with a limit, with groups, or
                /// whose rows have no key.
                ///
            } {
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
            } {
                /// ```no_run
                /// # use nepheline::blocking::Database;
                /// # use nepheline::prelude::*;
                /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, top_m: f64 }
                /// # fn f(db: Database) -> Result<(), Error> {
                /// let query = Specimen::rows().order_by(|s| s.top_m.desc());
                /// let first = db.read_after(&query, None, 20)?;
                /// if let Some(cursor) = first.after() {
                ///     let text = cursor.to_string(); // to the browser and back
                ///     let second = db.read_after(&query, Some(&text.parse().unwrap()), 20)?;
                /// }
                /// # Ok(())
                /// # }
                /// ```
            }
            read_after [Q: Readable] (query: &Q, cursor: Option<&Cursor>, rows: u32) -> Stretch<Q::Row>,
            |access, query, cursor, rows| read::stretch(access, query, cursor, rows, Way::After)
        }
        verb! { $form,
            {
                /// Reads so many rows before a place in the order of the query, or at its end; otherwise as
                /// [`read_after`](Self::read_after).
                ///
                /// # Errors
                ///
                /// As [`read_after`](Self::read_after).
            } {} {}
            read_before [Q: Readable] (query: &Q, cursor: Option<&Cursor>, rows: u32) -> Stretch<Q::Row>,
            |access, query, cursor, rows| read::stretch(access, query, cursor, rows, Way::Before)
        }
        verb! { $form,
            {
                /// Writes, and returns how many rows were inserted, matched by the update, or deleted. A write of many
                /// rows may take several statements: then all of them are done, or none.
                ///
                /// # Errors
                ///
                /// Of kind [`UniqueViolation`](crate::ErrorKind::UniqueViolation),
                /// [`ForeignKeyViolation`](crate::ErrorKind::ForeignKeyViolation),
                /// [`CheckViolation`](crate::ErrorKind::CheckViolation) and
                /// [`NotNullViolation`](crate::ErrorKind::NotNullViolation) for what the tables do not allow, with the
                /// number of the row where several are inserted;
                /// [`StaleVersion`](crate::ErrorKind::StaleVersion) for an update that expects another version;
                /// [`TransactionResolutionUnknown`](crate::ErrorKind::TransactionResolutionUnknown) where the connection
                /// was lost before the answer came.
                ///
            } {
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
            } {
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
            }
            write [W: Writes] (write: &W) -> u64, write::write
        }
        verb! { $form,
            {
                /// Writes, and reads the rows as they are stored now, with what the database generated; of a delete, as
                /// they were. Where the engine does not give back the rows of an update, as MariaDB, that is three
                /// statements in one transaction: the keys of the rows are read and locked, the rows written and read.
                ///
                /// # Errors
                ///
                /// Those of [`write`](Self::write); [`Unsupported`](crate::ErrorKind::Unsupported) on MariaDB and MySQL
                /// for an upsert that may leave rows as they are, and for an update that sets the key; on MySQL for
                /// inserts and deletes, whose rows it does not give back.
            } {} {}
            write_returning [W: Writes] (write: &W) -> Vec<W::Row>, write::write
        }
        verb! { $form,
            {
                /// Writes one row, and reads it as it is stored now.
                ///
                /// # Errors
                ///
                /// Those of [`write_returning`](Self::write_returning), [`NotFound`](crate::ErrorKind::NotFound) if there
                /// was no row, and [`MoreThanOne`](crate::ErrorKind::MoreThanOne) if there were several: then they have
                /// been written.
            } {} {}
            write_returning_one [W: Writes] (write: &W) -> W::Row, write::write_one
        }
        verb! { $form,
            {
                /// Writes an upsert, and returns how many of its rows were inserted, updated and kept.
                ///
                /// PostgreSQL tells it of each row, and MariaDB and MySQL by their counts. Otherwise, on SQLite and for
                /// rows that a policy may hide, existing rows are looked up first, in the same transaction. They are
                /// looked up by code point: where the column's collation takes two texts for the same, the row counts as
                /// inserted on SQLite.
                ///
                /// # Errors
                ///
                /// Those of [`write`](Self::write).
            } {} {}
            write_upsert [T: Table] (upsert: &Upsert<T>) -> Upserted, write::write
        }
        verb! { $form,
            {
                /// Returns the engine's own plan of the query, as text. The query is not run.
            } {} {}
            explain [Q: Readable] (query: &Q) -> String,
            |access, query| read::explain(access, query, false)
        }
        verb! { $form,
            {
                /// Returns the engine's own plan of the query with what running it took, as text. The query is run.
                ///
                /// # Errors
                ///
                /// Of kind [`Unsupported`](crate::ErrorKind::Unsupported) on SQLite, which does not measure plans.
            } {} {}
            explain_analyze [Q: Readable] (query: &Q) -> String,
            |access, query| read::explain(access, query, true)
        }
    };
}

/// The docs of `insert_each`, whose bounds differ between the two traits.
macro_rules! insert_each_docs {
    () => {
        "Inserts the rows of an iterator, however many they are, in constant memory: all of them, or none. \
         Returns how many they were.\n\n# Errors\n\nThose of [`write`](Self::write), with the number of the row at \
         fault."
    };
}

/// The verbs: what can be done with a query, on every async handle: a [`Database`](crate::Database),
/// a [`Transaction`](crate::Transaction), or a session over a connection of your own.
///
/// It is in the prelude, so its methods are there without naming it. Name it to write a function
/// that takes any handle: `async fn deepest(db: &impl Handle) -> Result<Vec<Specimen>, Error>`.
/// Over a blocking handle the same verbs are in [`blocking::Handle`](crate::blocking::Handle).
pub trait Handle: sealed::Handle + Sized {
    verbs!(asynchronous);

    /// Reads the rows one after another, in constant memory however many there are.
    ///
    /// The stream holds a connection. Dropping it early frees the connection: a server is told to stop, and the
    /// connection closed. Companions are read for some hundred rows at a time, through a second connection.
    ///
    /// In a transaction, statements are refused with [`TransactionBusy`](crate::ErrorKind::TransactionBusy) while a
    /// stream is open. What is left of one that was dropped is read by the next statement.
    ///
    /// # Errors
    ///
    /// Of kind [`Unsupported`](crate::ErrorKind::Unsupported) for rows with others alongside where
    /// there is no second connection: in a transaction, in a session, on a pool of one.
    fn read_stream<'a, Q: Readable>(
        &'a self,
        query: &'a Q,
    ) -> impl Stream<Item = Result<Q::Row, Error>> + Send + Unpin + 'a {
        let each = |rows: Vec<Q::Row>| stream::iter(rows.into_iter().map(Ok));
        Box::pin(read::chunks(self.access(), query).map_ok(each).try_flatten())
    }

    #[doc = insert_each_docs!()]
    fn insert_each<I>(&self, rows: I) -> impl Future<Output = Result<u64, Error>> + Send
    where
        I: IntoIterator<Item: Unsaved, IntoIter: Send> + Send,
    {
        write::insert_each(self.access(), rows.into_iter())
    }
}

impl<H: sealed::Handle> Handle for H {}

/// The verbs: what can be done with a query, on every handle of this module.
///
/// It is in the prelude, so its methods are there without naming it. Name it to write a function
/// that takes any handle: `fn deepest(db: &impl Handle) -> Result<Vec<Specimen>, Error>`.
pub trait BlockingHandle: sealed::BlockingHandle + Sized {
    verbs!(blocking);

    /// Gives the rows to `take` one after another, in constant memory however many there are, until
    /// it returns `Break`. Companions are read for some hundred rows at a time. The handle can be used in `take`, but
    /// not the transaction whose rows these are, except on SQLite.
    ///
    /// # Errors
    ///
    /// Of kind [`Unsupported`](crate::ErrorKind::Unsupported) for rows with others alongside where a
    /// server has no second connection to ask: in a transaction, on a pool of one.
    fn read_stream<Q: Readable>(
        &self,
        query: &Q,
        mut take: impl FnMut(Q::Row) -> ControlFlow<()>,
    ) -> Result<(), Error> {
        let mut chunks = std::pin::pin!(read::chunks(self.access(), query));
        while let Some(rows) = now(chunks.next()) {
            if rows?.into_iter().try_for_each(&mut take).is_break() {
                break;
            }
        }
        Ok(())
    }

    #[doc = insert_each_docs!()]
    fn insert_each<I: IntoIterator<Item: Unsaved>>(&self, rows: I) -> Result<u64, Error> {
        now(write::insert_each(self.access(), rows.into_iter()))
    }
}

impl<H: sealed::BlockingHandle> BlockingHandle for H {}
