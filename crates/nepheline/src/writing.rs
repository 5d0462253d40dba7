//! Writing: how many rows a statement changed, and several statements as one.

use std::marker::PhantomData;

use nepheline_core::internal::{Asking, Part, Statement};
use nepheline_core::{Error, ErrorKind, Insert, Unsaved, Writes};

use crate::handle::sealed::Handle;
use crate::verbs::{Gather, Nothing, Verb};

/// How many rows a statement changed.
#[derive(Debug, Default)]
pub(crate) struct Affected(u64);

impl Gather<Nothing> for Affected {
    fn take(&mut self, _: Nothing) {}

    fn seen(&self) -> u64 {
        self.0
    }

    fn affected(&mut self, rows: u64) {
        self.0 = rows;
    }
}

/// A part of a write, of which the number of rows matters.
pub(crate) struct Write<'w, W> {
    pub(crate) write: &'w W,
    pub(crate) part: Part,
}

impl<W: Writes> Verb for Write<'_, W> {
    type Row = Nothing;
    type Gathered = Affected;
    type Output = u64;

    fn statement(&self, asking: Asking<'_>) -> Result<Statement<'_>, Error> {
        self.write.statement(asking, self.part, false)
    }

    fn finish(self, affected: Affected) -> Result<u64, Error> {
        match affected.0 {
            0 if self.write.expects_a_version() => {
                Err(Error::stale_version(self.write.table_name()).asked_at(self.write.origin()))
            }
            rows => Ok(rows),
        }
    }
}

/// A part of a write whose rows are wanted back.
pub(crate) struct WriteReturning<'w, W> {
    pub(crate) write: &'w W,
    pub(crate) part: Part,
}

impl<W: Writes> Verb for WriteReturning<'_, W> {
    type Row = W::Row;
    type Gathered = Vec<W::Row>;
    type Output = Vec<W::Row>;

    fn statement(&self, asking: Asking<'_>) -> Result<Statement<'_>, Error> {
        self.write.statement(asking, self.part, true)
    }

    fn finish(self, rows: Vec<W::Row>) -> Result<Vec<W::Row>, Error> {
        match rows.is_empty() && self.write.expects_a_version() {
            true => Err(Error::stale_version(self.write.table_name()).asked_at(self.write.origin())),
            false => Ok(rows),
        }
    }
}

/// What each statement of a write gives, put together.
pub trait Outcome<W>: Default + Send {
    fn verb(write: &W, part: Part) -> impl Verb<Output = Self>;

    fn add(&mut self, other: Self);
}

impl<W: Writes> Outcome<W> for u64 {
    fn verb(write: &W, part: Part) -> impl Verb<Output = u64> {
        Write { write, part }
    }

    fn add(&mut self, other: u64) {
        *self += other;
    }
}

impl<W: Writes> Outcome<W> for Vec<W::Row> {
    fn verb(write: &W, part: Part) -> impl Verb<Output = Vec<W::Row>> {
        WriteReturning { write, part }
    }

    fn add(&mut self, mut other: Vec<W::Row>) {
        self.append(&mut other);
    }
}

/// Whether one row of several may be at fault, so that it is worth finding which.
pub(crate) fn is_of_one_row(err: &Error) -> bool {
    matches!(
        err.kind(),
        ErrorKind::UniqueViolation
            | ErrorKind::ForeignKeyViolation
            | ErrorKind::CheckViolation
            | ErrorKind::NotNullViolation
            | ErrorKind::Database
    )
}

/// A write of however many statements: all of them, or none.
pub(crate) async fn write<H: Handle, W: Writes, O: Outcome<W>>(
    handle: &H,
    write: &W,
) -> Result<O, Error> {
    let written = write_parts(handle, write).await;
    // Not every engine tells of which table a violation is.
    written.map_err(|err| err.violating_of(write.table_name()))
}

async fn write_parts<H: Handle, W: Writes, O: Outcome<W>>(
    handle: &H,
    write: &W,
) -> Result<O, Error> {
    let statements = write.statements(handle.asking());
    if statements <= 1 && write.rows_before(handle.asking(), 1).is_none_or(|rows| rows <= 1) {
        return one_of::<H, W, O>(handle, write, statements).await;
    }
    let together = handle.begin_together().await?;
    let all = Together::<W, O> { write, outcome: PhantomData };
    let outcome = all.run(&together.transaction(), statements).await;
    let outcome = together.end(outcome).await;
    let (statement, err) = match outcome {
        Ok(outcome) => return Ok(outcome),
        Err(Stopped { statement, err }) => (statement, err),
    };
    let Some(statement) = statement.filter(|_| is_of_one_row(&err)) else { return Err(err) };
    // Nothing of it is stored. Which row it was is found by trying them, and that is undone too.
    let Ok(together) = handle.begin_together().await else { return Err(err) };
    let found = all.find(&together.transaction(), statement).await;
    let undone: Result<(), Error> = Err(Error::abandoned());
    let _ = together.end(undone).await;
    Err(found.unwrap_or(err))
}

async fn one_of<H: Handle, W: Writes, O: Outcome<W>>(
    handle: &H,
    write: &W,
    statements: usize,
) -> Result<O, Error> {
    match statements {
        0 => Ok(O::default()),
        _ => handle.run(O::verb(write, Part::Statement(0))).await,
    }
}

/// The statement of a write that failed, if it was one of them, and how.
struct Stopped {
    statement: Option<usize>,
    err: Error,
}

impl From<Error> for Stopped {
    fn from(err: Error) -> Stopped {
        Stopped { statement: None, err }
    }
}

/// All statements of a write, on one transaction.
struct Together<'w, W, O> {
    write: &'w W,
    outcome: PhantomData<fn() -> O>,
}

impl<W: Writes, O: Outcome<W>> Together<'_, W, O> {
    async fn run<H: Handle>(&self, handle: &H, statements: usize) -> Result<O, Stopped> {
        let mut outcome = O::default();
        for statement in 0..statements {
            let part = O::verb(self.write, Part::Statement(statement));
            let written = handle.run(part).await;
            outcome.add(written.map_err(|err| Stopped { statement: Some(statement), err })?);
        }
        Ok(outcome)
    }

    /// Tries what came before, and then each row of the statement that failed: the first that fails.
    async fn find<H: Handle>(&self, handle: &H, failed: usize) -> Option<Error> {
        self.run(handle, failed).await.ok()?;
        let first = self.write.rows_before(handle.asking(), failed)?;
        let end = self.write.rows_before(handle.asking(), failed + 1)?;
        for row in first..end {
            let part = O::verb(self.write, Part::Row(row));
            if let Err(err) = handle.run(part).await {
                return Some(err.at_row(row as u64 + 1));
            }
        }
        None
    }
}

/// How many rows of an iterator are in memory at once.
pub(crate) const ROWS_AHEAD: usize = 10_000;

/// The rows of an iterator, so many at a time.
#[derive(Debug)]
pub struct Chunks<I> {
    rows: I,
}

impl<I: Iterator<Item: Unsaved>> Chunks<I> {
    pub(crate) fn of(rows: impl IntoIterator<IntoIter = I>) -> Chunks<I> {
        Chunks { rows: rows.into_iter() }
    }

    /// The next of them as an insert, unless there are none any more.
    #[track_caller]
    pub(crate) fn next(&mut self) -> Option<Insert<<I::Item as Unsaved>::Table>> {
        let rows: Vec<I::Item> = self.rows.by_ref().take(ROWS_AHEAD).collect();
        (!rows.is_empty()).then(|| Insert::of(rows))
    }
}

/// Inserts them all, or none.
pub(crate) async fn insert_chunks<H: Handle, I: Iterator<Item: Unsaved>>(
    handle: &H,
    mut chunks: Chunks<I>,
) -> Result<u64, Error> {
    let together = handle.begin_together().await?;
    let transaction = together.transaction();
    let inserted = async {
        let mut inserted = 0;
        while let Some(chunk) = chunks.next() {
            let written = write::<_, _, u64>(&transaction, &chunk).await;
            inserted += written.map_err(|err| err.after_rows(inserted))?;
        }
        Ok(inserted)
    };
    let inserted = inserted.await;
    together.end(inserted).await
}

/// The one row that was written.
pub(crate) fn sole<W: Writes>(write: &W, mut rows: Vec<W::Row>) -> Result<W::Row, Error> {
    match (rows.pop(), rows.is_empty()) {
        (Some(row), true) => Ok(row),
        (None, _) => Err(Error::not_found(write.table_name(), None).asked_at(write.origin())),
        _ => Err(Error::more_than_one(write.table_name()).asked_at(write.origin())),
    }
}
