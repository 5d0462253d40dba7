//! A session over a SQLite connection that somebody else has: the program, or our own handle.

use std::borrow::Cow;
use std::fmt;
use std::ops::ControlFlow;
use std::time::Duration;

use nepheline_core::internal::{Asking, Part, Selects, Wanted};
use nepheline_core::{Dialect, Error, Unsaved, Writes};
use rusqlite::Connection;

use super::sealed;
use crate::readable::Readable;
use crate::setting::{Setting, set_by};
use crate::sqlite::direct::{self, StatementTimeout};
use crate::transaction::TransactionOptions;
use crate::verbs::Verb;
use crate::writing::{Chunks, Course, Outcome, Stopped};

/// How long a connection of the program waits for a lock.
const LOCK_WAIT: Duration = Duration::from_secs(5);

/// Runs queries on a `rusqlite` connection or transaction of your own.
///
/// So one function of an existing service can use Nepheline while the rest stays as it is. The verbs
/// are those of [`Handle`](super::Handle).
///
/// ```
/// use nepheline::blocking::Session;
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64 }
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// # let mut connection = rusqlite::Connection::open_in_memory()?;
/// # connection.execute_batch("CREATE TABLE lab (id INTEGER PRIMARY KEY)")?;
/// let transaction = connection.transaction()?;
/// transaction.execute("INSERT INTO lab VALUES (1)", [])?;
/// assert_eq!(Session::over(&transaction)?.count(&Lab::rows())?, 1);
/// # Ok(())
/// # }
/// ```
pub struct Session<'c> {
    connection: &'c Connection,
    timeout: Option<&'c StatementTimeout>,
    setting: Cow<'c, Setting>,
}

impl<'c> Session<'c> {
    /// Sets the connection up as our own are: foreign keys are enforced, a lock is waited for up to
    /// five seconds, and a misspelt name in double quotes is an error instead of text. It stays so
    /// afterwards. (Inside a transaction SQLite leaves foreign keys as they were.)
    ///
    /// # Errors
    ///
    /// Of kind [`Connection`](crate::ErrorKind::Connection) if the database's text is not UTF-8, or
    /// SQLite is older than 3.40.
    pub fn over(connection: &'c Connection) -> Result<Session<'c>, Error> {
        set_up(connection)?;
        Ok(Session { connection, timeout: None, setting: Cow::default() })
    }

    set_by!([self] self -> Self);

    /// The same session with another setting.
    fn set(mut self, change: impl FnOnce(&Setting) -> Setting) -> Self {
        self.setting = Cow::Owned(change(&self.setting));
        self
    }

    /// A session over a connection that is set up already.
    pub(super) fn within(
        connection: &'c Connection,
        timeout: Option<&'c StatementTimeout>,
        setting: &'c Setting,
    ) -> Session<'c> {
        Session { connection, timeout, setting: Cow::Borrowed(setting) }
    }

    /// The rows of one statement, before anything stands alongside.
    pub(crate) fn each_read<Q: Selects>(
        &self,
        query: &Q,
        mut take: impl FnMut(Q::Read) -> ControlFlow<()>,
    ) -> Result<(), Error> {
        let mut statement = query.statement(sealed::Handle::asking(self), Wanted::Rows)?;
        let mut running = self.setting.begin(&mut statement)?;
        if let Some(answer) = running.answer() {
            let rows = answer.gather::<Q::Read, Vec<Q::Read>>(statement.key_cells());
            for row in rows.map_err(|err| statement.context(err))? {
                running.row();
                if take(row).is_break() {
                    return Ok(());
                }
            }
            running.complete();
            return Ok(());
        }
        let mut end = ControlFlow::Continue(());
        direct::within(self.timeout, || {
            direct::each(self.connection, &statement, |row| {
                running.row();
                end = take(row);
                end
            })
        })?;
        if end.is_continue() {
            running.complete();
        }
        Ok(())
    }

    fn write_at<W: Writes, O: Outcome<W>>(&self, write: &W, asking: Asking<'_>) -> Result<O, Error> {
        let written = match Course::of(write, asking) {
            Ok(mut course) if course.is_single(asking) => {
                self.follow(&mut course).map_err(|(_, err)| err)
            }
            Ok(course) => self.write_together(write, course, asking),
            Err(err) => Err(err),
        };
        // SQLite does not tell of which table each violation is.
        written.map_err(|err| err.violating_of(write.table_name()))
    }

    /// Runs the statements of a write, one after the other; of one that failed it says which.
    fn follow<W: Writes, O: Outcome<W>>(
        &self,
        course: &mut Course<'_, W, O>,
    ) -> Result<O, Stopped> {
        let mut outcome = O::default();
        for part in course.parts.clone() {
            let failed = |err| (Some(part), err);
            if part.prepares() {
                let found = sealed::Handle::run(self, course.prepare(part)).map_err(failed)?;
                if !course.note(part, found) {
                    break;
                }
            } else {
                let gathered = sealed::Handle::run(self, course.write(part)).map_err(failed)?;
                course.add(&mut outcome, sealed::Handle::asking(self), part, gathered);
            }
        }
        course.end(outcome)
    }

    fn write_together<W: Writes, O: Outcome<W>>(
        &self,
        write: &W,
        mut course: Course<'_, W, O>,
        asking: Asking<'_>,
    ) -> Result<O, Error> {
        let mut failed = None;
        let outcome = self.together(|within| {
            within.follow(&mut course).map_err(|(part, err)| {
                failed = part;
                err
            })
        });
        let err = match outcome {
            Ok(outcome) => return Ok(outcome),
            Err(err) => err,
        };
        // Nothing of it is stored. Which row it was is found by trying them, and that is undone too.
        let Some(part) = failed else { return Err(err) };
        let Some(mut course) = Course::<W, O>::before(write, asking, part, &err) else {
            return Err(err);
        };
        let mut found = None;
        let _undone: Result<(), Error> = self.together(|within| {
            within.follow(&mut course).map_err(|(_, err)| err)?;
            for row in write.rows_of(asking, part) {
                if let Err(err) = sealed::Handle::run(within, course.write(Part::Row(row))) {
                    found = Some(err.at_row(row as u64 + 1));
                    break;
                }
            }
            Err(Error::abandoned())
        });
        Err(found.unwrap_or(err))
    }

    /// Runs several statements as one: in a transaction, or within one as a savepoint.
    fn together<T>(
        &self,
        work: impl FnOnce(&Session<'_>) -> Result<T, Error>,
    ) -> Result<T, Error> {
        // A lock that is taken at once is waited for; one that a statement after a query takes is not.
        let [begin, undo, end] = match self.connection.is_autocommit() {
            true => ["BEGIN IMMEDIATE", "ROLLBACK", "COMMIT"],
            false => [
                "SAVEPOINT nepheline_write",
                "ROLLBACK TO SAVEPOINT nepheline_write; RELEASE SAVEPOINT nepheline_write",
                "RELEASE SAVEPOINT nepheline_write",
            ],
        };
        self.command(begin)?;
        let undone = scopeguard::guard((), |()| {
            // Without an open transaction, because SQLite ended it itself, there is nothing to undo.
            let _ = self.command(undo);
        });
        let setting = Cow::Owned(self.setting.in_transaction());
        let outcome = work(&Session { connection: self.connection, timeout: self.timeout, setting })?;
        self.command(end)?;
        scopeguard::ScopeGuard::into_inner(undone);
        Ok(outcome)
    }

    pub(super) fn command(&self, text: &str) -> Result<(), Error> {
        let done = self.connection.execute_batch(text);
        done.map_err(|err| direct::failed(err).in_sql(text))
    }
}

pub(super) fn set_up(connection: &Connection) -> Result<(), Error> {
    direct::set_up(connection, LOCK_WAIT)
}

/// Runs `work` between begin and end; without an end, because it failed or panicked, all is undone.
pub(super) fn in_transaction<T, E: From<Error>>(
    session: &Session<'_>,
    options: TransactionOptions,
    work: impl FnOnce(&Session<'_>) -> Result<T, E>,
) -> Result<T, E> {
    for begin in options.begin(Dialect::Sqlite) {
        session.command(begin)?;
    }
    let undone = scopeguard::guard((), |()| {
        // Without an open transaction, because SQLite ended it itself, there is nothing to undo.
        let _ = session.command("ROLLBACK");
        restore(session, options);
    });
    let result = work(session)?;
    session.command("COMMIT")?;
    scopeguard::ScopeGuard::into_inner(undone);
    restore(session, options);
    Ok(result)
}

fn restore(session: &Session<'_>, options: TransactionOptions) {
    for after in options.after(Dialect::Sqlite) {
        // A pragma of ours that always succeeds.
        let _ = session.command(after);
    }
}

impl sealed::Handle for Session<'_> {
    #[inline]
    fn run<V: Verb>(&self, verb: V) -> Result<V::Output, Error> {
        direct::run(self.connection, self.timeout, &self.setting, verb)
    }

    fn asking(&self) -> Asking<'_> {
        self.setting.asking(Dialect::Sqlite)
    }

    fn insert_chunks<I: Iterator<Item: Unsaved>>(&self, mut chunks: Chunks<I>) -> Result<u64, Error> {
        let asking = sealed::Handle::asking(self).stopped();
        self.together(|within| {
            let mut inserted = 0;
            while let Some(chunk) = chunks.next(asking) {
                let written = within.write_at::<_, u64>(&chunk, asking);
                inserted += written.map_err(|err| err.after_rows(inserted))?;
            }
            Ok(inserted)
        })
    }

    fn write_as<W: Writes, O: Outcome<W>>(&self, write: &W) -> Result<O, Error> {
        self.write_at(write, sealed::Handle::asking(self))
    }

    fn each<Q: Readable>(
        &self,
        query: &Q,
        take: impl FnMut(Q::Row) -> ControlFlow<()>,
    ) -> Result<(), Error> {
        query.each(self, take)
    }
}

impl fmt::Debug for Session<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("blocking::Session(sqlite)")
    }
}
