//! What a module that writes queries needs: `use nepheline::prelude::*;`.

pub use crate::bounds::Argument;
pub use crate::{
    Carried, Column, Condition, Dialect, Error, ErrorKind, Expr, Expression, JsonExpression, Maybe,
    NumberExpression, Order, Query, RowShape, Scope, Storable, Table, TextExpression,
    TimeExpression, all_of, all_true, any_of, any_true, avg, bind, case, coalesce, collected,
    count, count_distinct, count_of, dense_rank, first_value, from, joined, lag, lag_or,
    last_value, lead, lead_or, max, min, named, ntile, per, rank, rollup, row_number, shape, sum,
    verbatim,
};
#[cfg(any(feature = "sqlite", feature = "postgres", feature = "mysql"))]
pub use crate::{Handle as _, blocking::Handle as _};
pub use crate::{RowStruct as _, Writes as _};

/// A point in time, from `jiff`.
#[doc(no_inline)]
pub use jiff::Timestamp;
/// `30.days()` and the like, from `jiff`.
#[doc(no_inline)]
pub use jiff::ToSpan;
/// A calendar date, from `jiff`.
#[doc(no_inline)]
pub use jiff::civil::Date;
/// A date and time without a zone, from `jiff`.
#[doc(no_inline)]
pub use jiff::civil::DateTime;
/// A time of day, from `jiff`.
#[doc(no_inline)]
pub use jiff::civil::Time;
/// A decimal number, from `rust_decimal`.
#[doc(no_inline)]
pub use rust_decimal::Decimal;
/// JSON, from `serde_json`.
#[doc(no_inline)]
pub use serde_json::Value as Json;
/// A UUID, from `uuid`.
#[doc(no_inline)]
pub use uuid::Uuid;
