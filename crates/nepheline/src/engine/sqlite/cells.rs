//! SQLite's values, on the way out as binds and on the way in as cells.

use nepheline_core::internal::LentBind;
use nepheline_core::{BindValue, Cell, Cells};
use rusqlite::types::{Null, ValueRef};
use rusqlite::{Row, Statement};

/// The cells of one row, from left to right.
pub(crate) struct RowCells<'r, 's> {
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
        // Apart from the match below, so that only an error has anything to drop.
        let Ok(value) = self.row.get_ref(self.next) else {
            self.next += 1;
            return Cell::Unknown("no such column");
        };
        self.next += 1;
        match value {
            ValueRef::Integer(value) => Cell::Int(value),
            ValueRef::Real(value) => Cell::Float(value),
            ValueRef::Text(bytes) => match std::str::from_utf8(bytes) {
                Ok(text) => Cell::Text(text),
                Err(_) => Cell::Bytes(bytes),
            },
            ValueRef::Blob(bytes) => Cell::Bytes(bytes),
            ValueRef::Null => Cell::Null,
        }
    }
}

/// Binds a value as SQLite takes it.
#[inline]
pub(super) fn bind(
    statement: &mut Statement<'_>,
    place: usize,
    bind: &LentBind<'_>,
) -> rusqlite::Result<()> {
    match bind {
        LentBind::Int(value) => statement.raw_bind_parameter(place, value),
        LentBind::Float(value) => statement.raw_bind_parameter(place, value),
        LentBind::Text(text) => statement.raw_bind_parameter(place, text),
        LentBind::Bytes(bytes) => statement.raw_bind_parameter(place, bytes),
        LentBind::Value(value) => bind_value(statement, place, value),
        LentBind::Made(value) => bind_value(statement, place, value),
    }
}

/// What it has no type for goes as text.
#[inline]
fn bind_value(
    statement: &mut Statement<'_>,
    place: usize,
    value: &BindValue,
) -> rusqlite::Result<()> {
    match value {
        BindValue::Null(_) => statement.raw_bind_parameter(place, Null),
        BindValue::Bool(value) => statement.raw_bind_parameter(place, value),
        BindValue::Int(value) => statement.raw_bind_parameter(place, value),
        BindValue::Float(value) => statement.raw_bind_parameter(place, value),
        BindValue::Text(text) | BindValue::Json(text) => {
            statement.raw_bind_parameter(place, &**text)
        }
        BindValue::Bytes(bytes) => statement.raw_bind_parameter(place, &**bytes),
        other => match other.plain_text() {
            Some(text) => statement.raw_bind_parameter(place, text),
            None => {
                let reason = "SQLite has no form for this bind".into();
                Err(rusqlite::Error::ToSqlConversionFailure(reason))
            }
        },
    }
}
