//! Constants of the program as SQL text, where an engine plans better with them than with binds.

use super::Expr;
use crate::model::{BindValue, ColumnType, Storable, made};
use crate::tree::Node;

/// A constant that `literal!` takes: a text, a number, a boolean or a variant of an enum.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be written as SQL text",
    label = "expected a text, a number, a boolean, or a variant of an enum that derives `Storable`"
)]
pub trait Constant {
    /// The type that it has in the database.
    type Type: ColumnType;

    #[doc(hidden)]
    fn into_bind(self) -> BindValue;
}

impl Constant for &'static str {
    type Type = String;

    fn into_bind(self) -> BindValue {
        BindValue::Text(self.into())
    }
}

impl<T: Storable> Constant for T {
    type Type = T;

    fn into_bind(self) -> BindValue {
        self.to_bind()
    }
}

/// Returns a constant as an expression; `literal!` calls it with a constant that the compiler has computed.
///
/// A value without a form, such as a float that is no number, becomes a bind, which compiling refuses or sends.
#[doc(hidden)]
pub fn literal<C: Constant>(constant: C) -> Expr<C::Type> {
    let (sql_type, bind) = (<C::Type as ColumnType>::Base::SQL_TYPE, constant.into_bind());
    Expr::from_node(match made::constant(sql_type, &bind) {
        Some(constant) => Node::call(constant, sql_type, []),
        None => Node::Bind(bind),
    })
}
