//! The question for the types of a query, which is not run.

use nepheline_core::internal::{CompileContext, ReadShape, Selects, Statement};
use nepheline_core::{BindValue, Cells, Error, Operation, Origin, RowShape, SqlType};

use super::answer::Answer;
use super::ask::{Ask, Verb};
use super::companions::Readable;

/// A query that can be described, whatever its rows are.
#[doc(hidden)]
pub trait Describable: Send + Sync {
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error>;

    /// Returns what each row is read into.
    fn row_cells(&self) -> RowCells;

    /// Returns the line of the program that began the query.
    fn asked_at(&self) -> Origin;
}

/// The cells that a row type reads.
#[doc(hidden)]
#[derive(Debug, Clone)]
pub struct RowCells {
    /// True if the columns of the statement are matched with them by name, because the statement is hand-written.
    pub by_name: bool,
    /// The type of each, and whether it may be NULL; empty if the row type does not tell them.
    pub types: Vec<(SqlType, bool)>,
}

impl<Q: Readable> Describable for Q {
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        Selects::statement(self, context, ReadShape::Rows)
    }

    fn asked_at(&self) -> Origin {
        Selects::asked_at(self)
    }

    fn row_cells(&self) -> RowCells {
        let mut types = Vec::new();
        Q::Base::cell_types(&mut types);
        if types.len() != Q::Base::WIDTH {
            types.clear();
        }
        RowCells { by_name: Q::Base::BY_NAME, types }
    }
}

/// A column or a parameter of a statement, as the database describes it.
#[doc(hidden)]
#[derive(Debug, Clone)]
pub struct DescribedPart {
    pub is_parameter: bool,
    pub name: String,
    /// The type as the driver names it; empty if the engine does not tell it.
    pub database_type: String,
    /// True if NULL is possible; `None` if the engine does not tell.
    pub nullable: Option<bool>,
    /// The number of the cell of the row that a column fills, from 0.
    pub cell: Option<i64>,
}

impl DescribedPart {
    #[cfg_attr(
        not(any(feature = "sqlite", feature = "postgres", feature = "mysql")),
        allow(dead_code, reason = "engines call it")
    )]
    pub(crate) fn column(name: &str, database_type: &str, nullable: Option<bool>) -> DescribedPart {
        DescribedPart {
            is_parameter: false,
            name: name.to_owned(),
            database_type: database_type.to_owned(),
            nullable,
            cell: None,
        }
    }

    #[cfg_attr(
        not(any(feature = "sqlite", feature = "postgres", feature = "mysql")),
        allow(dead_code, reason = "engines call it")
    )]
    pub(crate) fn parameter(name: String, database_type: &str) -> DescribedPart {
        DescribedPart { is_parameter: true, name, ..DescribedPart::column("", database_type, None) }
    }

    fn into_values(self) -> Vec<BindValue> {
        let nullable = self.nullable.map_or(BindValue::Null(SqlType::Boolean), BindValue::Bool);
        let cell = self.cell.map_or(BindValue::Null(SqlType::BigInt), BindValue::Int);
        vec![
            BindValue::Bool(self.is_parameter),
            BindValue::Text(self.name.into()),
            BindValue::Text(self.database_type.into()),
            nullable,
            cell,
        ]
    }
}

impl RowShape for DescribedPart {
    const WIDTH: usize = 5;

    fn read<C: Cells>(cells: &mut C) -> Result<DescribedPart, Error> {
        let (is_parameter, name, database_type, nullable, cell) = RowShape::read(cells)?;
        Ok(DescribedPart { is_parameter, name, database_type, nullable, cell })
    }
}

/// Returns the description of a statement as rows; `columns` is `None` if the engine tells them only when it runs.
///
/// # Errors
///
/// [`Mismatch`](nepheline_core::ErrorKind::Mismatch) if the names of the columns are not those that the row type wants.
#[cfg_attr(
    not(any(feature = "sqlite", feature = "postgres", feature = "mysql")),
    allow(dead_code, reason = "engines call it")
)]
pub(crate) fn answer_of(
    statement: &Statement<'_>,
    columns: Option<Vec<DescribedPart>>,
    parameters: impl Iterator<Item = DescribedPart>,
) -> Result<Answer, Error> {
    let are_told = columns.is_some();
    let mut columns = columns.unwrap_or_default();
    let names = || columns.iter().map(|column| column.name.clone()).collect();
    let places = match are_told && statement.is_matched_by_name() {
        true => statement.cell_places(0, names)?.into_owned(),
        false => (0..columns.len()).collect(),
    };
    for (cell, place) in (0..).zip(places) {
        if let Some(column) = columns.get_mut(place) {
            column.cell = Some(cell);
        }
    }
    let rows = columns.into_iter().chain(parameters).map(DescribedPart::into_values);
    Ok(Answer { rows: rows.collect(), written: 0 })
}

/// The verb.
pub(crate) struct Describe<'q>(pub(crate) &'q dyn Describable);

impl Ask for Describe<'_> {
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        // A statement that was prepared before the schema changed tells of the old one.
        Ok(self.0.statement(context)?.doing(Operation::Describe).once())
    }
}

impl Verb for Describe<'_> {
    type Row = DescribedPart;
    type Gathered = Vec<DescribedPart>;
    type Output = Vec<DescribedPart>;

    fn finish(self, parts: Vec<DescribedPart>) -> Result<Vec<DescribedPart>, Error> {
        Ok(parts)
    }
}
