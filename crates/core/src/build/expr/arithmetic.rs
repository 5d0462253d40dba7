//! Numbers: operators and functions.

use std::ops::{Add, Div, Mul, Neg, Rem, Sub};

use rust_decimal::Decimal;

use super::level::{Level, PerGroup, PerRow};
use super::{Aggregate, BaseOf, Column, Expr, Expression, Follows, FollowsEither, NullOf, Operand};
use crate::model::{
    BindValue, ColumnType, Function, MaybeNull, NeverNull, Nullness, SqlType, Storable, function,
};
use crate::tree::Node;

/// The numbers of SQL: integers, floats and decimals.
///
/// Integers are computed with 64 bits on every engine. What does not fit the Rust type that it is
/// read into is an error then, and what does not fit 64 bits is one of the database; only SQLite goes
/// on with a float inside a condition. `f32` is computed as `f64`.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a number",
    note = "a newtype is computed with after `.cast::<f64>()`, or another type that it is stored as"
)]
pub trait Number: Storable {
    /// What `+`, `-` and `*` give.
    type Computed: Number;
}

/// The integers, which have `%` and whole division.
pub trait Integer: Number {}

/// Numbers that can be divided. Decimals cannot: engines give quotients of different lengths.
#[diagnostic::on_unimplemented(
    message = "engines give quotients of `{Self}` of different lengths",
    note = "divide after `.cast::<f64>()`, or in Rust"
)]
pub trait Divided: Number {
    #[doc(hidden)]
    const BY: &'static Function;
    #[doc(hidden)]
    const BY_NON_ZERO: &'static Function;
}

/// Numbers with a fraction.
pub trait Fraction: Number {
    #[doc(hidden)]
    const ROUND: &'static Function;
}

macro_rules! integers {
    ($($number:ty),*) => {$(
        impl Number for $number {
            type Computed = $number;
        }

        impl Integer for $number {}

        impl Divided for $number {
            const BY: &'static Function = &function::DIVIDE_WHOLE;
            const BY_NON_ZERO: &'static Function = &function::DIVIDE_NON_ZERO;
        }
    )*};
}

integers!(i8, i16, i32, i64, u8, u16, u32);

macro_rules! floats {
    ($($number:ty),*) => {$(
        impl Number for $number {
            type Computed = f64;
        }

        impl Divided for $number {
            const BY: &'static Function = &function::DIVIDE;
            const BY_NON_ZERO: &'static Function = &function::DIVIDE;
        }

        impl Fraction for $number {
            const ROUND: &'static Function = &function::ROUND_FLOAT;
        }
    )*};
}

floats!(f32, f64);

impl Number for Decimal {
    type Computed = Decimal;
}

impl Fraction for Decimal {
    const ROUND: &'static Function = &function::ROUND;
}

/// What `E` computed with something of nullness `N` gives.
type Computed<T, N> = <<<T as ColumnType>::Null as Nullness>::Or<N> as Nullness>::Of<
    <<T as ColumnType>::Base as Number>::Computed,
>;

/// The operators with two sides, for columns and expressions on the left.
macro_rules! operators {
    ($($operator:ident, $method:ident, $number:ident, $null:ident, $function:expr;)*) => {$(
        impl<T, R> $operator<R> for Column<T>
        where
            T: ColumnType<Base: $number>,
            R: Operand<T::Base, PerRow>,
        {
            type Output = Expr<Computed<T, R::$null>>;

            fn $method(self, other: R) -> Self::Output {
                compute($function(R::$null::NULLABLE), self, other.into_operand())
            }
        }

        impl<T, L, R> $operator<R> for Expr<T, L>
        where
            T: ColumnType<Base: $number>,
            L: Level,
            R: Operand<T::Base, L>,
        {
            type Output = Expr<Computed<T, R::$null>, L>;

            fn $method(self, other: R) -> Self::Output {
                compute($function(R::$null::NULLABLE), self, other.into_operand())
            }
        }

        impl<T, R> $operator<R> for Aggregate<T>
        where
            T: ColumnType<Base: $number>,
            R: Operand<T::Base, PerGroup>,
        {
            type Output = Expr<Computed<T, R::$null>, PerGroup>;

            fn $method(self, other: R) -> Self::Output {
                compute($function(R::$null::NULLABLE), self, other.into_operand())
            }
        }
    )*};
}

operators! {
    Add, add, Number, Null, |_| &function::ADD;
    Sub, sub, Number, Null, |_| &function::SUBTRACT;
    Mul, mul, Number, Null, |_| &function::MULTIPLY;
    Div, div, Divided, Quotient, |zero| if zero { T::Base::BY } else { T::Base::BY_NON_ZERO };
    Rem, rem, Integer, Quotient,
        |zero| if zero { &function::REMAINDER } else { &function::REMAINDER_NON_ZERO };
}

/// The same with a number of Rust on the left, which only a known type can have.
macro_rules! numbers_on_the_left {
    (for $numbers:tt $($operator:ident, $method:ident, $function:expr, $null:ty;)*) => {
        numbers_on_the_left!(@each [$($operator, $method, $function, $null;)*] $numbers);
    };
    (@each $operators:tt [$($number:ty),*]) => {
        $(numbers_on_the_left!(@number $number, $operators);)*
    };
    (@number $number:ty, [$($operator:ident, $method:ident, $function:expr, $null:ty;)*]) => {$(
        impl<T: ColumnType<Base = $number>> $operator<Column<T>> for $number {
            type Output = Expr<Computed<T, $null>>;

            fn $method(self, other: Column<T>) -> Self::Output {
                compute_nodes($function, Node::Bind(self.to_bind()), other.into_node())
            }
        }

        impl<T: ColumnType<Base = $number>> $operator<Aggregate<T>> for $number {
            type Output = Expr<Computed<T, $null>, PerGroup>;

            fn $method(self, other: Aggregate<T>) -> Self::Output {
                compute_nodes($function, Node::Bind(self.to_bind()), other.into_node())
            }
        }

        impl<T: ColumnType<Base = $number>, L: Level> $operator<Expr<T, L>> for $number {
            type Output = Expr<Computed<T, $null>, L>;

            fn $method(self, other: Expr<T, L>) -> Self::Output {
                compute_nodes($function, Node::Bind(self.to_bind()), other.into_node())
            }
        }
    )*};
}

numbers_on_the_left! {
    for [i16, i32, i64, u32, f64, Decimal]
    Add, add, &function::ADD, NeverNull;
    Sub, sub, &function::SUBTRACT, NeverNull;
    Mul, mul, &function::MULTIPLY, NeverNull;
}

numbers_on_the_left! {
    for [i16, i32, i64, u32]
    Div, div, &function::DIVIDE_WHOLE, MaybeNull;
    Rem, rem, &function::REMAINDER, MaybeNull;
}

numbers_on_the_left! {
    for [f64]
    Div, div, &function::DIVIDE, MaybeNull;
}

impl<T: ColumnType<Base: Number>> Neg for Column<T> {
    type Output = Expr<Computed<T, NeverNull>>;

    fn neg(self) -> Self::Output {
        Expr::from_node(computed(&function::NEGATE, [self.into_node()]))
    }
}

impl<T: ColumnType<Base: Number>, L: Level> Neg for Expr<T, L> {
    type Output = Expr<Computed<T, NeverNull>, L>;

    fn neg(self) -> Self::Output {
        Expr::from_node(computed(&function::NEGATE, [self.into_node()]))
    }
}

fn compute<E: Expression, O>(
    function: &'static Function,
    left: E,
    right: Node,
) -> Expr<O, E::Level> {
    compute_nodes(function, left.into_node(), right)
}

fn compute_nodes<O, L>(function: &'static Function, left: Node, right: Node) -> Expr<O, L> {
    Expr::from_node(computed(function, [left, right]))
}

/// A function of numbers, each of them of 64 bits.
fn computed<const N: usize>(function: &'static Function, numbers: [Node; N]) -> Node {
    let (function, numbers) = function.by_known_divisor(numbers);
    let numbers = numbers.map(Node::widened);
    let sql_type = numbers[0].sql_type();
    Node::call(function, sql_type, numbers)
}

impl Function {
    /// A division by a value that Rust knows asks no engine whether that is zero: divided by NULL instead, the result is
    /// NULL all the same, and the text does not depend on the value.
    fn by_known_divisor<const N: usize>(
        &'static self,
        mut numbers: [Node; N],
    ) -> (&'static Function, [Node; N]) {
        let known = match numbers.last() {
            Some(Node::Bind(value)) => self.by_non_zero().map(|function| (function, value)),
            _ => None,
        };
        let Some((function, value)) = known else { return (self, numbers) };
        let is_zero = match value {
            BindValue::Int(value) => *value == 0,
            BindValue::Float(value) => *value == 0.0,
            BindValue::Decimal(value) => value.is_zero(),
            _ => return (self, numbers),
        };
        if let (true, Some(divisor)) = (is_zero, numbers.last_mut()) {
            *divisor = Node::Bind(BindValue::Null(divisor.sql_type()));
        }
        (function, numbers)
    }

    /// The same division where the divisor is never 0, if it is one.
    fn by_non_zero(&'static self) -> Option<&'static Function> {
        let divisions = [
            (&function::DIVIDE, &function::DIVIDE_FLOAT_NON_ZERO),
            (&function::DIVIDE_WHOLE, &function::DIVIDE_NON_ZERO),
            (&function::REMAINDER, &function::REMAINDER_NON_ZERO),
        ];
        let mut divisions = divisions.into_iter();
        divisions.find_map(|(by, non_zero)| std::ptr::eq(by, self).then_some(non_zero))
    }
}

impl Node {
    /// As a number of 64 bits, on the engine that computes narrower ones narrowly.
    pub(crate) fn widened(self) -> Node {
        match self.sql_type() {
            SqlType::SmallInt | SqlType::Integer => {
                Node::call(&function::WIDEN_WHOLE, SqlType::BigInt, [self])
            }
            SqlType::Real => Node::call(&function::WIDEN_FLOAT, SqlType::Double, [self]),
            _ => self,
        }
    }
}

/// What can be computed from a number. The operators `+ - * / %` and unary `-` work on it too.
///
/// A result may be NULL where something that it is computed from may be. A division by zero is
/// NULL on every engine, so quotients and remainders are `Option`s, unless the divisor is one of
/// Rust's `NonZero` integers. Whole division cuts off towards zero, and a remainder has the sign of
/// what was divided, as in Rust.
///
/// ```
/// use std::num::NonZeroI64;
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, top_m: f64, base_m: f64, parent_id: Option<i64> }
/// let lengths: Query<Specimen, f64> = Specimen::rows().select(|s| s.base_m - s.top_m);
/// let middles: Query<Specimen, Option<f64>> = Specimen::rows().select(|s| (s.top_m + s.base_m) / 2);
/// let parents: Query<Specimen, Option<i64>> = Specimen::rows().select(|s| s.parent_id + 1);
/// let tray = NonZeroI64::new(12).unwrap();
/// let trays: Query<Specimen, i64> = Specimen::rows().select(move |s| s.id / tray);
/// assert!(middles.sql(Dialect::Postgres)?.text().starts_with(
///     r#"SELECT ("specimen"."top_m" + "specimen"."base_m") / $1 FROM"#
/// ));
/// # Ok::<(), Error>(())
/// ```
pub trait NumberExpression: Expression<Type: ColumnType<Base: Number>> {
    /// The number without its sign.
    fn abs(self) -> Expr<Follows<Self, <BaseOf<Self> as Number>::Computed>, Self::Level> {
        Expr::from_node(computed(&function::ABS, [self.into_node()]))
    }

    /// The greatest whole number that is not greater, as a number of the same kind.
    fn floor(self) -> Expr<Follows<Self, <BaseOf<Self> as Number>::Computed>, Self::Level>
    where
        Self::Type: ColumnType<Base: Fraction>,
    {
        Expr::from_node(computed(&function::FLOOR, [self.into_node()]))
    }

    /// The smallest whole number that is not smaller, as a number of the same kind.
    fn ceil(self) -> Expr<Follows<Self, <BaseOf<Self> as Number>::Computed>, Self::Level>
    where
        Self::Type: ColumnType<Base: Fraction>,
    {
        Expr::from_node(computed(&function::CEIL, [self.into_node()]))
    }

    /// The decimal with this many digits after the point; halves go away from zero.
    ///
    /// # Errors
    ///
    /// Rounding a float is [`Unsupported`](crate::ErrorKind::Unsupported) on every engine, since
    /// they do not agree about halves, and so is all computing with decimals on SQLite.
    fn round(
        self,
        places: u8,
    ) -> Expr<Follows<Self, <BaseOf<Self> as Number>::Computed>, Self::Level>
    where
        Self::Type: ColumnType<Base: Fraction>,
    {
        let places = Node::Bind(BindValue::Int(i64::from(places)));
        let function = <BaseOf<Self> as Fraction>::ROUND;
        Expr::from_node(computed(function, [self.into_node(), places]))
    }

    /// This to the power of `exponent`.
    ///
    /// It is NULL where no real number is the answer: a negative number to a broken power, or 0 to a
    /// negative one. A result beyond the range of floats is an error on the servers, and infinity on
    /// SQLite.
    fn power(self, exponent: impl Operand<f64, Self::Level>) -> Expr<Option<f64>, Self::Level>
    where
        Self::Type: ColumnType<Base = f64>,
    {
        compute(&function::POWER, self, exponent.into_operand())
    }
}

impl<E: Expression<Type: ColumnType<Base: Number>>> NumberExpression for E {}

/// The smaller or the greater of two values.
pub(super) fn extreme<E: Expression, O: Operand<BaseOf<E>, E::Level>>(
    [never_null, maybe_null]: [&'static Function; 2],
    left: E,
    right: O,
) -> Expr<FollowsEither<E, O::Null, BaseOf<E>>, E::Level> {
    let nullable = NullOf::<E>::NULLABLE || O::Null::NULLABLE;
    let function = if nullable { maybe_null } else { never_null };
    let values = [left.into_node().in_code_point_order(), right.into_operand()];
    Expr::from_node(Node::call(function, BaseOf::<E>::SQL_TYPE, values))
}
