//! What may stand on the other side of a comparison, or in a list.

use crate::expr::{Column, Expression};
use crate::storable::{BindValue, ColumnType, Storable};
use crate::tree::Node;

/// What can be compared with a value of the storable type `B`: a value of it, a reference to one, a
/// column or expression of it, and for the standard types the literals that Rust would convert
/// without loss (`7` for a float, `"text"` for a `String`).
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot stand beside a `{B}`",
    label = "expected a value that is stored as `{B}`",
    note = "NULL is asked for with `is_null()`, and a value that may be absent with `value.map(|v| column.eq(v))`"
)]
pub trait Operand<B> {
    #[doc(hidden)]
    fn into_operand(self) -> Node;
}

/// What can be in a list that a column of type `T` is compared with: as [`Operand`], but values
/// only, and `Option`s of them where `T` is an `Option`.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be in a list for a `{T}`",
    label = "expected values that are stored as `{T}`"
)]
pub trait ListItem<T> {
    /// Whether such items may be NULL.
    #[doc(hidden)]
    const MAY_BE_NULL: bool;

    #[doc(hidden)]
    fn into_item(self) -> Option<BindValue>;
}

impl<T: ColumnType> Operand<T::Base> for Column<T> {
    fn into_operand(self) -> Node {
        self.into_node()
    }
}

#[diagnostic::do_not_recommend]
impl<T: Storable> Operand<T> for T {
    fn into_operand(self) -> Node {
        Node::Bind(self.to_bind())
    }
}

#[diagnostic::do_not_recommend]
impl<T: Storable> Operand<T> for &T {
    fn into_operand(self) -> Node {
        Node::Bind(self.to_bind())
    }
}

#[diagnostic::do_not_recommend]
impl<T: Storable> ListItem<T> for T {
    const MAY_BE_NULL: bool = false;

    fn into_item(self) -> Option<BindValue> {
        Some(self.to_bind())
    }
}

#[diagnostic::do_not_recommend]
impl<T: Storable> ListItem<T> for &T {
    const MAY_BE_NULL: bool = false;

    fn into_item(self) -> Option<BindValue> {
        Some(self.to_bind())
    }
}

#[diagnostic::do_not_recommend]
impl<T: Storable> ListItem<Option<T>> for T {
    const MAY_BE_NULL: bool = false;

    fn into_item(self) -> Option<BindValue> {
        Some(self.to_bind())
    }
}

#[diagnostic::do_not_recommend]
impl<T: Storable> ListItem<Option<T>> for &T {
    const MAY_BE_NULL: bool = false;

    fn into_item(self) -> Option<BindValue> {
        Some(self.to_bind())
    }
}

#[diagnostic::do_not_recommend]
impl<T: Storable> ListItem<Option<T>> for Option<T> {
    const MAY_BE_NULL: bool = true;

    fn into_item(self) -> Option<BindValue> {
        self.map(|value| value.to_bind())
    }
}

#[diagnostic::do_not_recommend]
impl<T: Storable> ListItem<Option<T>> for &Option<T> {
    const MAY_BE_NULL: bool = true;

    fn into_item(self) -> Option<BindValue> {
        self.as_ref().map(T::to_bind)
    }
}

/// Values of other Rust types that stand for a value of a storable type without loss.
macro_rules! literals {
    ($($literal:ty => $($storable:ty),+ ; |$value:ident| $bind:expr;)*) => {$($(
        #[diagnostic::do_not_recommend]
        impl Operand<$storable> for $literal {
            fn into_operand(self) -> Node {
                let $value = self;
                Node::Bind($bind)
            }
        }

        #[diagnostic::do_not_recommend]
        impl ListItem<$storable> for $literal {
            const MAY_BE_NULL: bool = false;

            fn into_item(self) -> Option<BindValue> {
                let $value = self;
                Some($bind)
            }
        }

        #[diagnostic::do_not_recommend]
        impl ListItem<Option<$storable>> for $literal {
            const MAY_BE_NULL: bool = false;

            fn into_item(self) -> Option<BindValue> {
                let $value = self;
                Some($bind)
            }
        }

        #[diagnostic::do_not_recommend]
        impl ListItem<Option<$storable>> for Option<$literal> {
            const MAY_BE_NULL: bool = true;

            fn into_item(self) -> Option<BindValue> {
                self.map(|$value| $bind)
            }
        }
    )+)*};
}

literals! {
    &str => String; |text| BindValue::Text(text.into());
    &&str => String; |text| BindValue::Text((*text).into());
    &[u8] => Vec<u8>; |bytes| BindValue::Bytes(bytes.into());
    // `i32` is what an integer literal becomes. Every integer travels as 64 bits, so it may stand
    // beside any width, also one that does not hold it: nothing equals it then.
    i32 => i8, i16, i64, u8, u16, u32; |number| BindValue::Int(i64::from(number));
    i16 => i32, i64; |number| BindValue::Int(i64::from(number));
    u8 => i16, i32, i64; |number| BindValue::Int(i64::from(number));
    u16 => i32, i64; |number| BindValue::Int(i64::from(number));
    u32 => i64; |number| BindValue::Int(i64::from(number));
    i32 => f64; |number| BindValue::Float(f64::from(number));
    f32 => f64; |number| BindValue::Float(f64::from(number));
}
