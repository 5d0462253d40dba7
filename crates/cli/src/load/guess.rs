//! The types of columns, guessed from all their values.

use super::types::ColumnType;

/// The types that the values of a column leave open.
#[derive(Debug, Clone)]
pub(super) struct Guess {
    /// The types that suit all values so far.
    left: Vec<ColumnType>,
    values: u64,
    pub(super) empty: u64,
    /// The first value that left only text, with its line: the others suited another type.
    pub(super) became_text: Option<(u64, String)>,
}

impl Guess {
    pub(super) fn new() -> Guess {
        Guess { left: ColumnType::all().collect(), values: 0, empty: 0, became_text: None }
    }

    /// Takes the next value.
    pub(super) fn see(&mut self, text: &str, line: u64) {
        if text.is_empty() {
            self.empty += 1;
            return;
        }
        self.values += 1;
        if self.left.len() == 1 {
            return;
        }
        self.left.retain(|candidate| candidate.suits(text));
        if self.values > 1 && self.left.len() == 1 && self.became_text.is_none() {
            self.became_text = Some((line, text.chars().take(40).collect()));
        }
    }

    /// Returns the type: the narrowest that suits all values, and text for a column without any.
    pub(super) fn column_type(&self) -> ColumnType {
        match (self.values, self.left.first()) {
            (1.., Some(first)) => *first,
            _ => ColumnType::Text,
        }
    }
}
