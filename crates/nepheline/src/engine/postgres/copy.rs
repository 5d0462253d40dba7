//! COPY: writes many rows, each value in the binary form of its column.
//!
//! COPY fails where only INSERT works: for values that a column accepts by a conversion, for views, and under
//! row-level security. The caller then uses INSERT.

use std::error::Error as StdError;

use futures_util::pin_mut;
use nepheline_core::internal::{Copying, LentBind, Statement};
use nepheline_core::{BindValue, Error, ErrorKind, NativeValue, Operation};
use rust_decimal::Decimal;
use tokio_postgres::Client;
use tokio_postgres::binary_copy::BinaryCopyInWriter;
use tokio_postgres::types::private::BytesMut;
use tokio_postgres::types::{IsNull, Kind, ToSql, Type, to_sql_checked};

use super::binds::{send, sql_type};
use super::fault::failed;
use super::statements::Statements;

/// Copies the rows of a statement, and returns their number.
pub(super) async fn copy(
    client: &Client,
    statements: &Statements,
    statement: &Statement<'_>,
    copying: &Copying,
) -> Result<u64, Error> {
    let described = statements.prepared(client, &copying.types, &[]).await?;
    let types = described
        .columns()
        .iter()
        .map(|column| column.type_().clone());
    let types: Vec<Type> = types.collect();
    let copy = statements.prepared(client, statement.text(), &[]).await?;
    let sink = client.copy_in(&copy).await.map_err(lost)?;
    let writer = BinaryCopyInWriter::new(sink, &types);
    pin_mut!(writer);
    let mut values = statement.binds().map(InColumn);
    let mut row = Vec::with_capacity(copying.columns);
    while values.len() > 0 {
        row.clear();
        row.extend(values.by_ref().take(copying.columns.max(1)));
        writer.as_mut().write_raw(&row).await.map_err(failed)?;
    }
    let copied = writer.finish().await;
    copied.map_err(|err| match row_at_fault(&err, statement) {
        Some(row) => failed(err).at_row(row),
        None => failed(err),
    })
}

/// The query whether COPY is possible. Before PostgreSQL 16, only a role that may update or delete gets its
/// lock ("LOCK").
const MAY_COPY: &str = "SELECT c.relkind IN ('r', 'p') AND NOT c.relhasrules AND NOT row_security_active(c.oid) \
     AND has_table_privilege(c.oid, 'INSERT') AND has_table_privilege(c.oid, 'UPDATE, DELETE, TRUNCATE') \
     AND current_setting('transaction_read_only') = 'off' \
     AND NOT EXISTS (SELECT 1 FROM pg_attribute AS a WHERE a.attrelid = c.oid AND a.attgenerated <> '') \
     FROM pg_class AS c WHERE c.oid = $1::regclass";

/// Returns the statements before a COPY: the check whether the server would refuse it, and the lock that it
/// needs. The driver loses step with the server if a COPY fails before its first row.
pub(super) fn before(copying: &Copying) -> Vec<Statement<'static>> {
    let (grammar, table) = (super::DIALECT.grammar(), vec![BindValue::Text(copying.table.clone())]);
    let lock = format!("LOCK TABLE ONLY {} IN ROW EXCLUSIVE MODE", copying.table);
    let check = Statement::of_text(grammar, MAY_COPY, table);
    let lock = Statement::of_text(grammar, lock, Vec::new());
    vec![check.doing(Operation::Prepare), lock.doing(Operation::Prepare)]
}

/// Returns the error of a COPY that failed before its first row all the same. The driver would misread what
/// the server sends next, so the connection is lost.
#[cold]
fn lost(cause: tokio_postgres::Error) -> Error {
    Error::of_driver(ErrorKind::ConnectionLost, cause)
}

/// Returns the number of the row at fault from the server's context: "COPY site, line 7", in any language.
fn row_at_fault(err: &tokio_postgres::Error, statement: &Statement<'_>) -> Option<u64> {
    let (at, table) = (err.as_db_error()?.where_()?, statement.tables().first()?);
    let at = at.strip_prefix("COPY ")?.strip_prefix(table)?;
    let digits = at.split(|c: char| !c.is_ascii_digit());
    digits
        .filter(|part| !part.is_empty())
        .find_map(|row| row.parse().ok())
}

/// A value in the form of a column's type, converted only in the width of numbers.
#[derive(Debug)]
struct InColumn<'b>(LentBind<'b>);

type Failure = Box<dyn StdError + Sync + Send>;

impl ToSql for InColumn<'_> {
    fn to_sql(&self, ty: &Type, out: &mut BytesMut) -> Result<IsNull, Failure> {
        let InColumn(bind) = self;
        let is_text = |ty: &Type| matches!(*ty, Type::TEXT | Type::VARCHAR | Type::BPCHAR);
        let own = sql_type(bind);
        let is_enum = own == Type::UNKNOWN && matches!(ty.kind(), Kind::Enum(_));
        if own == *ty || is_text(&own) && is_text(ty) || is_enum {
            return send(bind, ty, out);
        }
        if let (Some(BindValue::Native(_, value)), Kind::Array(_)) = (bind.value(), ty.kind())
            && let NativeValue::Array(list) = &**value
        {
            let items = list.items().iter().map(|item| InColumn(LentBind::Value(item)));
            return items.collect::<Vec<_>>().as_slice().to_sql(ty, out);
        }
        match (bind.as_int(), bind.as_float(), ty) {
            (Some(value), _, &Type::INT4) => i32::try_from(value)?.to_sql(ty, out),
            (Some(value), _, &Type::INT2) => i16::try_from(value)?.to_sql(ty, out),
            // The server would refuse a value that becomes infinite here.
            (_, Some(value), &Type::FLOAT4) if (value as f32).is_finite() == value.is_finite() => {
                (value as f32).to_sql(ty, out)
            }
            (_, Some(value), &Type::NUMERIC) => match Decimal::try_from(value) {
                Ok(exact) => exact.to_sql(ty, out),
                Err(err) => Err(err.into()),
            },
            _ if matches!(bind.value(), Some(BindValue::Null(_))) => Ok(IsNull::Yes),
            _ => Err(format!("a column of type {ty} converts {}", bind.to_value()).into()),
        }
    }

    fn accepts(_: &Type) -> bool {
        true
    }

    to_sql_checked!();
}
