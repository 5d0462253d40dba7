//! The reader of lists of names, as the parameters of a request have them: `-depth,label`.

use crate::model::{Mistake, MistakeKind, Place};

/// A part of a list, without the space around it.
#[derive(Debug, Clone, Copy)]
pub(super) struct Item<'t> {
    pub(super) text: &'t str,
    pub(super) at: Place,
}

/// The most bytes of a list.
const MOST_BYTES: usize = 4_096;

/// Returns the items of a list with commas between. No item is empty.
pub(super) fn items<'t>(text: &'t str, what: &str) -> Result<Vec<Item<'t>>, Mistake> {
    if text.len() > MOST_BYTES {
        let message =
            format!("the list has {} bytes, and at most {MOST_BYTES} are allowed", text.len());
        return Err(Mistake::new(
            MistakeKind::TooLarge,
            Place::new(text.floor_char_boundary(MOST_BYTES), 0),
            message,
        ));
    }
    let mut start = 0;
    let items = text.split(',').map(|part| {
        let offset = start;
        start += part.len() + 1;
        Item { text: part, at: Place::new(offset, part.len()) }.trimmed()
    });
    let items: Vec<Item<'_>> = items.collect();
    match items.iter().find(|item| item.text.is_empty()) {
        Some(empty) => {
            let message = format!("expected {what}, found {}", found_after(text, empty.at));
            Err(Mistake::new(MistakeKind::Syntax, empty.at, message))
        }
        None => Ok(items),
    }
}

fn found_after(text: &str, at: Place) -> &'static str {
    match text.get(at.offset as usize..) {
        None | Some("") => "the end of the text",
        Some(_) => "`,`",
    }
}

impl<'t> Item<'t> {
    pub(super) fn trimmed(self) -> Item<'t> {
        let start = self.text.trim_start();
        let skipped = self.text.len() - start.len();
        let text = start.trim_end();
        Item { text, at: Place::new(self.at.offset as usize + skipped, text.len()) }
    }

    /// Returns the rest after a number of bytes.
    pub(super) fn after(self, bytes: usize) -> Item<'t> {
        let text = self.text.get(bytes..).unwrap_or_default();
        Item { text, at: Place::new(self.at.offset as usize + bytes, text.len()) }.trimmed()
    }

    /// Returns the first bytes.
    pub(super) fn before(self, bytes: usize) -> Item<'t> {
        let text = self.text.get(..bytes).unwrap_or_default();
        Item { text, at: Place::new(self.at.offset as usize, bytes) }.trimmed()
    }
}

/// Refuses an item that a list has twice.
pub(super) fn check_once<'t>(seen: &mut Vec<&'t str>, name: Item<'t>) -> Result<(), Mistake> {
    if seen.contains(&name.text) {
        let message = format!("`{}` is listed twice", name.text);
        return Err(Mistake::new(MistakeKind::Syntax, name.at, message));
    }
    seen.push(name.text);
    Ok(())
}
