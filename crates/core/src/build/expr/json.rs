//! Reading JSON: a step at a time, and at the end as a type.

use super::{Expr, Expression};
use crate::model::{BindValue, ColumnType, Function, SqlType, Storable, function};
use crate::tree::Node;

type Json = serde_json::Value;

/// What can be read out of JSON (RFC 8259).
///
/// Each step gives JSON again, NULL where there is no such key or item, and the last step reads it
/// as a type: NULL where it is of another. Keys and places are binds.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Survey { #[nepheline(key)] id: i64, notes: Json }
/// // {"crew": ["Ivo", "Ada"], "depth": {"planned_m": 240.5}}
/// let deep = Survey::rows()
///     .filter(|n| n.notes.key("depth").key("planned_m").as_number().gt(200))
///     .filter(|n| n.notes.key("crew").item(0).as_text().eq("Ivo"));
/// # assert!(deep.sql(Dialect::Sqlite).is_ok());
/// ```
pub trait JsonExpression: Expression<Type: ColumnType<Base = Json>> {
    /// The value of a key of an object; NULL where this is no object or has no such key.
    ///
    /// # Errors
    ///
    /// A key with a quotation mark or a backslash is refused when the query is compiled: engines
    /// escape it in different ways.
    fn key(self, key: impl Into<String>) -> Expr<Option<Json>, Self::Level> {
        let key: String = key.into();
        let refused = key.contains(['"', '\\']);
        let bind = BindValue::Text(key.into());
        let key = match refused {
            true => Node::refused(bind, "a key of JSON with a quotation mark or backslash in it"),
            false => Node::Bind(bind),
        };
        step(&function::JSON_KEY, self, key)
    }

    /// An item of an array, counted from 0; NULL where this is no array or is shorter.
    fn item(self, place: u32) -> Expr<Option<Json>, Self::Level> {
        let place = i64::from(place).min(i64::from(i32::MAX));
        step(&function::JSON_ITEM, self, Node::Bind(BindValue::Int(place)))
    }

    /// The text, if it is text.
    fn as_text(self) -> Expr<Option<String>, Self::Level> {
        read(&function::JSON_TEXT, self)
    }

    /// The number, if it is one that is written without a fraction or an exponent.
    fn as_integer(self) -> Expr<Option<i64>, Self::Level> {
        read(&function::JSON_WHOLE, self)
    }

    /// The number, if it is one.
    fn as_number(self) -> Expr<Option<f64>, Self::Level> {
        read(&function::JSON_FLOAT, self)
    }

    /// The truth value, if it is one.
    fn as_boolean(self) -> Expr<Option<bool>, Self::Level> {
        read(&function::JSON_BOOLEAN, self)
    }
}

impl<E: Expression<Type: ColumnType<Base = Json>>> JsonExpression for E {}

fn step<E: Expression>(
    function: &'static Function,
    json: E,
    to: Node,
) -> Expr<Option<Json>, E::Level> {
    Expr::from_node(Node::call(function, SqlType::Json, [json.into_node(), to]))
}

fn read<E: Expression, T: Storable>(
    function: &'static Function,
    json: E,
) -> Expr<Option<T>, E::Level> {
    Expr::from_node(Node::call(function, T::SQL_TYPE, [json.into_node()]))
}
