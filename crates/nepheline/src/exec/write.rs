//! The writing verbs, each written once: the statements of a write, and the results of each.

use std::marker::PhantomData;
use std::ops::Range;

use jiff::Timestamp;
use nepheline_core::internal::{
    Checks, CompileContext, Key, KeyedRow, Part, Parts, Statement, Step, WriteShape, Written,
};
use nepheline_core::{Error, ErrorKind, Insert, InsertValues, Origin, RowShape, Table, Upsert, Writes};

use super::access::{Access, AtomicScope, run};
use super::ask::{Ask, Verb};
use super::sink::{Gather, Nothing};
use crate::observe::added::{CompletedWrite, WrittenStatement};

/// The number of rows that an upsert inserted, updated, and left unchanged.
///
/// ```no_run
/// # use nepheline::blocking::Database;
/// # use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Lab { #[nepheline(key, generated)] id: i64, #[nepheline(unique)] name: String, visits: i64 }
/// # fn f(db: Database) -> Result<(), Error> {
/// let visited = Lab::insert(LabToInsert { name: "Ostra Assays".into(), visits: 1 })
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
    /// Rows that were not stored before.
    pub inserted: u64,
    /// Stored rows that `or_update` has assigned, also to the values that they had.
    pub updated: u64,
    /// Stored rows that stay unchanged: all with `or_keep`, and those that a policy hides.
    pub kept: u64,
}

/// The combined result of the statements of a write.
pub(crate) trait Outcome<W: ?Sized>: Default + Send {
    type Row: RowShape + Send + 'static;
    type Gathered: Gather<Self::Row>;

    const SHAPE: WriteShape;

    fn add(&mut self, write: &W, context: CompileContext<'_>, step: &Step<'_>, gathered: Self::Gathered);

    /// Adds rows that were written and returned.
    fn add_rows(&mut self, rows: Vec<Self::Row>);

    /// Returns the number of rows that were inserted or changed.
    fn rows(&self) -> u64;
}

impl<W: Writes + ?Sized> Outcome<W> for u64 {
    type Row = Nothing;
    type Gathered = WriteCounts;

    const SHAPE: WriteShape = WriteShape::Count;

    fn add(&mut self, write: &W, context: CompileContext<'_>, step: &Step<'_>, told: WriteCounts) {
        *self += write.counted(context, step, told.0);
    }

    fn add_rows(&mut self, rows: Vec<Nothing>) {
        *self += rows.len() as u64;
    }

    fn rows(&self) -> u64 {
        *self
    }
}

impl<W: Writes> Outcome<W> for Vec<W::Row> {
    type Row = W::Read;
    type Gathered = Vec<W::Read>;

    const SHAPE: WriteShape = WriteShape::Rows;

    fn add(&mut self, _: &W, _: CompileContext<'_>, _: &Step<'_>, rows: Vec<W::Read>) {
        self.extend(rows.into_iter().map(W::row_of));
    }

    fn add_rows(&mut self, rows: Vec<W::Read>) {
        self.extend(rows.into_iter().map(W::row_of));
    }

    fn rows(&self) -> u64 {
        self.len() as u64
    }
}

impl<T: Table> Outcome<Upsert<T>> for Upserted {
    type Row = bool;
    type Gathered = WriteCounts;

    const SHAPE: WriteShape = WriteShape::Kinds;

    fn add(&mut self, write: &Upsert<T>, context: CompileContext<'_>, step: &Step<'_>, told: WriteCounts) {
        let [inserted, updated, kept] = write.kinds(context, step, told.0);
        self.inserted += inserted;
        self.updated += updated;
        self.kept += kept;
    }

    fn add_rows(&mut self, rows: Vec<bool>) {
        self.inserted += rows.len() as u64;
    }

    fn rows(&self) -> u64 {
        self.inserted + self.updated
    }
}

/// The counts that the engine reports for a statement: for each row whether it was inserted, or only the
/// number of rows.
#[derive(Debug, Default)]
pub(crate) struct WriteCounts(Written);

impl Gather<Nothing> for WriteCounts {
    fn take(&mut self, _: Nothing) {}

    fn seen(&self) -> u64 {
        self.0.rows
    }

    fn wrote(&mut self, written: Written) {
        self.0 = written;
    }
}

impl Gather<bool> for WriteCounts {
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

/// A write in progress: its statements, and what those that have run found.
struct WriteRun<'w, W: ?Sized, O> {
    write: &'w W,
    checks: Option<Box<Checks>>,
    parts: Parts,
    /// The time of all its statements.
    at: Option<Timestamp>,
    found: Option<Vec<Key>>,
    /// True if budgets count its first statement. The repeated attempt of the same write does not count.
    counts: bool,
    /// The statements that changed rows, if interceptors need them.
    written: Option<Vec<WrittenStatement>>,
    outcome: PhantomData<fn() -> O>,
}

/// The statement of a write that failed, if it was one of them, and the error.
type Stopped = (Option<Part>, Error);

impl<'w, W: Writes + ?Sized, O: Outcome<W>> WriteRun<'w, W, O> {
    fn of(write: &'w W, context: CompileContext<'_>, counts: bool) -> Result<WriteRun<'w, W, O>, Error> {
        let context = context.stopped();
        let checks = write.checks(context)?;
        let parts = match &checks {
            None => write.parts(context, O::SHAPE, false)?,
            Some(checks) => {
                checks.refuse(write.table(), write.origin())?;
                checks.around(write.parts(context, O::SHAPE, checks.need_keys())?)
            }
        };
        let at = context.stopped_at;
        Ok(WriteRun { write, checks, parts, at, found: None, counts, written: None, outcome: PhantomData })
    }

    /// Returns whether only its last statement writes, so that nothing is half written without a transaction.
    fn writes_last(&self) -> bool {
        let mut before = self.parts.iter().rev().skip(1);
        let last = self.parts.last();
        last.is_none_or(|part| !part.prepares()) && before.all(|part| part.prepares())
    }

    /// Returns whether it has at most one statement, which fails as a whole or for its one row.
    fn is_single(&self) -> bool {
        match self.parts.as_slice() {
            [] => true,
            [part] => self.write.rows_of(*part).len() <= 1,
            _ => false,
        }
    }

    /// Returns a statement that prepares others.
    fn prepare(&self, part: Part) -> Prepare<'_, 'w, W, O> {
        Prepare(self, part)
    }

    /// Returns a statement whose result counts.
    fn write(&self, part: Part) -> Write<'_, 'w, W, O> {
        Write(self, part)
    }

    fn statement(&self, context: CompileContext<'_>, part: Part) -> Result<Statement<'_>, Error> {
        let context = CompileContext { stopped_at: self.at, ..context };
        let step = self.step(part);
        let check = self.checks.as_ref().filter(|_| part.checks());
        let check = check.and_then(|checks| self.write.check_statement(checks, context, &step));
        check.unwrap_or_else(|| self.write.statement(context, &step))
    }

    fn step(&self, part: Part) -> Step<'_> {
        Step { part, shape: O::SHAPE, found: self.found.as_deref() }
    }

    /// Records the keys that were read. Without any rows there is nothing more to do.
    fn note(&mut self, part: Part, found: Vec<Key>) -> bool {
        let goes_on = part != Part::Keys || !found.is_empty();
        if !matches!(part, Part::Children(_)) {
            self.found = Some(found);
        }
        goes_on
    }

    /// Notes a statement that changes rows, if interceptors need it.
    fn note_written(&mut self, context: CompileContext<'_>, part: Part) -> Result<(), Error> {
        if self.written.is_none() {
            return Ok(());
        }
        let noted = {
            let statement = self.statement(context, part)?;
            let binds: Vec<_> = statement.binds().map(|bind| bind.to_value()).collect();
            let (operation, sql) = (statement.operation(), statement.text().into());
            WrittenStatement { operation, sql, binds }
        };
        self.written.get_or_insert_default().push(noted);
        Ok(())
    }

    /// Adds rows that were written, and their keys.
    fn add_keyed(&mut self, outcome: &mut O, written: Vec<KeyedRow<O::Row>>) {
        let (rows, keys): (Vec<O::Row>, Vec<Key>) =
            written.into_iter().map(|written| (written.row, written.keys)).unzip();
        self.found.get_or_insert_default().extend(keys);
        outcome.add_rows(rows);
    }

    /// Refuses the write if a check has not found what it must.
    fn verify(&self, part: Part, found: &[Key]) -> Result<(), Error> {
        match &self.checks {
            Some(checks) => checks.verify(self.write.table(), &self.step(part), found, self.write.origin()),
            None => Ok(()),
        }
    }

    fn add(&self, outcome: &mut O, context: CompileContext<'_>, part: Part, gathered: O::Gathered) {
        outcome.add(self.write, context, &self.step(part), gathered);
    }

    /// Returns the total result, which must not be zero for an update that expects a version.
    fn end(&self, outcome: O) -> Result<O, Stopped> {
        match outcome.rows() == 0 && self.write.expects_a_version() {
            true => {
                let err = Error::stale_version(self.write.table_name());
                Err((None, err.asked_at(self.write.origin())))
            }
            false => Ok(outcome),
        }
    }

    /// Returns the same write up to a part that failed, if a single row of it may be at fault.
    fn before(
        write: &'w W,
        context: CompileContext<'_>,
        failed: Part,
        err: &Error,
    ) -> Option<WriteRun<'w, W, O>> {
        if write.rows_of(failed).is_empty() || !is_of_one_row(err) {
            return None;
        }
        let mut run_of_write = WriteRun::of(write, context, false).ok()?;
        let before = run_of_write.parts.iter().position(|part| *part == failed)?;
        run_of_write.parts.truncate(before);
        Some(run_of_write)
    }
}

/// Returns whether a single row of several may be at fault, so that it is worth finding.
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

/// A statement of a write whose result counts.
struct Write<'c, 'w, W: ?Sized, O>(&'c WriteRun<'w, W, O>, Part);

impl<W: Writes + ?Sized, O: Outcome<W>> Ask for Write<'_, '_, W, O> {
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        self.0.statement(context, self.1)
    }

    fn counts(&self) -> bool {
        self.0.counts && self.0.parts.first() == Some(&self.1)
    }
}

impl<W: Writes + ?Sized, O: Outcome<W>> Verb for Write<'_, '_, W, O> {
    type Row = O::Row;
    type Gathered = O::Gathered;
    type Output = O::Gathered;

    fn finish(self, gathered: O::Gathered) -> Result<O::Gathered, Error> {
        Ok(gathered)
    }
}

/// A statement of a write that reads what later ones need.
struct Prepare<'c, 'w, W: ?Sized, O>(&'c WriteRun<'w, W, O>, Part);

impl<W: Writes + ?Sized, O: Outcome<W>> Ask for Prepare<'_, '_, W, O> {
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        self.0.statement(context, self.1)
    }

    fn counts(&self) -> bool {
        self.0.counts && self.0.parts.first() == Some(&self.1)
    }
}

impl<W: Writes + ?Sized, O: Outcome<W>> Verb for Prepare<'_, '_, W, O> {
    type Row = KeyedRow<Nothing>;
    type Gathered = Vec<KeyedRow<Nothing>>;
    type Output = Vec<Key>;

    fn finish(self, rows: Vec<KeyedRow<Nothing>>) -> Result<Vec<Key>, Error> {
        Ok(rows.into_iter().map(|row| row.keys).collect())
    }
}

/// A statement of a write that returns its rows with their keys.
struct WriteKeyed<'c, 'w, W: ?Sized, O>(&'c WriteRun<'w, W, O>, Part);

impl<W: Writes + ?Sized, O: Outcome<W>> Ask for WriteKeyed<'_, '_, W, O> {
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        self.0.statement(context, self.1)
    }

    fn counts(&self) -> bool {
        self.0.counts && self.0.parts.first() == Some(&self.1)
    }
}

impl<W: Writes + ?Sized, O: Outcome<W>> Verb for WriteKeyed<'_, '_, W, O> {
    type Row = KeyedRow<O::Row>;
    type Gathered = Vec<KeyedRow<O::Row>>;
    type Output = Vec<KeyedRow<O::Row>>;

    fn finish(self, rows: Vec<KeyedRow<O::Row>>) -> Result<Vec<KeyedRow<O::Row>>, Error> {
        Ok(rows)
    }
}

/// Runs a write of any number of statements, and the writes that interceptors add to it: all of them, or none.
pub(crate) async fn write<A: Access, W: Writes, O: Outcome<W>>(
    access: A,
    write: &W,
) -> Result<O, Error> {
    let context = access.context();
    write_at(&access, write, context, true).await
}

async fn write_at<A: Access, W: Writes, O: Outcome<W>>(
    access: &A,
    write: &W,
    context: CompileContext<'_>,
    counts: bool,
) -> Result<O, Error> {
    let adds = access.interceptors().add_writes();
    let written = match WriteRun::of(write, context, counts) {
        Ok(mut run_of_write)
            if !adds
                && (run_of_write.is_single()
                    || access.is_of_program() && run_of_write.writes_last()) =>
        {
            follow(access, &mut run_of_write).await.map_err(|(_, err)| err)
        }
        Ok(run_of_write) => match together(access, run_of_write, context, adds).await {
            Err((part, err)) if cannot_copy(part, &err) => {
                // Nothing of it is stored. Rows that COPY refuses may still be accepted by INSERT; if not,
                // INSERT explains why.
                let inserting = CompileContext { copies: false, ..context };
                match WriteRun::of(write, inserting, false) {
                    Ok(run_of_write) => together(access, run_of_write, inserting, adds).await,
                    Err(_) => Err((None, err)),
                }
            }
            ended => ended,
        }
        .map_err(|(_, err)| err),
        Err(err) => Err(err),
    };
    written.map_err(|err| {
        access.note_write(&err);
        describe(write, err)
    })
}

/// Returns the error of a write with all that the write knows of it. Not every engine reports the table of a
/// violated constraint, or the side of a violated foreign key.
fn describe<W: Writes + ?Sized>(write: &W, err: Error) -> Error {
    let kind = write.foreign_key(err.table());
    err.of_foreign_key(kind).violating_of(write.table_name())
}

/// Runs the statements of a write in order. If one fails, it returns which.
async fn follow<A: Access, W: Writes + ?Sized, O: Outcome<W>>(
    access: &A,
    run_of_write: &mut WriteRun<'_, W, O>,
) -> Result<O, Stopped> {
    let mut outcome = O::default();
    for part in run_of_write.parts.clone() {
        let failed = |err| (Some(part), err);
        if part.changes_rows() {
            run_of_write.note_written(access.context(), part).map_err(failed)?;
        }
        if part.checks() {
            let found = run(access, run_of_write.prepare(part)).await.map_err(failed)?;
            if let Err(refused) = run_of_write.verify(part, &found) {
                // An update that finds no row writes none, so nothing is refused.
                if matches!(part, Part::Parents(_)) && run_of_write.write.finds_rows() {
                    let keys = run(access, run_of_write.prepare(Part::Keys)).await.map_err(failed)?;
                    if keys.is_empty() {
                        break;
                    }
                }
                return Err((None, refused));
            }
        } else if let Part::Keyed(_) = part {
            let written = WriteKeyed(run_of_write, part);
            let written = run(access, written).await.map_err(failed)?;
            run_of_write.add_keyed(&mut outcome, written);
        } else if part.prepares() {
            let found = run(access, run_of_write.prepare(part)).await.map_err(failed)?;
            if !run_of_write.note(part, found) {
                break;
            }
        } else {
            let gathered = run(access, run_of_write.write(part)).await.map_err(failed)?;
            run_of_write.add(&mut outcome, access.context(), part, gathered);
        }
    }
    run_of_write.end(outcome)
}

/// Runs the writes that interceptors add to a write that has run.
async fn add_writes<A: Access, W: Writes, O: Outcome<W>>(
    access: &A,
    run_of_write: &WriteRun<'_, W, O>,
    rows: u64,
) -> Result<(), Error> {
    let context = CompileContext { copies: false, ..access.context() };
    let (write, statements) = (run_of_write.write, run_of_write.written.as_deref().unwrap_or_default());
    let completed = CompletedWrite {
        table: write.table_name(),
        origin: write.origin(),
        carried: context.carried,
        rows,
        statements,
    };
    for added in access.interceptors().added_writes(&completed) {
        let added = added.write();
        let mut run_of_added = WriteRun::<_, u64>::of(added, context, false)?;
        let ran = follow(access, &mut run_of_added).await;
        ran.map_err(|(_, err)| describe(added, err))?;
    }
    Ok(())
}

/// Ends what was begun as the outcome says, and returns the outcome, or why it could not be kept.
async fn ended<T: AtomicScope, R, E: From<Error>>(
    mut together: T,
    outcome: Result<R, E>,
) -> Result<R, E> {
    let end = together.end(outcome.is_ok()).await;
    match (outcome, end) {
        (Ok(_), Err(err)) => Err(err.into()),
        // The caller needs the error of the work most, so it is kept.
        (outcome, _) => outcome,
    }
}

async fn together<A: Access, W: Writes, O: Outcome<W>>(
    access: &A,
    mut run_of_write: WriteRun<'_, W, O>,
    context: CompileContext<'_>,
    adds: bool,
) -> Result<O, Stopped> {
    run_of_write.written = adds.then(Vec::new);
    let begun = access.begin_together().await;
    let (write, together) = (run_of_write.write, begun.map_err(|err| (None, err))?);
    let (failed, outcome) = match follow(&together.access(), &mut run_of_write).await {
        Ok(outcome) if adds => {
            let rows = outcome.rows();
            let added = add_writes(&together.access(), &run_of_write, rows).await;
            (None, added.map(|()| outcome))
        }
        Ok(outcome) => (None, Ok(outcome)),
        Err((part, err)) => (part, Err(err)),
    };
    let err = match ended(together, outcome).await {
        Ok(outcome) => return Ok(outcome),
        Err(err) => err,
    };
    // Nothing of it is stored. The row at fault is found by trying the rows one by one, which is rolled back
    // too.
    let Some(part) = failed else { return Err((failed, err)) };
    let rows = write.rows_of(part);
    if err.row().is_some() || cannot_copy(failed, &err) {
        return Err((failed, err.after_rows(rows.start as u64)));
    }
    let Some(mut run_of_write) = WriteRun::<W, O>::before(write, context, part, &err) else {
        return Err((failed, err));
    };
    let Ok(mut together) = access.begin_together().await else { return Err((failed, err)) };
    let found = find(&together.access(), &mut run_of_write, rows).await;
    let _ = together.end(false).await;
    Err((failed, found.unwrap_or(err)))
}

/// Returns whether the rows may have been refused only because they were copied.
fn cannot_copy(part: Option<Part>, err: &Error) -> bool {
    matches!(part, Some(Part::Copied(_)))
        && err.kind() == ErrorKind::Database
        && err.row().is_none()
}

/// Repeats what came before, and then each row, to find the first that fails.
async fn find<A: Access, W: Writes, O: Outcome<W>>(
    access: &A,
    run_of_write: &mut WriteRun<'_, W, O>,
    rows: Range<usize>,
) -> Option<Error> {
    follow(access, run_of_write).await.ok()?;
    for row in rows {
        if let Err(err) = run(access, run_of_write.write(Part::Row(row))).await {
            return Some(err.at_row(row as u64 + 1));
        }
    }
    None
}

/// Runs several writes in order: all of them, or none.
pub(crate) async fn write_each<A: Access, W: Writes>(access: A, writes: &[W]) -> Result<u64, Error> {
    let together = access.begin_together().await?;
    let written = write_in_turn(&together.access(), writes).await;
    let written = ended(together, written).await;
    if let Err(err) = &written {
        access.note_write(err);
    }
    written
}

async fn write_in_turn<A: Access, W: Writes>(access: &A, writes: &[W]) -> Result<u64, Error> {
    let mut written = 0;
    for (number, write) in writes.iter().enumerate() {
        written += write_at::<_, _, u64>(access, write, access.context(), number == 0).await?;
    }
    Ok(written)
}

/// Inserts parents, and then their children with the parents' keys: all of them, or none.
pub(crate) async fn insert_with_children<A, P, S, C, F>(
    access: A,
    parents: Vec<(P, Vec<S>)>,
    child: F,
    origin: Origin,
) -> Result<Families<P, C>, Error>
where
    A: Access,
    P: InsertValues,
    C: InsertValues,
    F: Fn(&P::Table, S) -> C,
{
    let together = access.begin_together().await?;
    let inserted = insert_families(&together.access(), parents, child, origin).await;
    let inserted = ended(together, inserted).await;
    if let Err(err) = &inserted {
        access.note_write(err);
    }
    inserted
}

/// Parents with their children, as they are stored.
pub(crate) type Families<P, C> =
    Vec<(<P as InsertValues>::Table, Vec<<C as InsertValues>::Table>)>;

async fn insert_families<A, P, S, C, F>(
    access: &A,
    parents: Vec<(P, Vec<S>)>,
    child: F,
    origin: Origin,
) -> Result<Families<P, C>, Error>
where
    A: Access,
    P: InsertValues,
    C: InsertValues,
    F: Fn(&P::Table, S) -> C,
{
    let context = access.context();
    let (parents, each): (Vec<P>, Vec<Vec<S>>) = parents.into_iter().unzip();
    if parents.is_empty() {
        return Ok(Vec::new());
    }
    let parents = Insert::of(parents).begun_at(origin);
    let parents: Vec<P::Table> = write_at(access, &parents, context, true).await?;
    let sizes: Vec<usize> = each.iter().map(Vec::len).collect();
    if parents.len() != sizes.len() {
        // A trigger has left some out, so that nobody knows whose children these are.
        let message = format!("{} of {} parents were inserted", parents.len(), sizes.len());
        return Err(Error::wrong_answer(message).asked_at(origin));
    }
    let of_parents = parents.iter().zip(each);
    let children: Vec<C> = of_parents
        .flat_map(|(parent, children)| children.into_iter().map(|made| child(parent, made)).collect::<Vec<_>>())
        .collect();
    let stored: Vec<C::Table> = match children.is_empty() {
        true => Vec::new(),
        false => {
            let children = Insert::of(children).begun_at(origin);
            write_at(access, &children, context, false).await?
        }
    };
    let mut stored = stored.into_iter();
    Ok(parents.into_iter().zip(sizes).map(|(parent, size)| (parent, stored.by_ref().take(size).collect())).collect())
}

/// Inserts the rows of an iterator in chunks: all of them, or none.
pub(crate) async fn insert_stream<A: Access, I: Iterator<Item: InsertValues>>(
    access: A,
    rows: I,
) -> Result<u64, Error> {
    let together = access.begin_together().await?;
    let inserted = insert_chunks(&together.access(), rows, access.context().stopped()).await;
    let inserted = ended(together, inserted).await;
    if let Err(err) = &inserted {
        access.note_write(err);
    }
    inserted
}

async fn insert_chunks<A: Access, I: Iterator<Item: InsertValues>>(
    access: &A,
    mut rows: I,
    context: CompileContext<'_>,
) -> Result<u64, Error> {
    let mut inserted = 0;
    loop {
        let chunk = Insert::<<I::Item as InsertValues>::Table>::take_ahead(context, &mut rows);
        let Some(chunk) = chunk else { return Ok(inserted) };
        let written = write_at::<_, _, u64>(access, &chunk, context, inserted == 0).await;
        inserted += written.map_err(|err| err.after_rows(inserted))?;
    }
}

/// Writes one row, and reads it as it is stored.
pub(crate) async fn write_one<A: Access, W: Writes>(access: A, written: &W) -> Result<W::Row, Error> {
    let mut rows: Vec<W::Row> = write(access, written).await?;
    match (rows.pop(), rows.is_empty()) {
        (Some(row), true) => Ok(row),
        (None, _) => Err(Error::not_found(written.table_name(), None).asked_at(written.origin())),
        _ => Err(Error::more_than_one(written.table_name()).asked_at(written.origin())),
    }
}
