//! Bind parameters: the places of a prepared query for values that are given when it runs.

use std::fmt;

use super::{BindValue, SqlType};

/// A place for a value that is given when the query runs.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ParameterBind {
    /// The number of its value among those that are given.
    pub(crate) number: u16,
    /// The name of the field that gives it.
    pub(crate) name: &'static str,
    /// The type of the value; of a list, that of its items.
    pub(crate) sql_type: SqlType,
    pub(crate) form: ParameterForm,
}

/// The form in which the value is sent.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) enum ParameterForm {
    /// A bind that is never NULL.
    Value,
    /// A bind that may be NULL.
    MaybeNull,
    /// A list as one bind.
    List,
    /// One item of a list; the last one again, where the list is shorter.
    Item(u16),
    /// A list as a JSON array.
    Json { zone_mark: bool, longest_text: usize },
    /// A number of rows, and at most this one.
    AtMost(i64),
    /// A second limit or offset of a query, which is refused.
    Second,
}

impl ParameterBind {
    pub(crate) fn in_form(self, form: ParameterForm) -> BindValue {
        BindValue::Parameter(Box::new(ParameterBind { form, ..self }))
    }

    /// Returns what stands in the tree in its place, when it has this value.
    pub(crate) fn filled_with(&self, value: &BindValue) -> BindValue {
        match (self.form, value) {
            (ParameterForm::AtMost(most), BindValue::Int(rows)) => BindValue::Int(most.min(*rows)),
            (ParameterForm::Second, _) => BindValue::Parameter(Box::new(*self)),
            _ => value.clone(),
        }
    }

    /// Returns why a statement with the parameter does not run.
    pub(super) fn refusal(&self) -> &'static str {
        match self.form {
            ParameterForm::Second => {
                "a limit or offset that is a bind parameter is the only one of its query"
            }
            _ => "a bind parameter has no value",
        }
    }
}

impl fmt::Display for ParameterBind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.form {
            ParameterForm::Item(item) => write!(f, "item {} of parameter {}", item + 1, self.name),
            ParameterForm::AtMost(rows) => write!(f, "parameter {}, at most {rows}", self.name),
            _ => write!(f, "parameter {}", self.name),
        }
    }
}
