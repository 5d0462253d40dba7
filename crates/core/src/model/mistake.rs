//! A mistake in a text that arrived from outside, such as the filter of a request: what is wrong, and where.

use std::borrow::Cow;
use std::fmt;

use serde::ser::{Serialize, SerializeStruct, Serializer};
use unicode_width::UnicodeWidthStr;

use super::error::{Error, ErrorKind};

/// The kind of a [`Mistake`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum MistakeKind {
    /// The text does not follow the grammar.
    Syntax,
    /// A name that is not offered.
    UnknownName,
    /// A value of another type than the one that is expected.
    WrongType,
    /// A value of the right type that cannot be: a day that does not exist, a number out of range.
    InvalidValue,
    /// An operator, an order or another use that is not offered for this name.
    NotOffered,
    /// A part of the standard that is not supported: spatial, array and accent operators.
    Unsupported,
    /// A text that is too long, nested too deeply, or has too many terms.
    TooLarge,
}

impl MistakeKind {
    /// Returns the kind as one word in lower case, as it stands in JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            MistakeKind::Syntax => "syntax",
            MistakeKind::UnknownName => "unknown-name",
            MistakeKind::WrongType => "wrong-type",
            MistakeKind::InvalidValue => "invalid-value",
            MistakeKind::NotOffered => "not-offered",
            MistakeKind::Unsupported => "unsupported",
            MistakeKind::TooLarge => "too-large",
        }
    }
}

/// A place in a text, in bytes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Place {
    pub(crate) offset: u32,
    pub(crate) length: u32,
}

impl Place {
    pub(crate) fn new(offset: usize, length: usize) -> Place {
        let bounded = |bytes| u32::try_from(bytes).unwrap_or(u32::MAX);
        Place { offset: bounded(offset), length: bounded(length) }
    }

    /// Returns the place from the start of this one to the end of another.
    pub(crate) fn to(self, last: Place) -> Place {
        let end = last.offset.saturating_add(last.length);
        Place { offset: self.offset, length: end.saturating_sub(self.offset) }
    }
}

/// A mistake in a text that arrived from outside: a filter, a sort, a list of properties or totals.
///
/// [`Error::mistake`](crate::Error::mistake) returns it. It serialises as an object with `kind`, `message`, `offset` and
/// `length`, for the answer to the request. It names nothing but the text itself and what is offered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mistake {
    kind: MistakeKind,
    message: Cow<'static, str>,
    place: Place,
    /// The part of the text around the place, and the place in it.
    excerpt: Option<(String, std::ops::Range<usize>)>,
}

/// The most bytes of a text that are shown before and after a place.
const AROUND: usize = 60;

impl Mistake {
    pub(crate) fn new(
        kind: MistakeKind,
        place: Place,
        message: impl Into<Cow<'static, str>>,
    ) -> Mistake {
        Mistake { kind, message: message.into(), place, excerpt: None }
    }

    /// Returns the kind.
    pub fn kind(&self) -> MistakeKind {
        self.kind
    }

    /// Returns the message, without the text.
    pub fn message(&self) -> &str {
        &self.message
    }

    /// Returns the position of the mistake in the text, in bytes from 0.
    pub fn offset(&self) -> usize {
        self.place.offset as usize
    }

    /// Returns the length of the part that is wrong, in bytes; 0 at the end of the text.
    pub fn length(&self) -> usize {
        self.place.length as usize
    }

    /// Returns the line of the text with the mistake, and below it a line with a mark under the place. It is empty if the
    /// filter was built in Rust and has no text.
    ///
    /// Long lines are shown in part, with `…` for the rest.
    pub fn marked(&self) -> String {
        let Some((shown, place)) = &self.excerpt else { return String::new() };
        let before = shown.get(..place.start).unwrap_or_default();
        let wrong = shown.get(place.clone()).unwrap_or_default();
        let (indent, width) = (before.width(), wrong.width().max(1));
        format!("{shown}\n{}{}", " ".repeat(indent), "^".repeat(width))
    }

    /// Adds the text that the place is in.
    pub(crate) fn within(mut self, text: &str) -> Mistake {
        let end = text.len();
        let start = text.floor_char_boundary(self.offset().min(end));
        let stop = text.floor_char_boundary((start + self.length()).min(end));
        // Only the line with the place is shown.
        let first = text.get(..start).and_then(|before| before.rfind('\n'));
        let first = first.map_or(0, |newline| newline + 1);
        let last = text.get(start..).and_then(|after| after.find('\n'));
        let last = last.map_or(end, |newline| start + newline);
        let (from, to) = (
            text.floor_char_boundary(start.saturating_sub(AROUND))
                .max(first),
            text.floor_char_boundary((start + AROUND).min(last)),
        );
        let mut shown = String::new();
        if from > first {
            shown.push('…');
        }
        let push = |shown: &mut String, part: Option<&str>| {
            let part = part.unwrap_or_default().chars();
            shown.extend(part.map(|c| if c.is_control() { '\u{fffd}' } else { c }));
        };
        push(&mut shown, text.get(from..start));
        let mark = shown.len();
        let stop = stop.clamp(start, to);
        push(&mut shown, text.get(start..stop));
        let marked = mark..shown.len();
        push(&mut shown, text.get(stop..to));
        if to < last {
            shown.push('…');
        }
        self.excerpt = Some((shown, marked));
        self
    }
}

impl fmt::Display for Mistake {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)?;
        if self.excerpt.is_some() {
            write!(f, " (position {})", self.place.offset)?;
            for line in self.marked().lines() {
                write!(f, "\n  {line}")?;
            }
        }
        Ok(())
    }
}

impl Serialize for MistakeKind {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.as_str())
    }
}

/// Writes `kind`, `message`, `offset` and `length`.
impl Serialize for Mistake {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut mistake = serializer.serialize_struct("Mistake", 4)?;
        mistake.serialize_field("kind", &self.kind)?;
        mistake.serialize_field("message", &self.message)?;
        mistake.serialize_field("offset", &self.offset())?;
        mistake.serialize_field("length", &self.length())?;
        mistake.end()
    }
}

impl From<Mistake> for Error {
    #[cold]
    fn from(mistake: Mistake) -> Error {
        Error::new(ErrorKind::InvalidRequest, String::new()).with_mistake(mistake)
    }
}
