//! Numbers: operators and functions.

use std::ops::{Add, Div, Mul, Neg, Rem, Sub};

use rust_decimal::Decimal;

use super::level::{Level, PerGroup, PerRow};
use super::{Aggregate, BaseOf, Column, Expr, ExprExt, Follows, FollowsEither, NullOf, Operand};
use crate::build::prepared::Parameter;
use crate::model::{
    BindValue, ColumnType, Function, MaybeNull, NeverNull, Nullness, SqlType, Storable, function,
};
use crate::tree::Node;

/// The number types: integers, floats and decimals.
///
/// Integers are computed with 64 bits on every engine. A result that does not fit the Rust type is an error
/// when it is read; one that does not fit 64 bits is an error of the database, except that SQLite continues
/// with a float inside a condition. `f32` is computed as `f64`.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a number",
    note = "cast a newtype first, with `.cast::<f64>()` or the type that stores it"
)]
pub trait Number: Storable {
    /// The type of sums, differences and products.
    type Computed: Number;
}

/// The integers, which have `%` and integer division.
pub trait Integer: Number {}

/// The numbers that `/` divides. Decimals are divided by [`divided_by`](NumberExt::divided_by), because `/` returns quotients of
/// another length on each engine.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be divided: engines return quotients of different lengths",
    note = "divide decimals with `a.divided_by(b, digits)`, or as floats after `.cast::<f64>()`"
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
    const ROUND: &'static [Function];
}

macro_rules! integers {
    ($($number:ty),*) => {$(
        impl Number for $number {
            type Computed = $number;
        }

        impl Integer for $number {}

        impl Exact for $number {}

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
            const ROUND: &'static [Function] = &function::ROUND_FLOAT;
        }
    )*};
}

floats!(f32, f64);

impl Number for Decimal {
    type Computed = Decimal;
}

impl Fraction for Decimal {
    const ROUND: &'static [Function] = &function::ROUND;
}

/// The exact numbers: integers and decimals.
pub trait Exact: Number {}

impl Exact for Decimal {}

pub(super) const TOO_MANY_DIGITS: &str = "a decimal has at most 28 digits after the point";

/// The type of an arithmetic result: the computed type of `T`, nullable if either side is.
type Computed<T, N> = <<<T as ColumnType>::Null as Nullness>::Or<N> as Nullness>::Of<
    <<T as ColumnType>::Base as Number>::Computed,
>;

/// The types that `+` and `-` work on: numbers with numbers, dates and times with intervals such as
/// [`days(3)`](super::days).
#[diagnostic::on_unimplemented(
    message = "`+` and `-` do not work on `{Self}` and `{R}`",
    label = "expected two numbers, or a date and an interval such as `days(3)`",
    note = "text is joined with `concat`; two dates are compared with `days_since`"
)]
pub trait Adds<R, L>: Storable {
    /// The nullness of the right side.
    #[doc(hidden)]
    type Null: Nullness;

    /// The type of the sum.
    type Sum: Storable;

    #[doc(hidden)]
    fn plus(left: Node, right: R) -> Node;

    #[doc(hidden)]
    fn minus(left: Node, right: R) -> Node;
}

impl<B: Number, R: Operand<B, L>, L> Adds<R, L> for B {
    type Null = R::Null;
    type Sum = B::Computed;

    fn plus(left: Node, right: R) -> Node {
        computed(&function::ADD, [left, right.into_operand()])
    }

    fn minus(left: Node, right: R) -> Node {
        computed(&function::SUBTRACT, [left, right.into_operand()])
    }
}

/// The type of a sum: nullable if either side is.
type SumOfBoth<T, R, L> = <<<T as ColumnType>::Null as Nullness>::Or<
    <<T as ColumnType>::Base as Adds<R, L>>::Null,
> as Nullness>::Of<<<T as ColumnType>::Base as Adds<R, L>>::Sum>;

/// `+` and `-`, for columns, expressions and aggregates on the left.
macro_rules! sums {
    ($($operator:ident, $method:ident, $of_base:ident;)*) => {$(
        sums!(@of_rows $operator, $method, $of_base, Column<T>);
        sums!(@of_rows $operator, $method, $of_base, Parameter<T>);

        impl<T: ColumnType<Base: Adds<R, L>>, L: Level, R> $operator<R> for Expr<T, L> {
            type Output = Expr<SumOfBoth<T, R, L>, L>;

            fn $method(self, other: R) -> Self::Output {
                Expr::from_node(<T::Base as Adds<R, L>>::$of_base(self.into_node(), other))
            }
        }

        impl<T: ColumnType<Base: Adds<R, PerGroup>>, R> $operator<R> for Aggregate<T> {
            type Output = Expr<SumOfBoth<T, R, PerGroup>, PerGroup>;

            fn $method(self, other: R) -> Self::Output {
                Expr::from_node(<T::Base as Adds<R, PerGroup>>::$of_base(self.into_node(), other))
            }
        }
    )*};
    (@of_rows $operator:ident, $method:ident, $of_base:ident, $left:ty) => {
        impl<T: ColumnType<Base: Adds<R, PerRow>>, R> $operator<R> for $left {
            type Output = Expr<SumOfBoth<T, R, PerRow>>;

            fn $method(self, other: R) -> Self::Output {
                Expr::from_node(<T::Base as Adds<R, PerRow>>::$of_base(self.into_node(), other))
            }
        }
    };
}

sums! {
    Add, add, plus;
    Sub, sub, minus;
}

/// `*`, `/` and `%`, for columns, expressions and aggregates on the left.
macro_rules! products {
    ($($operator:ident, $method:ident, $number:ident, $null:ident, $function:expr;)*) => {$(
        products!(@of_rows $operator, $method, $number, $null, $function, Column<T>);
        products!(@of_rows $operator, $method, $number, $null, $function, Parameter<T>);

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
    (@of_rows $operator:ident, $method:ident, $number:ident, $null:ident, $function:expr, $left:ty) => {
        impl<T, R> $operator<R> for $left
        where
            T: ColumnType<Base: $number>,
            R: Operand<T::Base, PerRow>,
        {
            type Output = Expr<Computed<T, R::$null>>;

            fn $method(self, other: R) -> Self::Output {
                compute($function(R::$null::NULLABLE), self, other.into_operand())
            }
        }
    };
}

products! {
    Mul, mul, Number, Null, |_| &function::MULTIPLY;
    Div, div, Divided, Quotient, |zero| if zero { T::Base::BY } else { T::Base::BY_NON_ZERO };
    Rem, rem, Integer, Quotient,
        |zero| if zero { &function::REMAINDER } else { &function::REMAINDER_NON_ZERO };
}

/// The operators with a Rust number on the left. Rust allows a foreign type on the left only where it
/// is concrete, so each number has its own impls; the right side may be any that the number fits, such
/// as a float or a decimal for `1`.
macro_rules! numbers_on_the_left {
    (for $numbers:tt $($operator:ident, $method:ident, $base:ident, $function:expr, $null:ty;)*) => {
        numbers_on_the_left!(@each [$($operator, $method, $base, $function, $null;)*] $numbers);
    };
    (@each $operators:tt [$($number:ty),*]) => {
        $(numbers_on_the_left!(@number $number, $operators);)*
    };
    (@number $number:ty, [$($operator:ident, $method:ident, $base:ident, $function:expr, $null:ty;)*]) => {$(
        impl<T: ColumnType<Base: $base>> $operator<Column<T>> for $number
        where
            $number: Operand<T::Base>,
        {
            type Output = Expr<Computed<T, $null>>;

            fn $method(self, other: Column<T>) -> Self::Output {
                compute_nodes($function, self.into_operand(), other.into_node())
            }
        }

        impl<T: ColumnType<Base: $base>> $operator<Aggregate<T>> for $number
        where
            $number: Operand<T::Base>,
        {
            type Output = Expr<Computed<T, $null>, PerGroup>;

            fn $method(self, other: Aggregate<T>) -> Self::Output {
                compute_nodes($function, self.into_operand(), other.into_node())
            }
        }

        impl<T: ColumnType<Base: $base>, L: Level> $operator<Expr<T, L>> for $number
        where
            $number: Operand<T::Base>,
        {
            type Output = Expr<Computed<T, $null>, L>;

            fn $method(self, other: Expr<T, L>) -> Self::Output {
                compute_nodes($function, self.into_operand(), other.into_node())
            }
        }
    )*};
}

numbers_on_the_left! {
    for [i8, i16, i32, i64, u8, u16, u32, f32, f64, Decimal]
    Add, add, Number, &function::ADD, NeverNull;
    Sub, sub, Number, &function::SUBTRACT, NeverNull;
    Mul, mul, Number, &function::MULTIPLY, NeverNull;
}

numbers_on_the_left! {
    for [i8, i16, i32, i64, u8, u16, u32, f32, f64]
    Div, div, Divided, T::Base::BY, MaybeNull;
}

numbers_on_the_left! {
    for [i8, i16, i32, i64, u8, u16, u32]
    Rem, rem, Integer, &function::REMAINDER, MaybeNull;
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

fn compute<E: ExprExt, O>(function: &'static Function, left: E, right: Node) -> Expr<O, E::Level> {
    compute_nodes(function, left.into_node(), right)
}

fn compute_nodes<O, L>(function: &'static Function, left: Node, right: Node) -> Expr<O, L> {
    Expr::from_node(computed(function, [left, right]))
}

/// Calls a function on numbers, each widened to 64 bits.
fn computed<const N: usize>(function: &'static Function, numbers: [Node; N]) -> Node {
    let (function, numbers) = function.by_known_divisor(numbers);
    let numbers = numbers.map(Node::widened);
    let sql_type = numbers[0].sql_type();
    Node::call(function, sql_type, numbers)
}

impl Function {
    /// Simplifies a division by a value that Rust knows: the engine need not test for zero. A zero is bound
    /// as NULL, which gives NULL as well, so that the text does not depend on the value.
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

    /// Returns the form of the division for a divisor that is never 0, if it has one.
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
    /// Widens a number to 64 bits, because PostgreSQL computes narrower ones in their own width.
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

/// Functions of numbers. The operators `+ - * / %` and unary `-` work on numbers too.
///
/// A result is nullable where an operand is. Division by zero is NULL on every engine, so quotients and
/// remainders are `Option`s, unless the divisor is one of Rust's `NonZero` integers. Integer division
/// truncates towards zero, and a remainder has the sign of the dividend, as in Rust.
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
pub trait NumberExt: ExprExt<Type: ColumnType<Base: Number>> {
    /// Returns the absolute value.
    fn abs(self) -> Expr<Follows<Self, <BaseOf<Self> as Number>::Computed>, Self::Level> {
        Expr::from_node(computed(&function::ABS, [self.into_node()]))
    }

    /// Returns the greatest integer that is not greater, as a number of the same type.
    fn floor(self) -> Expr<Follows<Self, <BaseOf<Self> as Number>::Computed>, Self::Level>
    where
        Self::Type: ColumnType<Base: Fraction>,
    {
        Expr::from_node(computed(&function::FLOOR, [self.into_node()]))
    }

    /// Returns the smallest integer that is not smaller, as a number of the same type.
    fn ceil(self) -> Expr<Follows<Self, <BaseOf<Self> as Number>::Computed>, Self::Level>
    where
        Self::Type: ColumnType<Base: Fraction>,
    {
        Expr::from_node(computed(&function::CEIL, [self.into_node()]))
    }

    /// Rounds a decimal to this number of digits after the point; halves are rounded away from zero. The result has exactly
    /// so many digits on every engine.
    ///
    /// # Errors
    ///
    /// Rounding a float is [`Unsupported`](crate::ErrorKind::Unsupported) on every engine, because engines
    /// disagree about halves. More than 28 digits are an [`InvalidQuery`](crate::ErrorKind::InvalidQuery).
    fn round(
        self,
        digits: u8,
    ) -> Expr<Follows<Self, <BaseOf<Self> as Number>::Computed>, Self::Level>
    where
        Self::Type: ColumnType<Base: Fraction>,
    {
        Expr::from_node(match <BaseOf<Self> as Fraction>::ROUND.get(usize::from(digits)) {
            Some(function) => computed(function, [self.into_node()]),
            None => Node::Unfit(TOO_MANY_DIGITS),
        })
    }

    /// Divides a decimal by another, to this number of digits after the point. The quotient is rounded once, halves away from
    /// zero, and has exactly so many digits on every engine. It is NULL if the divisor is 0.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct InvoiceLine { #[nepheline(key)] id: i64, invoice_id: i64, price: Decimal, quantity: i32 }
    /// let unit_prices = InvoiceLine::rows().select(|l| (l.id, l.price.divided_by(l.quantity, 4)));
    /// // The price per piece of each invoice.
    /// let per_piece = InvoiceLine::rows()
    ///     .select(|l| (per(l.invoice_id), sum(l.price).divided_by(sum(l.quantity).cast::<Decimal>(), 2)));
    /// # assert!(unit_prices.sql(Dialect::Postgres).is_ok() && per_piece.sql(Dialect::Sqlite).is_ok());
    /// ```
    ///
    /// The SQL is `round(div(a * 1000, b) * 0.001, 2)` for two digits on PostgreSQL, and `CAST(a * 1.000 / b AS
    /// DECIMAL(65, 2))` on MariaDB and MySQL.
    ///
    /// # Errors
    ///
    /// More than 28 digits are an [`InvalidQuery`](crate::ErrorKind::InvalidQuery).
    fn divided_by(
        self,
        divisor: impl Operand<Decimal, Self::Level>,
        digits: u8,
    ) -> Expr<Option<Decimal>, Self::Level>
    where
        Self::Type: ColumnType<Base = Decimal>,
    {
        Expr::from_node(match function::DIVIDE_DECIMAL.get(usize::from(digits)) {
            Some(function) => computed(function, [self.into_node(), divisor.into_operand()]),
            None => Node::Unfit(TOO_MANY_DIGITS),
        })
    }

    /// Raises the number to the power of `exponent`.
    ///
    /// The result is NULL where no real number exists: a negative number to a fractional power, or 0 to a
    /// negative one. A result beyond the range of floats is an error on the servers, and infinity on SQLite.
    fn power(self, exponent: impl Operand<f64, Self::Level>) -> Expr<Option<f64>, Self::Level>
    where
        Self::Type: ColumnType<Base = f64>,
    {
        compute(&function::POWER, self, exponent.into_operand())
    }
}

impl<E: ExprExt<Type: ColumnType<Base: Number>>> NumberExt for E {}

/// Returns the smaller or the greater of two values.
pub(super) fn extreme<E: ExprExt, O: Operand<BaseOf<E>, E::Level>>(
    [never_null, maybe_null]: [&'static Function; 2],
    left: E,
    right: O,
) -> Expr<FollowsEither<E, O::Null, BaseOf<E>>, E::Level> {
    let nullable = NullOf::<E>::NULLABLE || O::Null::NULLABLE;
    let function = if nullable { maybe_null } else { never_null };
    let values = [left.into_node().in_code_point_order(), right.into_operand()];
    Expr::from_node(Node::call(function, BaseOf::<E>::SQL_TYPE, values))
}
