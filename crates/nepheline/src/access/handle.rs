//! The verbs of all handles. Each is defined once in `verbs!`, with its docs, and expands to a method of the
//! async trait and one of the blocking trait. `exec` implements them.

use std::future::Future;
use std::ops::ControlFlow;
use std::panic::Location;

use futures_util::stream::{self, Stream, StreamExt, TryStreamExt};
use nepheline_core::bounds::Beside;
use nepheline_core::internal::{Companions, InHand};
use nepheline_core::{Dialect, Error, InsertValues, Origin, Script, Table, Upsert, Writes};

use super::direct::now;
use crate::exec::access::Access as _;
use crate::exec::companions::{self, Explainable, LoadsAll, Readable};
use crate::exec::page::{Cursor, Page, Paging, CursoredRows, Way};
use crate::exec::write::{self, Upserted};
use crate::exec::call::{self, Calls};
use crate::exec::together::{self, ReadsTogether};
use crate::exec::{read, script};

pub(crate) mod sealed {
    use crate::access::asynchronous::AsyncAccess;
    use crate::access::blocking::BlockingAccess;

    pub trait RunsQueries: Sync {
        #[expect(private_interfaces, reason = "only the verbs call it")]
        fn access(&self) -> AsyncAccess<'_>;
    }

    pub trait BlockingRunsQueries {
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

/// The verbs that are the same for async and blocking handles: docs, the examples of both, and the
/// implementation.
macro_rules! verbs {
    ($form:ident) => {
        verb! { $form,
            {
                /// Reads all rows of the query.
                ///
                /// # Errors
                ///
                /// Those of [`Query::sql`](crate::Query::sql); [`Mismatch`](crate::ErrorKind::Mismatch) for a
                /// row that does not fit its type, naming table, column and row; and errors of the database,
                /// with the SQL and its origin. The other verbs fail in the same ways.
            } {} {}
            read [Q: Readable] (query: &Q) -> Vec<Q::Row>, read::all
        }
        verb! { $form,
            {
                /// Reads the first row, or `None` if there is none. The query is sent with `LIMIT 1`.
                ///
                /// Without an order the engine decides which row is first.
            } {} {}
            read_first [Q: Readable] (query: &Q) -> Option<Q::Row>, read::first
        }
        verb! { $form,
            {
                /// Reads the row that must exist.
                ///
                /// # Errors
                ///
                /// [`NotFound`](crate::ErrorKind::NotFound) without a row, naming the table and the key, and
                /// [`MoreThanOne`](crate::ErrorKind::MoreThanOne) with several.
            } {} {}
            read_one [Q: Readable] (query: &Q) -> Q::Row, read::one
        }
        verb! { $form,
            {
                /// Reads the row that may exist, or `None`.
                ///
                /// # Errors
                ///
                /// [`MoreThanOne`](crate::ErrorKind::MoreThanOne) if there are several.
            } {} {}
            read_at_most_one [Q: Readable] (query: &Q) -> Option<Q::Row>, read::at_most_one
        }
        verb! { $form,
            {
                /// Reads several independent queries on one connection, and returns the rows of each as a tuple:
                /// `read_together((&boreholes, &labs))`. On PostgreSQL they are sent together, so that all of them take
                /// one round trip; companions follow after all.
                ///
                /// Rows may change between the queries. In a [serializable](crate::Isolation::Serializable)
                /// transaction all see the same data.
                ///
                /// # Errors
                ///
                /// Those of [`read`](Self::read), of the first query that fails.
            } {
                /// ```no_run
                /// # use nepheline::Database;
                /// # use nepheline::prelude::*;
                /// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64 }
                /// # #[derive(Debug, Table)] struct Hazard { #[nepheline(key)] id: i64 }
                /// # async fn f(db: Database) -> Result<(), Error> {
                /// let (labs, hazards) = db.read_together((&Lab::rows(), &Hazard::rows())).await?;
                /// # Ok(())
                /// # }
                /// ```
            } {}
            read_together [Q: ReadsTogether] (queries: Q) -> Q::Rows, together::read
        }
        verb! { $form,
            {
                /// Counts the rows of the query in the database, within its limit and offset.
            } {} {}
            count [Q: Readable] (query: &Q) -> u64, read::count
        }
        verb! { $form,
            {
                /// Returns whether the query has any row, within its limit and offset. The database stops at
                /// the first.
            } {} {}
            exists [Q: Readable] (query: &Q) -> bool, read::exists
        }
        verb! { $form,
            {
                /// Reads a numbered page, and counts all rows: two statements, or one if the page is empty.
                ///
                /// Rows may change between the two statements. In a
                /// [serializable](crate::Isolation::Serializable) transaction both see the same data.
                ///
                /// # Errors
                ///
                /// [`InvalidPage`](crate::ErrorKind::InvalidPage) for page 0, and for a page size of 0.
            } {} {}
            read_page [Q: Readable] (query: &Q, paging: Paging) -> Page<Q::Row>, read::page
        }
        verb! { $form,
            {
                /// Reads the next `rows` rows after a position in the order of the query, or from its
                /// beginning (keyset pagination). One statement reads them, at the same cost for every
                /// position.
                ///
                /// The order may have any columns and expressions, in mixed directions and with NULLs. The
                /// primary key is appended to it, so that no row is skipped or repeated. To the order of a
                /// grouped query the group keys are appended.
                ///
                /// # Errors
                ///
                /// [`InvalidPage`](crate::ErrorKind::InvalidPage) for 0 rows, and for a cursor of another
                /// query; [`InvalidQuery`](crate::ErrorKind::InvalidQuery) for a query with a limit,
                /// `distinct`, `limit_each` or subtotals, or over tables without a key.
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
            read_after [Q: Readable] (query: &Q, cursor: Option<&Cursor>, rows: u32) -> CursoredRows<Q::Row>,
            |access, query, cursor, rows| read::cursored(access, query, cursor, rows, Way::After)
        }
        verb! { $form,
            {
                /// Reads the previous `rows` rows before a position in the order of the query, or at its end;
                /// otherwise as [`read_after`](Self::read_after).
                ///
                /// # Errors
                ///
                /// As [`read_after`](Self::read_after).
            } {} {}
            read_before [Q: Readable] (query: &Q, cursor: Option<&Cursor>, rows: u32) -> CursoredRows<Q::Row>,
            |access, query, cursor, rows| read::cursored(access, query, cursor, rows, Way::Before)
        }
        verb! { $form,
            {
                /// Writes, and returns the number of rows that were inserted, matched by the update, or
                /// deleted. Many rows may take several statements, which are done together or not at all.
                ///
                /// # Errors
                ///
                /// [`UniqueViolation`](crate::ErrorKind::UniqueViolation),
                /// [`ForeignKeyViolation`](crate::ErrorKind::ForeignKeyViolation),
                /// [`CheckViolation`](crate::ErrorKind::CheckViolation) and
                /// [`NotNullViolation`](crate::ErrorKind::NotNullViolation) for a violated constraint, with
                /// the number of the row if several are inserted;
                /// [`StaleVersion`](crate::ErrorKind::StaleVersion) for an update that expects another
                /// version; [`TransactionResolutionUnknown`](crate::ErrorKind::TransactionResolutionUnknown)
                /// if the connection was lost before the answer arrived.
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
                /// let lab = Lab::insert(LabToInsert { name: "Ostra Assays".into(), accredited: false });
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
                /// Writes, and reads the rows as they are stored now, with generated values; after a delete,
                /// as they were. On an engine that cannot return the rows of an UPDATE, such as MariaDB, an
                /// update takes three statements in one transaction: it reads and locks the keys, updates the
                /// rows, and reads them.
                ///
                /// # Errors
                ///
                /// Those of [`write`](Self::write); [`Unsupported`](crate::ErrorKind::Unsupported) on MariaDB
                /// and MySQL for an upsert that may leave rows unchanged, and for an update that sets the
                /// key; on MySQL also for inserts and deletes, whose rows it cannot return.
            } {} {}
            write_returning [W: Writes] (write: &W) -> Vec<W::Row>, write::write
        }
        verb! { $form,
            {
                /// Writes one row, and reads it as it is stored now.
                ///
                /// # Errors
                ///
                /// Those of [`write_returning`](Self::write_returning),
                /// [`NotFound`](crate::ErrorKind::NotFound) if no row was written, and
                /// [`MoreThanOne`](crate::ErrorKind::MoreThanOne) if several were; those stay written.
            } {} {}
            write_returning_one [W: Writes] (write: &W) -> W::Row, write::write_one
        }
        verb! { $form,
            {
                /// Writes an upsert, and returns how many of its rows were inserted, updated and unchanged.
                ///
                /// PostgreSQL reports it for each row, and MariaDB and MySQL in their counts. On SQLite, and
                /// where a policy may hide rows, existing rows are looked up first, in the same transaction.
                /// The lookup compares by code point: if the collation of the column treats two texts as
                /// equal, SQLite counts such a row as inserted.
                ///
                /// # Errors
                ///
                /// Those of [`write`](Self::write).
            } {} {}
            write_upsert [T: Table] (upsert: &Upsert<T>) -> Upserted, write::write
        }
        verb! { $form,
            {
                /// Runs several writes in order and in one transaction: all of them, or none. Returns the number of rows
                /// that they wrote. The updates of [`update_each`](crate::Query::update_each) are made for it.
                ///
                /// # Errors
                ///
                /// Those of [`write`](Self::write).
            } {} {}
            write_each [W: Writes] (writes: &[W]) -> u64, write::write_each
        }
        verb! { $form,
            {
                /// Runs the statements of a script in order. On SQLite and PostgreSQL they run in one transaction, all of
                /// them or none. MariaDB and MySQL commit at each change of the schema, so that there the
                /// statements before a failed one stay, and a script inside a transaction is refused; each
                /// statement may run on another connection of the pool.
                ///
                /// # Errors
                ///
                /// Those of the database, with the number of the statement in the script and its line;
                /// [`InvalidQuery`](crate::ErrorKind::InvalidQuery) if a statement begins or ends a transaction.
            } {
                /// ```no_run
                /// # async fn f(db: nepheline::Database) -> Result<(), nepheline::Error> {
                /// use nepheline::prelude::*;
                /// use nepheline::script;
                ///
                /// db.run_script(&script!("CREATE TABLE tray (id BIGINT PRIMARY KEY); CREATE TABLE lid (id BIGINT)")).await?;
                /// # Ok(())
                /// # }
                /// ```
            } {
                /// ```
                /// use nepheline::blocking::Database;
                /// use nepheline::prelude::*;
                /// use nepheline::script;
                ///
                /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
                /// # let db = Database::over(rusqlite::Connection::open_in_memory()?)?;
                /// db.run_script(&script!("CREATE TABLE tray (id INTEGER PRIMARY KEY); INSERT INTO tray VALUES (1), (2)"))?;
                /// # Ok(())
                /// # }
                /// ```
            }
            run_script [] (script: &Script) -> (), script::run_script
        }
        verb! { $form,
            {
                /// Calls a procedure, or a function that returns a cursor, and returns its OUT parameters, its result
                /// sets, or the rows of the cursor. See [`call!`](crate::call!).
                ///
                /// A procedure may commit only outside a transaction. If one ends the transaction that it is called in,
                /// as MariaDB and MySQL allow, what follows there is
                /// [`TransactionEnded`](crate::ErrorKind::TransactionEnded).
                ///
                /// # Errors
                ///
                /// Those of the database; [`Unsupported`](crate::ErrorKind::Unsupported) where the engine has no
                /// such thing; [`Mismatch`](crate::ErrorKind::Mismatch) for results of other types, or another
                /// number of result sets; [`PoliciesRequired`](crate::ErrorKind::PoliciesRequired) on a handle with
                /// `policies_required`, without [`outside_policies`](crate::DatabaseCall::outside_policies).
            } {
                /// ```no_run
                /// # async fn f(db: nepheline::Database) -> Result<(), nepheline::Error> {
                /// use nepheline::call;
                /// use nepheline::prelude::*;
                ///
                /// let (closed,) = db.call(&call!("close_site"(7_i64)).out::<(i64,)>()).await?;
                /// let (labels, depths) = db.call(&call!("site_report"(7_i64)).result_sets::<(String, f64)>()).await?;
                /// # Ok(())
                /// # }
                /// ```
            } {
                /// ```no_run
                /// # fn f(db: nepheline::blocking::Database) -> Result<(), nepheline::Error> {
                /// use nepheline::call;
                /// use nepheline::prelude::*;
                ///
                /// let (closed,) = db.call(&call!("close_site"(7_i64)).out::<(i64,)>())?;
                /// # Ok(())
                /// # }
                /// ```
            }
            call [C: Calls] (call: &C) -> C::Output, call::call
        }
        verb! { $form,
            {
                /// Returns the engine's plan of the query (EXPLAIN) as text. The query does not run.
                ///
                /// # Errors
                ///
                /// [`PoliciesRequired`](crate::ErrorKind::PoliciesRequired) on a handle with `policies_required`,
                /// unless the query is marked by [`outside_policies`](crate::Readable::outside_policies).
            } {} {}
            explain [Q: Explainable] (query: &Q) -> String,
            |access, query| read::explain(access, query, false)
        }
        verb! { $form,
            {
                /// Runs the query, and returns the engine's plan with its measurements (EXPLAIN ANALYZE) as
                /// text.
                ///
                /// # Errors
                ///
                /// [`Unsupported`](crate::ErrorKind::Unsupported) on SQLite, which does not measure plans; those
                /// of [`explain`](Self::explain).
            } {} {}
            explain_analyze [Q: Explainable] (query: &Q) -> String,
            |access, query| read::explain(access, query, true)
        }
    };
}

/// The docs of `insert_with_children`, whose bounds the macro of the other verbs does not have.
macro_rules! insert_with_children_docs {
    () => {
        "Inserts parents with their children in one transaction, and returns both as they are stored. `child` makes the row \
         of a child from its stored parent, whose generated key it can use:\n\n\
         ```ignore\n\
         db.insert_with_children(vec![(borehole, vec![\"KP-9-1\", \"KP-9-2\"])], |borehole, label| SpecimenToInsert {\n    \
         borehole_id: borehole.id,\n    label: label.to_owned(),\n})\n\
         ```\n\n\
         There is one INSERT for the parents and one for all children, or a few if there are many.\n\n\
         # Errors\n\nThose of [`write_returning`](Self::write_returning)."
    };
}

/// The docs of `load_alongside`, whose bounds the macro of the other verbs does not have.
macro_rules! load_alongside_docs {
    () => {
        "Reads related rows of rows in hand, as [`alongside`](crate::Query::alongside) reads them with a query: one \
         statement for all rows. `db.load_alongside(boreholes, |b| b.specimens())` returns \
         `Vec<(Borehole, Vec<Specimen>)>`.\n\nThe rows may be from anywhere. Only the related rows are under policies.\n\n\
         # Errors\n\nThose of [`alongside`](crate::Query::alongside)."
    };
}

/// The docs of `insert_stream`, whose bounds differ between the two traits.
macro_rules! insert_stream_docs {
    () => {
        "Inserts the rows of an iterator, however many they are, in constant memory: all of them, or none. \
         Returns how many they were.\n\n# Errors\n\nThose of [`write`](Self::write), with the number of the row at \
         fault."
    };
}

/// The verbs of every async handle: a [`Database`](crate::Database), a [`Transaction`](crate::Transaction),
/// or a session over a connection of your own.
///
/// The trait is in the prelude. Name it in a function that accepts any handle: `async fn deepest(db: &impl
/// RunsQueries) -> Result<Vec<Specimen>, Error>`. Blocking handles have the same verbs in
/// [`blocking::RunsQueries`](crate::blocking::RunsQueries).
pub trait RunsQueries: sealed::RunsQueries + Sized {
    verbs!(asynchronous);

    /// Returns the dialect of the database.
    fn dialect(&self) -> Dialect {
        self.access().dialect()
    }

    /// Reads the rows one after another, in constant memory.
    ///
    /// The stream holds a connection. Dropping it early cancels the statement at the server and closes the
    /// connection. Companions are read for some hundred rows at a time, through a second connection.
    ///
    /// In a transaction, other statements fail with [`TransactionBusy`](crate::ErrorKind::TransactionBusy)
    /// while a stream is open. After a stream was dropped, the next statement first reads its remaining rows.
    ///
    /// # Errors
    ///
    /// [`Unsupported`](crate::ErrorKind::Unsupported) for rows with companions where there is no second
    /// connection: in a transaction, in a session, on a pool of one.
    fn read_stream<'a, Q: Readable>(
        &'a self,
        query: &'a Q,
    ) -> impl Stream<Item = Result<Q::Row, Error>> + Send + Unpin + 'a {
        let each = |rows: Vec<Q::Row>| stream::iter(rows.into_iter().map(Ok));
        Box::pin(read::chunks(self.access(), query).map_ok(each).try_flatten())
    }

    #[doc = insert_with_children_docs!()]
    #[expect(clippy::type_complexity, reason = "the docs show the type itself")]
    #[track_caller]
    fn insert_with_children<P, S, C, F>(
        &self,
        parents: Vec<(P, Vec<S>)>,
        child: F,
    ) -> impl Future<Output = Result<Vec<(P::Table, Vec<C::Table>)>, Error>> + Send
    where
        P: InsertValues,
        S: Send,
        C: InsertValues,
        F: Fn(&P::Table, S) -> C + Send,
    {
        let origin = Origin::of(Location::caller());
        write::insert_with_children(self.access(), parents, child, origin)
    }

    #[doc = load_alongside_docs!()]
    #[expect(clippy::type_complexity, reason = "the docs show the type itself")]
    #[track_caller]
    fn load_alongside<T, F, X>(
        &self,
        rows: Vec<T>,
        of: F,
    ) -> impl Future<Output = Result<Vec<<(X::Companion,) as Companions<T>>::Row>, Error>> + Send
    where
        T: Table,
        F: FnOnce(T::Columns) -> X,
        X: Beside,
        (X::Companion,): LoadsAll<T>,
    {
        companions::load(self.access(), InHand::<T, ()>::of(of), rows)
    }

    #[doc = insert_stream_docs!()]
    fn insert_stream<I>(&self, rows: I) -> impl Future<Output = Result<u64, Error>> + Send
    where
        I: IntoIterator<Item: InsertValues, IntoIter: Send> + Send,
    {
        write::insert_stream(self.access(), rows.into_iter())
    }
}

impl<H: sealed::RunsQueries> RunsQueries for H {}

/// The verbs of every blocking handle.
///
/// The trait is in the prelude. Name it in a function that accepts any handle: `fn deepest(db: &impl
/// RunsQueries) -> Result<Vec<Specimen>, Error>`.
pub trait BlockingRunsQueries: sealed::BlockingRunsQueries + Sized {
    verbs!(blocking);

    /// Returns the dialect of the database.
    fn dialect(&self) -> Dialect {
        self.access().dialect()
    }

    /// Passes the rows to `take` one after another, in constant memory, until it returns `Break`. Companions
    /// are read for some hundred rows at a time. `take` may use the handle, but not the transaction whose
    /// rows these are, except on SQLite.
    ///
    /// # Errors
    ///
    /// [`Unsupported`](crate::ErrorKind::Unsupported) for rows with companions where a server has no second
    /// connection: in a transaction, on a pool of one.
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

    #[doc = insert_with_children_docs!()]
    #[expect(clippy::type_complexity, reason = "the docs show the type itself")]
    #[track_caller]
    fn insert_with_children<P, S, C, F>(
        &self,
        parents: Vec<(P, Vec<S>)>,
        child: F,
    ) -> Result<Vec<(P::Table, Vec<C::Table>)>, Error>
    where
        P: InsertValues,
        C: InsertValues,
        F: Fn(&P::Table, S) -> C,
    {
        let origin = Origin::of(Location::caller());
        now(write::insert_with_children(self.access(), parents, child, origin))
    }

    #[doc = load_alongside_docs!()]
    #[expect(clippy::type_complexity, reason = "the docs show the type itself")]
    #[track_caller]
    fn load_alongside<T, F, X>(
        &self,
        rows: Vec<T>,
        of: F,
    ) -> Result<Vec<<(X::Companion,) as Companions<T>>::Row>, Error>
    where
        T: Table,
        F: FnOnce(T::Columns) -> X,
        X: Beside,
        (X::Companion,): LoadsAll<T>,
    {
        now(companions::load(self.access(), InHand::<T, ()>::of(of), rows))
    }

    #[doc = insert_stream_docs!()]
    fn insert_stream<I: IntoIterator<Item: InsertValues>>(&self, rows: I) -> Result<u64, Error> {
        now(write::insert_stream(self.access(), rows.into_iter()))
    }
}

impl<H: sealed::BlockingRunsQueries> BlockingRunsQueries for H {}
