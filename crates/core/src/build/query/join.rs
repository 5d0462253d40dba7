//! Several tables in one query: pairs of rows, and more than pairs.

use std::marker::PhantomData;

use super::Query;
use crate::build::expr::{Maybe, RowColumns};
use crate::build::table::RowStruct;
use crate::model::RowShape;
use crate::tree::{Asked, Join, Node, Path, Select, Source, Waiver};

/// What a query is over: a table, or several that are joined, each of whose rows may be missing
/// where it is an `Option`.
pub trait Tables: 'static {
    /// What closures such as that of [`Query::filter`] are given: the columns of the table, or a
    /// tuple of those of each.
    type Columns: Copy;

    #[doc(hidden)]
    fn columns(places: &mut Places<'_>) -> Self::Columns;
}

/// Where the tables of a query stand, in their order.
#[doc(hidden)]
#[derive(Debug)]
pub struct Places<'a> {
    sources: &'a [Source],
}

impl<'a> Places<'a> {
    pub(crate) fn of(sources: &'a [Source]) -> Places<'a> {
        Places { sources }
    }

    #[inline]
    fn next(&mut self) -> Source {
        match self.sources {
            [source, rest @ ..] => {
                self.sources = rest;
                *source
            }
            // There are as many as there are tables; this one would be refused as a stranger.
            [] => Source::fresh(),
        }
    }
}

impl<T: RowStruct> Tables for T {
    type Columns = T::Columns;

    #[inline]
    fn columns(places: &mut Places<'_>) -> T::Columns {
        <T as RowStruct>::columns(places.next())
    }
}

impl<T: RowStruct> Tables for Option<T> {
    type Columns = Maybe<T::Columns>;

    fn columns(places: &mut Places<'_>) -> Maybe<T::Columns> {
        Maybe::new(<T as RowStruct>::columns(places.next()))
    }
}

/// Tables with one more beside them.
pub trait Append<X>: Tables {
    /// A tuple of all of them.
    type Output: Tables + RowShape + Send;
}

impl<T: RowStruct, X: Tables + RowShape + Send> Append<X> for T {
    type Output = (T, X);
}

macro_rules! tables {
    ($($name:ident)+) => {
        impl<$($name: Tables),+> Tables for ($($name,)+) {
            type Columns = ($($name::Columns,)+);

            fn columns(places: &mut Places<'_>) -> Self::Columns {
                ($($name::columns(places),)+)
            }
        }
    };
}

for_each_tuple!(tables, up_to_16);

macro_rules! append {
    ($($name:ident)+) => {
        impl<Last: Tables + RowShape + Send, $($name: Tables + RowShape + Send),+> Append<Last>
            for ($($name,)+)
        {
            type Output = ($($name,)+ Last,);
        }
    };
}

for_each_tuple!(append, up_to_8);

/// What rows can be joined with: the columns of a parent, or a query of another table.
#[diagnostic::on_unimplemented(
    message = "rows cannot be joined with `{Self}`",
    label = "expected a relation, such as `s.borehole()`, or a query, such as `Lab::rows().filter(..)`"
)]
pub trait JoinsTo {
    /// The table beside the others; an `Option` where there may be no row of it.
    type Joined;

    #[doc(hidden)]
    fn join(self, select: &mut Select);
}

impl<C: RowColumns> JoinsTo for C {
    type Joined = C::Row;

    fn join(self, select: &mut Select) {
        select.rows.push(self.probe().source);
    }
}

impl<C: RowColumns> JoinsTo for Maybe<C> {
    type Joined = Option<C::Row>;

    fn join(self, select: &mut Select) {
        select.rows.push(self.probe().source);
    }
}

impl<U: RowStruct> JoinsTo for Query<U> {
    type Joined = U;

    fn join(self, select: &mut Select) {
        select.join(self, false);
    }
}

impl Select {
    /// Puts the table of `query` beside the others, its filters deciding which rows belong together.
    fn join<U: RowStruct>(&mut self, query: Query<U>, optional: bool) {
        let mut other = *query.select;
        let reason = match () {
            () if other.limit.is_some() || other.offset.is_some() => {
                Some("a query with a limit or an offset cannot be joined")
            }
            () if other.special.is_some() || other.values.is_some() => {
                Some("a query of groups, distinct rows and the like is joined as `from(query)`")
            }
            () if !other.joins.is_empty() => Some("a query that joins tables cannot be joined"),
            () if optional && other.facts().follows() => {
                Some("a table that may be missing cannot be joined by a parent that is followed")
            }
            () => None,
        };
        if let Some(reason) = reason {
            self.filters
                .push(Asked { what: Node::Unfit(reason), at: other.asked_at });
        }
        // A row by its key may have several rows beside it.
        self.at_most_one = false;
        self.rows.push(other.entry());
        self.orders.append(&mut other.orders);
        if let Some(mut waived) = other.waived {
            let kept = self.waived.get_or_insert_default();
            kept.here.append(&mut waived.here);
            // What it waives for itself does not hold for what it is joined to.
            let here = Source { id: other.source, path: Path::HERE };
            let all = waived
                .all
                .into_iter()
                .flat_map(|at| Waiver::of_all(other.table, at));
            kept.here.extend(
                waived
                    .everywhere
                    .into_iter()
                    .chain(all)
                    .map(|waiver| (here, waiver)),
            );
        }
        self.joins.push(Join {
            source: other.source,
            table: other.table,
            body: other.body,
            on: other.filters,
            optional,
            asked_at: other.asked_at,
        });
    }
}

impl<T: Tables> Query<T> {
    /// Puts beside each row the rows of another table that belong to it, so that the query is over
    /// both and its rows are pairs. A row without any such row is left out, unless it leads to an
    /// `Option`.
    ///
    /// The closure returns what to join: a to-one relation, a to-many relation with filters of its
    /// own, or any query, whose filters then decide which rows belong together. Called again it adds
    /// a third table. The orders of a joined query come after those of this one.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] #[nepheline(children(specimens: Specimen by borehole_id))] struct Borehole { #[nepheline(key)] id: i64, depth_m: f64 }
    /// # #[derive(Debug, Table)] struct Analyst { #[nepheline(key)] id: i64 }
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, #[nepheline(references = Borehole)] borehole_id: i64, #[nepheline(references = Analyst)] analyst_id: Option<i64>, base_m: f64 }
    /// let beyond_the_end: Query<(Specimen, Borehole)> =
    ///     Specimen::rows().join(|s| s.borehole()).filter(|(s, b)| s.base_m.gt(b.depth_m));
    /// let described: Query<(Borehole, Specimen, Option<Analyst>)> =
    ///     Borehole::rows().join(|b| b.specimens()).join(|(_, s)| s.analyst());
    /// # let sql = beyond_the_end.sql(Dialect::Sqlite)?;
    /// # assert!(sql.text().ends_with(r#"INNER JOIN "borehole" ON "borehole"."id" = "specimen"."borehole_id" WHERE "specimen"."base_m" > "borehole"."depth_m""#));
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// # Errors
    ///
    /// When compiled, [`UnfitParts`](crate::ErrorKind::UnfitParts) for a joined query that has a
    /// limit or an offset, or joins tables itself.
    pub fn join<J>(
        mut self,
        to: impl FnOnce(T::Columns) -> J,
    ) -> Query<<T as Append<J::Joined>>::Output>
    where
        J: JoinsTo,
        T: Append<J::Joined>,
    {
        to(self.columns()).join(&mut self.select);
        Query { select: self.select, rows: PhantomData }
    }

    /// As [`join`](Self::join) with a query, but a row without any row beside it stays, with `None`.
    ///
    /// # Errors
    ///
    /// As [`join`](Self::join), and where a filter of the joined query follows one of its parents.
    pub fn left_join<U: RowStruct>(
        mut self,
        to: impl FnOnce(T::Columns) -> Query<U>,
    ) -> Query<<T as Append<Option<U>>>::Output>
    where
        T: Append<Option<U>>,
    {
        let other = to(self.columns());
        self.select.join(other, true);
        Query { select: self.select, rows: PhantomData }
    }
}
