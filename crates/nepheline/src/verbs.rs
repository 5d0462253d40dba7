//! The verbs, written once and without I/O: each says which statement it needs, what its rows are
//! gathered into, and what it makes of them. The handles do the running in between.

use nepheline_core::internal::{Statement, Wanted};
use nepheline_core::{BindValue, Cell, Cells, Dialect, Error, Query, RowShape, Tables};

/// One thing to ask of a database.
pub trait Verb: Send {
    /// What each row is read into.
    type Row: RowShape + Send + 'static;
    /// What the rows are gathered into while they arrive.
    type Gathered: Gather<Self::Row>;
    /// What the caller gets.
    type Output;

    /// The statement to run.
    fn statement(&self, dialect: Dialect) -> Result<Statement<'_>, Error>;

    /// Makes the answer of what arrived.
    fn finish(self, gathered: Self::Gathered) -> Result<Self::Output, Error>;
}

/// Something that rows are put into as they arrive.
pub trait Gather<R>: Default + Send + 'static {
    fn take(&mut self, row: R);
}

impl<R: Send + 'static> Gather<R> for Vec<R> {
    #[inline]
    fn take(&mut self, row: R) {
        self.push(row);
    }
}

/// The last row that arrived, and whether there were others.
#[derive(Debug)]
pub(crate) struct Last<R> {
    row: Option<R>,
    others: bool,
}

impl<R> Default for Last<R> {
    fn default() -> Self {
        Last { row: None, others: false }
    }
}

impl<R: Send + 'static> Gather<R> for Last<R> {
    #[inline]
    fn take(&mut self, row: R) {
        self.others |= self.row.replace(row).is_some();
    }
}

/// Gathers the rows of a server. A row that does not fit is told when all have arrived, so that the
/// connection stays in step.
#[cfg(any(feature = "postgres", feature = "mysql"))]
#[derive(Default)]
pub(crate) struct Arriving<G> {
    gathered: G,
    read: u64,
    misfit: Option<Error>,
}

#[cfg(any(feature = "postgres", feature = "mysql"))]
impl<G> Arriving<G> {
    #[inline]
    pub(crate) fn take<R>(&mut self, row: Result<R, Error>)
    where
        G: Gather<R>,
    {
        self.read += 1;
        match row {
            Ok(row) => self.gathered.take(row),
            Err(err) => {
                self.misfit.get_or_insert(err.at_row(self.read));
            }
        }
    }

    pub(crate) fn finish(self) -> Result<G, Error> {
        match self.misfit {
            Some(err) => Err(err),
            None => Ok(self.gathered),
        }
    }
}

/// All rows of a query.
pub(crate) struct Read<'q, T, R>(pub(crate) &'q Query<T, R>);

impl<T: Tables, R: RowShape + Send + 'static> Verb for Read<'_, T, R> {
    type Row = R;
    type Gathered = Vec<R>;
    type Output = Vec<R>;

    fn statement(&self, dialect: Dialect) -> Result<Statement<'_>, Error> {
        self.0.statement(dialect, Wanted::Rows)
    }

    fn finish(self, rows: Vec<R>) -> Result<Vec<R>, Error> {
        Ok(rows)
    }
}

/// The first row of a query, if there is one.
pub(crate) struct ReadFirst<'q, T, R>(pub(crate) &'q Query<T, R>);

impl<T: Tables, R: RowShape + Send + 'static> Verb for ReadFirst<'_, T, R> {
    type Row = R;
    type Gathered = Last<R>;
    type Output = Option<R>;

    fn statement(&self, dialect: Dialect) -> Result<Statement<'_>, Error> {
        self.0.statement(dialect, Wanted::AtMost(1))
    }

    fn finish(self, rows: Last<R>) -> Result<Option<R>, Error> {
        Ok(rows.row)
    }
}

/// The one row that a query may have.
pub(crate) struct ReadAtMostOne<'q, T, R>(pub(crate) &'q Query<T, R>);

impl<T: Tables, R: RowShape + Send + 'static> Verb for ReadAtMostOne<'_, T, R> {
    type Row = R;
    type Gathered = Last<R>;
    type Output = Option<R>;

    fn statement(&self, dialect: Dialect) -> Result<Statement<'_>, Error> {
        // A second row is asked for only to learn that there is one.
        self.0.statement(dialect, Wanted::AtMost(2))
    }

    fn finish(self, rows: Last<R>) -> Result<Option<R>, Error> {
        match rows.others {
            false => Ok(rows.row),
            true => Err(Error::more_than_one(self.0.table_name()).asked_at(self.0.origin())),
        }
    }
}

/// The one row that a query must have.
pub(crate) struct ReadOne<'q, T, R>(pub(crate) &'q Query<T, R>);

impl<T: Tables, R: RowShape + Send + 'static> Verb for ReadOne<'_, T, R> {
    type Row = R;
    type Gathered = Last<R>;
    type Output = R;

    fn statement(&self, dialect: Dialect) -> Result<Statement<'_>, Error> {
        self.0.statement(dialect, Wanted::AtMost(2))
    }

    fn finish(self, rows: Last<R>) -> Result<R, Error> {
        let query = self.0;
        ReadAtMostOne(query).finish(rows)?.ok_or_else(|| {
            Error::not_found(self.0.table_name(), query.key_sought()).asked_at(query.origin())
        })
    }
}

/// How many rows a query has.
pub(crate) struct Count<'q, T, R>(pub(crate) &'q Query<T, R>);

impl<T: Tables, R> Verb for Count<'_, T, R> {
    type Row = i64;
    type Gathered = Last<i64>;
    type Output = u64;

    fn statement(&self, dialect: Dialect) -> Result<Statement<'_>, Error> {
        self.0.statement(dialect, Wanted::Count)
    }

    fn finish(self, rows: Last<i64>) -> Result<u64, Error> {
        Ok(rows.row.map_or(0, i64::unsigned_abs))
    }
}

/// Whether a query has any row.
pub(crate) struct HasRows<'q, T, R>(pub(crate) &'q Query<T, R>);

impl<T: Tables, R> Verb for HasRows<'_, T, R> {
    type Row = bool;
    type Gathered = Last<bool>;
    type Output = bool;

    fn statement(&self, dialect: Dialect) -> Result<Statement<'_>, Error> {
        self.0.statement(dialect, Wanted::Presence)
    }

    fn finish(self, rows: Last<bool>) -> Result<bool, Error> {
        Ok(rows.row.is_some_and(|presence| presence))
    }
}

/// The engine's plan of a query.
pub(crate) struct Explain<'q, T, R> {
    pub(crate) query: &'q Query<T, R>,
    pub(crate) analyze: bool,
}

impl<T: Tables, R> Verb for Explain<'_, T, R> {
    type Row = PlanLine;
    type Gathered = Vec<PlanLine>;
    type Output = String;

    fn statement(&self, dialect: Dialect) -> Result<Statement<'_>, Error> {
        self.query.statement(dialect, Wanted::Rows)?.explained(self.analyze)
    }

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

impl Verb for Run<'_> {
    type Row = Nothing;
    type Gathered = Vec<Nothing>;
    type Output = ();

    fn statement(&self, dialect: Dialect) -> Result<Statement<'_>, Error> {
        Ok(Statement::of_text(dialect, self.0, self.1.clone()))
    }

    fn finish(self, _: Vec<Nothing>) -> Result<(), Error> {
        Ok(())
    }
}

/// A row that nobody looks at.
#[derive(Debug)]
pub(crate) struct Nothing;

impl RowShape for Nothing {
    const WIDTH: usize = 0;

    fn read<C: Cells>(_: &mut C) -> Result<Nothing, Error> {
        Ok(Nothing)
    }
}
