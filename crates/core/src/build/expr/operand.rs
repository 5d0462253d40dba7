//! The values and expressions that may stand on the other side of a comparison, in a list, or as an argument.

use std::num::{NonZeroI8, NonZeroI16, NonZeroI32, NonZeroI64, NonZeroU8, NonZeroU16, NonZeroU32};
use std::ops::{Range, RangeFrom, RangeInclusive, RangeTo, RangeToInclusive};

use jiff::Timestamp;
use jiff::civil::{Date, DateTime, Time};
use rust_decimal::Decimal;
use uuid::Uuid;

use super::level::{HoldsAggregates, HoldsColumns, Level, PerGroup, PerRow};
use super::{Aggregate, Column, Condition, Expr, ExprExt};
use crate::build::query::{Query, Tables};
use crate::model::{BindValue, ColumnType, List, MaybeNull, NeverNull, Nullness, Storable};
use crate::tree::{Comparison, Node};

/// The types that can stand beside a value of the storable type `B`, at the level `L`: a value, a reference
/// to one, a column or expression, and for the standard types the literals that Rust would convert without
/// loss (`7` for a float, `"text"` for a `String`).
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot stand beside a `{B}`",
    label = "expected a value that is stored as `{B}`",
    note = "of two types of numbers, write the wider one first, such as `price * boxes`, or convert one with `.cast::<T>()`"
)]
pub trait Operand<B, L = PerRow> {
    /// The nullness of the operand.
    #[doc(hidden)]
    type Null: Nullness;

    /// The nullness of a quotient with it as the divisor: only a divisor that is never 0 gives no NULL.
    #[doc(hidden)]
    type Quotient: Nullness;

    #[doc(hidden)]
    fn into_operand(self) -> Node;
}

/// The arguments of a function, a fragment or `CASE`: a column, an expression, a condition, or a value of a
/// storable type, which becomes a bind. `None` is a NULL of its type.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is neither an expression nor a value that can be bound",
    label = "expected a column, an expression, or a value of a `Storable` type"
)]
pub trait Argument<L = PerRow> {
    /// The type that it has in the database.
    type Type: ColumnType;

    #[doc(hidden)]
    fn into_argument(self) -> Node;
}

/// The choices of `one_of` and `none_of`: a list of values, or a query that selects one column.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a list of `{T}`",
    label = "expected a list of values, or a query that selects one column of that type"
)]
pub trait Choices<T, L = PerRow> {
    #[doc(hidden)]
    fn look_up(self, operand: Node, negated: bool) -> Node;
}

/// The operands of IS DISTINCT FROM: an `Option` of a storable value, or a column or expression.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be compared with a `{B}`",
    label = "expected an `Option` of a value that is stored as `{B}`, or a column of them"
)]
pub trait MaybeOperand<B, L = PerRow> {
    #[doc(hidden)]
    fn into_operand(self) -> Node;
}

/// A Rust range of values or expressions that a value of the storable type `B` can be compared with.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a range of `{B}`",
    label = "expected `low..high`, `low..=high`, `low..`, `..high` or `..=high`"
)]
pub trait Bounds<B, L = PerRow> {
    #[doc(hidden)]
    fn around(self, operand: Node) -> Node;
}

/// The items of a list that a column of type `T` is compared with: as [`Operand`], but values only, and
/// `Option`s of them where `T` is an `Option`.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be in a list for a `{T}`",
    label = "expected values that are stored as `{T}`"
)]
pub trait ListItem<T> {
    /// True if such items may be NULL.
    #[doc(hidden)]
    const MAY_BE_NULL: bool;

    #[doc(hidden)]
    fn into_item(self) -> Option<BindValue>;
}

/// Expressions are operands where their level allows. A trait of its own for each level, because the compiler
/// then prints its message.
macro_rules! expressions {
    ($($expression:ty, $holds:ident;)*) => {$(
        impl<T: ColumnType, L: $holds> Operand<T::Base, L> for $expression {
            type Null = T::Null;
            type Quotient = MaybeNull;

            fn into_operand(self) -> Node {
                self.into_node()
            }
        }

        impl<T: ColumnType, L: $holds> MaybeOperand<T::Base, L> for $expression {
            fn into_operand(self) -> Node {
                self.into_node()
            }
        }

        impl<T: ColumnType, L: $holds> Argument<L> for $expression {
            type Type = T;

            fn into_argument(self) -> Node {
                self.into_node()
            }
        }
    )*};
}

expressions! {
    Column<T>, HoldsColumns;
    Expr<T, PerRow>, HoldsColumns;
    Expr<T, PerGroup>, HoldsAggregates;
}

/// Integer columns and expressions stand beside decimals, which hold them without loss.
macro_rules! whole_beside_decimals {
    ($($number:ty),*) => {$(
        whole_beside_decimals!(@each $number, NeverNull);
        whole_beside_decimals!(@each Option<$number>, MaybeNull);
    )*};
    (@each $number:ty, $null:ty) => {
        whole_beside_decimals!(@operand Column<$number>, $null, HoldsColumns);
        whole_beside_decimals!(@operand Expr<$number, PerRow>, $null, HoldsColumns);
        whole_beside_decimals!(@operand Expr<$number, PerGroup>, $null, HoldsAggregates);
        whole_beside_decimals!(@operand Aggregate<$number>, $null, HoldsAggregates);
    };
    (@operand $expression:ty, $null:ty, $holds:ident) => {
        #[diagnostic::do_not_recommend]
        impl<L: $holds> Operand<Decimal, L> for $expression {
            type Null = $null;
            type Quotient = MaybeNull;

            fn into_operand(self) -> Node {
                self.into_node()
            }
        }
    };
}

whole_beside_decimals!(i8, i16, i32, i64, u8, u16, u32);

macro_rules! conditions {
    ($($level:ty, $holds:ident;)*) => {$(
        impl<L: $holds> Operand<bool, L> for Condition<$level> {
            type Null = MaybeNull;
            type Quotient = MaybeNull;

            fn into_operand(self) -> Node {
                self.into_node()
            }
        }

        impl<L: $holds> Argument<L> for Condition<$level> {
            type Type = Option<bool>;

            fn into_argument(self) -> Node {
                self.into_node()
            }
        }
    )*};
}

conditions! {
    PerRow, HoldsColumns;
    PerGroup, HoldsAggregates;
}

#[diagnostic::do_not_recommend]
impl<T: Storable, L: Level> Operand<T, L> for T {
    type Null = NeverNull;
    type Quotient = MaybeNull;

    fn into_operand(self) -> Node {
        Node::Bind(self.to_bind())
    }
}

#[diagnostic::do_not_recommend]
impl<T: Storable, L: Level> Operand<T, L> for &T {
    type Null = NeverNull;
    type Quotient = MaybeNull;

    fn into_operand(self) -> Node {
        Node::Bind(self.to_bind())
    }
}

#[diagnostic::do_not_recommend]
impl<T: Storable, L: Level> Argument<L> for T {
    type Type = T;

    fn into_argument(self) -> Node {
        Node::Bind(self.to_bind())
    }
}

#[diagnostic::do_not_recommend]
impl<T: Storable, L: Level> Argument<L> for Option<T> {
    type Type = Option<T>;

    fn into_argument(self) -> Node {
        Node::Bind(self.to_bind_or_null())
    }
}

#[diagnostic::do_not_recommend]
impl<L: Level> Argument<L> for &str {
    type Type = String;

    fn into_argument(self) -> Node {
        Node::Bind(BindValue::Text(self.into()))
    }
}

/// References to values of the standard types. One impl for all storable types would overlap with that of the
/// values themselves.
macro_rules! references {
    ($($storable:ty),*) => {$(
        #[diagnostic::do_not_recommend]
        impl<L: Level> Argument<L> for &$storable {
            type Type = $storable;

            fn into_argument(self) -> Node {
                Node::Bind(self.to_bind())
            }
        }
    )*};
}

references! {
    bool, i8, i16, i32, i64, u8, u16, u32, f32, f64, String, Vec<u8>, Date, Time, DateTime, Timestamp,
    Uuid, Decimal
}

// One impl for `Option`, so that `None` alone is enough to infer the type.
#[diagnostic::do_not_recommend]
impl<T: Storable, L: Level> MaybeOperand<T, L> for Option<T> {
    fn into_operand(self) -> Node {
        Node::Bind(self.to_bind_or_null())
    }
}

impl<T: ColumnType, I: IntoIterator<Item: ListItem<T>>> Choices<T, PerRow> for I {
    fn look_up(self, operand: Node, negated: bool) -> Node {
        let mut null_seen = false;
        let values = self.into_iter();
        let mut items = Vec::with_capacity(values.size_hint().0);
        for value in values {
            match value.into_item() {
                Some(item) => items.push(item),
                None => null_seen = true,
            }
        }
        let with_null = <I::Item as ListItem<T>>::MAY_BE_NULL.then_some(null_seen);
        operand.one_of(List::new(T::Base::SQL_TYPE, items), with_null, negated)
    }
}

impl<T, U, V, L: Level> Choices<T, PerRow> for Query<U, V, L>
where
    T: ColumnType,
    U: Tables,
    V: ColumnType<Base = T::Base>,
{
    fn look_up(self, operand: Node, negated: bool) -> Node {
        operand.in_query(self.into_select(), V::NULLABLE, negated)
    }
}

impl<T, U, V, L: Level> Choices<T, PerRow> for &Query<U, V, L>
where
    T: ColumnType,
    U: Tables,
    V: ColumnType<Base = T::Base>,
{
    fn look_up(self, operand: Node, negated: bool) -> Node {
        operand.in_query(self.clone().into_select(), V::NULLABLE, negated)
    }
}

fn bound(comparison: Comparison, operand: Node, bound: Node) -> Node {
    Node::compare(comparison, operand, bound)
}

impl<B, L, A: Operand<B, L>> Bounds<B, L> for Range<A> {
    fn around(self, operand: Node) -> Node {
        let low = bound(Comparison::GreaterOrEqual, operand.clone(), self.start.into_operand());
        low.and(bound(Comparison::Less, operand, self.end.into_operand()))
    }
}

impl<B, L, A: Operand<B, L>> Bounds<B, L> for RangeInclusive<A> {
    fn around(self, operand: Node) -> Node {
        let (low, high) = self.into_inner();
        operand.between(low.into_operand(), high.into_operand())
    }
}

impl<B, L, A: Operand<B, L>> Bounds<B, L> for RangeFrom<A> {
    fn around(self, operand: Node) -> Node {
        bound(Comparison::GreaterOrEqual, operand, self.start.into_operand())
    }
}

impl<B, L, A: Operand<B, L>> Bounds<B, L> for RangeTo<A> {
    fn around(self, operand: Node) -> Node {
        bound(Comparison::Less, operand, self.end.into_operand())
    }
}

impl<B, L, A: Operand<B, L>> Bounds<B, L> for RangeToInclusive<A> {
    fn around(self, operand: Node) -> Node {
        bound(Comparison::LessOrEqual, operand, self.end.into_operand())
    }
}

/// Divisors that are never 0, for which a quotient is never NULL.
macro_rules! non_zero {
    ($($divisor:ty => $number:ty),*) => {$(
        #[diagnostic::do_not_recommend]
        impl<L: Level> Operand<$number, L> for $divisor {
            type Null = NeverNull;
            type Quotient = NeverNull;

            fn into_operand(self) -> Node {
                Node::Bind(BindValue::Int(i64::from(self.get())))
            }
        }
    )*};
}

non_zero! {
    NonZeroI8 => i8, NonZeroI16 => i16, NonZeroI32 => i32, NonZeroI64 => i64,
    NonZeroU8 => u8, NonZeroU16 => u16, NonZeroU32 => u32
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

/// Values of other Rust types that a storable type accepts without loss.
macro_rules! literals {
    ($($literal:ty => $($storable:ty),+ ; |$value:ident| $bind:expr;)*) => {$($(
        #[diagnostic::do_not_recommend]
        impl<L: Level> Operand<$storable, L> for $literal {
            type Null = NeverNull;
            type Quotient = MaybeNull;

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
    // An integer literal without a suffix is an `i32` here. An integer beside an integer has the same type, so it is
    // inferred too.
    i8 => Decimal; |number| BindValue::Decimal(Decimal::from(number));
    i16 => Decimal; |number| BindValue::Decimal(Decimal::from(number));
    i32 => Decimal; |number| BindValue::Decimal(Decimal::from(number));
    i64 => Decimal; |number| BindValue::Decimal(Decimal::from(number));
    isize => Decimal; |number| BindValue::Decimal(Decimal::from(number));
    u8 => Decimal; |number| BindValue::Decimal(Decimal::from(number));
    u16 => Decimal; |number| BindValue::Decimal(Decimal::from(number));
    u32 => Decimal; |number| BindValue::Decimal(Decimal::from(number));
    u64 => Decimal; |number| BindValue::Decimal(Decimal::from(number));
    usize => Decimal; |number| BindValue::Decimal(Decimal::from(number));
    i32 => f32, f64; |number| BindValue::Float(f64::from(number));
}
