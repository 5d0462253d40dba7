//! Functions whose text the program decides: collations and constants. The text of each dialect is made here, beside those of the
//! other functions, and stays in memory, once for each collation and constant of the program.

use std::collections::HashMap;
use std::sync::{LazyLock, Mutex, PoisonError};

use super::function::Function;
use super::storable::{BindValue, SqlType};

/// The texts on SQLite, PostgreSQL, MariaDB and MySQL.
type Forms = [String; 4];

/// Returns the function that applies a collation, by its names on SQLite, PostgreSQL, MariaDB and MySQL.
pub(crate) fn collation([sqlite, postgres, mariadb, mysql]: [&str; 4]) -> &'static Function {
    let quoted = |name: &str, quote: char| {
        let doubled = name.replace(quote, &format!("{quote}{quote}"));
        format!("{{0}} COLLATE {quote}{}{quote}", with_braces(&doubled))
    };
    kept([quoted(sqlite, '"'), quoted(postgres, '"'), quoted(mariadb, '`'), quoted(mysql, '`')])
}

/// Returns the function that is a constant; `None` for a value that has no text in SQL.
pub(crate) fn constant(sql_type: SqlType, value: &BindValue) -> Option<&'static Function> {
    let quoted = |text: &str| format!("'{}'", text.replace('\'', "''"));
    let everywhere = |text: String| [text.clone(), text.clone(), text];
    let [sqlite, postgres, mysql] = match value {
        BindValue::Bool(true) => everywhere("TRUE".to_owned()),
        BindValue::Bool(false) => everywhere("FALSE".to_owned()),
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
        // PostgreSQL finds the enum type by what the text is compared with.
        BindValue::Enum(kind, number) => everywhere(quoted(kind.value(*number))),
        _ => return None,
    };
    Some(kept([sqlite, postgres, mysql.clone(), mysql].map(|form| with_braces(&form))))
}

/// Doubles braces, which mark the arguments in forms.
fn with_braces(text: &str) -> String {
    text.replace('{', "{{").replace('}', "}}")
}

fn kept(forms: Forms) -> &'static Function {
    static KNOWN: LazyLock<Mutex<HashMap<Forms, &'static Function>>> =
        LazyLock::new(Mutex::default);
    let mut known = KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
    known.entry(forms).or_insert_with_key(|forms| {
        let forms = forms
            .each_ref()
            .map(|form| -> &'static str { Box::leak(form.as_str().into()) });
        Box::leak(Box::new(Function::of_program(forms)))
    })
}
