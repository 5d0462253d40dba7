//! The way of a query from its tree to a statement, which is the same to run it and to look at it: its policies are
//! applied, and then it is written.

use crate::build::query::Selects;
use crate::dialect::Grammar;
use crate::model::Error;
use crate::plan::{Asking, Planned, Wanted};
use crate::sql::{Purpose, Sql, Statement, Template};
use crate::tree::Select;

/// Compiles a query for a driver, which needs no more than the text and the binds.
pub(crate) fn to_run<'q>(
    select: &'q Select,
    asking: Asking<'q>,
    wanted: Wanted,
) -> Result<Statement<'q>, Error> {
    let planned = Planned::read(select, asking)?;
    Statement::of_read(&planned, asking.grammar, wanted, Purpose::Run)
}

/// Compiles a query for people, who want to see where each clause begins and who asked for it.
pub(crate) fn to_show(select: &Select, asking: Asking<'_>, wanted: Wanted) -> Result<Sql, Error> {
    let planned = Planned::read(select, asking)?;
    let statement = Statement::of_read(&planned, asking.grammar, wanted, Purpose::Show)?;
    Ok(statement.into_sql(planned.into_met()))
}

/// Compiles a query with bind parameters, to be run many times.
#[doc(hidden)]
pub fn to_prepare(
    query: &impl Selects,
    asking: Asking<'_>,
    wanted: Wanted,
) -> Result<Template, Error> {
    let planned = Planned::read(query.select(), asking)?;
    let statement = Statement::of_read(&planned, asking.grammar, wanted, Purpose::Prepare)?;
    Ok(Template(statement.into_owned_binds()))
}

/// Returns the text of a query that is never run, to compare it with others. It has none of its policies.
pub(crate) fn text_of(select: &Select, grammar: &'static dyn Grammar) -> Result<String, Error> {
    let planned = Planned::to_compare(select);
    let statement = Statement::of_read(&planned, grammar, Wanted::Rows, Purpose::Run)?;
    Ok(statement.text().to_owned())
}
