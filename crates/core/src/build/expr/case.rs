//! CASE, COALESCE, and values that stand alone.

use std::fmt;
use std::marker::PhantomData;

use super::{Argument, Condition, Expr, ExprExt, Level, Operand, PerRow};
use crate::model::{ColumnType, MaybeNull, Nullness, Storable, function};
use crate::tree;
use crate::tree::Node;

/// Returns a value as an expression: a bind of its type. `None` is NULL.
///
/// A value beside a column needs no wrapper; use this where a value stands alone.
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::bind;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String }
/// let query: Query<Specimen, (String, i64)> = Specimen::rows().select(|s| (s.label, bind(2026_i64)));
/// ```
pub fn bind<A: Argument>(value: A) -> Expr<A::Type> {
    Expr::from_node(value.into_argument())
}

/// Returns the first of several expressions that is not NULL: COALESCE. It is nullable only if all of them
/// are.
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::coalesce;
/// # #[derive(Debug, Table)] struct Assay { #[nepheline(key)] id: i64, due_on: Date, reported_on: Option<Date>, promised_on: Option<Date> }
/// let days: Query<Assay, Date> = Assay::rows().select(|a| coalesce((a.reported_on, a.promised_on, a.due_on)));
/// # assert!(days.sql(Dialect::Sqlite)?.text().starts_with(
/// #     r#"SELECT COALESCE("assay"."reported_on", "assay"."promised_on", "assay"."due_on") FROM"#
/// # ));
/// # Ok::<(), Error>(())
/// ```
pub fn coalesce<L: Level, A: Alternatives<L>>(alternatives: A) -> Expr<A::Type, L> {
    Expr::from_node(alternatives.into_node())
}

/// Two to five expressions or values of one type, for [`coalesce`]. The first is an expression.
#[diagnostic::on_unimplemented(
    message = "`{Self}` are not alternatives for each other",
    label = "expected a tuple of two to five expressions or values of one type"
)]
pub trait Alternatives<L = PerRow> {
    /// The type of the first value that is not NULL.
    type Type: ColumnType;

    #[doc(hidden)]
    fn into_node(self) -> Node;
}

/// The nullness of a list of alternatives.
macro_rules! all_null {
    ($null:ty;) => { $null };
    ($null:ty; $first:ident $($other:ident)*) => {
        <$null as Nullness>::And<all_null!($first::Null; $($other)*)>
    };
}

macro_rules! alternatives {
    ($count:literal: $($other:ident)+) => {
        impl<L: Level, First, $($other),+> Alternatives<L> for (First, $($other),+)
        where
            First: ExprExt<Level = L>,
            $($other: Operand<<First::Type as ColumnType>::Base, L>),+
        {
            type Type = <all_null!(<First::Type as ColumnType>::Null; $($other)+) as Nullness>::Of<
                <First::Type as ColumnType>::Base,
            >;

            fn into_node(self) -> Node {
                #[allow(non_snake_case, reason = "one name serves for the type and the value")]
                let (first, $($other),+) = self;
                let nodes = [first.into_node(), $($other.into_operand()),+];
                let sql_type = <First::Type as ColumnType>::Base::SQL_TYPE;
                Node::call(&function::COALESCE[$count - 2], sql_type, nodes)
            }
        }
    };
}

alternatives!(2: A);
alternatives!(3: A B);
alternatives!(4: A B C);
alternatives!(5: A B C D);

/// Begins `CASE WHEN .. THEN .. ELSE .. END`.
///
/// The first true condition decides. All values have one type, which the first one sets.
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::case;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, top_m: f64 }
/// let depths: Query<Specimen, String> = Specimen::rows().select(|s| {
///     case()
///         .when(s.top_m.gt(500), "deep")
///         .when(s.top_m.gt(100), "middle")
///         .otherwise("shallow")
/// });
/// assert!(depths.sql(Dialect::Sqlite)?.text().starts_with(
///     r#"SELECT CASE WHEN "specimen"."top_m" > ? THEN ? WHEN "specimen"."top_m" > ? THEN ? ELSE ? END FROM"#
/// ));
/// # Ok::<(), Error>(())
/// ```
pub fn case() -> CaseStart {
    CaseStart(())
}

/// A `CASE` without a branch yet; made by [`case`].
#[derive(Debug)]
#[must_use = "a case does nothing without a branch"]
pub struct CaseStart(());

impl CaseStart {
    /// Adds the value for rows where `condition` is true.
    pub fn when<L: Level, A: Argument<L>>(
        self,
        condition: Condition<L>,
        value: A,
    ) -> Case<<A::Type as ColumnType>::Base, <A::Type as ColumnType>::Null, L> {
        Case { branches: vec![[condition.into_node(), value.into_argument()]], holds: PhantomData }
    }
}

/// A `CASE` of type `T`, nullable if `N` says so; made by [`case`].
#[must_use = "a case becomes an expression with `otherwise`, or with `or_null`"]
pub struct Case<T, N, L = PerRow> {
    branches: Vec<[Node; 2]>,
    holds: PhantomData<Expr<(T, N), L>>,
}

impl<T: Storable, N: Nullness, L: Level> Case<T, N, L> {
    /// Adds the value for rows where `condition` is true and no earlier condition is.
    pub fn when<O: Operand<T, L>>(
        mut self,
        condition: Condition<L>,
        value: O,
    ) -> Case<T, N::Or<O::Null>, L> {
        self.branches
            .push([condition.into_node(), value.into_operand()]);
        Case { branches: self.branches, holds: PhantomData }
    }

    /// Sets the value for rows where no condition is true: ELSE.
    pub fn otherwise<O: Operand<T, L>>(
        self,
        value: O,
    ) -> Expr<<N::Or<O::Null> as Nullness>::Of<T>, L> {
        self.end(Some(value.into_operand()))
    }

    /// Sets NULL for rows where no condition is true.
    pub fn or_null(self) -> Expr<<MaybeNull as Nullness>::Of<T>, L> {
        self.end(None)
    }

    fn end<U>(self, otherwise: Option<Node>) -> Expr<U, L> {
        let case = tree::Case { branches: self.branches, otherwise, sql_type: T::SQL_TYPE };
        Expr::from_node(Node::of_case(case))
    }
}

// By hand, because the derive would ask for `T: Debug`.
impl<T, N, L> fmt::Debug for Case<T, N, L> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Case").field(&self.branches).finish()
    }
}
