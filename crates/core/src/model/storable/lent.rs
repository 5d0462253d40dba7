//! Bind values that are lent to a driver without being copied, where possible.

use super::bind::has_nul;
use super::{BindValue, SqlType};

/// A bind as it is lent to a driver.
#[doc(hidden)]
#[derive(Debug, Clone)]
pub enum LentBind<'b> {
    /// An integer of any width.
    Int(i64),
    /// A float of any width.
    Float(f64),
    /// Text.
    Text(&'b str),
    /// Bytes.
    Bytes(&'b [u8]),
    /// A value that already is a bind.
    Value(&'b BindValue),
    /// A value that was computed for this bind.
    Made(BindValue),
}

impl LentBind<'_> {
    /// Returns the bind value, if there is one already.
    pub fn value(&self) -> Option<&BindValue> {
        match self {
            LentBind::Value(value) => Some(value),
            LentBind::Made(value) => Some(value),
            _ => None,
        }
    }

    /// Returns the integer, if it is one.
    pub fn as_int(&self) -> Option<i64> {
        match (self, self.value()) {
            (LentBind::Int(value), _) | (_, Some(BindValue::Int(value))) => Some(*value),
            _ => None,
        }
    }

    /// Returns the float, if it is one.
    pub fn as_float(&self) -> Option<f64> {
        match (self, self.value()) {
            (LentBind::Float(value), _) | (_, Some(BindValue::Float(value))) => Some(*value),
            _ => None,
        }
    }

    /// Returns whether it is plain that no dialect refuses the value.
    #[inline]
    pub fn is_ordinary(&self) -> bool {
        match self {
            LentBind::Text(text) => !has_nul(text),
            LentBind::Float(value) => value.is_finite(),
            LentBind::Int(_) | LentBind::Bytes(_) => true,
            LentBind::Value(value) => value.is_ordinary(),
            LentBind::Made(value) => value.is_ordinary(),
        }
    }

    /// Returns the type that it is sent as; for a list, that of its items.
    pub fn sql_type(&self) -> SqlType {
        match self {
            LentBind::Int(_) => SqlType::BigInt,
            LentBind::Float(_) => SqlType::Double,
            LentBind::Text(_) => SqlType::Text,
            LentBind::Bytes(_) => SqlType::Bytes,
            LentBind::Value(value) => value.sql_type(),
            LentBind::Made(value) => value.sql_type(),
        }
    }

    /// Returns whether it is a list of values that is sent as one bind.
    pub fn is_list(&self) -> bool {
        matches!(self.value(), Some(BindValue::List(_)))
    }

    /// Returns roughly how many bytes it takes when it is sent.
    #[inline]
    pub fn size(&self) -> usize {
        match self {
            LentBind::Int(_) | LentBind::Float(_) => 16,
            LentBind::Text(text) => text.len(),
            LentBind::Bytes(bytes) => bytes.len(),
            LentBind::Value(value) => value.size(),
            LentBind::Made(value) => value.size(),
        }
    }

    /// Returns the value itself.
    pub fn to_value(&self) -> BindValue {
        match self {
            LentBind::Int(value) => BindValue::Int(*value),
            LentBind::Float(value) => BindValue::Float(*value),
            LentBind::Text(text) => BindValue::Text((*text).into()),
            LentBind::Bytes(bytes) => BindValue::Bytes((*bytes).into()),
            LentBind::Value(value) => (*value).clone(),
            LentBind::Made(value) => value.clone(),
        }
    }
}

/// A taker of values, to which a row passes its own one after the other.
#[doc(hidden)]
pub trait TakesValues<'b> {
    /// Takes the next value.
    fn take(&mut self, value: LentBind<'b>);
}

/// A function that values are lent to.
pub(crate) struct Borrower<'t, 'b>(pub(crate) &'t mut dyn FnMut(LentBind<'b>));

impl<'b> TakesValues<'b> for Borrower<'_, 'b> {
    #[inline]
    fn take(&mut self, value: LentBind<'b>) {
        (self.0)(value);
    }
}

/// The size of new rows, and whether their values are ordinary.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Measure {
    /// Roughly how many bytes they take when they are sent.
    pub(crate) bytes: usize,
    /// True if it is plain that no dialect refuses one of them.
    pub(crate) ordinary: bool,
}

impl Measure {
    pub(crate) const NOTHING: Measure = Measure { bytes: 0, ordinary: true };
}

impl<'b> TakesValues<'b> for Measure {
    #[inline]
    fn take(&mut self, value: LentBind<'b>) {
        self.bytes += value.size();
        self.ordinary &= value.is_ordinary();
    }
}
