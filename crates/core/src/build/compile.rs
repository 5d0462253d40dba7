//! The steps from a tree to a statement, the same for running and showing it: plan, then write.

use crate::build::prepared::known_by_key;
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
    if select.at_most_one
        && let Some(statement) = known_by_key(select, context, shape)?
    {
        return Ok(statement);
    }
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

/// Compiles a query with bind parameters, to be run many times under policies of this structure. Its lists have the binds
/// of lists of this length.
pub(crate) fn to_prepare(
    planned: &Planned<'_>,
    grammar: &'static dyn Grammar,
    shape: ReadShape,
    list_length: usize,
) -> Result<Template, Error> {
    Statement::of_template(planned, grammar, shape, list_length).map(Template::of)
}

/// Returns the text of a query that is only compared with others. It has no policies.
pub(crate) fn text_of(select: &Select, grammar: &'static dyn Grammar) -> Result<String, Error> {
    let planned = Planned::to_compare(select);
    let statement = Statement::of_read(&planned, grammar, ReadShape::Rows, Purpose::Run)?;
    Ok(statement.text().to_owned())
}
