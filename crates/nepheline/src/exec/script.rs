//! Scripts: several statements, one after the other.

use nepheline_core::internal::{CompileContext, Function, ScriptPart, Statement, split_script};
use nepheline_core::{Error, Operation, Script};

use super::access::{Access, AtomicScope, run};
use super::ask::{Ask, Verb};
use super::sink::Nothing;

/// The name of the handle's schema in a script.
const SCHEMA: &str = "{schema}";

/// A statement of a script.
struct RunPart<'s> {
    script: &'s Script,
    part: ScriptPart<'s>,
    /// True for the first one, which budgets count.
    counts: bool,
}

impl Ask for RunPart<'_> {
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        let quoted = context.schema.map(|schema| context.grammar.quotes().quoted(schema));
        let text = match &quoted {
            Some(schema) => self.part.text.replace(SCHEMA, schema),
            None => self.part.text.to_owned(),
        };
        let path = context.schema.filter(|_| context.grammar.has_search_path());
        let statement = Statement::of_text(context.grammar, text, Vec::new()).in_search_path(path);
        Ok(statement.of_program(Operation::HandWritten).begun_at(self.script.origin()))
    }

    fn counts(&self) -> bool {
        self.counts
    }
}

impl Verb for RunPart<'_> {
    type Row = Nothing;
    type Gathered = Vec<Nothing>;
    type Output = ();

    fn finish(self, _: Vec<Nothing>) -> Result<(), Error> {
        Ok(())
    }
}

/// Runs the statements of a script, in a transaction where the engine can roll back changes of the schema.
pub(crate) async fn run_script<A: Access>(access: A, script: &Script) -> Result<(), Error> {
    let context = access.context();
    if context.carried.requires_policies() && !script.is_outside_policies() {
        return Err(Error::script_outside_policies().asked_at(script.origin()));
    }
    if context.schema.is_some() && !context.grammar.has_search_path() && !script.text().contains(SCHEMA) {
        return Err(Error::script_outside_schema().asked_at(script.origin()));
    }
    let parts = split_script(script.text(), context.grammar.script());
    if let Some((number, part)) = parts.iter().enumerate().find(|(_, part)| Function::is_of_transaction(part.text)) {
        let err = Error::script_of_transaction().in_script(number + 1, part.line);
        return Err(err.asked_at(script.origin()));
    }
    if context.grammar.commits_by_ddl() || access.is_of_program() {
        return run_parts(&access, script, &parts).await;
    }
    let mut together = access.begin_together().await?;
    let ran = run_parts(&together.access(), script, &parts).await;
    let end = together.end(ran.is_ok()).await;
    if let Err(err) = &ran {
        access.note_write(err);
    }
    ran.and(end)
}

async fn run_parts<A: Access>(
    access: &A,
    script: &Script,
    parts: &[ScriptPart<'_>],
) -> Result<(), Error> {
    for (number, part) in parts.iter().enumerate() {
        let ran = run(access, RunPart { script, part: *part, counts: number == 0 }).await;
        ran.map_err(|err| err.in_script(number + 1, part.line))?;
    }
    Ok(())
}
