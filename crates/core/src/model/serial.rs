//! Parts of the serde impls that the derives write.

use serde::de::{Deserialize, Deserializer, Error as _, Visitor};
use serde::forward_to_deserialize_any;

use super::row::Cell;
use super::storable::{SqlType, Storable};

/// Deserializes a value from the text or the integer that it is stored as.
#[doc(hidden)]
pub fn deserialize_stored<'de, T: Storable, D: Deserializer<'de>>(
    deserializer: D,
) -> Result<T, D::Error> {
    let read = match T::SQL_TYPE {
        SqlType::Text | SqlType::Enum(_) | SqlType::Native(_) => {
            let text = String::deserialize(deserializer)?;
            T::from_cell(Cell::Text(&text)).map_err(|expected| (expected, format!("`{text}`")))
        }
        _ => {
            let number = i64::deserialize(deserializer)?;
            T::from_cell(Cell::Int(number)).map_err(|expected| (expected, number.to_string()))
        }
    };
    read.map_err(|(expected, found)| {
        D::Error::custom(format!("expected {}, found {found}", expected.as_str()))
    })
}

/// Returns the value of a field that is not there: `None` of an `Option`, else an error.
#[doc(hidden)]
pub fn missing_field<'de, T: Deserialize<'de>, E: serde::de::Error>(
    name: &'static str,
) -> Result<T, E> {
    struct Missing<E>(&'static str, std::marker::PhantomData<E>);

    impl<'de, E: serde::de::Error> Deserializer<'de> for Missing<E> {
        type Error = E;

        fn deserialize_any<V: Visitor<'de>>(self, _: V) -> Result<V::Value, E> {
            Err(E::missing_field(self.0))
        }

        fn deserialize_option<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, E> {
            visitor.visit_none()
        }

        forward_to_deserialize_any! {
            bool i8 i16 i32 i64 i128 u8 u16 u32 u64 u128 f32 f64 char str string bytes byte_buf unit
            unit_struct newtype_struct seq tuple tuple_struct map struct enum identifier ignored_any
        }
    }

    T::deserialize(Missing(name, std::marker::PhantomData))
}
