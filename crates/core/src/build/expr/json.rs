//! JSON: steps into a document, and the scalar value at the end.

use super::{Expr, ExprExt};
use crate::model::{BindValue, ColumnType, Function, SqlType, Storable, StoredAsJson, function};
use crate::tree::Node;

type Json = serde_json::Value;

/// Methods of JSON expressions (RFC 8259).
///
/// Each step returns JSON, or NULL where there is no such key or item. [`json_value`](Self::json_value) reads
/// the scalar at the end. Keys and indexes are binds.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Survey { #[nepheline(key)] id: i64, notes: Json }
/// // {"crew": ["Ivo", "Ada"], "depth": {"planned_m": 240.5}}
/// let deep = Survey::rows()
///     .filter(|n| n.notes.key("depth").key("planned_m").json_value::<f64>().gt(200))
///     .filter(|n| n.notes.key("crew").item(0).json_value::<String>().eq("Ivo"));
/// # assert!(deep.sql(Dialect::Sqlite).is_ok());
/// ```
pub trait JsonExt: ExprExt<Type: ColumnType<Base: StoredAsJson>> {
    /// Returns the value of a key of an object, or NULL if this is no object or has no such key.
    ///
    /// # Errors
    ///
    /// Compiling refuses a key with a quotation mark or a backslash, because engines escape it in different
    /// ways.
    fn key(self, key: impl Into<String>) -> Expr<Option<Json>, Self::Level> {
        let key: String = key.into();
        let refused = key.contains(['"', '\\']);
        let bind = BindValue::Text(key.into());
        let key = match refused {
            true => Node::refused(bind, "a JSON key with a quotation mark or a backslash"),
            false => Node::Bind(bind),
        };
        step(&function::JSON_KEY, self, key)
    }

    /// Returns an item of an array, counted from 0, or NULL if this is no array or is shorter.
    fn item(self, place: u32) -> Expr<Option<Json>, Self::Level> {
        let place = i64::from(place).min(i64::from(i32::MAX));
        step(&function::JSON_ITEM, self, Node::Bind(BindValue::Int(place)))
    }

    /// Returns the scalar value as a Rust type: a `String`, an `i64`, an `f64` or a `bool`. It is NULL where the JSON is
    /// of another type, unlike SQL:2016's JSON_VALUE, which converts.
    fn json_value<T: JsonScalar>(self) -> Expr<Option<T>, Self::Level> {
        Expr::from_node(Node::call(T::READ, T::SQL_TYPE, [self.into_node()]))
    }
}

/// The types that [`json_value`](JsonExt::json_value) reads.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be read from JSON",
    note = "`json_value` reads a `String`, an `i64`, an `f64` or a `bool`"
)]
pub trait JsonScalar: Storable {
    #[doc(hidden)]
    const READ: &'static Function;
}

/// A JSON string.
impl JsonScalar for String {
    const READ: &'static Function = &function::JSON_TEXT;
}

/// A JSON number that is written without a fraction or an exponent.
impl JsonScalar for i64 {
    const READ: &'static Function = &function::JSON_WHOLE;
}

/// Any JSON number.
impl JsonScalar for f64 {
    const READ: &'static Function = &function::JSON_FLOAT;
}

/// JSON's `true` or `false`.
impl JsonScalar for bool {
    const READ: &'static Function = &function::JSON_BOOLEAN;
}

impl<E: ExprExt<Type: ColumnType<Base: StoredAsJson>>> JsonExt for E {}

fn step<E: ExprExt>(
    function: &'static Function,
    json: E,
    to: Node,
) -> Expr<Option<Json>, E::Level> {
    Expr::from_node(Node::call(function, SqlType::Json, [json.into_node(), to]))
}
