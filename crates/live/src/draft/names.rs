//! Names of Rust for the names of a database.

use std::collections::HashSet;

use heck::{ToSnakeCase as _, ToUpperCamelCase as _};

/// The names that the prelude and Rust give to something else.
const TAKEN_TYPES: [&str; 46] = [
    "Argument",
    "Array",
    "Box",
    "Carried",
    "Clone",
    "Column",
    "Condition",
    "Copy",
    "Date",
    "DateTime",
    "Debug",
    "Decimal",
    "Default",
    "Dialect",
    "Drop",
    "Eq",
    "Err",
    "Error",
    "ErrorKind",
    "Expr",
    "ExprExt",
    "Hash",
    "IpAddr",
    "Json",
    "JsonExt",
    "Maybe",
    "None",
    "NumberExt",
    "Ok",
    "Option",
    "Ord",
    "PerGroup",
    "PerRow",
    "Query",
    "RangeOf",
    "Result",
    "RowShape",
    "Scope",
    "Self",
    "Some",
    "Span",
    "Storable",
    "String",
    "Table",
    "Time",
    "Timestamp",
];

/// The names of methods that the derive gives to every table.
const TAKEN_METHODS: [&str; 8] =
    ["rows", "row", "insert", "insert_all", "clone", "fmt", "eq", "changes"];

/// Returns a name for a struct or enum that nothing else has, and takes it.
pub(super) fn of_type(taken: &mut HashSet<String>, name: &str) -> String {
    let mut camel = name.to_upper_camel_case();
    camel.retain(|letter| letter.is_alphanumeric());
    if !camel.starts_with(char::is_alphabetic) {
        camel.insert(0, 'T');
    }
    let reserved = TAKEN_TYPES.contains(&camel.as_str())
        || ["Vec", "Uuid", "TextExt", "TimeExt", "ToSpan"].contains(&camel.as_str());
    if reserved {
        camel.push_str("Row");
    }
    unique(taken, camel, |name, number| format!("{name}{number}"))
}

/// Returns a name for a field that no other one has, and takes it.
pub(super) fn of_field(taken: &mut HashSet<String>, name: &str) -> String {
    let mut snake = name.to_snake_case();
    snake.retain(|letter| letter.is_alphanumeric() || letter == '_');
    if !snake.starts_with(|letter: char| letter.is_alphabetic() || letter == '_') || snake == "_" {
        snake.insert_str(0, "column_");
    }
    // These cannot be raw identifiers.
    if ["self", "super", "crate"].contains(&snake.as_str()) {
        snake.push('_');
    }
    let snake = if is_keyword(&snake) { format!("r#{snake}") } else { snake };
    unique(taken, snake, |name, number| format!("{}_{number}", name.trim_start_matches("r#")))
}

/// Returns a name for a module that no other one has, and takes it.
pub(super) fn of_module(taken: &mut HashSet<String>, name: &str) -> String {
    let field = of_field(taken, name);
    match field.strip_prefix("r#") {
        // A file with the name of a keyword surprises.
        Some(keyword) => {
            unique(taken, format!("{keyword}_rows"), |name, number| format!("{name}_{number}"))
        }
        None => field,
    }
}

/// Returns a name for a relation that no field and no other relation has, and takes it.
pub(super) fn of_relation(taken: &mut HashSet<String>, names: &[String]) -> String {
    let is_free = |name: &&String| {
        !taken.contains(*name) && !TAKEN_METHODS.contains(&name.as_str()) && !is_keyword(name)
    };
    match names.iter().find(is_free).cloned() {
        Some(name) => {
            taken.insert(name.clone());
            name
        }
        None => {
            let last = names.last().cloned().unwrap_or_else(|| "related".into());
            unique(taken, format!("{last}_rows"), |name, number| format!("{name}_{number}"))
        }
    }
}

/// Returns a name that nothing else has, with a number if need be, and takes it.
pub(super) fn unique(
    taken: &mut HashSet<String>,
    name: String,
    numbered: impl Fn(&str, u32) -> String,
) -> String {
    let mut chosen = name.clone();
    let mut number = 2;
    while !taken.insert(chosen.clone()) {
        chosen = numbered(&name, number);
        number += 1;
    }
    chosen
}

pub(super) fn is_keyword(name: &str) -> bool {
    // The parser knows the keywords of all editions but this one.
    name == "gen" || syn::parse_str::<syn::Ident>(name).is_err()
}
