//! Queries by a key, or by unique columns, are prepared by themselves: their texts are kept with the table.

use std::borrow::Cow;

use smallvec::SmallVec;

use super::texts::Texts;
use crate::model::{BindValue, Error, ParameterBind, ParameterForm};
use crate::plan::{CompileContext, ReadShape};
use crate::sql::Statement;
use crate::tree::{Comparison, Node, RawColumn, Select};

/// The columns of a key, with the values that they have in a query.
type Sides<'q> = (SmallVec<[RawColumn; 2]>, SmallVec<[&'q BindValue; 2]>);

/// Returns the statement of a query that does nothing but find a row by its key, without writing it anew.
pub(crate) fn known_by_key<'q>(
    select: &'q Select,
    context: CompileContext<'_>,
    shape: ReadShape,
) -> Result<Option<Statement<'q>>, Error> {
    let Some((columns, values)) = sides_of(select) else { return Ok(None) };
    let Some(texts) = select.table.kept::<Texts>() else { return Ok(None) };
    texts.statement(select, &values, || Cow::Owned(prepared(select)), context, (shape, &columns))
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
                [Node::Column(column), Node::Bind(value)]
                    if !matches!(value, BindValue::Null(_) | BindValue::Parameter(_)) =>
                {
                    sides.0.push(*column);
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
    let (mut prepared, mut number) = (select.copied_nowhere(), 0);
    prepared.each_bind(&mut |bind| {
        let (sql_type, form) = (bind.sql_type(), ParameterForm::Value);
        *bind = ParameterBind { number, name: "of a key", sql_type, form }.in_form(form);
        number += 1;
    });
    prepared
}
