//! The verbs that write, each written once: the statements of a write, and what each of them tells.

use std::marker::PhantomData;
use std::ops::Range;

use jiff::Timestamp;
use nepheline_core::internal::{
    Asking, Key, KeyedRow, Part, Parts, Statement, Step, WantedBack, Written,
};
use nepheline_core::{Error, ErrorKind, Insert, RowShape, Table, Unsaved, Upsert, Writes};

use super::access::{Access, Together, run};
use super::ask::{Ask, Verb};
use super::sink::{Gather, Nothing};

/// How many rows an upsert inserted, updated, and left as they were.
///
/// ```no_run
/// # use nepheline::blocking::Database;
/// # use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Lab { #[nepheline(key, generated)] id: i64, #[nepheline(unique)] name: String, visits: i64 }
/// # fn f(db: Database) -> Result<(), Error> {
/// let visited = Lab::insert(UnsavedLab { name: "Ostra Assays".into(), visits: 1 })
///     .or_update(|l| l.name, |l, new| l.visits.set(l.visits + new.visits));
/// if db.write_upsert(&visited)?.inserted == 1 {
///     println!("welcome, Ostra Assays");
/// }
/// # Ok(())
/// # }
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
#[non_exhaustive]
pub struct Upserted {
    /// Those that were not there before.
    pub inserted: u64,
    /// Those that were there and that `or_update` has set, also to what they were.
    pub updated: u64,
    /// Those that were there and stay as they are: all with `or_keep`, and those that a policy hides.
    pub kept: u64,
}

/// What the statements of a write give, put together.
pub(crate) trait Outcome<W>: Default + Send {
    type Row: RowShape + Send + 'static;
    type Gathered: Gather<Self::Row>;

    const WANTED: WantedBack;

    fn add(&mut self, write: &W, asking: Asking<'_>, step: &Step<'_>, gathered: Self::Gathered);

    fn is_nothing(&self) -> bool;
}

impl<W: Writes> Outcome<W> for u64 {
    type Row = Nothing;
    type Gathered = Told;

    const WANTED: WantedBack = WantedBack::Count;

    fn add(&mut self, write: &W, asking: Asking<'_>, step: &Step<'_>, told: Told) {
        *self += write.counted(asking, step, told.0);
    }

    fn is_nothing(&self) -> bool {
        *self == 0
    }
}

impl<W: Writes> Outcome<W> for Vec<W::Row> {
    type Row = W::Row;
    type Gathered = Vec<W::Row>;

    const WANTED: WantedBack = WantedBack::Rows;

    fn add(&mut self, _: &W, _: Asking<'_>, _: &Step<'_>, mut rows: Vec<W::Row>) {
        self.append(&mut rows);
    }

    fn is_nothing(&self) -> bool {
        self.is_empty()
    }
}

impl<T: Table> Outcome<Upsert<T>> for Upserted {
    type Row = bool;
    type Gathered = Told;

    const WANTED: WantedBack = WantedBack::Kinds;

    fn add(&mut self, write: &Upsert<T>, asking: Asking<'_>, step: &Step<'_>, told: Told) {
        let [inserted, updated, kept] = write.kinds(asking, step, told.0);
        self.inserted += inserted;
        self.updated += updated;
        self.kept += kept;
    }

    fn is_nothing(&self) -> bool {
        *self == Upserted::default()
    }
}

/// What the engine tells of a statement: of each row whether it was inserted, or only how many there were.
#[derive(Debug, Default)]
pub(crate) struct Told(Written);

impl Gather<Nothing> for Told {
    fn take(&mut self, _: Nothing) {}

    fn seen(&self) -> u64 {
        self.0.rows
    }

    fn wrote(&mut self, written: Written) {
        self.0 = written;
    }
}

impl Gather<bool> for Told {
    fn take(&mut self, inserted: bool) {
        self.0.inserted += u64::from(inserted);
    }

    fn seen(&self) -> u64 {
        self.0.rows
    }

    fn wrote(&mut self, written: Written) {
        let Written { rows, inserted } = written;
        self.0 = Written { rows, inserted: self.0.inserted + inserted };
    }
}

/// A write under way: the statements it takes, and what those that have run found.
struct Course<'w, W, O> {
    write: &'w W,
    parts: Parts,
    /// The time for all its statements.
    at: Option<Timestamp>,
    found: Option<Vec<Key>>,
    /// True if budgets count its first statement: not where the same write is tried again.
    counts: bool,
    outcome: PhantomData<fn() -> O>,
}

/// The statement of a write that failed, if it was one of them, and how.
type Stopped = (Option<Part>, Error);

impl<'w, W: Writes, O: Outcome<W>> Course<'w, W, O> {
    fn of(write: &'w W, asking: Asking<'_>, counts: bool) -> Result<Course<'w, W, O>, Error> {
        let asking = asking.stopped();
        let (parts, at) = (write.parts(asking, O::WANTED)?, asking.stopped_at);
        Ok(Course { write, parts, at, found: None, counts, outcome: PhantomData })
    }

    /// Returns whether it takes one statement at most, which fails as a whole or for its one row.
    fn is_single(&self) -> bool {
        match self.parts.as_slice() {
            [] => true,
            [part] => self.write.rows_of(*part).len() <= 1,
            _ => false,
        }
    }

    /// A statement that prepares for others.
    fn prepare(&self, part: Part) -> Prepare<'_, 'w, W, O> {
        Prepare(self, part)
    }

    /// A statement whose outcome is wanted.
    fn write(&self, part: Part) -> Write<'_, 'w, W, O> {
        Write(self, part)
    }

    fn statement(&self, asking: Asking<'_>, part: Part) -> Result<Statement<'_>, Error> {
        let asking = Asking { stopped_at: self.at, ..asking };
        self.write.statement(asking, &self.step(part))
    }

    fn step(&self, part: Part) -> Step<'_> {
        Step { part, wanted: O::WANTED, found: self.found.as_deref() }
    }

    /// Takes note of what was found. Without rows that are meant there is nothing to go on with.
    fn note(&mut self, part: Part, found: Vec<Key>) -> bool {
        let goes_on = part != Part::Keys || !found.is_empty();
        if !matches!(part, Part::Children(_)) {
            self.found = Some(found);
        }
        goes_on
    }

    fn add(&self, outcome: &mut O, asking: Asking<'_>, part: Part, gathered: O::Gathered) {
        outcome.add(self.write, asking, &self.step(part), gathered);
    }

    /// What it gave in all, which for an update that expects a version must be something.
    fn end(&self, outcome: O) -> Result<O, Stopped> {
        match outcome.is_nothing() && self.write.expects_a_version() {
            true => {
                let err = Error::stale_version(self.write.table_name());
                Err((None, err.asked_at(self.write.origin())))
            }
            false => Ok(outcome),
        }
    }

    /// The same write up to a part that failed, if one of the rows of that may be at fault.
    fn before(
        write: &'w W,
        asking: Asking<'_>,
        failed: Part,
        err: &Error,
    ) -> Option<Course<'w, W, O>> {
        if write.rows_of(failed).is_empty() || !is_of_one_row(err) {
            return None;
        }
        let mut course = Course::of(write, asking, false).ok()?;
        let before = course.parts.iter().position(|part| *part == failed)?;
        course.parts.truncate(before);
        Some(course)
    }
}

/// Returns whether one row of several may be at fault, so that it is worth finding which.
fn is_of_one_row(err: &Error) -> bool {
    matches!(
        err.kind(),
        ErrorKind::UniqueViolation
            | ErrorKind::ForeignKeyViolation
            | ErrorKind::CheckViolation
            | ErrorKind::NotNullViolation
            | ErrorKind::RefusedValue
            | ErrorKind::Database
    )
}

/// A statement of a write whose outcome is wanted.
struct Write<'c, 'w, W, O>(&'c Course<'w, W, O>, Part);

impl<W: Writes, O: Outcome<W>> Ask for Write<'_, '_, W, O> {
    fn statement<'s>(&'s self, asking: Asking<'s>) -> Result<Statement<'s>, Error> {
        self.0.statement(asking, self.1)
    }

    fn counts(&self) -> bool {
        self.0.counts && self.0.parts.first() == Some(&self.1)
    }
}

impl<W: Writes, O: Outcome<W>> Verb for Write<'_, '_, W, O> {
    type Row = O::Row;
    type Gathered = O::Gathered;
    type Output = O::Gathered;

    fn finish(self, gathered: O::Gathered) -> Result<O::Gathered, Error> {
        Ok(gathered)
    }
}

/// A statement of a write that prepares for others: what it finds is what these need.
struct Prepare<'c, 'w, W, O>(&'c Course<'w, W, O>, Part);

impl<W: Writes, O: Outcome<W>> Ask for Prepare<'_, '_, W, O> {
    fn statement<'s>(&'s self, asking: Asking<'s>) -> Result<Statement<'s>, Error> {
        self.0.statement(asking, self.1)
    }

    fn counts(&self) -> bool {
        self.0.counts && self.0.parts.first() == Some(&self.1)
    }
}

impl<W: Writes, O: Outcome<W>> Verb for Prepare<'_, '_, W, O> {
    type Row = KeyedRow<Nothing>;
    type Gathered = Vec<KeyedRow<Nothing>>;
    type Output = Vec<Key>;

    fn finish(self, rows: Vec<KeyedRow<Nothing>>) -> Result<Vec<Key>, Error> {
        Ok(rows.into_iter().map(|row| row.keys).collect())
    }
}

/// A write of however many statements: all of them, or none.
pub(crate) async fn write<A: Access, W: Writes, O: Outcome<W>>(
    access: A,
    write: &W,
) -> Result<O, Error> {
    let asking = access.asking();
    write_at(&access, write, asking, true).await
}

async fn write_at<A: Access, W: Writes, O: Outcome<W>>(
    access: &A,
    write: &W,
    asking: Asking<'_>,
    counts: bool,
) -> Result<O, Error> {
    let written = match Course::of(write, asking, counts) {
        Ok(mut course) if course.is_single() => {
            follow(access, &mut course).await.map_err(|(_, err)| err)
        }
        Ok(course) => match together(access, course, asking).await {
            Err((part, err)) if cannot_copy(part, &err) => {
                // Nothing of it is stored. What cannot be copied may well be inserted; if not, that says why.
                let inserting = Asking { copies: false, ..asking };
                match Course::of(write, inserting, false) {
                    Ok(course) => together(access, course, inserting).await,
                    Err(_) => Err((None, err)),
                }
            }
            ended => ended,
        }
        .map_err(|(_, err)| {
            access.note_write(&err);
            err
        }),
        Err(err) => Err(err),
    };
    // Not every engine tells of which table a violation is.
    written.map_err(|err| err.violating_of(write.table_name()))
}

/// Runs the statements of a write, one after the other; of one that failed it says which.
async fn follow<A: Access, W: Writes, O: Outcome<W>>(
    access: &A,
    course: &mut Course<'_, W, O>,
) -> Result<O, Stopped> {
    let mut outcome = O::default();
    for part in course.parts.clone() {
        let failed = |err| (Some(part), err);
        if part.prepares() {
            let found = run(access, course.prepare(part)).await.map_err(failed)?;
            if !course.note(part, found) {
                break;
            }
        } else {
            let gathered = run(access, course.write(part)).await.map_err(failed)?;
            course.add(&mut outcome, access.asking(), part, gathered);
        }
    }
    course.end(outcome)
}

/// Ends what was begun as the outcome says, and returns the outcome, or why it could not be kept.
async fn ended<T: Together, R, E: From<Error>>(
    mut together: T,
    outcome: Result<R, E>,
) -> Result<R, E> {
    let end = together.end(outcome.is_ok()).await;
    match (outcome, end) {
        (Ok(_), Err(err)) => Err(err.into()),
        // The failure of the work is what its caller wants to know, so it stays.
        (outcome, _) => outcome,
    }
}

async fn together<A: Access, W: Writes, O: Outcome<W>>(
    access: &A,
    mut course: Course<'_, W, O>,
    asking: Asking<'_>,
) -> Result<O, Stopped> {
    let begun = access.begin_together().await;
    let (write, together) = (course.write, begun.map_err(|err| (None, err))?);
    let (failed, outcome) = match follow(&together.access(), &mut course).await {
        Ok(outcome) => (None, Ok(outcome)),
        Err((part, err)) => (part, Err(err)),
    };
    let err = match ended(together, outcome).await {
        Ok(outcome) => return Ok(outcome),
        Err(err) => err,
    };
    // Nothing of it is stored. Which row it was is found by trying them, and that is undone too.
    let Some(part) = failed else { return Err((failed, err)) };
    let rows = write.rows_of(part);
    if err.row().is_some() || cannot_copy(failed, &err) {
        return Err((failed, err.after_rows(rows.start as u64)));
    }
    let Some(mut course) = Course::<W, O>::before(write, asking, part, &err) else {
        return Err((failed, err));
    };
    let Ok(mut together) = access.begin_together().await else { return Err((failed, err)) };
    let found = find(&together.access(), &mut course, rows).await;
    let _ = together.end(false).await;
    Err((failed, found.unwrap_or(err)))
}

/// Returns whether rows were refused only because they were copied, for all that is known.
fn cannot_copy(part: Option<Part>, err: &Error) -> bool {
    matches!(part, Some(Part::Copied(_)))
        && err.kind() == ErrorKind::Database
        && err.row().is_none()
}

/// Tries what came before, and then each row: how the first that fails does.
async fn find<A: Access, W: Writes, O: Outcome<W>>(
    access: &A,
    course: &mut Course<'_, W, O>,
    rows: Range<usize>,
) -> Option<Error> {
    follow(access, course).await.ok()?;
    for row in rows {
        if let Err(err) = run(access, course.write(Part::Row(row))).await {
            return Some(err.at_row(row as u64 + 1));
        }
    }
    None
}

/// Inserts the rows of an iterator, so many at a time: all of them, or none.
pub(crate) async fn insert_each<A: Access, I: Iterator<Item: Unsaved>>(
    access: A,
    rows: I,
) -> Result<u64, Error> {
    let together = access.begin_together().await?;
    let inserted = insert_chunks(&together.access(), rows, access.asking().stopped()).await;
    let inserted = ended(together, inserted).await;
    if let Err(err) = &inserted {
        access.note_write(err);
    }
    inserted
}

async fn insert_chunks<A: Access, I: Iterator<Item: Unsaved>>(
    access: &A,
    mut rows: I,
    asking: Asking<'_>,
) -> Result<u64, Error> {
    let mut inserted = 0;
    loop {
        let chunk = Insert::<<I::Item as Unsaved>::Table>::take_ahead(asking, &mut rows);
        if chunk.is_empty() {
            return Ok(inserted);
        }
        let written = write_at::<_, _, u64>(access, &Insert::of(chunk), asking, inserted == 0).await;
        inserted += written.map_err(|err| err.after_rows(inserted))?;
    }
}

/// A write of one row, which is read as it is stored.
pub(crate) async fn write_one<A: Access, W: Writes>(access: A, written: &W) -> Result<W::Row, Error> {
    let mut rows: Vec<W::Row> = write(access, written).await?;
    match (rows.pop(), rows.is_empty()) {
        (Some(row), true) => Ok(row),
        (None, _) => Err(Error::not_found(written.table_name(), None).asked_at(written.origin())),
        _ => Err(Error::more_than_one(written.table_name()).asked_at(written.origin())),
    }
}
