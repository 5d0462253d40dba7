//! JSON: steps into a document, and the scalar value at the end.

use super::{Condition, Expr, ExprExt, Operand};
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
        step(&function::JSON_KEY, self, key_node(key.into()))
    }

    /// Returns an item of an array, counted from 0, or NULL if this is no array or is shorter.
    fn item(self, place: u32) -> Expr<Option<Json>, Self::Level> {
        let place = i64::from(place).min(i64::from(i32::MAX));
        step(&function::JSON_ITEM, self, Node::Bind(BindValue::Int(place)))
    }

    /// Returns the document with another value of a key, or with one more key. The document stays as it is where it is no
    /// object, or `value` is NULL.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// use serde_json::json;
    /// # #[derive(Debug, Table)] struct Survey { #[nepheline(key)] id: i64, notes: Json }
    /// let planned = Survey::row(7).update(|s| s.notes.set(s.notes.with_key("planned_m", json!(240.5))));
    /// // Within an object of the document:
    /// let deeper = Survey::row(7).update(|s| {
    ///     let depth = s.notes.key("depth").with_key("planned_m", json!(240.5));
    ///     s.notes.set(s.notes.with_key("depth", depth))
    /// });
    /// # assert!(planned.sql(Dialect::Postgres).is_ok() && deeper.sql(Dialect::MariaDb).is_ok());
    /// ```
    ///
    /// # Errors
    ///
    /// As [`key`](Self::key).
    fn with_key(
        self,
        key: impl Into<String>,
        value: impl Operand<Json, Self::Level>,
    ) -> Expr<Self::Type, Self::Level> {
        let parts = [self.into_node(), key_node(key.into()), value.into_operand()];
        Expr::from_node(Node::call(&function::JSON_WITH_KEY, SqlType::Json, parts))
    }

    /// Returns the document without a key. It stays as it is where it is no object or has no such key.
    ///
    /// # Errors
    ///
    /// As [`key`](Self::key).
    fn without_key(self, key: impl Into<String>) -> Expr<Self::Type, Self::Level> {
        let parts = [self.into_node(), key_node(key.into())];
        Expr::from_node(Node::call(&function::JSON_WITHOUT_KEY, SqlType::Json, parts))
    }

    /// Returns whether the document contains another one, on PostgreSQL: each key of an object with a contained value, each
    /// item of an array, and equal scalars. The other engines refuse it: SQLite has no such function, and that of MariaDB
    /// finds scalars in arrays at any depth.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// use serde_json::json;
    /// # #[derive(Debug, Table)] struct Survey { #[nepheline(key)] id: i64, notes: Json }
    /// let led_by_ada = Survey::rows().filter(|s| s.notes.contains_document(json!({"crew": ["Ada"]})));
    /// # assert!(led_by_ada.sql(Dialect::Postgres)?.text().ends_with(r#""survey"."notes"::jsonb @> $1::jsonb"#));
    /// # Ok::<(), Error>(())
    /// ```
    fn contains_document(self, part: impl Operand<Json, Self::Level>) -> Condition<Self::Level> {
        let parts = [self.into_node(), part.into_operand()];
        Condition::from_node(Node::call(&function::JSON_CONTAINS, SqlType::Boolean, parts))
    }

    /// Returns the scalar value as a Rust type: a `String`, an `i64`, an `f64` or a `bool`. It is NULL where the JSON is
    /// of another type, unlike SQL:2016's JSON_VALUE, which converts, and where a number is beyond the range of the type.
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

fn key_node(key: String) -> Node {
    let refused = key.contains(['"', '\\']);
    let bind = BindValue::Text(key.into());
    match refused {
        true => Node::refused(bind, "a JSON key with a quotation mark or a backslash"),
        false => Node::Bind(bind),
    }
}

fn step<E: ExprExt>(
    function: &'static Function,
    json: E,
    to: Node,
) -> Expr<Option<Json>, E::Level> {
    Expr::from_node(Node::call(function, SqlType::Json, [json.into_node(), to]))
}
