//! The texts of a prepared query, each found by what decides it.

use std::borrow::Cow;
use std::ptr;
use std::sync::{Arc, OnceLock};

use smallvec::SmallVec;

use crate::build::compile;
use crate::dialect::Grammar;
use crate::model::{BindValue, ColumnInfo, Error, ParameterBind, ParameterForm};
use crate::plan::{CompileContext, Planned, Policies, ReadShape};
use crate::sql::{Statement, Template, list};
use crate::tree::{RawColumn, Select};

/// The texts that a prepared query keeps. Beyond this number, a handle with another schema or other policies compiles it
/// each time.
const MOST_TEXTS: usize = 64;

/// The texts of a prepared query, or of the queries by key of a table: a chain that only grows, so that it is read without
/// a lock.
#[derive(Debug, Default)]
pub(super) struct Texts {
    first: OnceLock<Box<Kept>>,
    is_free_of_policies: OnceLock<bool>,
}

/// A text, and what decides it, beside the query.
#[derive(Debug)]
struct Kept {
    /// The name of the dialect, because dialects without fields may have one address.
    dialect: &'static str,
    shape: ReadShape,
    /// The length that its lists count as.
    list_length: usize,
    schema: Option<Arc<str>>,
    /// The columns of a query by key.
    columns: SmallVec<[&'static ColumnInfo; 2]>,
    /// The policies that came out for this run, with bind parameters for their values. They may branch on what the
    /// handle carries, so that one caller's are not another's.
    policies: Policies,
    /// `None` if the text depends on the values.
    template: Option<Template>,
    next: OnceLock<Box<Kept>>,
}

impl Texts {
    /// Returns the statement of a query with these values, or `None` if it must be compiled with them. `prepared` returns
    /// the query with bind parameters.
    pub(super) fn statement<'s>(
        &'s self,
        select: &'s Select,
        values: &[&'s BindValue],
        prepared: impl FnOnce() -> Cow<'s, Select>,
        context: CompileContext<'_>,
        (shape, columns): (ReadShape, &[RawColumn]),
    ) -> Result<Option<Statement<'s>>, Error> {
        if let ReadShape::Page { .. } = shape {
            return Ok(None);
        }
        let is_free = *self
            .is_free_of_policies
            .get_or_init(|| select.is_free_of_policies());
        let mut policies = match is_free && context.carried.required().is_empty() {
            true => Policies::new(),
            false => match Planned::policies_before(select, context)? {
                Some(policies) => policies,
                None => return Ok(None),
            },
        };
        // Each run has other numbers for the tables of its subqueries, so that they would look like other ones.
        if policies
            .iter()
            .any(|policy| policy.what.summary().queries())
        {
            return Ok(None);
        }
        if !columns.is_empty() {
            // Each query by key has another number for its table.
            policies
                .iter_mut()
                .for_each(|policy| policy.what.stand_nowhere(select.source));
        }
        let of_policies = taken_from(&mut policies, values.len());
        let all = values.iter().copied().chain(&of_policies);
        let list_length = list_length(context.grammar, all);
        let (mut place, mut kept) = (&self.first, 0);
        while let Some(text) = place.get() {
            if text.is_decided_by(context, shape, list_length, columns, &policies) {
                let template = text.template.as_ref();
                return template
                    .map(|template| template.with_values(values, &of_policies, select.asked_at))
                    .transpose();
            }
            (place, kept) = (&text.next, kept + 1);
        }
        if kept >= MOST_TEXTS {
            return Ok(None);
        }
        let prepared = prepared();
        let planned = Planned::under(policies.clone(), &prepared, context);
        let template = compile::to_prepare(&planned, context.grammar, shape, list_length)?;
        let text = Kept {
            dialect: context.grammar.name(),
            shape,
            list_length,
            schema: context.schema.cloned(),
            columns: columns.iter().map(|column| column.info).collect(),
            policies,
            template: Some(template).filter(|template| !template.depends_on_values()),
            next: OnceLock::new(),
        };
        let is_kept = place.set(Box::new(text)).is_ok();
        let template = place.get().filter(|_| is_kept).map(|text| &text.template);
        match template {
            Some(Some(template)) => template
                .with_values(values, &of_policies, select.asked_at)
                .map(Some),
            // Another thread has kept a text at the same time, or the text depends on the values.
            _ => Ok(None),
        }
    }
}

impl Kept {
    #[inline]
    fn is_decided_by(
        &self,
        context: CompileContext<'_>,
        shape: ReadShape,
        list_length: usize,
        columns: &[RawColumn],
        policies: &Policies,
    ) -> bool {
        let same = |(own, other): (&&ColumnInfo, &RawColumn)| ptr::eq(*own, other.info);
        self.dialect == context.grammar.name()
            && self.shape == shape
            && self.list_length == list_length
            && self.schema.as_ref() == context.schema
            && self.columns.len() == columns.len()
            && self.columns.iter().zip(columns).all(same)
            && self.policies == *policies
    }
}

/// Takes the values of policies out of their binds, and puts numbered parameters in their places. A NULL stays, because
/// the text depends on it.
fn taken_from(policies: &mut Policies, first: usize) -> Vec<BindValue> {
    let mut taken = Vec::new();
    for policy in policies {
        policy.what.each_bind(&mut |bind| {
            let form = match bind {
                BindValue::Null(_) | BindValue::Parameter(_) => return,
                BindValue::List(_) => ParameterForm::List,
                _ => ParameterForm::Value,
            };
            let Ok(number) = u16::try_from(first + taken.len()) else { return };
            let sql_type = bind.sql_type();
            let parameter = ParameterBind { number, name: "of a policy", sql_type, form };
            taken.push(std::mem::replace(bind, parameter.in_form(form)));
        });
    }
    taken
}

/// Returns the length that the lists among some values count as; 0 without lists.
fn list_length<'v>(grammar: &dyn Grammar, values: impl Iterator<Item = &'v BindValue>) -> usize {
    let lengths = values.filter_map(|value| match value {
        BindValue::List(list) => list::counted_length(list, grammar.list_lengths(list.item_type())),
        _ => None,
    });
    lengths.max().unwrap_or(0)
}
