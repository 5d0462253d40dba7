//! The Rust types that columns can have, the SQL type of each, and the conversions.
//!
//! A new type is one `impl` of [`Storable`], or `#[derive(Storable)]`. [`ColumnType`] adds NULL to every
//! storable type, as `Option`.

mod array;
mod bind;
mod document;
mod exact;
mod lent;
mod native;
mod nullness;
mod parameter;
mod range;
mod scalar;
mod sent;
mod time;

use std::borrow::Cow;

pub use array::{Array, InJson};
pub use bind::{BindValue, EnumType, List, SqlType};
pub(crate) use bind::{quote_bytes, quote_text};
pub use document::{JsonDocument, StoredAsJson};
pub use exact::exact_text;
pub(crate) use lent::{Borrower, Measure};
pub use lent::{LentBind, TakesValues};
pub use native::{NativeType, NativeValue, interval_text};
pub use nullness::{MaybeNull, NeverNull, Nullness};
pub(crate) use parameter::{ParameterBind, ParameterForm};
pub use range::{RangeItem, RangeOf};
pub use sent::{Sent, SentType};

use crate::model::{Cell, Cells, ColumnInfo, Error};

/// A Rust type whose values are stored in a column that is never NULL.
///
/// Derive it for a struct with one field (a typed id, a unit) and for an enum without fields, which is stored
/// as text. Implement it by hand for anything else that is stored as an existing SQL type:
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
    /// The SQL type of the columns that store it.
    const SQL_TYPE: SqlType;

    /// The values that [`from_cell`](Self::from_cell) accepts, as far as they are a list or a range.
    #[doc(hidden)]
    const ACCEPTED: Accepted = Accepted::Any;

    /// True if it is a `String`, which is not copied where the row owns one.
    #[doc(hidden)]
    const IS_TEXT: bool = false;

    /// Returns a text as it is; `None` if [`IS_TEXT`](Self::IS_TEXT) is false.
    #[doc(hidden)]
    fn of_owned_text(_: String) -> Option<Self> {
        None
    }

    /// Returns the value as it is sent to the database. Its variant must match [`SQL_TYPE`](Self::SQL_TYPE).
    fn to_bind(&self) -> BindValue;

    /// Returns the same value borrowed, so that it need not be copied.
    #[doc(hidden)]
    #[inline]
    fn lend(&self) -> LentBind<'_> {
        LentBind::Made(self.to_bind())
    }

    /// Reads a value that arrived, which is never NULL.
    ///
    /// # Errors
    ///
    /// A [`Mismatch`] that names what would fit; the caller adds what was found, and where.
    fn from_cell(cell: Cell<'_>) -> Result<Self, Mismatch>;
}

/// The values that a [`Storable`] type has among those of its SQL type.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Accepted {
    /// All, or those that only its code knows.
    Any,
    /// These texts.
    Texts(&'static [&'static str]),
    /// The whole numbers from the first to the second.
    Whole(i64, i64),
}

/// The type that a [`Storable`] type expects, when a value that arrived does not fit.
#[derive(Debug)]
pub struct Mismatch(Cow<'static, str>);

impl Mismatch {
    /// Names what would fit, as in "expected `a date`, found text 'soon'".
    #[cold]
    pub fn expected(what: impl Into<Cow<'static, str>>) -> Mismatch {
        Mismatch(what.into())
    }

    /// Returns the name of what would fit.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

/// The type of a column: a [`Storable`] type, or `Option` of one where NULL is allowed.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not the type of a column",
    label = "expected a `Storable` type or an `Option` of one",
    note = "derive `Storable` for a type of your own",
    note = "`u64` and `usize` are stored as an `i64`, which `i64::try_from` checks; a list of plain values is stored as an `Array<T>`, any serde type as a `JsonDocument<T>`, and more as rows of a table of their own"
)]
pub trait ColumnType: Sized {
    /// The type without its `Option`, which the column is compared with.
    type Base: Storable;

    /// The nullness of this type: [`MaybeNull`] or [`NeverNull`].
    type Null: Nullness;

    /// True if NULL is a value of this type.
    const NULLABLE: bool = Self::Null::NULLABLE;

    /// The SQL type and the nullability, for descriptors.
    #[doc(hidden)]
    const DECLARED: (SqlType, bool) = (Self::Base::SQL_TYPE, Self::NULLABLE);

    /// Reads a value that arrived.
    ///
    /// # Errors
    ///
    /// A [`Mismatch`] for a value of another type, and for NULL unless the type is an `Option`.
    fn from_cell(cell: Cell<'_>) -> Result<Self, Mismatch>;

    /// Returns a text as it is, if the type is `String` or an `Option` of it.
    #[doc(hidden)]
    fn of_owned_text(text: String) -> Option<Self>;

    /// Reads the next cell as the field of a column. The derives call it by the type of the field, so that an
    /// unfit type is one error at the field.
    ///
    /// # Errors
    ///
    /// Those of [`Cells::column`].
    // Not inlined in builds for debugging, where it would be a third of the code of a table.
    #[doc(hidden)]
    #[cfg_attr(not(debug_assertions), inline(always))]
    fn read_next<C: Cells>(cells: &mut C, column: &'static ColumnInfo) -> Result<Self, Error> {
        cells.column(column)
    }

    /// Returns the value as it is sent to the database, also a NULL.
    fn to_bind_or_null(&self) -> BindValue;

    /// Returns the same value borrowed.
    #[doc(hidden)]
    fn lend_or_null(&self) -> LentBind<'_>;

    /// Passes the value on. The derives call it, so that a field of a row is one call by the type of the field.
    #[doc(hidden)]
    #[inline]
    fn pass_to<'b>(&'b self, to: &mut impl TakesValues<'b>) {
        to.take(self.lend_or_null());
    }

    /// Returns the field itself, without its type. The derives call it by the type of the field, so that an
    /// unfit type is one error at the field.
    #[doc(hidden)]
    #[inline]
    fn as_field(&self) -> &dyn FieldValue {
        self
    }
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

    #[inline]
    fn of_owned_text(text: String) -> Option<T> {
        T::of_owned_text(text)
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

    #[inline]
    fn of_owned_text(text: String) -> Option<Option<T>> {
        T::of_owned_text(text).map(Some)
    }
}

/// The value of a field, of whatever column type.
#[doc(hidden)]
pub trait FieldValue {
    /// Returns the value as it is sent to the database, also a NULL.
    fn bind(&self) -> BindValue;
}

impl<T: ColumnType> FieldValue for T {
    fn bind(&self) -> BindValue {
        self.to_bind_or_null()
    }
}

/// The types that may be NULL: `Option`s.
#[diagnostic::on_unimplemented(
    message = "this value is never NULL",
    label = "`{Self}` is not an `Option`"
)]
pub trait Nullable: ColumnType {}

impl<T: Storable> Nullable for Option<T> {}
