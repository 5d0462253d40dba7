//! Bind parameters as closures receive them, and the structs that give their values.

use std::fmt;
use std::marker::PhantomData;

use smallvec::SmallVec;

use super::{Prepared, Prepares};
use crate::build::expr::{
    Argument, Choices, Expr, ExprExt, HoldsColumns, MaybeOperand, Operand, PerRow,
};
use crate::model::{
    BindValue, ColumnType, List, MaybeNull, ParameterBind, ParameterForm, SqlType, Storable,
};
use crate::tree::Node;

/// A value of a [`Prepared`](super::Prepared) query that is given when it runs. It stands wherever a value of the type `T`
/// stands, and has all methods that a column has. A `Vec` stands in `one_of` and `none_of`, and a `u32` in `limit`
/// and `offset`.
pub struct Parameter<T> {
    pub(super) bind: ParameterBind,
    holds: PhantomData<fn() -> T>,
}

impl<T> Clone for Parameter<T> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T> Copy for Parameter<T> {}

impl<T> fmt::Debug for Parameter<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Parameter({})", self.bind.name)
    }
}

impl<T> Parameter<T> {
    fn new(number: u16, name: &'static str, sql_type: SqlType, form: ParameterForm) -> Self {
        Parameter { bind: ParameterBind { number, name, sql_type, form }, holds: PhantomData }
    }
}

impl<T: ColumnType> ExprExt for Parameter<T> {
    type Type = T;
    type Level = PerRow;

    fn into_node(self) -> Node {
        Node::Bind(self.bind.in_form(self.bind.form))
    }
}

impl<T: ColumnType, L: HoldsColumns> Operand<T::Base, L> for Parameter<T> {
    type Null = T::Null;
    type Quotient = MaybeNull;

    fn into_operand(self) -> Node {
        self.into_node()
    }
}

impl<T: ColumnType, L: HoldsColumns> MaybeOperand<T::Base, L> for Parameter<T> {
    fn into_operand(self) -> Node {
        self.into_node()
    }
}

impl<T: ColumnType, L: HoldsColumns> Argument<L> for Parameter<T> {
    type Type = T;

    fn into_argument(self) -> Node {
        self.into_node()
    }
}

impl<T: ColumnType> From<Parameter<T>> for Expr<T> {
    fn from(parameter: Parameter<T>) -> Expr<T> {
        Expr::from_node(parameter.into_node())
    }
}

impl<T: ColumnType> Choices<T> for Parameter<Vec<T::Base>> {
    fn look_up(self, operand: Node, negated: bool) -> Node {
        operand.one_of_bind(self.bind.in_form(ParameterForm::List), None, negated)
    }
}

/// The types of the fields that give values to a prepared query.
#[doc(hidden)]
pub trait ParameterField: Sized {
    fn parameter(number: u16, name: &'static str) -> Parameter<Self>;

    fn value(self) -> BindValue;
}

impl<T: ColumnType> ParameterField for T {
    fn parameter(number: u16, name: &'static str) -> Parameter<T> {
        let form = match T::NULLABLE {
            true => ParameterForm::MaybeNull,
            false => ParameterForm::Value,
        };
        Parameter::new(number, name, T::Base::SQL_TYPE, form)
    }

    fn value(self) -> BindValue {
        self.to_bind_or_null()
    }
}

/// Returns the parameter of a field that is a list; a derive calls it.
#[doc(hidden)]
pub fn list_parameter<T: Storable>(number: u16, name: &'static str) -> Parameter<Vec<T>> {
    Parameter::new(number, name, T::SQL_TYPE, ParameterForm::List)
}

/// Returns the value of a field that is a list; a derive calls it.
#[doc(hidden)]
pub fn list_value<T: Storable>(items: &[T]) -> BindValue {
    let items = items.iter().map(T::to_bind).collect();
    BindValue::List(Box::new(List::new(T::SQL_TYPE, items)))
}

/// Values by their numbers.
#[doc(hidden)]
pub type ParameterValues = SmallVec<[BindValue; 4]>;

/// The values of a [`Prepared`](super::Prepared) query: a struct with
/// `#[derive(BindParameters)]`, or a tuple of up to eight values.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String }
/// let labelled = <(String, u32)>::prepare(|(label, rows)| {
///     Specimen::rows().filter(|s| s.label.ge(label)).order_by(|s| s.label.asc()).limit(rows)
/// });
/// let from_kp = labelled.bind(("KP-100".to_owned(), 20));
/// # let _ = from_kp;
/// ```
#[diagnostic::on_unimplemented(
    message = "`{Self}` gives no values to a prepared query",
    label = "expected a tuple such as `(i64, f64)`, or a struct",
    note = "add `#[derive(BindParameters)]` to the struct"
)]
pub trait BindParameters: Sized {
    /// The argument of the closure that builds the query: a struct or a tuple of [`Parameter`]s.
    type Parameters;

    /// Builds a query once, to be run many times with values of this type.
    fn prepare<Q: Prepares>(build: impl FnOnce(Self::Parameters) -> Q) -> Prepared<Self, Q> {
        Prepared::of(build(Self::parameters()))
    }

    #[doc(hidden)]
    fn parameters() -> Self::Parameters;

    #[doc(hidden)]
    fn into_values(self) -> ParameterValues;
}

macro_rules! tuples {
    ($($name:ident)+) => {
        impl<$($name: ColumnType),+> BindParameters for ($($name,)+) {
            type Parameters = ($(Parameter<$name>,)+);

            fn parameters() -> Self::Parameters {
                const NAMES: [&str; 8] = ["1", "2", "3", "4", "5", "6", "7", "8"];
                let mut numbers = (0..).zip(NAMES);
                let mut next = || numbers.next().unwrap_or((u16::MAX, ""));
                ($({
                    let (number, name) = next();
                    $name::parameter(number, name)
                },)+)
            }

            fn into_values(self) -> ParameterValues {
                #[allow(non_snake_case, reason = "one name serves for the type and the value")]
                let ($($name,)+) = self;
                let mut values = ParameterValues::new();
                $(values.push($name.value());)+
                values
            }
        }
    };
}

tuples!(A);
tuples!(A B);
tuples!(A B C);
tuples!(A B C D);
tuples!(A B C D E);
tuples!(A B C D E F);
tuples!(A B C D E F G);
tuples!(A B C D E F G H);
