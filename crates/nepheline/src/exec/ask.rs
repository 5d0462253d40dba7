//! Questions to a database, without I/O: each has a statement, a type that its rows are gathered into, and
//! an answer that is made of them.

use std::marker::PhantomData;

use nepheline_core::internal::{Asking, Key, KeyedRow, Selects, Statement, Wanted};
use nepheline_core::{BindValue, Cell, Cells, Error, RowShape};

use super::page;
use super::sink::{Gather, Last, Nothing};

/// A question whose row type does not matter to whoever runs it.
pub(crate) trait Ask: Sync {
    /// The statement to run.
    fn statement<'s>(&'s self, asking: Asking<'s>) -> Result<Statement<'s>, Error>;

    /// Returns whether budgets count it: the first statement of a verb, and each companion.
    fn counts(&self) -> bool {
        true
    }
}

/// One thing to ask of a database.
pub(crate) trait Verb: Ask + Send {
    /// What each row is read into.
    type Row: RowShape + Send + 'static;
    /// What the rows are gathered into while they arrive.
    type Gathered: Gather<Self::Row>;
    /// What the caller gets.
    type Output;

    /// Makes the answer of what arrived.
    fn finish(self, gathered: Self::Gathered) -> Result<Self::Output, Error>;
}

/// Rows of a query: all of them or a page, each alone or with the keys that tell beside which it stands.
pub(crate) struct Read<'q, Q, R> {
    query: &'q Q,
    wanted: Wanted,
    rows: PhantomData<fn() -> R>,
}

impl<'q, Q, R> Read<'q, Q, R> {
    pub(crate) fn all(query: &'q Q) -> Read<'q, Q, R> {
        Read { query, wanted: Wanted::Rows, rows: PhantomData }
    }

    /// So many rows, after the first so many.
    pub(crate) fn page(query: &'q Q, after: u64, rows: u64) -> Read<'q, Q, R> {
        Read { query, wanted: Wanted::Page { after, rows }, rows: PhantomData }
    }
}

impl<Q: Selects + Sync, R: RowShape + Send + 'static> Ask for Read<'_, Q, R> {
    fn statement<'s>(&'s self, asking: Asking<'s>) -> Result<Statement<'s>, Error> {
        self.query.statement(asking, self.wanted)
    }

    fn counts(&self) -> bool {
        // A page was counted by the statement that counts its rows.
        !matches!(self.wanted, Wanted::Page { .. })
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

/// A stretch of the rows of a query, each with the keys that tell its place.
pub(crate) struct ReadStretch<'a, R> {
    pub(crate) asked: &'a page::Asked,
    pub(crate) rows: PhantomData<fn() -> R>,
}

impl<R: RowShape + Send + 'static> Ask for ReadStretch<'_, R> {
    fn statement<'s>(&'s self, asking: Asking<'s>) -> Result<Statement<'s>, Error> {
        self.asked.keyset.statement(asking)
    }
}

impl<R: RowShape + Send + 'static> Verb for ReadStretch<'_, R> {
    type Row = KeyedRow<R>;
    type Gathered = Vec<KeyedRow<R>>;
    type Output = Vec<KeyedRow<R>>;

    fn finish(self, rows: Self::Gathered) -> Result<Self::Output, Error> {
        Ok(rows)
    }
}

/// The rows of a stretch without the keys that tell their places, and these.
pub(crate) fn places_apart<Q: Selects>(
    asked: &page::Asked,
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
    fn statement<'s>(&'s self, asking: Asking<'s>) -> Result<Statement<'s>, Error> {
        self.0.statement(asking, Wanted::AtMost(1))
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

/// The one row that a query may have.
pub(crate) struct ReadAtMostOne<'q, Q>(pub(crate) &'q Q);

impl<Q: Selects + Sync> Ask for ReadAtMostOne<'_, Q> {
    fn statement<'s>(&'s self, asking: Asking<'s>) -> Result<Statement<'s>, Error> {
        // A second row is asked for only to learn that there is one.
        self.0.statement(asking, Wanted::AtMost(2))
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

/// That the one row is not there which a query must have.
#[cold]
pub(crate) fn not_found<Q: Selects>(query: &Q) -> Error {
    Error::not_found(query.table_name(), query.key_sought()).asked_at(query.asked_at())
}

/// How many rows a query has.
pub(crate) struct Count<'q, Q>(pub(crate) &'q Q);

impl<Q: Selects + Sync> Ask for Count<'_, Q> {
    fn statement<'s>(&'s self, asking: Asking<'s>) -> Result<Statement<'s>, Error> {
        self.0.statement(asking, Wanted::Count)
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

/// Tells whether a query has any row.
pub(crate) struct HasRows<'q, Q>(pub(crate) &'q Q);

impl<Q: Selects + Sync> Ask for HasRows<'_, Q> {
    fn statement<'s>(&'s self, asking: Asking<'s>) -> Result<Statement<'s>, Error> {
        self.0.statement(asking, Wanted::Presence)
    }
}

impl<Q: Selects + Sync> Verb for HasRows<'_, Q> {
    type Row = bool;
    type Gathered = Last<bool>;
    type Output = bool;

    fn finish(self, rows: Last<bool>) -> Result<bool, Error> {
        Ok(rows.row.is_some_and(|presence| presence))
    }
}

/// The engine's plan of a query.
pub(crate) struct Explain<'q, Q> {
    pub(crate) query: &'q Q,
    pub(crate) analyze: bool,
}

impl<Q: Selects + Sync> Ask for Explain<'_, Q> {
    fn statement<'s>(&'s self, asking: Asking<'s>) -> Result<Statement<'s>, Error> {
        self.query.statement(asking, Wanted::Rows)?.explained(self.analyze)
    }
}

impl<Q: Selects + Sync> Verb for Explain<'_, Q> {
    type Row = PlanLine;
    type Gathered = Vec<PlanLine>;
    type Output = String;

    fn finish(self, lines: Vec<PlanLine>) -> Result<String, Error> {
        let mut plan = String::new();
        for line in &lines {
            // Engines that number the steps of a plan tell which one a step is part of.
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

/// One line of a plan. SQLite gives its number, that of the step it is part of, a cost, and the
/// text; the other engines give the text alone.
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

/// A statement whose rows, if it has any, nobody looks at.
pub(crate) struct Run<'s>(pub(crate) &'s str, pub(crate) Vec<BindValue>);

impl Ask for Run<'_> {
    fn statement<'s>(&'s self, asking: Asking<'s>) -> Result<Statement<'s>, Error> {
        Ok(Statement::of_text(asking.grammar, self.0, self.1.clone()))
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
