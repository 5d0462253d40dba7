//! Values of many rows in one: what [`collected`](crate::collected) gives.

use std::ops::Deref;

use serde_json::Value;

use super::{BindValue, Mismatch, SqlType, Storable};
use crate::model::Cell;

/// The values that rows of a group have in an expression, collected into one list.
///
/// It is stored as an array of JSON. It can be looked at like a slice, and turned into a `Vec`.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Collected<T>(Vec<T>);

impl<T> Collected<T> {
    /// The values, in their order.
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
                None => Err(Mismatch::expected("an array of JSON with texts or integers")),
            },
        });
        read.collect::<Result<_, _>>().map(Collected)
    }
}

/// A type whose values have the same form in the JSON of every engine: text and integers. The other
/// types do not: a date, say, is written in three ways.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be collected: engines write it into JSON in ways of their own",
    note = "text and integers can; read the rows and collect in Rust, or collect their keys"
)]
pub trait InJson: Storable {}

macro_rules! in_json {
    ($($type:ty)*) => { $(impl InJson for $type {})* };
}

in_json! { String i8 i16 i32 i64 u8 u16 u32 }
