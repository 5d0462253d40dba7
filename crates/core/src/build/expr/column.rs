//! Columns, and the assignments of an update.

use std::fmt;
use std::marker::PhantomData;

use super::{Expr, MaybeOperand, Operand, Selection};
use crate::model::{BindValue, ColumnInfo, ColumnType, NeverNull, Storable, function};
use crate::tree::{Assignment, Node, RawColumn, Source};

/// A column of a table in a query: a field of the struct that closures receive.
///
/// It is a small `Copy` value. Its methods are in [`ExprExt`](crate::ExprExt).
pub struct Column<T> {
    raw: RawColumn,
    holds: PhantomData<fn() -> T>,
}

impl<T> Column<T> {
    #[doc(hidden)]
    #[inline]
    pub fn new(source: Source, info: &'static ColumnInfo) -> Column<T> {
        Column { raw: RawColumn { source, info }, holds: PhantomData }
    }

    /// Returns the source of the column's table.
    #[doc(hidden)]
    pub fn source(&self) -> Source {
        self.raw.source
    }

    #[doc(hidden)]
    pub fn info(self) -> &'static ColumnInfo {
        self.raw.info
    }

    #[doc(hidden)]
    pub fn raw(self) -> RawColumn {
        self.raw
    }

    /// Selects the column.
    #[doc(hidden)]
    pub fn push_into(self, selection: &mut Selection) {
        selection.push_column(self.raw);
    }
}

/// Makes an expression of a column, so that columns of one type can be alternatives.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Site { #[nepheline(key)] id: i64, #[nepheline(by_code_point)] region: String }
/// # #[derive(Debug, Table)] struct Borehole { #[nepheline(key)] id: i64, #[nepheline(references = Site)] site_id: i64, #[nepheline(by_code_point)] rig: String }
/// enum By {
///     Region,
///     Rig,
/// }
///
/// /// Counts boreholes by a key that is chosen at run time.
/// fn counted(by: By) -> Query<Borehole, (String, i64), PerGroup> {
///     Borehole::rows().select(|b| {
///         let key: Expr<String> = match by {
///             By::Region => b.site().region.into(),
///             By::Rig => b.rig.into(),
///         };
///         (per(key), count())
///     })
/// }
///
/// assert_eq!(
///     counted(By::Rig).sql(Dialect::Sqlite)?.text(),
///     r#"SELECT "borehole"."rig", count(*) FROM "borehole" GROUP BY 1"#,
/// );
/// # let _ = counted(By::Region);
/// # Ok::<(), Error>(())
/// ```
impl<T: ColumnType> From<Column<T>> for Expr<T> {
    fn from(column: Column<T>) -> Expr<T> {
        Expr::from_node(Node::Column(column.raw))
    }
}

impl<T> Clone for Column<T> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T> Copy for Column<T> {}

impl<T> fmt::Debug for Column<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Column({}.{})", self.raw.info.table(), self.raw.info.name())
    }
}

impl<T: Storable> Column<T> {
    /// Assigns a value, or an expression over the row as it was before the update.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, top_m: f64, analyst_id: Option<i64> }
    /// let lower = Specimen::row(7).update(|s| (s.top_m.set(s.top_m + 0.5), s.analyst_id.set_null()));
    /// assert_eq!(
    ///     lower.sql(Dialect::Sqlite)?.text(),
    ///     r#"UPDATE "specimen" SET "top_m" = "specimen"."top_m" + ?, "analyst_id" = ? WHERE "specimen"."id" = ?"#,
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    pub fn set(self, value: impl Operand<T, Null = NeverNull>) -> Assignment {
        Assignment { column: self.raw().info, value: value.into_operand() }
    }
}

impl<T: ColumnType> Column<T> {
    /// Assigns the default that the database declares for the column. In an update, SQLite has no such assignment.
    pub fn set_default(self) -> Assignment {
        let value = Node::call(&function::DEFAULT, T::Base::SQL_TYPE, []);
        Assignment { column: self.raw().info, value }
    }
}

impl<T: Storable> Column<Option<T>> {
    /// Assigns a value, or an expression over the row as it was before the update. NULL is assigned by
    /// [`set_null`](Self::set_null), an `Option` by [`set_maybe`](Self::set_maybe).
    pub fn set(self, value: impl Operand<T>) -> Assignment {
        Assignment { column: self.raw().info, value: value.into_operand() }
    }

    /// Assigns the value of an `Option`: `None` is NULL.
    pub fn set_maybe(self, value: impl MaybeOperand<T>) -> Assignment {
        Assignment { column: self.raw().info, value: value.into_operand() }
    }

    /// Assigns NULL.
    pub fn set_null(self) -> Assignment {
        let value = Node::Bind(BindValue::Null(T::SQL_TYPE));
        Assignment { column: self.raw().info, value }
    }
}
