//! SQLite's values, on the way out as binds and on the way in as cells.

use nepheline_core::{BindValue, Cell, Cells};
use rusqlite::Row;
use rusqlite::types::{ToSql, ToSqlOutput, Value, ValueRef};

/// The cells of one row, from left to right.
pub(super) struct RowCells<'r, 's> {
    row: &'r Row<'s>,
    key_cells: &'r [usize],
    next: usize,
}

impl<'r, 's> RowCells<'r, 's> {
    pub(super) fn new(row: &'r Row<'s>, key_cells: &'r [usize]) -> Self {
        RowCells { row, key_cells, next: 0 }
    }
}

impl Cells for RowCells<'_, '_> {
    #[inline]
    fn back(&mut self, cells: usize) {
        self.next -= cells;
    }

    fn go_to(&mut self, cell: usize) {
        self.next = cell;
    }

    fn key_cells(&self) -> &[usize] {
        self.key_cells
    }

    #[inline]
    fn next_cell(&mut self) -> Cell<'_> {
        let value = self.row.get_ref(self.next);
        self.next += 1;
        match value {
            Ok(ValueRef::Integer(value)) => Cell::Int(value),
            Ok(ValueRef::Real(value)) => Cell::Float(value),
            Ok(ValueRef::Text(bytes)) => match std::str::from_utf8(bytes) {
                Ok(text) => Cell::Text(text),
                Err(_) => Cell::Bytes(bytes),
            },
            Ok(ValueRef::Blob(bytes)) => Cell::Bytes(bytes),
            Ok(ValueRef::Null) => Cell::Null,
            Err(_) => Cell::Unknown("no such column"),
        }
    }
}

/// A bind as SQLite takes it: what it has no type for goes as text.
pub(super) struct Bind<'b>(pub(super) &'b BindValue);

impl ToSql for Bind<'_> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(match self.0 {
            BindValue::Null(_) => ToSqlOutput::Owned(Value::Null),
            BindValue::Bool(value) => ToSqlOutput::Owned(Value::Integer(i64::from(*value))),
            BindValue::Int(value) => ToSqlOutput::Owned(Value::Integer(*value)),
            BindValue::Float(value) => ToSqlOutput::Owned(Value::Real(*value)),
            BindValue::Text(text) | BindValue::Json(text) => {
                ToSqlOutput::Borrowed(ValueRef::Text(text.as_bytes()))
            }
            BindValue::Bytes(bytes) => ToSqlOutput::Borrowed(ValueRef::Blob(bytes)),
            other => match other.plain_text() {
                Some(text) => ToSqlOutput::Owned(Value::Text(text)),
                None => {
                    let reason = "SQLite has no form for this bind".into();
                    return Err(rusqlite::Error::ToSqlConversionFailure(reason));
                }
            },
        })
    }
}
