//! The functions that filters may call.

use super::names::{FunctionType, ValueType};
use crate::build::expr::{Expr, ExprExt};
use crate::model::{ColumnType, Storable};
use crate::tree::Node;

/// The arguments of a function of an offer: a tuple of up to 8 values, each `Expr<Option<..>>`, because any may be NULL.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is no list of arguments of an offered function",
    label = "expected a tuple such as `(Expr<Option<f64>>, Expr<Option<String>>)`"
)]
pub trait FunctionArguments {
    #[doc(hidden)]
    fn types(types: &mut Vec<ValueType>);

    #[doc(hidden)]
    fn of(nodes: Vec<Node>) -> Self;
}

/// Returns the type of a function.
pub(super) fn type_of<A: FunctionArguments, R: ColumnType>() -> FunctionType {
    let mut parameters = Vec::new();
    A::types(&mut parameters);
    FunctionType { parameters, result: ValueType::of::<R>() }
}

macro_rules! arguments {
    ($($name:ident)+) => {
        impl<$($name: Storable),+> FunctionArguments for ($(Expr<Option<$name>>,)+) {
            fn types(types: &mut Vec<ValueType>) {
                $(types.push(ValueType::of::<Option<$name>>());)+
            }

            fn of(nodes: Vec<Node>) -> Self {
                let mut nodes = nodes.into_iter();
                ($(Expr::<Option<$name>>::from_node(
                    // The check has counted the arguments.
                    nodes.next().unwrap_or_else(|| crate::build::expr::bind(None::<$name>).into_node()),
                ),)+)
            }
        }
    };
}

for_each_tuple!(arguments, up_to_8);
