//! The texts of a prepared query, each found by what decides it.

use std::borrow::Cow;
use std::ptr;
use std::sync::{Arc, OnceLock};

use smallvec::SmallVec;

use super::count_bind;
use crate::build::compile;
use crate::dialect::Grammar;
use crate::model::{BindValue, ColumnInfo, Error, Origin, ParameterBind, ParameterForm, SqlType};
use crate::plan::write::{Added, Stamps};
use crate::plan::{CompileContext, Planned, Policies, ReadShape};
use crate::sql::{Statement, Template, list};
use crate::tree::{Located, Select, rows_left};

/// The texts that a prepared query keeps. Beyond this number, a handle with another schema or other policies compiles it
/// each time.
const MOST_TEXTS: usize = 64;

/// The texts of a prepared query, or of the queries by key of a table: a chain that only grows, so that it is read without
/// a lock.
#[derive(Debug, Default)]
pub(super) struct Texts {
    first: OnceLock<Box<Kept>>,
    is_free_of_policies: OnceLock<bool>,
    /// The text that identifies the order of pages after a cursor, and its dialect.
    order: OnceLock<(&'static str, Arc<str>)>,
}

/// The statement that a text is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Verb {
    Read(ReadShape),
    ReadPage,
    /// A page after a cursor, or the first one. The bits of `known` tell which values of the cursor are not NULL.
    ReadAfter {
        backwards: bool,
        known: Option<u64>,
    },
    /// A write. `returning` is true if it returns its rows.
    Write {
        returning: bool,
        kind: WriteKind,
        number_of_keys: usize,
    },
}

/// The change of the rows of a write. Each kind has a text of its own for the same columns.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum WriteKind {
    Updates,
    Deletes,
    /// Marks the rows as retired, and stamps them.
    Retires,
}

/// The handle, the columns and the line that ask for a statement. They decide its text, beside the query and its verb.
pub(super) struct Wanted<'a> {
    pub(super) context: CompileContext<'a>,
    /// The columns of a query by key, followed by those that a write by key sets.
    pub(super) columns: &'a [&'static ColumnInfo],
    /// True if each run has another number for its table, so that the conditions of policies must be told apart without.
    pub(super) stands_nowhere: bool,
    /// The line that asks for the statement.
    pub(super) at: Origin,
}

/// A text, and what decides it, beside the query.
#[derive(Debug)]
struct Kept {
    /// The name of the dialect, because dialects without fields may have one address.
    dialect: &'static str,
    verb: Verb,
    /// The length that its lists count as.
    list_length: usize,
    schema: Option<Arc<str>>,
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
        verb: Verb,
        wanted: &Wanted<'_>,
    ) -> Result<Option<Statement<'s>>, Error> {
        let (page, verb) = match verb {
            Verb::Read(ReadShape::Page { after, rows }) => {
                match limits_of_page(select, values, [rows, after].map(count_bind)) {
                    Some(limits) => (Some(limits), Verb::ReadPage),
                    None => return Ok(None),
                }
            }
            verb => (None, verb),
        };
        let context = wanted.context;
        let is_free = self.is_free_of_policies(|| select.is_free_of_policies());
        let (mut policies, mut others) = (Policies::new(), Vec::new());
        if !is_free || !context.carried.required().is_empty() {
            match policies_of(select, values.len(), &mut others, wanted)? {
                Some(of_run) => policies = of_run,
                None => return Ok(None),
            }
        }
        let first = values.len() + others.len();
        others.extend(page.into_iter().flatten().map(BindValue::Int));
        // All pages have one text, which is that of a query with a limit and an offset.
        let shape = match verb {
            Verb::Read(shape) => shape,
            _ => ReadShape::Rows,
        };
        let run = Run { values, others: &others, policies };
        self.known(run, verb, wanted, |policies, list_length| {
            let mut prepared = prepared();
            if page.is_some() {
                limit_to_page(prepared.to_mut(), first);
            }
            let planned = Planned::under(policies, &prepared, context);
            compile::to_prepare(&planned, context.grammar, shape, list_length)
        })
    }

    /// Returns the statement of a write of these rows with these values. `template` compiles it with what a run adds,
    /// for lists that count as this long. `None` if it must be compiled with its values.
    pub(super) fn write<'s>(
        &'s self,
        select: &Select,
        values: &[&'s BindValue],
        mut stamps: Stamps,
        verb: Verb,
        wanted: &Wanted<'_>,
        template: impl FnOnce(Added, usize) -> Result<Template, Error>,
    ) -> Result<Option<Statement<'s>>, Error> {
        let is_free = self.is_free_of_policies(|| select.is_free_of_policies());
        let (mut policies, mut others) = (Policies::new(), Vec::new());
        if !is_free {
            match policies_of(select, values.len(), &mut others, wanted)? {
                Some(of_run) => policies = of_run,
                None => return Ok(None),
            }
        }
        for (_, value) in &mut stamps {
            take(value, "of a stamp", values.len(), &mut others);
        }
        let run = Run { values, others: &others, policies };
        self.known(run, verb, wanted, |policies, list_length| {
            let policies = (!is_free).then_some(policies);
            template(Added { stamps, policies }, list_length)
        })
    }

    /// Returns whether no table of a query has policies. Asked once for each prepared query.
    pub(super) fn is_free_of_policies(&self, is_free: impl FnOnce() -> bool) -> bool {
        *self.is_free_of_policies.get_or_init(is_free)
    }

    /// Returns the text that identifies the order of pages in a dialect. The texts of other dialects are not kept.
    pub(super) fn order_text(
        &self,
        dialect: &'static str,
        compile: impl FnOnce() -> Result<String, Error>,
    ) -> Result<Arc<str>, Error> {
        if let Some((of, text)) = self.order.get()
            && *of == dialect
        {
            return Ok(Arc::clone(text));
        }
        let text: Arc<str> = compile()?.into();
        // Another thread may have kept the same text, or that of another dialect.
        let _ = self.order.set((dialect, Arc::clone(&text)));
        Ok(text)
    }

    /// Finds a text, or keeps a new one, and returns the statement with the values of a run.
    fn known<'s>(
        &'s self,
        run: Run<'_, 's>,
        verb: Verb,
        wanted: &Wanted<'_>,
        template: impl FnOnce(Policies, usize) -> Result<Template, Error>,
    ) -> Result<Option<Statement<'s>>, Error> {
        let Run { values, others, policies } = run;
        let context = wanted.context;
        let all = values.iter().copied().chain(others);
        let list_length = list_length(context.grammar, all);
        let (mut place, mut kept) = (&self.first, 0);
        while let Some(text) = place.get() {
            if text.verb == verb && text.is_decided_by(wanted, list_length, &policies) {
                let template = text.template.as_ref();
                return template
                    .map(|template| template.with_values(values, others, wanted.at))
                    .transpose();
            }
            (place, kept) = (&text.next, kept + 1);
        }
        if kept >= MOST_TEXTS {
            return Ok(None);
        }
        let template = template(policies.clone(), list_length)?;
        let text = Kept {
            dialect: context.grammar.name(),
            verb,
            list_length,
            schema: context.schema.cloned(),
            columns: wanted.columns.iter().copied().collect(),
            policies,
            template: Some(template).filter(|template| !template.depends_on_values()),
            next: OnceLock::new(),
        };
        let is_kept = place.set(Box::new(text)).is_ok();
        let template = place.get().filter(|_| is_kept).map(|text| &text.template);
        match template {
            Some(Some(template)) => template.with_values(values, others, wanted.at).map(Some),
            // Another thread has kept a text at the same time, or the text depends on the values.
            _ => Ok(None),
        }
    }
}

/// The values of a run, and its policies with bind parameters in place of their own values.
struct Run<'r, 's> {
    values: &'r [&'s BindValue],
    /// The values of its policies, then those of its stamps, or the limit and the offset of its page.
    others: &'r [BindValue],
    policies: Policies,
}

/// Returns the limit and the offset of a page with these rows and this offset, of a query that may have its own.
/// `None` if they cannot be known here.
fn limits_of_page(
    select: &Select,
    values: &[&BindValue],
    [rows, after]: [i64; 2],
) -> Option<[i64; 2]> {
    let own = |limit: &Option<Located<BindValue>>| {
        let Some(limit) = limit else { return Some(None) };
        let value = match &limit.what {
            BindValue::Parameter(parameter) => {
                parameter.filled_with(values.get(usize::from(parameter.number))?)
            }
            constant => constant.clone(),
        };
        match value {
            BindValue::Int(rows) => Some(Some(rows)),
            _ => None,
        }
    };
    let (limit, offset) = (own(&select.limit)?, own(&select.offset)?);
    let rows = limit.map_or(rows, |limit| rows_left(limit, after, rows));
    Some([rows, offset.unwrap_or(0).saturating_add(after)])
}

/// Gives a query bind parameters for the limit and the offset of a page, with numbers from `first` on.
fn limit_to_page(select: &mut Select, first: usize) {
    let at = select.asked_at;
    let parameter = |number: usize| {
        let number = u16::try_from(number).ok()?;
        let (sql_type, form) = (SqlType::BigInt, ParameterForm::Value);
        let bind = ParameterBind { number, name: "of a page", sql_type, form };
        Some(Located { what: bind.in_form(form), at })
    };
    (select.limit, select.offset) = (parameter(first), parameter(first + 1));
}

impl Kept {
    #[inline]
    fn is_decided_by(&self, wanted: &Wanted<'_>, list_length: usize, policies: &Policies) -> bool {
        let same = |(own, other): (&&ColumnInfo, &&ColumnInfo)| ptr::eq(*own, *other);
        let name = wanted.context.grammar.name();
        (ptr::eq(self.dialect, name) || self.dialect == name)
            && self.list_length == list_length
            && self.schema.as_ref() == wanted.context.schema
            && self.columns.len() == wanted.columns.len()
            && self.columns.iter().zip(wanted.columns).all(same)
            && self.policies == *policies
    }
}

/// Returns the policies of a run with numbered parameters in place of their values, which are put into `others`. `None` if
/// the text of the query cannot be known by them.
fn policies_of(
    select: &Select,
    first: usize,
    others: &mut Vec<BindValue>,
    wanted: &Wanted<'_>,
) -> Result<Option<Policies>, Error> {
    let Some(mut policies) = Planned::policies_before(select, wanted.context)? else {
        return Ok(None);
    };
    for Located { what, .. } in &mut policies {
        // Each run has other numbers for the tables of its subqueries, so that they would look like other ones.
        if what.summary().queries() {
            return Ok(None);
        }
        if wanted.stands_nowhere {
            what.stand_nowhere(select.source);
        }
        what.each_bind(&mut |bind| take(bind, "of a policy", first, others));
    }
    Ok(Some(policies))
}

/// Takes a value out of a bind, and puts a numbered parameter in its place. A NULL stays, because the text depends on it.
pub(super) fn take(
    bind: &mut BindValue,
    name: &'static str,
    first: usize,
    taken: &mut Vec<BindValue>,
) {
    let form = match bind {
        BindValue::Null(_) | BindValue::Parameter(_) => return,
        BindValue::List(_) => ParameterForm::List,
        _ => ParameterForm::Value,
    };
    let Ok(number) = u16::try_from(first + taken.len()) else { return };
    let parameter = ParameterBind { number, name, sql_type: bind.sql_type(), form };
    taken.push(std::mem::replace(bind, parameter.in_form(form)));
}

/// Returns the length that the lists among some values count as; 0 without lists.
fn list_length<'v>(grammar: &dyn Grammar, values: impl Iterator<Item = &'v BindValue>) -> usize {
    let lengths = values.filter_map(|value| match value {
        BindValue::List(list) => list::counted_length(list, grammar.list_lengths(list.item_type())),
        _ => None,
    });
    lengths.max().unwrap_or(0)
}
