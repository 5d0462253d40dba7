//! Decimal arithmetic as SQL functions, because SQLite has no type for exact fractions.
//!
//! A decimal is an INTEGER or a TEXT such as `-12.50`. A REAL counts as its shortest text, up to 15 digits, because
//! a column declared NUMERIC turns texts into REAL. Results are texts, exact and of any length; only reading them
//! has a limit. The functions are refused in schemas, so that other programs can still use the file.

use std::borrow::Cow;
use std::cmp::Ordering;

use nepheline_core::internal::exact_text;
use num_bigint::{BigInt, Sign};
use rusqlite::functions::{Aggregate, Context, FunctionFlags, WindowAggregate};
use rusqlite::types::ValueRef;
use rusqlite::{Connection, Error, Result};

/// Registers the functions on a connection.
pub(super) fn register(connection: &Connection) -> Result<()> {
    let flags = FunctionFlags::SQLITE_UTF8
        | FunctionFlags::SQLITE_DETERMINISTIC
        | FunctionFlags::SQLITE_DIRECTONLY;
    let binary = |name: &'static str, compute: fn(Number, Number) -> Number| {
        connection.create_scalar_function(name, 2, flags, move |call| {
            let operands = operand(call, 0)?.zip(operand(call, 1)?);
            Ok(operands.map(|(left, right)| compute(left, right).to_string()))
        })
    };
    let unary = |name: &'static str, compute: fn(Number) -> Number| {
        connection.create_scalar_function(name, 1, flags, move |call| {
            Ok(operand(call, 0)?.map(|operand| compute(operand).to_string()))
        })
    };
    binary("nepheline_decimal_add", |left, right| left.plus(&right))?;
    binary("nepheline_decimal_subtract", |left, right| left.plus(&right.negated()))?;
    binary("nepheline_decimal_multiply", |left, right| left.times(&right))?;
    unary("nepheline_decimal_negate", Number::negated)?;
    unary("nepheline_decimal_abs", Number::abs)?;
    unary("nepheline_decimal_floor", |operand| operand.whole(Sign::Minus))?;
    unary("nepheline_decimal_ceil", |operand| operand.whole(Sign::Plus))?;
    unary("nepheline_decimal_plain", Number::plain)?;
    connection.create_scalar_function("nepheline_decimal_sign", 1, flags, |call| {
        Ok(operand(call, 0)?.map(|operand| match operand.digits.sign() {
            Sign::Minus => -1,
            Sign::NoSign => 0,
            Sign::Plus => 1,
        }))
    })?;
    connection.create_scalar_function("nepheline_decimal_round", 2, flags, |call| {
        let (Some(operand), scale) = (operand(call, 0)?, call.get(1)?) else { return Ok(None) };
        Ok(Some(operand.over(&Number::whole_of(1), scale).to_string()))
    })?;
    connection.create_scalar_function("nepheline_decimal_divide", 3, flags, |call| {
        let (operands, scale) = (operand(call, 0)?.zip(operand(call, 1)?), call.get(2)?);
        let operands = operands.filter(|(_, divisor)| divisor.digits.sign() != Sign::NoSign);
        Ok(operands.map(|(left, right)| left.over(&right, scale).to_string()))
    })?;
    connection.create_scalar_function("nepheline_decimal_key", 1, flags, |call| {
        Ok(operand(call, 0)?.map(|operand| operand.key()))
    })?;
    connection.create_scalar_function("nepheline_decimal_sortable", 1, flags, |call| {
        Ok(operand(call, 0)?.map(|operand| operand.sortable()))
    })?;
    connection.create_scalar_function("nepheline_decimal_shown", 1, flags, |call| {
        match call.get_raw(0) {
            ValueRef::Blob(sortable) => Ok(Number::of_sortable(sortable).map(|it| it.to_string())),
            _ => Ok(None),
        }
    })?;
    connection.create_window_function("nepheline_decimal_sum", 1, flags, Sum)
}

/// A number of any length: its digits, of which the last ones stand after the point.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Number {
    digits: BigInt,
    scale: u32,
}

impl Number {
    fn whole_of(value: i64) -> Number {
        Number { digits: value.into(), scale: 0 }
    }

    /// Parses a decimal in its only spelling: no exponent, no plus sign, no zeros before other digits.
    fn parse(text: &str) -> Option<Number> {
        let unsigned = text.strip_prefix('-').unwrap_or(text);
        let (whole, fraction) = unsigned.split_once('.').unwrap_or((unsigned, ""));
        let is_digits = |part: &str| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit());
        let is_plain = is_digits(whole) && (whole == "0" || !whole.starts_with('0'));
        let has_fraction = unsigned.len() > whole.len();
        if !is_plain || has_fraction && !is_digits(fraction) {
            return None;
        }
        let scale = u32::try_from(fraction.len()).ok()?;
        // Nearly all fit 128 bits, which are parsed without the detour of a long number.
        let digits = match text.len() {
            ..=38 => BigInt::from(digits_of(whole, fraction) * if text.len() > unsigned.len() { -1 } else { 1 }),
            _ => text.replace('.', "").parse().ok()?,
        };
        Some(Number { digits, scale })
    }

    /// Returns the digits with more of them after the point.
    fn scaled_to(&self, scale: u32) -> Cow<'_, BigInt> {
        match scale.checked_sub(self.scale) {
            None | Some(0) => Cow::Borrowed(&self.digits),
            Some(more) => Cow::Owned(&self.digits * power_of_ten(more)),
        }
    }

    fn plus(&self, other: &Number) -> Number {
        let scale = self.scale.max(other.scale);
        Number { digits: &*self.scaled_to(scale) + &*other.scaled_to(scale), scale }
    }

    fn times(&self, other: &Number) -> Number {
        Number { digits: &self.digits * &other.digits, scale: self.scale + other.scale }
    }

    fn negated(self) -> Number {
        Number { digits: -self.digits, ..self }
    }

    fn abs(self) -> Number {
        match self.digits.sign() {
            Sign::Minus => self.negated(),
            _ => self,
        }
    }

    /// Divides by a number that is not zero, and rounds once: halves away from zero.
    fn over(&self, divisor: &Number, scale: u32) -> Number {
        // Both sides are doubled, so that half of the divisor is a whole number.
        let dividend: BigInt = &self.digits * power_of_ten(scale + divisor.scale) * 2;
        let divisor: BigInt = &divisor.digits * power_of_ten(self.scale) * 2;
        let half = BigInt::from(divisor.magnitude().clone()) / 2;
        let moved = match dividend.sign() {
            Sign::Minus => dividend - half,
            _ => dividend + half,
        };
        Number { digits: moved / divisor, scale }
    }

    /// Returns the whole number below it or above it.
    fn whole(self, towards: Sign) -> Number {
        let unit = power_of_ten(self.scale);
        let (whole, rest) = (&self.digits / &unit, &self.digits % &unit);
        let step = match (rest.sign(), towards) {
            (Sign::Minus, Sign::Minus) => -1,
            (Sign::Plus, Sign::Plus) => 1,
            _ => 0,
        };
        Number { digits: whole + step, scale: 0 }
    }

    /// Returns it without zeros at the end, so that equal numbers have one text.
    fn plain(mut self) -> Number {
        while self.scale > 0 && (&self.digits % 10_u8).sign() == Sign::NoSign {
            self.digits /= 10_u8;
            self.scale -= 1;
        }
        self
    }

    /// Returns bytes that are equal for equal numbers and sort as the numbers do: the sign, the place of the first digit,
    /// and two digits in each byte, all complemented for negative numbers.
    fn key(&self) -> Vec<u8> {
        let (sign, text) = (self.digits.sign(), self.digits.magnitude().to_string());
        if sign == Sign::NoSign {
            return vec![1];
        }
        // The number of digits before the point, which is negative for small fractions.
        let place = i64::try_from(text.len()).unwrap_or(i64::MAX) - i64::from(self.scale);
        let place = u16::try_from(place + 0x8000).unwrap_or(u16::MAX);
        let mut key = vec![2];
        key.extend(place.to_be_bytes());
        let digit = |byte: Option<&u8>| byte.map_or(0, |byte| byte - b'0');
        let digits = text.trim_end_matches('0').as_bytes();
        // No byte is 0, which ends the digits.
        let pairs = digits.chunks(2);
        key.extend(pairs.map(|pair| digit(pair.first()) * 10 + digit(pair.get(1)) + 1));
        key.push(0);
        if sign == Sign::Minus {
            key.iter_mut().for_each(|byte| *byte = !*byte);
            key[0] = 0;
        }
        key
    }

    /// Returns a key from which the number can be read again, zeros at its end included.
    fn sortable(&self) -> Vec<u8> {
        let mut sortable = self.key();
        sortable.extend(self.scale.to_be_bytes());
        sortable
    }

    fn of_sortable(sortable: &[u8]) -> Option<Number> {
        let (key, scale) = sortable.split_last_chunk::<4>()?;
        let scale = u32::from_be_bytes(*scale);
        let (sign, rest) = key.split_first()?;
        if *sign == 1 {
            return Some(Number { digits: BigInt::ZERO, scale });
        }
        let mask = if *sign == 0 { 0xFF } else { 0 };
        let (place, pairs) = rest.split_first_chunk::<2>()?;
        let place = i64::from(u16::from_be_bytes(place.map(|byte| byte ^ mask))) - 0x8000;
        let pairs = pairs.iter().map(|byte| byte ^ mask).take_while(|byte| *byte > 0);
        let mut digits = BigInt::ZERO;
        let mut known = 0_i64;
        for pair in pairs {
            digits = digits * 100_u8 + (pair - 1);
            known += 2;
        }
        // The digits that follow the point, less those that the key has beyond its place.
        let after = known - place;
        match u32::try_from(i64::from(scale) - after) {
            Ok(more) => digits *= power_of_ten(more),
            // The last digit of an odd number of them is padding.
            Err(_) => digits /= 10_u8,
        }
        let digits = if *sign == 0 { -digits } else { digits };
        Some(Number { digits, scale })
    }
}

/// Returns digits that fit 128 bits.
fn digits_of(whole: &str, fraction: &str) -> i128 {
    let digits = whole.bytes().chain(fraction.bytes());
    digits.fold(0, |sum, digit| sum * 10 + i128::from(digit - b'0'))
}

fn power_of_ten(exponent: u32) -> BigInt {
    match 10_i128.checked_pow(exponent) {
        Some(power) => power.into(),
        None => BigInt::from(10_u8).pow(exponent),
    }
}

impl std::fmt::Display for Number {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if self.scale == 0 {
            return self.digits.fmt(f);
        }
        let digits = self.digits.magnitude().to_string();
        let scale = usize::try_from(self.scale).unwrap_or(usize::MAX);
        // At least one digit stands before the point.
        let digits = format!("{digits:0>width$}", width = scale.saturating_add(1));
        let (whole, fraction) = digits.split_at(digits.len() - scale);
        let sign = if self.digits.sign() == Sign::Minus { "-" } else { "" };
        write!(f, "{sign}{whole}.{fraction}")
    }
}

/// Returns an argument as a number, or `None` for NULL.
fn operand(call: &Context<'_>, argument: usize) -> Result<Option<Number>> {
    let refused = |what: String| Err(Error::UserFunctionError(what.into()));
    match call.get_raw(argument) {
        ValueRef::Null => Ok(None),
        ValueRef::Integer(value) => Ok(Some(Number::whole_of(value))),
        ValueRef::Text(bytes) => {
            let text = std::str::from_utf8(bytes).unwrap_or_default();
            match Number::parse(text) {
                Some(number) => Ok(Some(number)),
                None => refused(format!("the text {text:?} is no decimal such as -12.50")),
            }
        }
        ValueRef::Real(value) => match exact_text(value).as_deref().and_then(Number::parse) {
            Some(number) => Ok(Some(number)),
            None => refused(format!(
                "the REAL value {value:?} has more than 15 digits: declare the column of decimals as TEXT"
            )),
        },
        ValueRef::Blob(_) => refused("bytes are no decimal".into()),
    }
}

/// The exact sum of decimals; NULL for no values.
struct Sum;

/// The sum of the rows so far, and their number.
#[derive(Debug)]
struct Summed {
    sum: Number,
    values: u64,
}

impl Summed {
    fn shown(&self) -> Option<String> {
        (self.values > 0).then(|| self.sum.to_string())
    }
}

impl Aggregate<Summed, Option<String>> for Sum {
    fn init(&self, _: &mut Context<'_>) -> Result<Summed> {
        Ok(Summed { sum: Number::whole_of(0), values: 0 })
    }

    fn step(&self, call: &mut Context<'_>, summed: &mut Summed) -> Result<()> {
        if let Some(value) = operand(call, 0)? {
            match value.scale.cmp(&summed.sum.scale) {
                Ordering::Equal => summed.sum.digits += value.digits,
                _ => summed.sum = summed.sum.plus(&value),
            }
            summed.values += 1;
        }
        Ok(())
    }

    fn finalize(&self, _: &mut Context<'_>, summed: Option<Summed>) -> Result<Option<String>> {
        Ok(summed.and_then(|summed| summed.shown()))
    }
}

impl WindowAggregate<Summed, Option<String>> for Sum {
    fn value(&self, summed: Option<&mut Summed>) -> Result<Option<String>> {
        Ok(summed.and_then(|summed| summed.shown()))
    }

    fn inverse(&self, call: &mut Context<'_>, summed: &mut Summed) -> Result<()> {
        if let Some(value) = operand(call, 0)? {
            summed.sum = summed.sum.plus(&value.negated());
            summed.values -= 1;
        }
        Ok(())
    }
}
