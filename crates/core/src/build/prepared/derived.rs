//! Queries that are made from a prepared one for each run: the rows of a companion, and pages after a cursor.

use std::borrow::Cow;
use std::sync::{Arc, OnceLock};

use smallvec::SmallVec;

use super::texts::{Texts, Verb, Wanted, take};
use super::{ParameterValues, fill};
use crate::build::compile;
use crate::model::{BindValue, Error};
use crate::plan::{CompileContext, ReadShape};
use crate::sql::Statement;
use crate::tree::Select;

/// A companion of a prepared query: the texts of its statement, and the values of the run.
#[doc(hidden)]
#[derive(Debug, Clone, Default)]
pub struct KeptCompanion {
    texts: Arc<Texts>,
    /// `None` until a run gives them.
    values: Option<ParameterValues>,
}

impl KeptCompanion {
    /// Gives it the values of a run.
    pub(super) fn give(&mut self, values: &ParameterValues) {
        self.values = Some(values.clone());
    }

    /// Returns what the query for the rows of its parents is made with, in a run.
    pub(crate) fn derived(&self) -> Option<Derived> {
        let values = self.values.as_ref()?;
        Some(Derived::new(&self.texts, values, Verb::Read(ReadShape::Rows)))
    }
}

/// A prepared query as it was built, with its texts and the values of a run.
#[doc(hidden)]
#[derive(Debug, Clone, Copy)]
pub struct Unfilled<'b> {
    pub(super) select: &'b Select,
    pub(super) texts: &'b Arc<Texts>,
    pub(super) values: &'b ParameterValues,
}

impl<'b> Unfilled<'b> {
    /// Returns its tree, which has bind parameters for the values.
    pub(crate) fn select(self) -> &'b Select {
        self.select
    }

    /// Returns the text that identifies the order of its pages, which is compiled once for a dialect.
    pub(crate) fn order_text(
        self,
        dialect: &'static str,
        compile: impl FnOnce() -> Result<String, Error>,
    ) -> Result<Arc<str>, Error> {
        self.texts.order_text(dialect, compile)
    }

    /// Returns what a page after a cursor is made with.
    pub(crate) fn derived(self, backwards: bool) -> Derived {
        let verb = Verb::ReadAfter { backwards, known: None };
        Derived::new(self.texts, self.values, verb)
    }
}

/// The values of a query that is made from a prepared one, which has bind parameters for them.
#[derive(Debug)]
pub(crate) struct Derived {
    texts: Arc<Texts>,
    /// `None` if its text is not kept.
    verb: Option<Verb>,
    /// Those of the run, and then those that were added.
    values: Vec<BindValue>,
    /// The query with the values, if it has no text for all of them.
    filled: OnceLock<Box<Select>>,
}

impl Derived {
    fn new(texts: &Arc<Texts>, values: &ParameterValues, verb: Verb) -> Derived {
        let (texts, values) = (Arc::clone(texts), values.to_vec());
        Derived { texts, verb: Some(verb), values, filled: OnceLock::new() }
    }

    /// Adds a value, and returns the bind parameter that stands for it. A NULL stays, because the text depends on it.
    pub(crate) fn parameter(&mut self, mut value: BindValue) -> BindValue {
        take(&mut value, "of a run", 0, &mut self.values);
        value
    }

    /// Adds the values of the position that a page comes after, and returns their bind parameters.
    pub(crate) fn after(&mut self, place: Vec<BindValue>) -> Vec<BindValue> {
        // A NULL decides the text. The bits are of 64 values; the text of a longer position is not kept.
        let is_null = |value: &BindValue| matches!(value, BindValue::Null(_));
        let bits = place.iter().zip(0..).try_fold(0, |known, (value, bit)| {
            let of_value = 1_u64.checked_shl(bit)?;
            Some(if is_null(value) { known } else { known | of_value })
        });
        self.verb = match (self.verb, bits) {
            (Some(Verb::ReadAfter { backwards, .. }), Some(_)) => {
                Some(Verb::ReadAfter { backwards, known: bits })
            }
            _ => None,
        };
        place
            .into_iter()
            .map(|value| self.parameter(value))
            .collect()
    }

    /// Puts the values into a query.
    pub(crate) fn fill(&self, select: &mut Select) {
        select.each_bind(&mut |bind| fill(bind, &self.values));
    }

    /// Returns the statement of the query.
    pub(crate) fn statement<'s>(
        &'s self,
        select: &'s Select,
        context: CompileContext<'s>,
    ) -> Result<Statement<'s>, Error> {
        let values: SmallVec<[&BindValue; 4]> = self.values.iter().collect();
        // Each run has another number for its table. Only a query over one table has policies beside it.
        let stands_nowhere = select.joins.is_empty();
        let wanted = Wanted { context, columns: &[], stands_nowhere, at: select.asked_at };
        let prepared = || match stands_nowhere {
            true => Cow::Owned(select.copied_nowhere()),
            false => Cow::Borrowed(select),
        };
        let known = match self.verb {
            Some(verb) => self
                .texts
                .statement(select, &values, prepared, verb, &wanted)?,
            None => None,
        };
        match known {
            Some(statement) => Ok(statement),
            None => compile::to_run(self.filled(select), context, ReadShape::Rows),
        }
    }

    fn filled(&self, select: &Select) -> &Select {
        self.filled.get_or_init(|| {
            let mut filled = Box::new(select.clone());
            self.fill(&mut filled);
            filled
        })
    }
}
