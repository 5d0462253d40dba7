//! Values on their way to a driver, which stay where they are as far as they can.

use super::bind::has_nul;
use super::{BindValue, SqlType};

/// A bind as a driver is lent it.
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
    /// One that is there as a bind.
    Value(&'b BindValue),
    /// One that was made for this.
    Made(BindValue),
}

impl LentBind<'_> {
    /// The bind, if it is there as such.
    pub fn value(&self) -> Option<&BindValue> {
        match self {
            LentBind::Value(value) => Some(value),
            LentBind::Made(value) => Some(value),
            _ => None,
        }
    }

    /// The integer that it is, if it is one.
    pub fn as_int(&self) -> Option<i64> {
        match (self, self.value()) {
            (LentBind::Int(value), _) | (_, Some(BindValue::Int(value))) => Some(*value),
            _ => None,
        }
    }

    /// The float that it is, if it is one.
    pub fn as_float(&self) -> Option<f64> {
        match (self, self.value()) {
            (LentBind::Float(value), _) | (_, Some(BindValue::Float(value))) => Some(*value),
            _ => None,
        }
    }

    /// Returns whether no dialect could have a reason to refuse it.
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

    /// The type that it is sent as; for a list, that of its items.
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

    /// Returns whether it is any number of values, sent as one.
    pub fn is_list(&self) -> bool {
        matches!(self.value(), Some(BindValue::List(_)))
    }

    /// About how many bytes it takes on the way to a server.
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

    /// The value itself.
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
