//! Arrays, addresses, intervals and ranges in PostgreSQL's binary form.

use std::error::Error as StdError;
use std::net::IpAddr;
use std::ops::Bound;

use nepheline_core::internal::{LentBind, interval_text};
use nepheline_core::{BindValue, Cell, List, NativeType, NativeValue, SqlType, Storable};
use postgres_protocol::types::{self as wire, Range, RangeBound};
use tokio_postgres::fallible_iterator::FallibleIterator;
use tokio_postgres::types::private::BytesMut;
use tokio_postgres::types::{FromSql, IsNull, Kind, ToSql, Type};

use super::binds::{Bind, item_type, send};
use super::cells::{Arrived, numeric_text};

type Failure = Box<dyn StdError + Sync + Send>;

/// Returns the type of values and that of lists of them. There are no lists of arrays.
pub(super) fn types_of(native: NativeType) -> (Type, Type) {
    match native {
        NativeType::Array(item) => (item_type(item.sent()).1, Type::UNKNOWN),
        NativeType::Inet => (Type::INET, Type::INET_ARRAY),
        NativeType::Range(SqlType::Date) => (Type::DATE_RANGE, Type::DATE_RANGE_ARRAY),
        NativeType::Range(SqlType::DateTime) => (Type::TS_RANGE, Type::TS_RANGE_ARRAY),
        NativeType::Range(SqlType::Timestamp) => (Type::TSTZ_RANGE, Type::TSTZ_RANGE_ARRAY),
        NativeType::Range(SqlType::Integer) => (Type::INT4_RANGE, Type::INT4_RANGE_ARRAY),
        NativeType::Range(_) => (Type::INT8_RANGE, Type::INT8_RANGE_ARRAY),
        NativeType::Interval => (Type::INTERVAL, Type::INTERVAL_ARRAY),
    }
}

/// Writes a value as a value of a type.
pub(super) fn send_native(
    value: &NativeValue,
    ty: &Type,
    out: &mut BytesMut,
) -> Result<IsNull, Failure> {
    match value {
        NativeValue::Array(list) => {
            let items = list.items().iter().map(|item| Bind(LentBind::Value(item)));
            return items.collect::<Vec<_>>().as_slice().to_sql(ty, out);
        }
        NativeValue::Inet(address) => return address.to_sql(ty, out),
        NativeValue::Interval { months, days, micros } => {
            out.extend_from_slice(&micros.to_be_bytes());
            out.extend_from_slice(&days.to_be_bytes());
            out.extend_from_slice(&months.to_be_bytes());
        }
        NativeValue::Range(None) => wire::empty_range_to_sql(out),
        NativeValue::Range(Some([lower, upper])) => {
            let Kind::Range(item) = ty.kind() else {
                return Err(format!("{ty} is no type of ranges").into());
            };
            wire::range_to_sql(
                |out| send_bound(lower, item, out),
                |out| send_bound(upper, item, out),
                out,
            )?;
        }
    }
    Ok(IsNull::No)
}

fn send_bound(
    bound: &Bound<BindValue>,
    item: &Type,
    out: &mut BytesMut,
) -> Result<RangeBound<postgres_protocol::IsNull>, Failure> {
    // The bounds of an int4range have 32 bits, where other binds have 64.
    let mut send = |value: &BindValue| -> Result<_, Failure> {
        match (value, item) {
            (BindValue::Int(value), &Type::INT4) => i32::try_from(*value)?.to_sql(item, out)?,
            (value, item) => send(&LentBind::Value(value), item, out)?,
        };
        Ok(postgres_protocol::IsNull::No)
    };
    Ok(match bound {
        Bound::Included(value) => RangeBound::Inclusive(send(value)?),
        Bound::Excluded(value) => RangeBound::Exclusive(send(value)?),
        Bound::Unbounded => RangeBound::Unbounded,
    })
}

/// Returns the text of a value that arrived; `None` if its type is not one of these, or it has no form in Rust.
pub(super) fn text_of(ty: &Type, raw: &[u8]) -> Result<Option<String>, Failure> {
    let value = match (ty, ty.kind()) {
        (&Type::INET, _) => {
            let inet = wire::inet_from_sql(raw)?;
            let address = inet.addr();
            let whole = if matches!(address, IpAddr::V4(_)) { 32 } else { 128 };
            if inet.netmask() != whole {
                return Ok(Some(format!("{address}/{}", inet.netmask())));
            }
            NativeValue::Inet(address)
        }
        (&Type::INTERVAL, _) => return Ok(interval(raw)),
        (&Type::NUMERIC, _) => return Ok(numeric_text(raw)),
        (_, Kind::Array(item)) => match items(item, raw)? {
            Some(items) => NativeValue::Array(List::new(SqlType::Text, items)),
            None => return Ok(None),
        },
        (_, Kind::Range(item)) => match wire::range_from_sql(raw)? {
            Range::Empty => NativeValue::Range(None),
            Range::Nonempty(lower, upper) => match (bound(lower, item)?, bound(upper, item)?) {
                (Some(lower), Some(upper)) => NativeValue::Range(Some([lower, upper])),
                _ => return Ok(None),
            },
        },
        _ => return Ok(None),
    };
    Ok(Some(value.text()))
}

/// Reads an interval: microseconds, days, months.
fn interval(raw: &[u8]) -> Option<String> {
    let (micros, rest) = raw.split_first_chunk::<8>()?;
    let (days, rest) = rest.split_first_chunk::<4>()?;
    let months = rest.first_chunk::<4>()?;
    let [days, months] = [days, months].map(|part| i32::from_be_bytes(*part));
    Some(interval_text(months, days, i64::from_be_bytes(*micros)))
}

/// Reads the items of an array of one dimension without NULLs.
fn items(item: &Type, raw: &[u8]) -> Result<Option<Vec<BindValue>>, Failure> {
    let array = wire::array_from_sql(raw)?;
    if array.has_nulls() || array.dimensions().count()? > 1 {
        return Ok(None);
    }
    let items = array.values().map(|raw| match raw {
        Some(raw) => value(item, raw),
        None => Ok(None),
    });
    let items: Vec<Option<BindValue>> = items.collect()?;
    Ok(items.into_iter().collect())
}

fn bound(bound: RangeBound<Option<&[u8]>>, item: &Type) -> Result<Option<Bound<BindValue>>, Failure> {
    let read = |raw: Option<&[u8]>| raw.map_or(Ok(None), |raw| value(item, raw));
    Ok(match bound {
        RangeBound::Inclusive(raw) => read(raw)?.map(Bound::Included),
        RangeBound::Exclusive(raw) => read(raw)?.map(Bound::Excluded),
        RangeBound::Unbounded => Some(Bound::Unbounded),
    })
}

/// Reads an item of an array or a bound of a range.
fn value(item: &Type, raw: &[u8]) -> Result<Option<BindValue>, Failure> {
    let Arrived(Some(cell)) = Arrived::from_sql(item, raw)? else { return Ok(None) };
    Ok(match cell {
        Cell::Bool(value) => Some(value.to_bind()),
        Cell::Int(value) => Some(value.to_bind()),
        // JSON has no infinity.
        Cell::Float(value) => value.is_finite().then(|| value.to_bind()),
        Cell::Text(text) => Some(BindValue::Text(text.into())),
        Cell::Bytes(bytes) => Some(BindValue::Bytes(bytes.into())),
        Cell::Date(value) => Some(value.to_bind()),
        Cell::Time(value) => Some(value.to_bind()),
        Cell::DateTime(value) => Some(value.to_bind()),
        Cell::Timestamp(value) => Some(value.to_bind()),
        Cell::Uuid(value) => Some(value.to_bind()),
        Cell::Decimal(value) => Some(value.to_bind()),
        _ => None,
    })
}
