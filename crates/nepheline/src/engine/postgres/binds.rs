//! Binds in PostgreSQL's binary form. Each is sent with its type, because the server guesses badly.

use std::error::Error as StdError;

use nepheline_core::internal::LentBind;
use nepheline_core::{BindValue, SqlType};
use tokio_postgres::types::private::BytesMut;
use tokio_postgres::types::{IsNull, Kind, ToSql, Type, to_sql_checked};

/// A bind as PostgreSQL takes it.
#[derive(Debug, Clone)]
pub(super) struct Bind<'b>(pub(super) LentBind<'b>);

type Failure = Box<dyn StdError + Sync + Send>;

/// The type that is sent with a bind.
pub(super) fn sql_type(bind: &LentBind<'_>) -> Type {
    let (item, array) = match bind.sql_type() {
        SqlType::Boolean => (Type::BOOL, Type::BOOL_ARRAY),
        SqlType::SmallInt | SqlType::Integer | SqlType::BigInt => (Type::INT8, Type::INT8_ARRAY),
        SqlType::Real | SqlType::Double => (Type::FLOAT8, Type::FLOAT8_ARRAY),
        SqlType::Bytes => (Type::BYTEA, Type::BYTEA_ARRAY),
        SqlType::Date => (Type::DATE, Type::DATE_ARRAY),
        SqlType::Time => (Type::TIME, Type::TIME_ARRAY),
        SqlType::DateTime => (Type::TIMESTAMP, Type::TIMESTAMP_ARRAY),
        SqlType::Timestamp => (Type::TIMESTAMPTZ, Type::TIMESTAMPTZ_ARRAY),
        SqlType::Uuid => (Type::UUID, Type::UUID_ARRAY),
        SqlType::Decimal => (Type::NUMERIC, Type::NUMERIC_ARRAY),
        SqlType::Json => (Type::JSONB, Type::JSONB_ARRAY),
        _ => (Type::TEXT, Type::TEXT_ARRAY),
    };
    if bind.is_list() { array } else { item }
}

/// Writes a bind as a value of a type.
pub(super) fn send(bind: &LentBind<'_>, ty: &Type, out: &mut BytesMut) -> Result<IsNull, Failure> {
    match bind {
        LentBind::Int(value) => value.to_sql(ty, out),
        LentBind::Float(value) => value.to_sql(ty, out),
        LentBind::Text(text) => text.to_sql(ty, out),
        LentBind::Bytes(bytes) => bytes.to_sql(ty, out),
        LentBind::Value(value) => send_value(value, ty, out),
        LentBind::Made(value) => send_value(value, ty, out),
    }
}

fn send_value(value: &BindValue, ty: &Type, out: &mut BytesMut) -> Result<IsNull, Failure> {
    match value {
        BindValue::Null(_) => Ok(IsNull::Yes),
        BindValue::Bool(value) => value.to_sql(ty, out),
        BindValue::Int(value) => value.to_sql(ty, out),
        BindValue::Float(value) => value.to_sql(ty, out),
        BindValue::Text(value) => value.to_sql(ty, out),
        BindValue::Bytes(value) => (&**value).to_sql(ty, out),
        BindValue::Date(value) => value.to_sql(ty, out),
        BindValue::Time(value) => value.to_sql(ty, out),
        BindValue::DateTime(value) => value.to_sql(ty, out),
        BindValue::Timestamp(value) => value.to_sql(ty, out),
        BindValue::Uuid(value) => value.to_sql(ty, out),
        BindValue::Decimal(value) => value.to_sql(ty, out),
        BindValue::Json(text) => {
            // The binary form of jsonb is its text behind a version number.
            out.extend_from_slice(&[1]);
            out.extend_from_slice(text.as_bytes());
            Ok(IsNull::No)
        }
        BindValue::List(list) => {
            let items = list.items().iter().map(|item| Bind(LentBind::Value(item)));
            items.collect::<Vec<_>>().as_slice().to_sql(ty, out)
        }
        other => Err(format!("PostgreSQL has no form for the bind {other}").into()),
    }
}

impl ToSql for Bind<'_> {
    fn to_sql(&self, ty: &Type, out: &mut BytesMut) -> Result<IsNull, Failure> {
        send(&self.0, ty, out)
    }

    fn accepts(ty: &Type) -> bool {
        // The statement was prepared with the types of its binds, so each gets its own.
        !matches!(ty.kind(), Kind::Composite(_))
    }

    to_sql_checked!();
}
