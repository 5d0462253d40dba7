//! Typed JSON documents.

use std::ops::Deref;

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

use super::{BindValue, Mismatch, SqlType, Storable};
use crate::model::{Cell, Error, ErrorKind};

/// A value of a serde type that is stored as one JSON document.
///
/// It dereferences to the value. Paths of the document are read as those of other JSON columns, by
/// [`JsonExt`](crate::JsonExt). Equal values are equal documents.
///
/// ```
/// use nepheline::JsonDocument;
/// use nepheline::prelude::*;
/// use serde::{Deserialize, Serialize};
///
/// #[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
/// struct Notes {
///     crew: Vec<String>,
///     planned_m: f64,
/// }
///
/// #[derive(Debug, Table)]
/// struct Survey {
///     #[nepheline(key)]
///     id: i64,
///     notes: JsonDocument<Notes>,
/// }
///
/// let deep = Survey::rows().filter(|s| s.notes.key("planned_m").json_value::<f64>().gt(200));
/// # assert!(deep.sql(Dialect::Sqlite).is_ok());
/// let notes = JsonDocument::of(Notes { crew: vec!["Ada".into()], planned_m: 240.5 })?;
/// let row = Survey::insert(SurveyToInsert { id: 1, notes });
/// # let _ = row;
/// # Ok::<(), Error>(())
/// ```
#[derive(Debug, Clone)]
pub struct JsonDocument<T> {
    value: T,
    /// The text, so that a value that serde refuses is an error where the document is made.
    text: Box<str>,
}

impl<T: Serialize> JsonDocument<T> {
    /// Returns the document of a value.
    ///
    /// # Errors
    ///
    /// [`RefusedValue`](crate::ErrorKind::RefusedValue) if serde cannot write it as JSON, such as a map whose keys are no
    /// text.
    pub fn of(value: T) -> Result<JsonDocument<T>, Error> {
        match serde_json::to_string(&value) {
            Ok(text) => Ok(JsonDocument { value, text: text.into() }),
            Err(err) => Err(Error::unfit_document(err)),
        }
    }
}

impl<T> JsonDocument<T> {
    /// Returns the value.
    pub fn into_inner(self) -> T {
        self.value
    }
}

impl<T> Deref for JsonDocument<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.value
    }
}

impl<T: PartialEq> PartialEq for JsonDocument<T> {
    fn eq(&self, other: &JsonDocument<T>) -> bool {
        self.value == other.value
    }
}

/// Writes the value itself.
impl<T: Serialize> Serialize for JsonDocument<T> {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.value.serialize(serializer)
    }
}

impl<'de, T: Serialize + serde::Deserialize<'de>> serde::Deserialize<'de> for JsonDocument<T> {
    fn deserialize<D: serde::Deserializer<'de>>(
        deserializer: D,
    ) -> Result<JsonDocument<T>, D::Error> {
        let value = T::deserialize(deserializer)?;
        JsonDocument::of(value).map_err(serde::de::Error::custom)
    }
}

impl<T: DeserializeOwned> Storable for JsonDocument<T> {
    const SQL_TYPE: SqlType = SqlType::Json;

    fn to_bind(&self) -> BindValue {
        BindValue::Json(self.text.clone())
    }

    fn from_cell(cell: Cell<'_>) -> Result<JsonDocument<T>, Mismatch> {
        let read = match cell {
            Cell::Text(text) => serde_json::from_str(text)
                .ok()
                .map(|value| JsonDocument { value, text: text.into() }),
            _ => None,
        };
        read.ok_or_else(|| Mismatch::expected("a JSON document of the type of the field"))
    }
}

/// A type that is stored as JSON: any JSON, or a typed document.
#[doc(hidden)]
pub trait StoredAsJson: Storable {}

impl StoredAsJson for Value {}

impl<T: DeserializeOwned> StoredAsJson for JsonDocument<T> {}

impl Error {
    #[cold]
    fn unfit_document(cause: serde_json::Error) -> Error {
        let message = "the value cannot be written as JSON; its maps need keys of text";
        Error::new(ErrorKind::RefusedValue, message).caused_by(cause)
    }
}
