//! Queries and writes by a key, or by unique columns, are prepared by themselves: their texts are kept with the table.

use std::borrow::Cow;

use smallvec::SmallVec;

use super::texts::{Texts, Verb, Wanted};
use super::writes::{KeepsText, known_write};
use crate::model::{BindValue, ColumnInfo, Error, ParameterBind, ParameterForm};
use crate::plan::write::Step;
use crate::plan::{CompileContext, ReadShape};
use crate::sql::Statement;
use crate::tree::{Comparison, Node, Select};

/// The columns of a key, with the values that they have in a query.
type Sides<'q> = (SmallVec<[&'static ColumnInfo; 4]>, SmallVec<[&'q BindValue; 4]>);

/// Returns the statement of a query that does nothing but find a row by its key, without writing it anew.
pub(crate) fn known_by_key<'q>(
    select: &'q Select,
    context: CompileContext<'_>,
    shape: ReadShape,
) -> Result<Option<Statement<'q>>, Error> {
    let Some((columns, values)) = sides_of(select) else { return Ok(None) };
    let Some(texts) = select.table.kept::<Texts>() else { return Ok(None) };
    let at = select.asked_at;
    let wanted = Wanted { context, columns: &columns, stands_nowhere: true, at };
    let prepared = || Cow::Owned(prepared(select));
    texts.statement(select, &values, prepared, Verb::Read(shape), &wanted)
}

/// Returns the statement of a write that finds a row by its key, and sets columns to values, without writing it anew.
pub(crate) fn known_write_by_key<'q, W: KeepsText>(
    write: &'q W,
    context: CompileContext<'_>,
    step: &Step<'_>,
) -> Result<Option<Statement<'q>>, Error> {
    let select = &write.change().select;
    let Some((mut columns, mut values)) = sides_of(select).filter(|_| select.at_most_one) else {
        return Ok(None);
    };
    let number_of_keys = columns.len();
    for set in write.sets().unwrap_or_default() {
        let Node::Bind(value) = &set.value else { return Ok(None) };
        if !is_of_its_type(value) {
            return Ok(None);
        }
        columns.push(set.column);
        values.push(value);
    }
    let is_kept = !write.expects_a_version();
    let Some(texts) = select.table.kept::<Texts>().filter(|_| is_kept) else { return Ok(None) };
    let by_key = (columns.as_slice(), number_of_keys);
    known_write(write, texts, &values, by_key, (context, step), || {
        let mut prepared = write.clone();
        let select = &mut prepared.change_mut().select;
        **select = select.copied_nowhere();
        prepared.each_bind(&mut numbered());
        Cow::Owned(prepared)
    })
}

/// Returns whether the text for a value is that for every value of its type.
fn is_of_its_type(value: &BindValue) -> bool {
    !matches!(value, BindValue::Null(_) | BindValue::Parameter(_))
}

fn sides_of(select: &Select) -> Option<Sides<'_>> {
    let [filter] = select.filters.as_slice() else { return None };
    if !select.is_plain() {
        return None;
    }
    let mut sides = Sides::default();
    for term in filter.what.terms() {
        match term {
            Node::Compare(Comparison::Equal, _, compared) => match compared.as_ref() {
                [Node::Column(column), Node::Bind(value)] if is_of_its_type(value) => {
                    sides.0.push(column.info);
                    sides.1.push(value);
                }
                _ => return None,
            },
            _ => return None,
        }
    }
    Some(sides)
}

/// Returns the query with bind parameters in place of its values.
fn prepared(select: &Select) -> Select {
    let mut prepared = select.copied_nowhere();
    prepared.each_bind(&mut numbered());
    prepared
}

/// Returns what puts a bind parameter in the place of each value.
fn numbered() -> impl FnMut(&mut BindValue) {
    let mut number = 0;
    move |bind| {
        let (sql_type, form) = (bind.sql_type(), ParameterForm::Value);
        *bind = ParameterBind { number, name: "of a key", sql_type, form }.in_form(form);
        number += 1;
    }
}
