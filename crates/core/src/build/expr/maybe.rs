//! The columns of a row that may be missing: a parent over a nullable reference.

use super::level::{Level, PerRow};
use super::{Column, Condition, Expr, ExprExt};
use crate::build::table::RowStruct;
use crate::model::ColumnType;
use crate::tree::{Case, Node, RawColumn};

/// The columns of a row that may be missing, with the methods of an `Option`.
///
/// A nullable reference returns it: `s.analyst()` where `analyst_id` is an `Option`. The SQL is a LEFT JOIN.
/// The values of a missing row are NULL.
///
/// ```
/// use nepheline::prelude::*;
///
/// #[derive(Debug, Table)]
/// struct Analyst {
///     #[nepheline(key)]
///     id: i64,
///     name: String,
/// }
///
/// #[derive(Debug, Table)]
/// struct Specimen {
///     #[nepheline(key)]
///     id: i64,
///     #[nepheline(references = Analyst)]
///     analyst_id: Option<i64>,
/// }
///
/// let names: Query<Specimen, (i64, Option<String>)> =
///     Specimen::rows().select(|s| (s.id, s.analyst().map(|a| a.name)));
/// assert_eq!(
///     names.sql(Dialect::Sqlite)?.text(),
///     r#"SELECT "specimen"."id", "analyst"."name" FROM "specimen" LEFT JOIN "analyst" ON "analyst"."id" = "specimen"."analyst_id""#,
/// );
/// # Ok::<(), Error>(())
/// ```
#[derive(Debug, Clone, Copy)]
pub struct Maybe<C> {
    columns: C,
}

/// The columns of a table. `#[derive(Table)]` implements it.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a relation",
    label = "expected a relation, such as `s.borehole()`, or a query, such as `Lab::rows().filter(..)`",
    note = "a query with groups or selected values is joined as a table: `from(query)`, its values in a struct by `shape!`"
)]
pub trait RowColumns: Copy {
    /// The struct with these columns.
    type Row: RowStruct<Columns = Self>;

    /// Returns a column that is NULL only where the row is missing.
    #[doc(hidden)]
    fn probe(&self) -> RawColumn;
}

/// The results that [`Maybe::map`] accepts: an expression, which becomes nullable, or the columns of a
/// further row, which may be missing too.
pub trait Mapped {
    /// The result where the row may be missing.
    type Maybe;

    #[doc(hidden)]
    fn into_maybe(self, probe: RawColumn) -> Self::Maybe;
}

impl<C: RowColumns> Maybe<C> {
    #[doc(hidden)]
    pub fn new(columns: C) -> Maybe<C> {
        Maybe { columns }
    }

    pub(crate) fn probe(&self) -> RawColumn {
        self.columns.probe()
    }

    pub(super) fn columns(self) -> C {
        self.columns
    }

    /// Returns an expression over the row, NULL where the row is missing.
    pub fn map<M: Mapped>(self, of: impl FnOnce(C) -> M) -> M::Maybe {
        of(self.columns).into_maybe(self.columns.probe())
    }

    /// Returns an expression over the row, or a further row, which may be missing itself.
    pub fn and_then<M: Mapped>(self, of: impl FnOnce(C) -> M) -> M::Maybe {
        self.map(of)
    }

    /// Returns the columns of the row, and keeps only rows of the query that have it: an INNER JOIN in place of the LEFT
    /// JOIN.
    ///
    /// The row is required wherever this stands, also in `select`, below OR and inside a subquery: rows without it are
    /// left out, from counts too.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Analyst { #[nepheline(key)] id: i64, name: String }
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, #[nepheline(references = Analyst)] analyst_id: Option<i64> }
    /// let names: Query<Specimen, (i64, String)> =
    ///     Specimen::rows().select(|s| (s.id, s.analyst().required().name));
    /// assert_eq!(
    ///     names.sql(Dialect::Sqlite)?.text(),
    ///     r#"SELECT "specimen"."id", "analyst"."name" FROM "specimen" INNER JOIN "analyst" ON "analyst"."id" = "specimen"."analyst_id""#,
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    pub fn required(self) -> C {
        <C::Row as RowStruct>::columns(self.columns.probe().source.required())
    }

    /// Tests whether the row exists.
    pub fn is_some(self) -> Condition {
        !self.is_none()
    }

    /// Tests whether the row is missing.
    pub fn is_none(self) -> Condition {
        Condition::from_node(Node::Column(self.columns.probe()).is_null())
    }

    /// Tests whether the row exists and the condition is true for it.
    pub fn is_some_and(self, condition: impl FnOnce(C) -> Condition) -> Condition {
        self.is_some() & condition(self.columns)
    }
}

impl<T: ColumnType> Mapped for Column<T> {
    type Maybe = Expr<Option<T::Base>>;

    fn into_maybe(self, _probe: RawColumn) -> Self::Maybe {
        Expr::from_node(self.into_node())
    }
}

impl<T: ColumnType, L: Level> Mapped for Expr<T, L> {
    type Maybe = Expr<Option<T::Base>, L>;

    fn into_maybe(self, probe: RawColumn) -> Self::Maybe {
        Expr::from_node(where_there_is(probe, self.into_node()))
    }
}

impl Mapped for Condition<PerRow> {
    type Maybe = Condition<PerRow>;

    fn into_maybe(self, probe: RawColumn) -> Self::Maybe {
        Condition::from_node(where_there_is(probe, self.into_node()))
    }
}

impl<C: RowColumns> Mapped for Maybe<C> {
    type Maybe = Maybe<C>;

    fn into_maybe(self, _probe: RawColumn) -> Self::Maybe {
        self
    }
}

impl<C: RowColumns> Mapped for C {
    type Maybe = Maybe<C>;

    fn into_maybe(self, _probe: RawColumn) -> Self::Maybe {
        Maybe::new(self)
    }
}

/// Returns an expression that is NULL where the row is missing, also if it would turn NULLs into something
/// else.
fn where_there_is(probe: RawColumn, value: Node) -> Node {
    let sql_type = value.sql_type();
    let there = Node::Column(probe).is_null().negated();
    Node::of_case(Case { branches: vec![[there, value]], otherwise: None, sql_type })
}
