//! Binds in PostgreSQL's binary form. Each is sent with its type, because the server guesses badly.

use std::error::Error as StdError;

use nepheline_core::{BindValue, SqlType};
use tokio_postgres::types::private::BytesMut;
use tokio_postgres::types::{IsNull, Kind, ToSql, Type, to_sql_checked};

/// A bind as PostgreSQL takes it.
#[derive(Debug, Clone, Copy)]
pub(super) struct Bind<'b>(pub(super) &'b BindValue);

type Failure = Box<dyn StdError + Sync + Send>;

impl Bind<'_> {
    /// The type that is sent with it.
    pub(super) fn sql_type(&self) -> Type {
        let (item, array) = match self.0.sql_type() {
            SqlType::Boolean => (Type::BOOL, Type::BOOL_ARRAY),
            SqlType::SmallInt | SqlType::Integer | SqlType::BigInt => {
                (Type::INT8, Type::INT8_ARRAY)
            }
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
        match self.0 {
            BindValue::List(_) => array,
            _ => item,
        }
    }
}

impl ToSql for Bind<'_> {
    fn to_sql(&self, ty: &Type, out: &mut BytesMut) -> Result<IsNull, Failure> {
        match self.0 {
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
                let items: Vec<Bind<'_>> = list.items().iter().map(Bind).collect();
                items.as_slice().to_sql(ty, out)
            }
            other => Err(format!("PostgreSQL has no form for the bind {other}").into()),
        }
    }

    fn accepts(ty: &Type) -> bool {
        // The statement was prepared with the types of its binds, so each gets its own.
        !matches!(ty.kind(), Kind::Composite(_))
    }

    to_sql_checked!();
}
