//! SQL functions that SQLite lacks: lower and upper case beyond ASCII, and mathematics that is not built in.

use rusqlite::functions::{Context, FunctionFlags};
use rusqlite::types::ValueRef;
use rusqlite::{Connection, Result};

/// Registers them on a connection. They are deterministic, so that an index may use them.
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
    })?;
    super::statistics::register(connection, flags)?;
    super::decimals::register(connection)
}

/// Returns an argument as a float: a column without a type stores whole numbers as integers.
pub(super) fn number(call: &Context<'_>, argument: usize) -> Result<Option<f64>> {
    match call.get_raw(argument) {
        ValueRef::Integer(whole) => Ok(Some(whole as f64)),
        _ => call.get(argument),
    }
}

/// Returns the lower case of a letter if it is a single letter. The final sigma, which is lower case already,
/// becomes the one within words, so that the upper-case sigma has one partner.
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
