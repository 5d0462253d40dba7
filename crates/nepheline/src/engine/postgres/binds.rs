//! Binds in PostgreSQL's binary form. Each is sent with its type, because the server's inference often
//! differs.

use std::error::Error as StdError;

use nepheline_core::internal::{LentBind, Sent, SentType};
use tokio_postgres::types::private::BytesMut;
use tokio_postgres::types::{IsNull, Kind, ToSql, Type, to_sql_checked};

use super::native::{send_native, types_of};

/// A bind for PostgreSQL.
#[derive(Debug, Clone)]
pub(super) struct Bind<'b>(pub(super) LentBind<'b>);

type Failure = Box<dyn StdError + Sync + Send>;

/// Returns the type that is sent with a bind.
pub(super) fn sql_type(bind: &LentBind<'_>) -> Type {
    let (item, array) = item_type(bind.sql_type().sent());
    if bind.is_list() { array } else { item }
}

/// Returns the type of values, and that of lists of them.
pub(super) fn item_type(sent: SentType) -> (Type, Type) {
    match sent {
        SentType::Boolean => (Type::BOOL, Type::BOOL_ARRAY),
        SentType::Integer => (Type::INT8, Type::INT8_ARRAY),
        SentType::Float => (Type::FLOAT8, Type::FLOAT8_ARRAY),
        SentType::Text => (Type::TEXT, Type::TEXT_ARRAY),
        SentType::Bytes => (Type::BYTEA, Type::BYTEA_ARRAY),
        SentType::Date => (Type::DATE, Type::DATE_ARRAY),
        SentType::Time => (Type::TIME, Type::TIME_ARRAY),
        SentType::DateTime => (Type::TIMESTAMP, Type::TIMESTAMP_ARRAY),
        SentType::Timestamp => (Type::TIMESTAMPTZ, Type::TIMESTAMPTZ_ARRAY),
        SentType::Uuid => (Type::UUID, Type::UUID_ARRAY),
        SentType::Decimal => (Type::NUMERIC, Type::NUMERIC_ARRAY),
        SentType::Json => (Type::JSONB, Type::JSONB_ARRAY),
        // The server finds the enum type by what the bind stands beside; its binary form is the text.
        SentType::Enum => (Type::UNKNOWN, Type::UNKNOWN),
        SentType::Native(native) => types_of(*native),
    }
}

/// Writes a bind as a value of a type.
pub(super) fn send(bind: &LentBind<'_>, ty: &Type, out: &mut BytesMut) -> Result<IsNull, Failure> {
    match bind.sent() {
        Sent::Null => Ok(IsNull::Yes),
        Sent::Bool(value) => value.to_sql(ty, out),
        Sent::Int(value) => value.to_sql(ty, out),
        Sent::Float(value) => value.to_sql(ty, out),
        Sent::Text(text) => text.to_sql(ty, out),
        Sent::Bytes(bytes) => bytes.to_sql(ty, out),
        Sent::Date(value) => value.to_sql(ty, out),
        Sent::Time(value) => value.to_sql(ty, out),
        Sent::DateTime(value) => value.to_sql(ty, out),
        Sent::Timestamp(value) => value.to_sql(ty, out),
        Sent::Uuid(value) => value.to_sql(ty, out),
        Sent::Decimal(value) => value.to_sql(ty, out),
        Sent::Json(text) => {
            // The binary form of jsonb is its text after a version number.
            out.extend_from_slice(&[1]);
            out.extend_from_slice(text.as_bytes());
            Ok(IsNull::No)
        }
        Sent::Native(value) => send_native(value, ty, out),
        Sent::List(list) => {
            let items = list.items().iter().map(|item| Bind(LentBind::Value(item)));
            items.collect::<Vec<_>>().as_slice().to_sql(ty, out)
        }
        Sent::Parameter(name) => Err(format!("bind parameter {name} has no value").into()),
    }
}

impl ToSql for Bind<'_> {
    fn to_sql(&self, ty: &Type, out: &mut BytesMut) -> Result<IsNull, Failure> {
        send(&self.0, ty, out)
    }

    fn accepts(ty: &Type) -> bool {
        // The statement was prepared with the types of its binds, so each bind matches.
        !matches!(ty.kind(), Kind::Composite(_))
    }

    to_sql_checked!();
}
