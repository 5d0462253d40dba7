//! Rows whose columns are known at run time.

use std::sync::Arc;

use serde::ser::{Serialize, SerializeMap, Serializer};
use serde_json::Value as Json;

use super::names::ValueType;
use crate::model::{BindValue, Cells, Error, KeyPart, RowShape, Sent};

/// The values of a row under their names, in the order in which they were asked for.
///
/// It serialises as an object in that order: numbers and booleans as themselves; decimals, dates, times, UUIDs and enums as
/// text; bytes in hexadecimal; JSON as it is.
#[derive(Debug, Clone, PartialEq)]
pub struct NamedValues {
    names: Arc<[Box<str>]>,
    values: Vec<BindValue>,
}

impl NamedValues {
    /// Returns the names and the values in their order.
    pub fn iter(&self) -> impl ExactSizeIterator<Item = (&str, &BindValue)> {
        self.names.iter().map(AsRef::as_ref).zip(&self.values)
    }

    /// Returns the value under a name, if it was asked for. NULL is [`BindValue::Null`].
    pub fn get(&self, name: &str) -> Option<&BindValue> {
        let index = self.names.iter().position(|known| **known == *name)?;
        self.values.get(index)
    }

    /// Returns the value under a name as JSON, if it was asked for.
    pub fn json(&self, name: &str) -> Option<Json> {
        self.get(name).map(json_of)
    }
}

/// Returns a value as JSON.
fn json_of(value: &BindValue) -> Json {
    match value {
        BindValue::Null(_) => Json::Null,
        BindValue::Bool(value) => Json::Bool(*value),
        BindValue::Int(value) => Json::from(*value),
        // A float that is no number has no form in JSON.
        BindValue::Float(value) => Json::from(*value),
        BindValue::Text(text) => Json::from(text.as_ref()),
        BindValue::Bytes(bytes) => Json::from(hex::encode(bytes)),
        BindValue::Json(text) => {
            serde_json::from_str(text).unwrap_or_else(|_| Json::from(text.as_ref()))
        }
        BindValue::Enum(..) => match value.sent() {
            Sent::Text(text) => Json::from(text),
            _ => Json::Null,
        },
        BindValue::Native(_, native) => Json::from(native.text()),
        other => other.plain_text().map_or(Json::Null, Json::from),
    }
}

/// Writes an object.
impl Serialize for NamedValues {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(Some(self.names.len()))?;
        for (name, value) in self.iter() {
            map.serialize_entry(name, &json_of(value))?;
        }
        map.end()
    }
}

/// The cells of a row as they arrived.
#[doc(hidden)]
#[derive(Debug, Clone)]
pub struct RawRow(Vec<KeyPart>);

impl RowShape for RawRow {
    // The number is known at run time only.
    const WIDTH: usize = 0;

    fn read<C: Cells>(cells: &mut C) -> Result<RawRow, Error> {
        let width = cells.width();
        let mut row = Vec::with_capacity(width);
        for _ in 0..width {
            row.push(KeyPart::of(cells.next_cell())?);
        }
        Ok(RawRow(row))
    }
}

/// The columns of such rows.
#[derive(Debug, Clone)]
pub(crate) struct Columns {
    pub(super) names: Arc<[Box<str>]>,
    pub(super) types: Arc<[ValueType]>,
}

impl Columns {
    pub(crate) fn of(columns: impl IntoIterator<Item = (Box<str>, ValueType)>) -> Columns {
        let (names, types): (Vec<_>, Vec<_>) = columns.into_iter().unzip();
        Columns { names: names.into(), types: types.into() }
    }

    /// Checks the cells of a row against the types of the columns.
    pub(crate) fn named(&self, RawRow(cells): RawRow) -> Result<NamedValues, Error> {
        let values = self.types.iter().zip(&cells).zip(self.names.iter());
        let values = values.map(|((value_type, cell), name)| {
            let found = cell.as_cell();
            if matches!(cell, KeyPart::Null) && value_type.nullable {
                return Ok(BindValue::Null(value_type.sql_type));
            }
            value_type
                .read(found)
                .map_err(|expected| Error::mismatch_of_name(name, expected.as_str(), found))
        });
        Ok(NamedValues { names: self.names.clone(), values: values.collect::<Result<_, _>>()? })
    }
}
