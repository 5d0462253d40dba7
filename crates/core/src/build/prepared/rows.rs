//! The numbers of rows that limits and offsets take.

use super::Parameter;
use crate::model::{BindValue, ParameterForm, SqlType};

/// A number of rows for a limit or an offset: a `u64`, or a bind parameter of the type `u32`.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a number of rows",
    label = "expected a `u64`, or a parameter of a prepared query that is a `u32`"
)]
pub trait RowCount {
    #[doc(hidden)]
    fn into_bind(self) -> BindValue;
}

impl RowCount for u64 {
    fn into_bind(self) -> BindValue {
        BindValue::Int(count_bind(self))
    }
}

impl RowCount for Parameter<u32> {
    fn into_bind(self) -> BindValue {
        let mut bind = self.bind;
        bind.sql_type = SqlType::BigInt;
        bind.in_form(ParameterForm::Value)
    }
}

/// No table has more rows than an `i64` counts, so a greater limit means the same.
pub(crate) fn count_bind(rows: u64) -> i64 {
    i64::try_from(rows).unwrap_or(i64::MAX)
}

/// Returns the smaller of two limits.
pub(crate) fn smaller(earlier: Option<BindValue>, later: BindValue) -> BindValue {
    match (earlier, later) {
        (None, later) => later,
        (Some(BindValue::Int(earlier)), BindValue::Int(later)) => {
            BindValue::Int(earlier.min(later))
        }
        (Some(BindValue::Parameter(rows)), BindValue::Int(most))
        | (Some(BindValue::Int(most)), BindValue::Parameter(rows)) => match rows.form {
            ParameterForm::AtMost(other) => rows.in_form(ParameterForm::AtMost(most.min(other))),
            _ => rows.in_form(ParameterForm::AtMost(most)),
        },
        (Some(BindValue::Parameter(rows)), _) => rows.in_form(ParameterForm::Second),
        (Some(earlier), _) => earlier,
    }
}

/// Returns the sum of two offsets.
pub(crate) fn together(earlier: Option<BindValue>, later: BindValue) -> BindValue {
    match (earlier, later) {
        (None | Some(BindValue::Int(0)), later) => later,
        (Some(BindValue::Int(earlier)), BindValue::Int(later)) => {
            BindValue::Int(earlier.saturating_add(later))
        }
        (Some(BindValue::Parameter(rows)), BindValue::Int(0)) => BindValue::Parameter(rows),
        (Some(BindValue::Parameter(rows)), _) | (_, BindValue::Parameter(rows)) => {
            rows.in_form(ParameterForm::Second)
        }
        (Some(earlier), _) => earlier,
    }
}
