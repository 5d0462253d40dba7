//! Nullability as a type: an expression over a nullable value is nullable too, and is read into an `Option`.

use super::{ColumnType, Storable};

/// The nullability of a value: [`NeverNull`] or [`MaybeNull`].
pub trait Nullness: sealed::Sealed {
    /// A value of `T` with this nullability: `T` itself, or `Option<T>`.
    type Of<T: Storable>: ColumnType<Base = T, Null = Self>;

    /// The nullability of an expression that is NULL where either side is.
    type Or<N: Nullness>: Nullness;

    /// The nullability of an expression that is NULL only where both sides are.
    type And<N: Nullness>: Nullness;

    /// True if NULL is possible.
    const NULLABLE: bool;
}

/// The value is never NULL, and is read into the type itself.
#[derive(Debug, Clone, Copy)]
pub struct NeverNull;

/// The value may be NULL, and is read into an `Option`.
#[derive(Debug, Clone, Copy)]
pub struct MaybeNull;

impl Nullness for NeverNull {
    type Of<T: Storable> = T;
    type Or<N: Nullness> = N;
    type And<N: Nullness> = NeverNull;
    const NULLABLE: bool = false;
}

impl Nullness for MaybeNull {
    type Of<T: Storable> = Option<T>;
    type Or<N: Nullness> = MaybeNull;
    type And<N: Nullness> = N;
    const NULLABLE: bool = true;
}

mod sealed {
    pub trait Sealed {}
    impl Sealed for super::NeverNull {}
    impl Sealed for super::MaybeNull {}
}
