//! Constants of the program as SQL text, where an engine plans better with them than with binds.

use std::collections::HashMap;
use std::sync::{LazyLock, Mutex, PoisonError};

use super::Expr;
use crate::model::{BindValue, ColumnType, Function, SqlType, Storable};
use crate::tree::Node;

/// A constant that `literal!` takes: a text, a number, a boolean or a variant of an enum.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be written as SQL text",
    label = "expected a text, a number, a boolean, or a variant of an enum that derives `Storable`"
)]
pub trait Constant {
    /// The type that it has in the database.
    type Type: ColumnType;

    #[doc(hidden)]
    fn into_bind(self) -> BindValue;
}

impl Constant for &'static str {
    type Type = String;

    fn into_bind(self) -> BindValue {
        BindValue::Text(self.into())
    }
}

impl<T: Storable> Constant for T {
    type Type = T;

    fn into_bind(self) -> BindValue {
        self.to_bind()
    }
}

/// Returns a constant as an expression; `literal!` calls it with a constant that the compiler has computed.
///
/// A value without a form, such as a float that is no number, becomes a bind, which compiling refuses or sends.
#[doc(hidden)]
pub fn literal<C: Constant>(constant: C) -> Expr<C::Type> {
    let (sql_type, bind) = (<C::Type as ColumnType>::Base::SQL_TYPE, constant.into_bind());
    Expr::from_node(match forms(sql_type, &bind) {
        Some(forms) => Node::call(function_of(forms), sql_type, []),
        None => Node::Bind(bind),
    })
}

/// Returns the text of a value on SQLite, PostgreSQL, and MariaDB and MySQL.
fn forms(sql_type: SqlType, bind: &BindValue) -> Option<[String; 3]> {
    let quoted = |text: &str| format!("'{}'", text.replace('\'', "''"));
    Some(match bind {
        BindValue::Bool(value) => {
            [(); 3].map(|()| if *value { "TRUE" } else { "FALSE" }.to_owned())
        }
        // PostgreSQL would take the narrowest type that a number fits.
        BindValue::Int(value) => {
            let postgres = match sql_type {
                SqlType::SmallInt => "int2",
                SqlType::Integer => "int4",
                _ => "int8",
            };
            [format!("{value}"), format!("CAST({value} AS {postgres})"), format!("{value}")]
        }
        // Without an exponent it would be a decimal on MariaDB.
        BindValue::Float(value) if value.is_finite() => {
            let postgres = if sql_type == SqlType::Real { "float4" } else { "float8" };
            [format!("{value:e}"), format!("CAST({value:e} AS {postgres})"), format!("{value:e}")]
        }
        BindValue::Text(text) if !text.contains('\0') => {
            // A backslash is an escape on MariaDB and MySQL, unless the session says otherwise.
            let mysql = match text.contains('\\') {
                true => format!("_utf8mb4 X'{}'", hex::encode_upper(text.as_bytes())),
                false => quoted(text),
            };
            [quoted(text), quoted(text), mysql]
        }
        BindValue::Enum(kind, number) => {
            // PostgreSQL finds the enum type by what the text is compared with.
            [(); 3].map(|()| quoted(kind.value(*number)))
        }
        _ => return None,
    })
}

/// Returns the function whose text is that constant. It stays in memory, once for each constant of the program.
fn function_of(forms: [String; 3]) -> &'static Function {
    static KNOWN: LazyLock<Mutex<HashMap<[String; 3], &'static Function>>> =
        LazyLock::new(Mutex::default);
    let mut known = KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
    known.entry(forms).or_insert_with_key(|forms| {
        // A brace is doubled in forms.
        let kept = |form: &String| -> &'static str {
            Box::leak(form.replace('{', "{{").replace('}', "}}").into())
        };
        Box::leak(Box::new(Function::of_constant(forms.each_ref().map(kept))))
    })
}
