//! Which Rust types can be stored in a column, as which SQL type, and how a value gets in and out.
//!
//! A new type is one `impl` of [`Storable`], or `#[derive(Storable)]`. NULL is not its business:
//! [`ColumnType`] adds it, for every storable type, as `Option`.

mod bind;
mod collected;
mod exact;
mod lent;
mod nullness;
mod scalar;
mod sent;
mod time;

use std::borrow::Cow;

pub use bind::{BindValue, List, SqlType};
pub(crate) use bind::{quote_bytes, quote_text};
pub use collected::{Collected, InJson};
pub use lent::LentBind;
pub use nullness::{MaybeNull, NeverNull, Nullness};
pub use sent::{Sent, SentType};

use crate::model::Cell;

/// A Rust type whose values are stored in a column that is never NULL.
///
/// Derive it for a struct with one field (a typed id, a unit) and for an enum without fields, which
/// is stored as text. Write it by hand for anything that is stored as one of the types that exist:
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::{BindValue, Cell, Mismatch, SqlType};
///
/// /// Parts per million, kept in thousandths so that sums are exact.
/// #[derive(Debug, Clone, Copy, PartialEq)]
/// struct Grade { ppb: i64 }
///
/// impl Storable for Grade {
///     const SQL_TYPE: SqlType = SqlType::BigInt;
///
///     fn to_bind(&self) -> BindValue {
///         self.ppb.to_bind()
///     }
///
///     fn from_cell(cell: Cell<'_>) -> Result<Self, Mismatch> {
///         match i64::from_cell(cell)? {
///             ppb if ppb >= 0 => Ok(Grade { ppb }),
///             _ => Err(Mismatch::expected("a grade of 0 or more")),
///         }
///     }
/// }
///
/// # #[derive(Debug, Table)] struct Sample { #[nepheline(key)] id: i64, grade: Grade }
/// let rich = Sample::rows().filter(|s| s.grade.gt(Grade { ppb: 400_000 }));
/// ```
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be stored in a column",
    note = "derive `Storable` for a struct with one field or an enum without fields, or implement it by hand"
)]
pub trait Storable: Sized {
    /// The SQL type of the columns that hold it.
    const SQL_TYPE: SqlType;

    /// The value as it is sent to the database. Its variant must be the one for [`SQL_TYPE`](Self::SQL_TYPE).
    fn to_bind(&self) -> BindValue;

    /// The same for as long as it stays where it is, so that what it holds need not be copied.
    #[doc(hidden)]
    #[inline]
    fn lend(&self) -> LentBind<'_> {
        LentBind::Made(self.to_bind())
    }

    /// Reads a value that arrived, which is never NULL.
    ///
    /// # Errors
    ///
    /// A [`Mismatch`] that says what would have fitted; the caller adds what was found, and where.
    fn from_cell(cell: Cell<'_>) -> Result<Self, Mismatch>;
}

/// Says what a [`Storable`] type would have accepted, when a value that arrived does not fit.
#[derive(Debug)]
pub struct Mismatch(Cow<'static, str>);

impl Mismatch {
    /// Names what would have fitted, as in "expected `a date`, found text 'soon'".
    #[cold]
    pub fn expected(what: impl Into<Cow<'static, str>>) -> Mismatch {
        Mismatch(what.into())
    }

    /// What would have fitted.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

/// The type of a column: a [`Storable`] type, or `Option` of one where NULL is allowed.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not the type of a column",
    note = "a column holds a `Storable` type or an `Option` of one"
)]
pub trait ColumnType: Sized {
    /// The type without its `Option`: what the column is compared with.
    type Base: Storable;

    /// Whether NULL is a value of this type: [`MaybeNull`] or [`NeverNull`].
    type Null: Nullness;

    /// Whether NULL is a value of this type.
    const NULLABLE: bool = Self::Null::NULLABLE;

    /// The SQL type and whether NULL is allowed, for descriptors.
    #[doc(hidden)]
    const DECLARED: (SqlType, bool) = (Self::Base::SQL_TYPE, Self::NULLABLE);

    /// Reads a value that arrived.
    ///
    /// # Errors
    ///
    /// A [`Mismatch`] for a value of another type, and for NULL unless the type is an `Option`.
    fn from_cell(cell: Cell<'_>) -> Result<Self, Mismatch>;

    /// The value as it is sent to the database, a NULL too.
    fn to_bind_or_null(&self) -> BindValue;

    /// The same for as long as it stays where it is.
    #[doc(hidden)]
    fn lend_or_null(&self) -> LentBind<'_>;
}

impl<T: Storable> ColumnType for T {
    type Base = T;
    type Null = NeverNull;

    fn to_bind_or_null(&self) -> BindValue {
        self.to_bind()
    }

    #[inline]
    fn lend_or_null(&self) -> LentBind<'_> {
        self.lend()
    }

    #[inline]
    fn from_cell(cell: Cell<'_>) -> Result<T, Mismatch> {
        T::from_cell(cell)
    }
}

impl<T: Storable> ColumnType for Option<T> {
    type Base = T;
    type Null = MaybeNull;

    fn to_bind_or_null(&self) -> BindValue {
        self.as_ref()
            .map_or(BindValue::Null(T::SQL_TYPE), T::to_bind)
    }

    #[inline]
    fn lend_or_null(&self) -> LentBind<'_> {
        let null = LentBind::Made(BindValue::Null(T::SQL_TYPE));
        self.as_ref().map_or(null, T::lend)
    }

    #[inline]
    fn from_cell(cell: Cell<'_>) -> Result<Option<T>, Mismatch> {
        match cell {
            Cell::Null => Ok(None),
            cell => T::from_cell(cell).map(Some),
        }
    }
}

/// An `Option`: the type of a column that may be NULL.
#[diagnostic::on_unimplemented(
    message = "this value is never NULL",
    label = "`{Self}` is not an `Option`"
)]
pub trait Nullable: ColumnType {}

impl<T: Storable> Nullable for Option<T> {}
