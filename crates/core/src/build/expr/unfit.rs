//! Traits that nothing implements. A mistake such as an operand of an unfit type matches an impl that requires
//! one of them, so that the compiler prints its message: the next step for this mistake, in place of a list of
//! all types that fit.

use rust_decimal::Decimal;

use super::level::Level;
use super::operand::{ListItem, Operand};
use crate::model::{BindValue, MaybeNull, NeverNull};
use crate::tree::Node;

/// The conversions by `from`.
#[diagnostic::on_unimplemented(
    message = "`{V}` cannot stand beside a `{B}`",
    label = "convert it with `{B}::from(..)`"
)]
pub trait ConvertsWithFrom<V, B> {}

/// The conversions by `try_from`.
#[diagnostic::on_unimplemented(
    message = "`{V}` cannot stand beside a `{B}`",
    label = "convert it with `{B}::try_from(..)`, which checks the range"
)]
pub trait ConvertsWithTryFrom<V, B> {}

/// The conversions by `as`.
#[diagnostic::on_unimplemented(
    message = "`{V}` cannot stand beside a `{B}`",
    label = "convert it with `.. as {B}`, or compare with `column.cast::<{V}>()`"
)]
pub trait ConvertsWithAs<V, B> {}

/// Floats beside integers.
#[diagnostic::on_unimplemented(
    message = "`{V}` cannot stand beside a `{B}`",
    label = "compute with `column.cast::<{V}>()`"
)]
pub trait ComparesAfterCast<V, B> {}

/// Floats beside decimals.
#[diagnostic::on_unimplemented(
    message = "`{V}` cannot stand beside a `{B}`, because most decimals have no exact float",
    label = "write a constant as `dec!(1.25)`; compute with floats after `.cast::<f64>()` on the decimal"
)]
pub trait IsExactDecimal<V, B> {}

/// An `Option` as an operand.
#[diagnostic::on_unimplemented(
    message = "an `Option` cannot stand beside a `{B}`",
    label = "this may be `None`, which SQL compares with nothing",
    note = "in a condition: `is_null()`, or `option.map(|value| column.eq(value))`",
    note = "in an update: `set_null()`, or `set_maybe(option)`"
)]
pub trait NullIsEqual<B, T> {}

/// An update without an assignment.
#[diagnostic::on_unimplemented(
    message = "this update has no assignment",
    label = "the closure returns `()`",
    note = "return `column.set(value)`, or a tuple of assignments, without a `;` at the end"
)]
pub trait EmptyUpdate {}

/// The type that would implement these traits. The compiler prints the message of such a trait only where it is
/// asked of another type than the operand.
#[derive(Debug)]
pub enum Operands {}

impl<B, L: Level, T> Operand<B, L> for Option<T>
where
    Operands: NullIsEqual<B, T>,
{
    // The column that it is assigned to may be NOT NULL, which is no second mistake.
    type Null = NeverNull;
    type Quotient = MaybeNull;

    fn into_operand(self) -> Node {
        Node::Unfit("an `Option` is not an operand")
    }
}

macro_rules! unfit {
    ($($by:ident: $($value:ty),+ => $base:ty;)*) => {$($(
        impl<L: Level> Operand<$base, L> for $value
        where
            for<'none> Operands: $by<$value, $base>,
        {
            type Null = MaybeNull;
            type Quotient = MaybeNull;

            fn into_operand(self) -> Node {
                Node::Unfit("a number of an unfit type")
            }
        }

        impl ListItem<$base> for $value
        where
            for<'none> Operands: $by<$value, $base>,
        {
            const MAY_BE_NULL: bool = false;

            fn into_item(self) -> Option<BindValue> {
                None
            }
        }

        impl ListItem<Option<$base>> for $value
        where
            for<'none> Operands: $by<$value, $base>,
        {
            const MAY_BE_NULL: bool = false;

            fn into_item(self) -> Option<BindValue> {
                None
            }
        }
    )+)*};
}

unfit! {
    ConvertsWithFrom: i8, u8 => i16;
    ConvertsWithTryFrom: i32, i64, u16, u32, u64, isize, usize => i16;
    ComparesAfterCast: f32, f64 => i16;
    ConvertsWithFrom: i8, i16, u8, u16 => i32;
    ConvertsWithTryFrom: i64, u32, u64, isize, usize => i32;
    ComparesAfterCast: f32, f64 => i32;
    ConvertsWithFrom: i8, i16, i32, u8, u16, u32 => i64;
    ConvertsWithTryFrom: u64, isize, usize => i64;
    ComparesAfterCast: f32, f64 => i64;
    ConvertsWithFrom: u8, u16 => u32;
    ConvertsWithTryFrom: i8, i16, i32, i64, u64, isize, usize => u32;
    ComparesAfterCast: f32, f64 => u32;
    ConvertsWithFrom: u32, f32 => f64;
    ConvertsWithAs: i64, u32, u64, isize, usize => f32;
    ConvertsWithAs: i64, u64, isize, usize => f64;
    IsExactDecimal: f64 => Decimal;
}
