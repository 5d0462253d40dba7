//! The columns of a row that there may not be: of a parent that is followed from a nullable reference.

use super::level::{Level, PerRow};
use super::{Column, Condition, Expr, Expression};
use crate::build::table::RowStruct;
use crate::model::ColumnType;
use crate::tree::{Case, Node, RawColumn};

/// The columns of a row that there may not be, as an `Option` of them would read.
///
/// A nullable reference leads to it, through a LEFT JOIN: `s.analyst()` where `analyst_id` is an
/// `Option`. What is asked of a missing row is NULL.
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

/// The columns of a table. Implemented by `#[derive(Table)]`.
#[diagnostic::on_unimplemented(
    message = "`{Self}` does not lead to rows of a table",
    label = "expected a relation, such as `s.borehole()`, or a query, such as `Lab::rows().filter(..)`"
)]
pub trait RowColumns: Copy {
    /// The struct whose fields they are.
    type Row: RowStruct<Columns = Self>;

    /// A column that is NULL only where there is no row.
    #[doc(hidden)]
    fn probe(&self) -> RawColumn;
}

/// What [`Maybe::map`] can make of a row that there may not be: an expression, which becomes
/// nullable, or the columns of a further row, which there may not be either.
pub trait Mapped {
    /// What it is where the row may be missing.
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

    /// Something of the row, NULL where there is none.
    pub fn map<M: Mapped>(self, of: impl FnOnce(C) -> M) -> M::Maybe {
        of(self.columns).into_maybe(self.columns.probe())
    }

    /// Something of the row that may be missing itself.
    pub fn and_then<M: Mapped>(self, of: impl FnOnce(C) -> M) -> M::Maybe {
        self.map(of)
    }

    /// Returns whether there is such a row.
    pub fn is_some(self) -> Condition {
        !self.is_none()
    }

    /// Returns whether there is no such row.
    pub fn is_none(self) -> Condition {
        Condition::from_node(Node::Column(self.columns.probe()).is_null())
    }

    /// Returns whether there is such a row and the condition is true for it.
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

/// An expression, and NULL where there is no row: it might be something else of NULLs only.
fn where_there_is(probe: RawColumn, value: Node) -> Node {
    let sql_type = value.sql_type();
    let there = Node::Column(probe).is_null().negated();
    Node::of_case(Case { branches: vec![[there, value]], otherwise: None, sql_type })
}
