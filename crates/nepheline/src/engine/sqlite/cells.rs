//! SQLite's values as binds and as cells.

use nepheline_core::internal::{LentBind, Sent};
use nepheline_core::{Cell, Cells};
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

    fn width(&self) -> usize {
        self.row.as_ref().column_count()
    }

    fn key_cells(&self) -> &[usize] {
        self.key_cells
    }

    #[inline]
    fn next_cell(&mut self) -> Cell<'_> {
        // Separate from the match below, so that only the error path has anything to drop.
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

/// Binds a value.
#[inline]
pub(super) fn bind(
    statement: &mut Statement<'_>,
    place: usize,
    bind: &LentBind<'_>,
) -> rusqlite::Result<()> {
    // The values of most rows are these, so they pass through one match only.
    match bind {
        LentBind::Int(value) => statement.raw_bind_parameter(place, *value),
        LentBind::Float(value) => statement.raw_bind_parameter(place, *value),
        LentBind::Text(text) => statement.raw_bind_parameter(place, *text),
        LentBind::Bytes(bytes) => statement.raw_bind_parameter(place, *bytes),
        LentBind::Value(_) | LentBind::Made(_) => bind_sent(statement, place, bind.sent()),
    }
}

fn bind_sent(
    statement: &mut Statement<'_>,
    place: usize,
    sent: Sent<'_>,
) -> rusqlite::Result<()> {
    match sent {
        Sent::Null => statement.raw_bind_parameter(place, Null),
        Sent::Bool(value) => statement.raw_bind_parameter(place, value),
        Sent::Int(value) => statement.raw_bind_parameter(place, value),
        Sent::Float(value) => statement.raw_bind_parameter(place, value),
        Sent::Text(text) | Sent::Json(text) => statement.raw_bind_parameter(place, text),
        Sent::Bytes(bytes) => statement.raw_bind_parameter(place, bytes),
        // SQLite has no types for these, so they are text.
        Sent::Date(_)
        | Sent::Time(_)
        | Sent::DateTime(_)
        | Sent::Timestamp(_)
        | Sent::Uuid(_)
        | Sent::Decimal(_)
        | Sent::Native(_) => statement.raw_bind_parameter(place, sent.plain_text()),
        Sent::List(_) | Sent::Parameter(_) => {
            let reason = "SQLite has no form for this bind".into();
            Err(rusqlite::Error::ToSqlConversionFailure(reason))
        }
    }
}
