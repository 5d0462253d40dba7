//! UUIDs, decimals and JSON, each from its own well-known crate.

use rust_decimal::Decimal;
use uuid::Uuid;

use super::{BindValue, Mismatch, SqlType, Storable};
use crate::model::Cell;

impl Storable for Uuid {
    const SQL_TYPE: SqlType = SqlType::Uuid;

    fn to_bind(&self) -> BindValue {
        BindValue::Uuid(*self)
    }

    #[inline]
    fn from_cell(cell: Cell<'_>) -> Result<Uuid, Mismatch> {
        let uuid = match cell {
            Cell::Uuid(uuid) => Some(uuid),
            Cell::Text(text) => Uuid::try_parse(text).ok(),
            Cell::Bytes(bytes) => Uuid::from_slice(bytes).ok(),
            _ => None,
        };
        uuid.ok_or_else(|| Mismatch::expected("uuid (`Uuid`, 36 characters or 16 bytes)"))
    }
}

impl Storable for Decimal {
    const SQL_TYPE: SqlType = SqlType::Decimal;

    fn to_bind(&self) -> BindValue {
        BindValue::Decimal(*self)
    }

    #[inline]
    fn from_cell(cell: Cell<'_>) -> Result<Decimal, Mismatch> {
        let decimal = match cell {
            Cell::Decimal(decimal) => Some(decimal),
            Cell::Int(value) => Some(Decimal::from(value)),
            Cell::Text(text) => exact(text),
            Cell::Float(value) => match exact_text(value) {
                Some(text) => exact(&text),
                None => return Err(Mismatch::expected(REAL)),
            },
            _ => None,
        };
        decimal.ok_or_else(|| Mismatch::expected("decimal (`Decimal`, at most 28 digits)"))
    }
}

const REAL: &str =
    "decimal; a REAL of SQLite has at most 15 exact digits, so declare the column as TEXT";

/// Parses a decimal without loss. Zeros at the end are left out if it has more digits than fit.
fn exact(text: &str) -> Option<Decimal> {
    Decimal::from_str_exact(text).ok().or_else(|| {
        let (whole, fraction) = text.split_once('.')?;
        match fraction.trim_end_matches('0') {
            "" => Decimal::from_str_exact(whole).ok(),
            fraction => Decimal::from_str_exact(&format!("{whole}.{fraction}")).ok(),
        }
    })
}

/// Returns the shortest text that reads back as a float, if it has at most the 15 digits that a float keeps of any
/// decimal.
#[doc(hidden)]
pub fn exact_text(value: f64) -> Option<String> {
    let text = if value == 0.0 { "0".to_owned() } else { value.to_string() };
    let digits = text.trim_start_matches(['-', '0', '.']);
    let digits = match digits.contains('.') || text.contains('.') {
        true => digits,
        false => digits.trim_end_matches('0'),
    };
    let count = digits.bytes().filter(u8::is_ascii_digit).count();
    (value.is_finite() && count <= 15).then_some(text)
}

impl Storable for serde_json::Value {
    const SQL_TYPE: SqlType = SqlType::Json;

    fn to_bind(&self) -> BindValue {
        BindValue::Json(self.to_string().into())
    }

    #[inline]
    fn from_cell(cell: Cell<'_>) -> Result<serde_json::Value, Mismatch> {
        let json = match cell {
            Cell::Text(text) => serde_json::from_str(text).ok(),
            _ => None,
        };
        json.ok_or_else(|| Mismatch::expected("json (`serde_json::Value`, text as in RFC 8259)"))
    }
}
