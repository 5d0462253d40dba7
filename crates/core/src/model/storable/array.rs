//! Arrays of values.

use std::ops::Deref;

use serde_json::Value;

use super::{BindValue, List, Mismatch, NativeType, NativeValue, SqlType, Storable};
use crate::model::Cell;

/// A list of values in one column: an array of PostgreSQL, and a JSON array on the other engines.
///
/// It dereferences to a slice and converts from and into a `Vec`. Its items are storable values; none of them is
/// NULL, and none is an array, a document or a value of an enum type of the database. Methods of columns are in
/// [`ArrayExt`](crate::ArrayExt).
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::Array;
///
/// #[derive(Debug, Table)]
/// struct Tray {
///     #[nepheline(key)]
///     id: i64,
///     tags: Array<String>,
/// }
///
/// let wet = Tray::rows().filter(|t| t.tags.contains("wet"));
/// assert!(wet.sql(Dialect::Postgres)?.text().ends_with(r#"WHERE "tray"."tags" @> CAST($1 AS text[])"#));
/// # Ok::<(), Error>(())
/// ```
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Array<T>(Vec<T>);

impl<T> Array<T> {
    /// Returns the items in their order.
    pub fn into_vec(self) -> Vec<T> {
        self.0
    }
}

impl<T> Default for Array<T> {
    fn default() -> Array<T> {
        Array(Vec::new())
    }
}

impl<T> Deref for Array<T> {
    type Target = [T];

    fn deref(&self) -> &[T] {
        &self.0
    }
}

impl<T> From<Vec<T>> for Array<T> {
    fn from(values: Vec<T>) -> Array<T> {
        Array(values)
    }
}

impl<T> FromIterator<T> for Array<T> {
    fn from_iter<I: IntoIterator<Item = T>>(items: I) -> Array<T> {
        Array(Vec::from_iter(items))
    }
}

impl<T> IntoIterator for Array<T> {
    type Item = T;
    type IntoIter = std::vec::IntoIter<T>;

    fn into_iter(self) -> Self::IntoIter {
        self.0.into_iter()
    }
}

impl<T: serde::Serialize> serde::Serialize for Array<T> {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.0.serialize(serializer)
    }
}

impl<'de, T: serde::Deserialize<'de>> serde::Deserialize<'de> for Array<T> {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Array<T>, D::Error> {
        Vec::deserialize(deserializer).map(Array)
    }
}

impl<T: Storable> Array<T> {
    const TYPE: &'static NativeType = {
        assert!(
            !matches!(T::SQL_TYPE, SqlType::Json | SqlType::Native(_) | SqlType::Enum(_)),
            "the items of an array are plain values: no arrays, JSON or enum types of the database"
        );
        &NativeType::Array(T::SQL_TYPE)
    };

    /// Returns the bind of some items.
    pub(crate) fn bind_of(items: impl Iterator<Item = T>) -> BindValue {
        let list = List::new(T::SQL_TYPE, items.map(|item| item.to_bind()).collect());
        BindValue::Native(Self::TYPE, Box::new(NativeValue::Array(list)))
    }
}

impl<T: Storable> Storable for Array<T> {
    const SQL_TYPE: SqlType = SqlType::Native(Self::TYPE);

    fn to_bind(&self) -> BindValue {
        let list = List::new(T::SQL_TYPE, self.0.iter().map(T::to_bind).collect());
        BindValue::Native(Self::TYPE, Box::new(NativeValue::Array(list)))
    }

    fn from_cell(cell: Cell<'_>) -> Result<Array<T>, Mismatch> {
        let items = cell
            .text()
            .and_then(|text| serde_json::from_str::<Vec<Value>>(text).ok());
        let items =
            items.ok_or_else(|| Mismatch::expected("an array of one dimension without NULLs"))?;
        let read = items.iter().map(|item| read_item(item).map_err(of_item));
        read.collect::<Result<_, _>>().map(Array)
    }
}

fn of_item(expected: Mismatch) -> Mismatch {
    Mismatch::expected(format!("an array of items, each {}", expected.as_str()))
}

fn read_item<T: Storable>(item: &Value) -> Result<T, Mismatch> {
    match item {
        Value::Null => T::from_cell(Cell::Null),
        Value::Bool(value) => T::from_cell(Cell::Bool(*value)),
        Value::String(text) if T::SQL_TYPE == SqlType::Bytes => match hex::decode(text) {
            Ok(bytes) => T::from_cell(Cell::Bytes(&bytes)),
            Err(_) => T::from_cell(Cell::Text(text)),
        },
        Value::String(text) => T::from_cell(Cell::Text(text)),
        Value::Number(number) => match (number.as_i64(), number.as_f64()) {
            (Some(value), _) => T::from_cell(Cell::Int(value)),
            (None, Some(value)) => T::from_cell(Cell::Float(value)),
            (None, None) => T::from_cell(Cell::Unknown("number")),
        },
        Value::Array(_) | Value::Object(_) => T::from_cell(Cell::Unknown("JSON")),
    }
}

/// Returns the items as JSON: numbers and booleans as such, bytes in hexadecimal, all others as their text.
pub(super) fn json_of(list: &List) -> String {
    let items = list.items().iter().map(|item| match item {
        BindValue::Bool(value) => Value::from(*value),
        BindValue::Int(value) => Value::from(*value),
        BindValue::Float(value) => Value::from(*value),
        BindValue::Text(text) => Value::from(&**text),
        BindValue::Bytes(bytes) => Value::from(hex::encode(bytes)),
        item => item.plain_text().map_or(Value::Null, Value::from),
    });
    Value::from_iter(items).to_string()
}

/// A type whose values are collected from the rows of a group in the same form on every engine: text and integers.
/// Other types differ: three engines write a date in three ways.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be collected: each engine writes it into JSON differently",
    note = "text and integers can be collected; read the rows and collect in Rust, or collect their keys"
)]
pub trait InJson: Storable {}

macro_rules! in_json {
    ($($type:ty)*) => { $(impl InJson for $type {})* };
}

in_json! { String i8 i16 i32 i64 u8 u16 u32 }
