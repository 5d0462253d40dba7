//! Ranges of dates, times and integers.

use std::ops::{self, Bound};

use jiff::Timestamp;
use jiff::civil::{Date, DateTime};

use super::{BindValue, Mismatch, NativeType, NativeValue, SqlType, Storable};
use crate::model::Cell;

/// The values between two bounds: a range type of PostgreSQL, and text in its notation on the other engines.
///
/// It converts from every range of Rust. Ranges of dates and integers are kept as `[lower, upper)`, so that ranges
/// with the same values are equal; a range that holds no value is the empty one, also if its bounds are reversed.
/// Methods of columns are in [`RangeExt`](crate::RangeExt).
///
/// ```
/// use nepheline::RangeOf;
///
/// let depths = RangeOf::from(10..=20);
/// assert_eq!(depths, RangeOf::from(10..21));
/// assert!(depths.contains(&20) && RangeOf::from(5..5).is_empty());
/// assert_eq!(depths.to_string(), "[10,21)");
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct RangeOf<T>(Option<(Bound<T>, Bound<T>)>);

/// A type with a range type: `Date`, `DateTime`, `Timestamp`, `i32` and `i64`.
#[diagnostic::on_unimplemented(
    message = "there is no range type of `{Self}`",
    note = "ranges hold a `Date`, a `DateTime`, a `Timestamp`, an `i32` or an `i64`"
)]
pub trait RangeItem: Storable + Ord + Copy {
    #[doc(hidden)]
    const RANGE: &'static NativeType = &NativeType::Range(Self::SQL_TYPE);

    /// Returns the value after this one; `None` at the end, and for types without one.
    #[doc(hidden)]
    fn next(self) -> Option<Self> {
        None
    }

    /// True if each value but the last has one that comes next.
    #[doc(hidden)]
    const DISCRETE: bool = false;

    #[doc(hidden)]
    fn from_text(text: &str) -> Option<Self> {
        Self::from_cell(Cell::Text(text)).ok()
    }
}

impl RangeItem for DateTime {}

impl RangeItem for Timestamp {}

impl RangeItem for Date {
    const DISCRETE: bool = true;

    fn next(self) -> Option<Date> {
        self.tomorrow().ok()
    }
}

macro_rules! integers {
    ($($type:ty)*) => {$(
        impl RangeItem for $type {
            const DISCRETE: bool = true;

            fn next(self) -> Option<$type> {
                self.checked_add(1)
            }

            fn from_text(text: &str) -> Option<$type> {
                text.parse().ok()
            }
        }
    )*};
}

integers! { i32 i64 }

impl<T: RangeItem> RangeOf<T> {
    /// Returns the range between two bounds.
    pub fn new(lower: Bound<T>, upper: Bound<T>) -> RangeOf<T> {
        let lower = match lower {
            Bound::Excluded(value) if T::DISCRETE => match value.next() {
                Some(next) => Bound::Included(next),
                None => return RangeOf::empty(),
            },
            lower => lower,
        };
        let upper = match upper {
            Bound::Included(value) if T::DISCRETE => {
                value.next().map_or(Bound::Included(value), Bound::Excluded)
            }
            upper => upper,
        };
        let is_empty = match (lower, upper) {
            (Bound::Included(lower), Bound::Included(upper)) => lower > upper,
            (
                Bound::Included(lower) | Bound::Excluded(lower),
                Bound::Included(upper) | Bound::Excluded(upper),
            ) => lower >= upper,
            (Bound::Unbounded, _) | (_, Bound::Unbounded) => false,
        };
        RangeOf((!is_empty).then_some((lower, upper)))
    }

    /// Returns the range without values.
    pub fn empty() -> RangeOf<T> {
        RangeOf(None)
    }

    /// Returns whether it holds no value.
    pub fn is_empty(&self) -> bool {
        self.0.is_none()
    }

    /// Returns the lower bound; `None` for an empty range.
    pub fn lower(&self) -> Option<Bound<T>> {
        self.0.map(|(lower, _)| lower)
    }

    /// Returns the upper bound; `None` for an empty range.
    pub fn upper(&self) -> Option<Bound<T>> {
        self.0.map(|(_, upper)| upper)
    }

    /// Returns whether a value is in the range.
    pub fn contains(&self, value: &T) -> bool {
        self.0
            .is_some_and(|bounds| ops::RangeBounds::contains(&bounds, value))
    }
}

macro_rules! from_ranges {
    ($($range:ty: $of:ident => $lower:expr, $upper:expr;)*) => {$(
        impl<T: RangeItem> From<$range> for RangeOf<T> {
            fn from($of: $range) -> RangeOf<T> {
                RangeOf::new($lower, $upper)
            }
        }
    )*};
}

from_ranges! {
    ops::Range<T>: of => Bound::Included(of.start), Bound::Excluded(of.end);
    ops::RangeInclusive<T>: of => Bound::Included(*of.start()), Bound::Included(*of.end());
    ops::RangeFrom<T>: of => Bound::Included(of.start), Bound::Unbounded;
    ops::RangeTo<T>: of => Bound::Unbounded, Bound::Excluded(of.end);
    ops::RangeToInclusive<T>: of => Bound::Unbounded, Bound::Included(of.end);
    ops::RangeFull: _of => Bound::Unbounded, Bound::Unbounded;
}

impl<T: RangeItem> RangeOf<T> {
    fn to_native(self) -> NativeValue {
        let Some((lower, upper)) = self.0 else { return NativeValue::Range(None) };
        let bounds = [lower.map(|value| value.to_bind()), upper.map(|value| value.to_bind())];
        // Values are cut to microseconds, so that two may become one.
        match &bounds {
            [Bound::Included(_), Bound::Included(_)] => NativeValue::Range(Some(bounds)),
            [
                Bound::Included(lower) | Bound::Excluded(lower),
                Bound::Included(upper) | Bound::Excluded(upper),
            ] if lower == upper => NativeValue::Range(None),
            _ => NativeValue::Range(Some(bounds)),
        }
    }

    fn parsed(text: &str) -> Option<RangeOf<T>> {
        if text == "empty" {
            return Some(RangeOf::empty());
        }
        let inner = text.get(1..text.len().checked_sub(1)?)?;
        let (lower, upper) = inner.split_once(',')?;
        let bound = |text: &str, is_included: bool| match text {
            "" => Some(Bound::Unbounded),
            _ if is_included => T::from_text(text).map(Bound::Included),
            _ => T::from_text(text).map(Bound::Excluded),
        };
        let (open, close) = (text.starts_with('['), text.ends_with(']'));
        if !open && !text.starts_with('(') || !close && !text.ends_with(')') {
            return None;
        }
        Some(RangeOf::new(bound(lower, open)?, bound(upper, close)?))
    }
}

/// Writes the text that the other engines store: `[2026-01-01,2026-02-01)`, or `empty`.
impl<T: RangeItem> std::fmt::Display for RangeOf<T> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.to_native().text())
    }
}

/// Writes its text.
impl<T: RangeItem> serde::Serialize for RangeOf<T> {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de, T: RangeItem> serde::Deserialize<'de> for RangeOf<T> {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<RangeOf<T>, D::Error> {
        let text = String::deserialize(deserializer)?;
        RangeOf::parsed(&text).ok_or_else(|| {
            serde::de::Error::custom(format!("expected a range such as `[1,5)`, found `{text}`"))
        })
    }
}

impl<T: RangeItem> Storable for RangeOf<T> {
    const SQL_TYPE: SqlType = SqlType::Native(T::RANGE);

    fn to_bind(&self) -> BindValue {
        BindValue::Native(T::RANGE, Box::new(self.to_native()))
    }

    fn from_cell(cell: Cell<'_>) -> Result<RangeOf<T>, Mismatch> {
        let range = cell.text().and_then(RangeOf::parsed);
        range.ok_or_else(|| {
            Mismatch::expected(format!(
                "a range of {} values (`RangeOf`, as in [1,5))",
                T::SQL_TYPE
            ))
        })
    }
}
