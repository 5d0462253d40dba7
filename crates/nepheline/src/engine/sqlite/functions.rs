//! The functions that the SQL for SQLite calls and the engine does not have: letters beyond ASCII in
//! lower and upper case, and the mathematics that is not built in.

use rusqlite::functions::{Context, FunctionFlags};
use rusqlite::types::ValueRef;
use rusqlite::{Connection, Result};

/// Registers them for a connection. They depend on their arguments only, so an index may be made of them.
pub(super) fn register(connection: &Connection) -> Result<()> {
    let flags = FunctionFlags::SQLITE_UTF8
        | FunctionFlags::SQLITE_DETERMINISTIC
        | FunctionFlags::SQLITE_INNOCUOUS;
    connection.create_scalar_function("nepheline_fold", 1, flags, |call| {
        Ok(call
            .get::<Option<String>>(0)?
            .map(|text| text.chars().map(lower).collect::<String>()))
    })?;
    connection.create_scalar_function("nepheline_upper", 1, flags, |call| {
        Ok(call
            .get::<Option<String>>(0)?
            .map(|text| text.chars().map(upper).collect::<String>()))
    })?;
    connection.create_scalar_function("nepheline_floor", 1, flags, |call| {
        Ok(number(call, 0)?.map(f64::floor))
    })?;
    connection.create_scalar_function("nepheline_ceil", 1, flags, |call| {
        Ok(number(call, 0)?.map(f64::ceil))
    })?;
    connection.create_scalar_function("nepheline_power", 2, flags, |call| {
        let base = number(call, 0)?;
        let exponent = number(call, 1)?;
        let power = base.zip(exponent).filter(|(base, exponent)| match *base {
            0.0 => *exponent >= 0.0,
            base => base > 0.0 || exponent.fract() == 0.0,
        });
        Ok(power.map(|(base, exponent)| base.powf(exponent)))
    })
}

/// An argument as a float: a column without a type keeps whole numbers as integers.
fn number(call: &Context<'_>, argument: usize) -> Result<Option<f64>> {
    match call.get_raw(argument) {
        ValueRef::Integer(whole) => Ok(Some(whole as f64)),
        _ => call.get(argument),
    }
}

/// The lower case of a letter where it is one letter. The Greek sigma at the end of a word, which is
/// lower case already, is the one within words, so that the upper-case one has a single partner.
fn lower(letter: char) -> char {
    match letter {
        'ς' => 'σ',
        letter => single(letter, letter.to_lowercase()),
    }
}

fn upper(letter: char) -> char {
    single(letter, letter.to_uppercase())
}

fn single(letter: char, mut mapped: impl ExactSizeIterator<Item = char>) -> char {
    match (mapped.len(), mapped.next()) {
        (1, Some(one)) => one,
        _ => letter,
    }
}
