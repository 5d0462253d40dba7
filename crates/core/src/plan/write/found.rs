//! Conditions that name rows by values which an earlier statement read.

use crate::model::{BindValue, ColumnInfo, Error, Key, List};
use crate::tree::{Comparison, Node, RawColumn, Source};

/// Returns the condition that a column has this value.
pub(crate) fn is(place: Source, info: &'static ColumnInfo, value: BindValue) -> Node {
    let column = Node::Column(RawColumn { source: place, info });
    Node::compare(Comparison::Equal, column, Node::Bind(value))
}

/// Returns the condition that these columns have the values of one of these rows. NULL equals nothing.
pub(crate) fn one_of(
    place: Source,
    columns: &[&'static ColumnInfo],
    rows: Vec<Vec<BindValue>>,
) -> Node {
    let not_null = |value: &BindValue| !matches!(value, BindValue::Null(_));
    match columns {
        [] => Node::constant(false),
        [info] => {
            let items = rows.into_iter().flatten().filter(not_null).collect();
            let column = Node::Column(RawColumn { source: place, info });
            column.one_of(List::new(info.sql_type(), items), None, false)
        }
        columns => {
            let rows = rows.into_iter().filter(|row| row.iter().all(not_null));
            let rows = rows.map(|row| {
                let same = columns
                    .iter()
                    .zip(row)
                    .map(|(info, value)| is(place, info, value));
                same.reduce(Node::and)
                    .unwrap_or_else(|| Node::constant(false))
            });
            rows.reduce(Node::or)
                .unwrap_or_else(|| Node::constant(false))
        }
    }
}

/// Returns the same condition for rows whose keys were read.
pub(crate) fn keyed(
    place: Source,
    columns: &[&'static ColumnInfo],
    keys: &[Key],
) -> Result<Node, Error> {
    let rows = keys.iter().map(|key| {
        let values = columns
            .iter()
            .zip(key)
            .map(|(column, part)| part.bound_as(column.sql_type(), column));
        values.collect::<Result<Vec<_>, Error>>()
    });
    Ok(one_of(place, columns, rows.collect::<Result<_, Error>>()?))
}
