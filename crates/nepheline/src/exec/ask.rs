//! The verbs without I/O: each has a statement, a type that its rows are collected into, and a result.

use std::marker::PhantomData;

use nepheline_core::internal::{CompileContext, Key, KeyedRow, Selects, Statement, ReadShape};
use nepheline_core::{BindValue, Cell, Cells, Error, RowShape};

use super::describe::Describable;
use super::page;
use super::sink::{Gather, Last, Nothing};

/// A verb whose row type does not matter to the code that runs it.
pub(crate) trait Ask: Sync {
    /// Returns the statement to run.
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error>;

    /// Returns whether budgets count it: the first statement of a verb, and each companion.
    fn counts(&self) -> bool {
        true
    }
}

/// A verb of a database.
pub(crate) trait Verb: Ask + Send {
    /// The type that each row is read into.
    type Row: RowShape + Send + 'static;
    /// The type that the rows are collected into while they arrive.
    type Gathered: Gather<Self::Row>;
    /// The type that the caller gets.
    type Output;

    /// Turns the collected rows into the result.
    fn finish(self, gathered: Self::Gathered) -> Result<Self::Output, Error>;
}

/// The rows of a query: all of them or a page, each with the keys that match its companions.
pub(crate) struct Read<'q, Q, R> {
    query: &'q Q,
    shape: ReadShape,
    rows: PhantomData<fn() -> R>,
}

impl<'q, Q, R> Read<'q, Q, R> {
    pub(crate) fn all(query: &'q Q) -> Read<'q, Q, R> {
        Read { query, shape: ReadShape::Rows, rows: PhantomData }
    }

    /// Returns a read of `rows` rows after the first `after` rows.
    pub(crate) fn page(query: &'q Q, after: u64, rows: u64) -> Read<'q, Q, R> {
        Read { query, shape: ReadShape::Page { after, rows }, rows: PhantomData }
    }
}

impl<Q: Selects + Sync, R: RowShape + Send + 'static> Ask for Read<'_, Q, R> {
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        self.query.statement(context, self.shape)
    }

    fn counts(&self) -> bool {
        // The statement that counts the rows of a page was counted already.
        !matches!(self.shape, ReadShape::Page { .. })
    }
}

impl<Q: Selects + Sync, R: RowShape + Send + 'static> Verb for Read<'_, Q, R> {
    type Row = R;
    type Gathered = Vec<R>;
    type Output = Vec<R>;

    fn finish(self, rows: Vec<R>) -> Result<Vec<R>, Error> {
        Ok(rows)
    }
}

/// A page of keyset pagination: rows with the keys that describe their positions.
pub(crate) struct ReadCursored<'a, R> {
    pub(crate) asked: &'a page::KeysetRead,
    pub(crate) rows: PhantomData<fn() -> R>,
}

impl<R: RowShape + Send + 'static> Ask for ReadCursored<'_, R> {
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        self.asked.keyset.statement(context)
    }
}

impl<R: RowShape + Send + 'static> Verb for ReadCursored<'_, R> {
    type Row = KeyedRow<R>;
    type Gathered = Vec<KeyedRow<R>>;
    type Output = Vec<KeyedRow<R>>;

    fn finish(self, rows: Self::Gathered) -> Result<Self::Output, Error> {
        Ok(rows)
    }
}

/// Separates the rows of a page from the keys that describe their positions.
pub(crate) fn places_apart<Q: Selects>(
    asked: &page::KeysetRead,
    arrived: Vec<KeyedRow<Q::Base>>,
) -> (Vec<Key>, Vec<Q::Read>) {
    let width = asked.keyset.width();
    let each = arrived.into_iter().map(|KeyedRow { row, mut keys }| {
        let place: Key = keys.drain(..width.min(keys.len())).collect();
        (place, Q::with_keys(row, keys))
    });
    each.unzip()
}

/// The first row of a query, if there is one.
pub(crate) struct ReadFirst<'q, Q>(pub(crate) &'q Q);

impl<Q: Selects + Sync> Ask for ReadFirst<'_, Q> {
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        self.0.statement(context, ReadShape::AtMost(1))
    }
}

impl<Q: Selects + Sync> Verb for ReadFirst<'_, Q> {
    type Row = Q::Read;
    type Gathered = Last<Q::Read>;
    type Output = Option<Q::Read>;

    fn finish(self, rows: Last<Q::Read>) -> Result<Self::Output, Error> {
        Ok(rows.row)
    }
}

/// The single row that a query may have.
pub(crate) struct ReadAtMostOne<'q, Q>(pub(crate) &'q Q);

impl<Q: Selects + Sync> Ask for ReadAtMostOne<'_, Q> {
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        // A second row is read only to detect it.
        self.0.statement(context, ReadShape::AtMost(2))
    }
}

impl<Q: Selects + Sync> Verb for ReadAtMostOne<'_, Q> {
    type Row = Q::Read;
    type Gathered = Last<Q::Read>;
    type Output = Option<Q::Read>;

    fn finish(self, rows: Last<Q::Read>) -> Result<Self::Output, Error> {
        match rows.seen {
            0 | 1 => Ok(rows.row),
            _ => Err(Error::more_than_one(self.0.table_name()).asked_at(self.0.asked_at())),
        }
    }
}

/// Returns the error that the required row of a query does not exist.
#[cold]
pub(crate) fn not_found<Q: Selects>(query: &Q) -> Error {
    Error::not_found(query.table_name(), query.key_sought()).asked_at(query.asked_at())
}

/// The number of rows of a query.
pub(crate) struct Count<'q, Q>(pub(crate) &'q Q);

impl<Q: Selects + Sync> Ask for Count<'_, Q> {
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        self.0.statement(context, ReadShape::Count)
    }
}

impl<Q: Selects + Sync> Verb for Count<'_, Q> {
    type Row = i64;
    type Gathered = Last<i64>;
    type Output = u64;

    fn finish(self, rows: Last<i64>) -> Result<u64, Error> {
        Ok(rows.row.map_or(0, i64::unsigned_abs))
    }
}

/// A test whether a query has any row.
pub(crate) struct Exists<'q, Q>(pub(crate) &'q Q);

impl<Q: Selects + Sync> Ask for Exists<'_, Q> {
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        self.0.statement(context, ReadShape::Presence)
    }
}

impl<Q: Selects + Sync> Verb for Exists<'_, Q> {
    type Row = bool;
    type Gathered = Last<bool>;
    type Output = bool;

    fn finish(self, rows: Last<bool>) -> Result<bool, Error> {
        Ok(rows.row.is_some_and(|presence| presence))
    }
}

/// The engine's plan of a query.
pub(crate) struct Explain<'q> {
    pub(crate) query: &'q dyn Describable,
    pub(crate) analyze: bool,
}

impl Ask for Explain<'_> {
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        self.query.statement(context)?.explained(self.analyze)
    }
}

impl Verb for Explain<'_> {
    type Row = PlanLine;
    type Gathered = Vec<PlanLine>;
    type Output = String;

    fn finish(self, lines: Vec<PlanLine>) -> Result<String, Error> {
        let mut plan = String::new();
        for line in &lines {
            // SQLite numbers the steps of a plan and names the parent of each.
            let mut depth = 0;
            let mut above = line.part_of;
            while let Some(step) = lines.iter().find(|step| above != 0 && step.number == above) {
                depth += 1;
                above = step.part_of;
            }
            plan.push_str(&"  ".repeat(depth));
            plan.push_str(&line.text);
            plan.push('\n');
        }
        Ok(plan)
    }
}

/// A line of a plan. SQLite returns its number, that of its parent, a cost, and the text; the other engines
/// return text alone.
#[derive(Debug)]
pub(crate) struct PlanLine {
    number: i64,
    part_of: i64,
    text: String,
}

impl RowShape for PlanLine {
    const WIDTH: usize = 1;

    fn read<C: Cells>(cells: &mut C) -> Result<PlanLine, Error> {
        match cells.next_cell() {
            Cell::Int(number) => {
                let part_of = i64::read(cells)?;
                let _cost = i64::read(cells)?;
                let text = String::read(cells)?;
                Ok(PlanLine { number, part_of, text })
            }
            Cell::Text(text) => {
                Ok(PlanLine { number: 0, part_of: 0, text: text.to_owned() })
            }
            other => Err(Error::unfit_session(format!("its plan begins with {other}"))),
        }
    }
}

/// A statement whose rows, if there are any, are not read.
pub(crate) struct Run<'s>(pub(crate) &'s str, pub(crate) Vec<BindValue>);

impl Ask for Run<'_> {
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        Ok(Statement::of_text(context.grammar, self.0, self.1.clone()))
    }
}

impl Verb for Run<'_> {
    type Row = Nothing;
    type Gathered = Vec<Nothing>;
    type Output = ();

    fn finish(self, _: Vec<Nothing>) -> Result<(), Error> {
        Ok(())
    }
}
