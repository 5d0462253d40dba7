//! Calls of procedures and of functions that return cursors.

#[cfg(feature = "sqlite")]
use std::any::Any;

use nepheline_core::bounds::RowSets;
use nepheline_core::internal::{ByName, CompileContext, OutParameters, Statement, Written};
use nepheline_core::{
    Cells, CursorCall, DatabaseCall, Error, Operation, Origin, ProcedureCall, RowShape,
};

use super::access::{Access, AtomicScope, run};
use super::answer::AnswerCells;
use super::ask::{Ask, Verb};
use super::sink::{Gathering, Last, Nothing, Sink};
#[cfg(feature = "mysql")]
use crate::engine::mysql::RowCells as MySqlRow;
#[cfg(feature = "postgres")]
use crate::engine::postgres::RowCells as PostgresRow;
#[cfg(feature = "sqlite")]
use crate::engine::sqlite::RowCells as SqliteRow;

/// The rows of a cursor that are fetched at once.
const CHUNK: usize = 1000;

/// A call that the verb `call` runs: a [`DatabaseCall`], a [`ProcedureCall`] or a [`CursorCall`].
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a call of a procedure",
    label = "expected `call!(\"name\"(..))`, with `.out::<R>()`, `.result_sets::<(R,)>()` or `.cursor_as::<R>()` where it returns something"
)]
#[expect(private_bounds, reason = "only the verb uses the steps")]
pub trait Calls: CallSteps<Results = Self::Output> {
    /// The results.
    type Output: Send;
}

/// The steps of a call.
pub(crate) trait CallSteps: Sync {
    type Results: Send;

    /// The receiver of the rows.
    type Sink: Sink + Default;

    /// True if the call opens a cursor.
    const HAS_CURSOR: bool = false;

    /// Returns the statement of the call, or the one that opens its cursor.
    fn statement(&self, context: CompileContext<'_>) -> Result<Statement<'static>, Error>;

    /// Returns a statement that fetches rows of the cursor; `None` if the call has no cursor.
    fn fetching<'s>(&self, _statement: Statement<'s>) -> Option<Statement<'s>> {
        None
    }

    /// Turns what has arrived into the results.
    fn finish(&self, sink: Self::Sink) -> Result<Self::Results, Error>;

    fn origin(&self) -> Origin;
}

impl Calls for DatabaseCall {
    type Output = ();
}

impl CallSteps for DatabaseCall {
    type Results = ();
    type Sink = Gathering<Nothing, Vec<Nothing>>;

    fn statement(&self, context: CompileContext<'_>) -> Result<Statement<'static>, Error> {
        ProcedureCall::<(), ()>::plain(self).statement(context)
    }

    fn finish(&self, _: Self::Sink) -> Result<(), Error> {
        Ok(())
    }

    fn origin(&self) -> Origin {
        DatabaseCall::origin(self)
    }
}

impl<S: RowSets, O: OutParameters> Calls for ProcedureCall<S, O> {
    type Output = O::With<S>;
}

impl<S: RowSets, O: OutParameters> CallSteps for ProcedureCall<S, O> {
    type Results = O::With<S>;
    type Sink = ResultSets<S, O>;

    fn statement(&self, context: CompileContext<'_>) -> Result<Statement<'static>, Error> {
        ProcedureCall::statement(self, context)
    }

    fn finish(&self, sink: ResultSets<S, O>) -> Result<O::With<S>, Error> {
        let ResultSets { rows, out, .. } = sink;
        match out {
            Some(out) => Ok(out.with::<S>(rows)),
            None => Err(Error::no_out_parameters().asked_at(ProcedureCall::origin(self))),
        }
    }

    fn origin(&self) -> Origin {
        ProcedureCall::origin(self)
    }
}

impl<R: RowShape + Send + 'static> Calls for CursorCall<R> {
    type Output = Vec<R>;
}

impl<R: RowShape + Send + 'static> CallSteps for CursorCall<R> {
    type Results = Vec<R>;
    type Sink = Gathering<ByName<R>, Vec<ByName<R>>>;

    const HAS_CURSOR: bool = true;

    fn statement(&self, context: CompileContext<'_>) -> Result<Statement<'static>, Error> {
        self.opening(context)
    }

    fn fetching<'s>(&self, statement: Statement<'s>) -> Option<Statement<'s>> {
        Some(self.wanting(statement))
    }

    fn finish(&self, sink: Self::Sink) -> Result<Vec<R>, Error> {
        Ok(sink.finish().into_iter().map(ByName::into_row).collect())
    }

    fn origin(&self) -> Origin {
        CursorCall::origin(self)
    }
}

/// Receives the result sets of a procedure, and then its OUT parameters, which arrive as one more row.
pub(crate) struct ResultSets<S: RowSets, O> {
    rows: S::Rows,
    out: Option<O>,
    /// The number of the result set that arrives.
    set: usize,
    /// The number of rows of all sets so far.
    row: u64,
    misfit: Option<Error>,
}

impl<S: RowSets, O: OutParameters> Default for ResultSets<S, O> {
    fn default() -> Self {
        ResultSets { rows: S::Rows::default(), out: O::nothing(), set: 0, row: 0, misfit: None }
    }
}

impl<S: RowSets, O: OutParameters> ResultSets<S, O> {
    fn take<C: Cells>(&mut self, cells: &mut C) -> bool {
        if self.misfit.is_some() {
            return false;
        }
        self.row += 1;
        let taken = match self.set.checked_sub(S::COUNT) {
            None => S::take(&mut self.rows, self.set, cells),
            Some(0) if O::COUNT > 0 => O::take(cells).map(|out| self.out = Some(out)),
            Some(_) => Err(self.too_many()),
        };
        self.misfit = taken.map_err(|err| err.at_row(self.row)).err();
        self.misfit.is_none()
    }

    fn too_many(&self) -> Error {
        Error::other_result_sets(self.set + 1, S::COUNT)
    }
}

impl<S: RowSets, O: OutParameters> Sink for ResultSets<S, O> {
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

    fn next_set(&mut self) {
        self.set += 1;
    }

    fn wrote(&mut self, _: Written) {
        let sets = self.set + usize::from(self.row > 0 || self.set > 0);
        if self.misfit.is_none() && O::COUNT == 0 && S::COUNT > 0 && sets != S::COUNT {
            self.misfit = Some(Error::other_result_sets(sets, S::COUNT));
        }
    }

    fn seen(&self) -> u64 {
        self.row
    }

    fn take_misfit(&mut self) -> Option<Error> {
        self.misfit.take()
    }

    #[cfg(feature = "sqlite")]
    fn sibling(&self) -> Box<dyn Sink> {
        Box::<Self>::default()
    }

    #[cfg(feature = "sqlite")]
    fn adopt(&mut self, sibling: Box<dyn Sink>) {
        let sibling: Box<dyn Any> = sibling;
        if let Ok(sibling) = sibling.downcast::<Self>() {
            *self = *sibling;
        }
    }
}

/// The statement of a call, or the one that opens its cursor.
struct Called<'c, C>(&'c C);

impl<C: Calls> Ask for Called<'_, C> {
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        self.0.statement(context).map(Statement::into_owned_binds)
    }
}

impl<C: Calls> Verb for Called<'_, C> {
    type Row = Option<String>;
    type Gathered = Last<Option<String>>;
    type Output = Option<String>;

    fn finish(self, cursor: Last<Option<String>>) -> Result<Option<String>, Error> {
        Ok(cursor.row.flatten())
    }
}

/// A statement that reads or closes a cursor.
struct OfCursor<'c, C> {
    call: &'c C,
    text: String,
    reads: bool,
}

impl<C: Calls> Ask for OfCursor<'_, C> {
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        let statement = Statement::of_text(context.grammar, &*self.text, Vec::new())
            .doing(Operation::Read)
            .begun_at(self.call.origin())
            .once();
        Ok(match self.reads {
            true => self.call.fetching(statement).ok_or_else(Error::no_cursor)?,
            false => statement,
        })
    }

    fn counts(&self) -> bool {
        false
    }
}

/// Calls a procedure, or a function that returns a cursor.
pub(crate) async fn call<A: Access, C: Calls>(access: A, call: &C) -> Result<C::Output, Error> {
    if !C::HAS_CURSOR {
        let mut sink = C::Sink::default();
        access.fetch(&Called(call), &mut sink).await?;
        return call.finish(sink);
    }
    if access.is_of_program() {
        return read_cursor(&access, call).await;
    }
    // A cursor lives in a transaction, and one that was opened after a savepoint ends when that is rolled back.
    let mut together = access.begin_together().await?;
    let read = read_cursor(&together.access(), call).await;
    let end = together.end(read.is_ok()).await;
    if let Err(err) = &read {
        access.note_write(err);
    }
    match (read, end) {
        (Ok(_), Err(err)) => Err(err),
        (read, _) => read,
    }
}

async fn read_cursor<A: Access, C: Calls>(access: &A, call: &C) -> Result<C::Output, Error> {
    let mut sink = C::Sink::default();
    // A function that returns NULL has opened no cursor.
    let Some(cursor) = run(access, Called(call)).await? else { return call.finish(sink) };
    let cursor = cursor.replace('"', "\"\"");
    loop {
        let seen = sink.seen();
        let text = format!("FETCH FORWARD {CHUNK} FROM \"{cursor}\"");
        access.fetch(&OfCursor { call, text, reads: true }, &mut sink).await?;
        if sink.seen() - seen < CHUNK as u64 {
            break;
        }
    }
    let text = format!("CLOSE \"{cursor}\"");
    let mut nothing = Gathering::<Nothing, Vec<Nothing>>::default();
    access.fetch(&OfCursor { call, text, reads: false }, &mut nothing).await?;
    call.finish(sink)
}
