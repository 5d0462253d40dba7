//! Templates: statements of prepared queries, whose bind parameters get their values when they run.

use std::borrow::Cow;

use smallvec::SmallVec;

use super::binds::Binds;
use super::list;
use super::statement::{Purpose, Statement};
use super::writer::Writer;
use crate::dialect::Grammar;
use crate::model::{BindValue, Error, Origin, ParameterBind, ParameterForm};
use crate::plan::write::Target;

/// A statement whose bind parameters have no values yet.
#[derive(Debug)]
pub(crate) struct Template(Statement<'static>);

impl Template {
    pub(crate) fn of(statement: Statement<'_>) -> Template {
        Template(statement.into_owned_binds())
    }

    /// Compiles an update or a delete, whose lists count as lists of this length.
    pub(crate) fn of_change(
        target: &Target,
        grammar: &'static dyn Grammar,
        returning: bool,
        list_length: usize,
    ) -> Result<Template, Error> {
        let writer = Writer::new(target.plan(), grammar, Purpose::Prepare);
        let written = writer
            .with_lists_of(list_length)
            .write_change(target, returning);
        written.map(Template::of)
    }

    /// Returns whether its text depends on a value, so that it is not the text for all of them.
    pub(crate) fn depends_on_values(&self) -> bool {
        self.0.parts.depends_on_values
    }

    /// Returns the statement with values for its parameters, by their numbers: first `given`, then `others`, which live
    /// shorter. `origin` is the line that asks for it.
    pub(crate) fn with_values<'s>(
        &'s self,
        given: &[&'s BindValue],
        others: &[BindValue],
        origin: Origin,
    ) -> Result<Statement<'s>, Error> {
        let mut binds = SmallVec::new();
        let Binds::Each(own) = &self.0.binds else { return Ok(self.0.lent(Binds::Each(binds))) };
        for bind in own {
            let value = match &**bind {
                BindValue::Parameter(parameter) => {
                    let number = usize::from(parameter.number);
                    let value = match number.checked_sub(given.len()) {
                        None => given
                            .get(number)
                            .map(|value| self.in_form(parameter, value)),
                        // A bind may be written twice, so that its value is needed again.
                        Some(number) => others.get(number).map(|value| {
                            let sent = self.in_form(parameter, value)?;
                            Ok(Cow::Owned(sent.into_owned()))
                        }),
                    };
                    let missing = || Err(Error::refused_value(bind, "it has no value"));
                    let value = value.unwrap_or_else(missing);
                    value.map_err(|err| err.asked_at(origin))?
                }
                constant => Cow::Borrowed(constant),
            };
            binds.push(value);
        }
        Ok(self.0.lent(Binds::Each(binds)).begun_at(origin))
    }

    /// Returns what is sent of a value.
    fn in_form<'v>(
        &self,
        parameter: &ParameterBind,
        value: &'v BindValue,
    ) -> Result<Cow<'v, BindValue>, Error> {
        if !value.is_ordinary()
            && let Some(reason) = self.0.parts.grammar.refusal(value)
        {
            return Err(Error::refused_value(value, reason));
        }
        Ok(match (parameter.form, value) {
            (ParameterForm::Item(number), BindValue::List(list)) => {
                let items = list.items();
                let item = items.get(usize::from(number)).or(items.last());
                item.map_or(Cow::Borrowed(value), Cow::Borrowed)
            }
            (ParameterForm::Json { zone_mark, longest_text }, BindValue::List(list)) => {
                let json = list::to_json(list, zone_mark, longest_text)?;
                Cow::Owned(BindValue::Text(json.into()))
            }
            (ParameterForm::AtMost(most), BindValue::Int(rows)) => {
                Cow::Owned(BindValue::Int(most.min(*rows)))
            }
            _ => Cow::Borrowed(value),
        })
    }
}
