//! Whether a value may be NULL, as a type: what is computed from a value that may be NULL may be
//! NULL itself, and is read into an `Option`.

use super::{ColumnType, Storable};

/// Whether a value may be NULL: [`NeverNull`] or [`MaybeNull`].
pub trait Nullness: sealed::Sealed {
    /// A value of `T` that may be NULL in this way: `T` itself, or `Option<T>`.
    type Of<T: Storable>: ColumnType<Base = T, Null = Self>;

    /// What is NULL where this or the other is.
    type Or<N: Nullness>: Nullness;

    /// What is NULL only where both this and the other are.
    type And<N: Nullness>: Nullness;

    /// Whether NULL is possible.
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
