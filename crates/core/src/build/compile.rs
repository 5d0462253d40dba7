//! The steps from a tree to a statement, the same for running and showing it: plan, then write.

use crate::build::query::Selects;
use crate::dialect::Grammar;
use crate::model::Error;
use crate::plan::{CompileContext, Planned, ReadShape};
use crate::sql::{Purpose, Sql, Statement, Template};
use crate::tree::Select;

/// Compiles a query for a driver, which needs only the text and the binds.
pub(crate) fn to_run<'q>(
    select: &'q Select,
    context: CompileContext<'q>,
    shape: ReadShape,
) -> Result<Statement<'q>, Error> {
    let planned = Planned::read(select, context)?;
    Statement::of_read(&planned, context.grammar, shape, Purpose::Run)
}

/// Compiles a query for people, with the start and the origin of each clause.
pub(crate) fn to_show(
    select: &Select,
    context: CompileContext<'_>,
    shape: ReadShape,
) -> Result<Sql, Error> {
    let planned = Planned::read(select, context)?;
    let statement = Statement::of_read(&planned, context.grammar, shape, Purpose::Show)?;
    Ok(statement.into_sql(planned.into_met()))
}

/// Compiles a query with bind parameters, to be run many times.
#[doc(hidden)]
pub fn to_prepare(
    query: &impl Selects,
    context: CompileContext<'_>,
    shape: ReadShape,
) -> Result<Template, Error> {
    let planned = Planned::read(query.select(), context)?;
    let statement = Statement::of_read(&planned, context.grammar, shape, Purpose::Prepare)?;
    Ok(Template(statement.into_owned_binds()))
}

/// Returns the text of a query that is only compared with others. It has no policies.
pub(crate) fn text_of(select: &Select, grammar: &'static dyn Grammar) -> Result<String, Error> {
    let planned = Planned::to_compare(select);
    let statement = Statement::of_read(&planned, grammar, ReadShape::Rows, Purpose::Run)?;
    Ok(statement.text().to_owned())
}
