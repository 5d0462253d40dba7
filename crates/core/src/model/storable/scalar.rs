//! Booleans, numbers, text and bytes of the standard library.

use super::{Accepted, BindValue, LentBind, Mismatch, SqlType, Storable};
use crate::model::Cell;

impl Storable for bool {
    const SQL_TYPE: SqlType = SqlType::Boolean;

    #[inline]
    fn to_bind(&self) -> BindValue {
        BindValue::Bool(*self)
    }

    #[inline]
    fn from_cell(cell: Cell<'_>) -> Result<bool, Mismatch> {
        match cell {
            Cell::Bool(value) => Ok(value),
            Cell::Int(0) => Ok(false),
            Cell::Int(1) => Ok(true),
            // Engines without BOOLEAN treat 2 as true in a condition, yet 2 is not TRUE.
            _ => Err(Mismatch::expected("boolean (`bool`: true, false, 1 or 0)")),
        }
    }
}

macro_rules! integers {
    ($($rust:ty => $sql:ident),* $(,)?) => {$(
        impl Storable for $rust {
            const SQL_TYPE: SqlType = SqlType::$sql;
            const ACCEPTED: Accepted = Accepted::Whole(<$rust>::MIN as i64, <$rust>::MAX as i64);

            #[inline]
            fn to_bind(&self) -> BindValue {
                BindValue::Int(i64::from(*self))
            }

            #[inline]
            fn lend(&self) -> LentBind<'_> {
                LentBind::Int(i64::from(*self))
            }

            #[inline]
            fn from_cell(cell: Cell<'_>) -> Result<$rust, Mismatch> {
                let fits = match cell {
                    Cell::Int(value) => <$rust>::try_from(value).ok(),
                    _ => None,
                };
                fits.ok_or_else(|| Mismatch::expected(format!(
                    "{} (`{}`: {} to {})",
                    SqlType::$sql, stringify!($rust), <$rust>::MIN, <$rust>::MAX
                )))
            }
        }
    )*};
}

// An unsigned type is stored in the narrowest signed one that holds all of it; `u64` has none.
integers! {
    i8 => SmallInt, i16 => SmallInt, i32 => Integer, i64 => BigInt,
    u8 => SmallInt, u16 => Integer, u32 => BigInt,
}

impl Storable for f64 {
    const SQL_TYPE: SqlType = SqlType::Double;

    #[inline]
    fn to_bind(&self) -> BindValue {
        BindValue::Float(*self)
    }

    #[inline]
    fn lend(&self) -> LentBind<'_> {
        LentBind::Float(*self)
    }

    #[inline]
    fn from_cell(cell: Cell<'_>) -> Result<f64, Mismatch> {
        match cell {
            Cell::Float(value) => Ok(value),
            // Engines that type values instead of columns return whole numbers as integers.
            Cell::Int(value) if value.unsigned_abs() <= 1 << f64::MANTISSA_DIGITS => {
                Ok(value as f64)
            }
            _ => Err(Mismatch::expected("double precision (`f64`)")),
        }
    }
}

impl Storable for f32 {
    const SQL_TYPE: SqlType = SqlType::Real;

    #[inline]
    fn to_bind(&self) -> BindValue {
        BindValue::Float(f64::from(*self))
    }

    #[inline]
    fn lend(&self) -> LentBind<'_> {
        LentBind::Float(f64::from(*self))
    }

    #[inline]
    fn from_cell(cell: Cell<'_>) -> Result<f32, Mismatch> {
        match f64::from_cell(cell) {
            // Only a value that was widened from an f32 comes back unchanged.
            Ok(wide) if f64::from(wide as f32) == wide || wide.is_nan() => Ok(wide as f32),
            _ => Err(Mismatch::expected("real (`f32`, without loss)")),
        }
    }
}

impl Storable for String {
    const SQL_TYPE: SqlType = SqlType::Text;
    const IS_TEXT: bool = true;

    #[inline]
    fn of_owned_text(text: String) -> Option<String> {
        Some(text)
    }

    fn to_bind(&self) -> BindValue {
        BindValue::Text(self.as_str().into())
    }

    #[inline]
    fn lend(&self) -> LentBind<'_> {
        LentBind::Text(self)
    }

    #[inline]
    fn from_cell(cell: Cell<'_>) -> Result<String, Mismatch> {
        match cell {
            Cell::Text(text) => Ok(text.to_owned()),
            _ => Err(Mismatch::expected("text (`String`)")),
        }
    }
}

impl Storable for Vec<u8> {
    const SQL_TYPE: SqlType = SqlType::Bytes;

    fn to_bind(&self) -> BindValue {
        BindValue::Bytes(self.as_slice().into())
    }

    #[inline]
    fn lend(&self) -> LentBind<'_> {
        LentBind::Bytes(self)
    }

    #[inline]
    fn from_cell(cell: Cell<'_>) -> Result<Vec<u8>, Mismatch> {
        match cell {
            Cell::Bytes(bytes) => Ok(bytes.to_vec()),
            _ => Err(Mismatch::expected("bytes (`Vec<u8>`)")),
        }
    }
}
