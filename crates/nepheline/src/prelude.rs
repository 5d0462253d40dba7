//! The imports of a module that writes queries: `use nepheline::prelude::*;`.

pub use crate::bounds::Argument;
pub use crate::{ArrayExt as _, RangeExt as _, RowStruct as _, Writes as _};
pub use crate::{
    BindParameters, Carried, Column, Condition, Dialect, Error, ErrorKind, Expr, ExprExt, JsonExt,
    Maybe, NumberExt, PerGroup, PerRow, Prepared, Query, RowShape, Scope, Storable, Table, TextExt,
    TimeExt, all_of, all_true, any_given, any_of, any_true, array_agg, avg, avg_decimal, bind,
    case, coalesce, count, count_distinct, count_of, cte, days, dec, dense_rank, first_value, from,
    hours, is_subtotal, lag, lag_or, last_value, lead, lead_or, listagg, literal, max, min,
    minutes, months, ntile, per, per_parent, rank, rollup, row_number, seconds, shape, sum,
    verbatim, weeks, years,
};
#[cfg(any(feature = "sqlite", feature = "postgres", feature = "mysql"))]
pub use crate::{Readable as _, RunsQueries as _, blocking::RunsQueries as _};

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
/// `date(2026, 6, 15)`, from `jiff`.
#[doc(no_inline)]
pub use jiff::civil::date;
/// A decimal number, from `rust_decimal`.
#[doc(no_inline)]
pub use rust_decimal::Decimal;
/// JSON, from `serde_json`.
#[doc(no_inline)]
pub use serde_json::Value as Json;
/// A UUID, from `uuid`.
#[doc(no_inline)]
pub use uuid::Uuid;
