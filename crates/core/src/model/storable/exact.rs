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
            Cell::Text(text) => Decimal::from_str_exact(text).ok(),
            _ => None,
        };
        decimal.ok_or_else(|| Mismatch::expected("decimal (`Decimal`, at most 28 digits)"))
    }
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
