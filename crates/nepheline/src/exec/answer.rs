//! The rows that an interceptor returns in place of the database.

use nepheline_core::internal::{Sent, Written};
use nepheline_core::{BindValue, Cell, Cells};

use super::sink::Sink;

/// The answer of an interceptor.
pub(crate) struct Answer {
    pub(crate) rows: Vec<Vec<BindValue>>,
    pub(crate) written: u64,
}

impl Answer {
    /// Passes the rows to a sink, as if they had arrived.
    pub(crate) fn give(self, sink: &mut dyn Sink, key_cells: &[usize]) {
        sink.wrote(Written { rows: self.written, inserted: self.written });
        for values in &self.rows {
            if !sink.answer_row(&mut AnswerCells { values, next: 0, key_cells, text: String::new() }) {
                break;
            }
        }
    }
}

/// The cells of one such row.
pub(crate) struct AnswerCells<'a> {
    values: &'a [BindValue],
    next: usize,
    key_cells: &'a [usize],
    /// The text of the last cell, if its type has no cell of its own.
    text: String,
}

impl Cells for AnswerCells<'_> {
    fn next_cell(&mut self) -> Cell<'_> {
        let value = self.values.get(self.next);
        self.next += 1;
        match value {
            None => Cell::Unknown("no value, because the interceptor's row is too short"),
            Some(BindValue::Null(_)) => Cell::Null,
            Some(BindValue::Bool(value)) => Cell::Bool(*value),
            Some(BindValue::Int(value)) => Cell::Int(*value),
            Some(BindValue::Float(value)) => Cell::Float(*value),
            Some(BindValue::Text(text) | BindValue::Json(text)) => Cell::Text(text),
            Some(BindValue::Bytes(bytes)) => Cell::Bytes(bytes),
            Some(BindValue::Date(date)) => Cell::Date(*date),
            Some(BindValue::Time(time)) => Cell::Time(*time),
            Some(BindValue::DateTime(at)) => Cell::DateTime(*at),
            Some(BindValue::Timestamp(at)) => Cell::Timestamp(*at),
            Some(BindValue::Uuid(uuid)) => Cell::Uuid(*uuid),
            Some(bind @ BindValue::Enum(..)) => match bind.sent() {
                Sent::Text(text) => Cell::Text(text),
                _ => Cell::Null,
            },
            Some(BindValue::Decimal(decimal)) => Cell::Decimal(*decimal),
            Some(BindValue::Native(_, value)) => {
                self.text = value.text();
                Cell::Text(&self.text)
            }
            Some(_) => Cell::Unknown("a list"),
        }
    }

    fn back(&mut self, cells: usize) {
        self.next = self.next.saturating_sub(cells);
    }

    fn go_to(&mut self, cell: usize) {
        self.next = cell;
    }

    fn width(&self) -> usize {
        self.values.len()
    }

    fn key_cells(&self) -> &[usize] {
        self.key_cells
    }
}
