//! The list type that [`array_agg`](crate::array_agg) returns.

use std::ops::Deref;

use serde_json::Value;

use super::{BindValue, Mismatch, SqlType, Storable};
use crate::model::Cell;

/// The values of an expression over the rows of a group, as a list.
///
/// It is stored as a JSON array. It dereferences to a slice and converts into a `Vec`.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Collected<T>(Vec<T>);

impl<T> Collected<T> {
    /// Returns the values in their order.
    pub fn into_vec(self) -> Vec<T> {
        self.0
    }
}

impl<T> Deref for Collected<T> {
    type Target = [T];

    fn deref(&self) -> &[T] {
        &self.0
    }
}

impl<T> From<Vec<T>> for Collected<T> {
    fn from(values: Vec<T>) -> Collected<T> {
        Collected(values)
    }
}

impl<T> IntoIterator for Collected<T> {
    type Item = T;
    type IntoIter = std::vec::IntoIter<T>;

    fn into_iter(self) -> Self::IntoIter {
        self.0.into_iter()
    }
}

impl<T: InJson> Storable for Collected<T> {
    const SQL_TYPE: SqlType = SqlType::Json;

    fn to_bind(&self) -> BindValue {
        let items = self.0.iter().map(|item| match item.to_bind() {
            BindValue::Int(value) => Value::from(value),
            BindValue::Text(text) => Value::from(&*text),
            _ => Value::Null,
        });
        BindValue::Json(Value::from_iter(items).to_string().into())
    }

    fn from_cell(cell: Cell<'_>) -> Result<Collected<T>, Mismatch> {
        let items = match cell {
            Cell::Text(text) => serde_json::from_str::<Vec<Value>>(text).ok(),
            _ => None,
        };
        let items = items.ok_or_else(|| Mismatch::expected("an array of JSON"))?;
        let read = items.iter().map(|item| match item {
            Value::String(text) => T::from_cell(Cell::Text(text)),
            item => match item.as_i64() {
                Some(value) => T::from_cell(Cell::Int(value)),
                None => Err(Mismatch::expected("a JSON array of texts or integers")),
            },
        });
        read.collect::<Result<_, _>>().map(Collected)
    }
}

/// A type whose values have the same form in the JSON of every engine: text and integers. Other types differ:
/// three engines write a date in three ways.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be collected: each engine writes it into JSON differently",
    note = "text and integers can be collected; read the rows and collect in Rust, or collect their keys"
)]
pub trait InJson: Storable {}

macro_rules! in_json {
    ($($type:ty)*) => { $(impl InJson for $type {})* };
}

in_json! { String i8 i16 i32 i64 u8 u16 u32 }
