//! Joins: queries over several tables, whose rows are tuples.

use std::marker::PhantomData;

use super::Query;
use crate::build::expr::{Maybe, RowColumns};
use crate::build::table::{RowStruct, Table};
use crate::model::RowShape;
use crate::tree::{FromSource, Join, Located, Node, Path, Select, Source, Waiver};

/// The tables of a query: one, or a tuple of joined ones. A table whose row may be missing is an `Option`.
pub trait Tables: 'static {
    /// The argument of closures such as that of [`Query::filter`]: the columns of the table, or a tuple of
    /// those of each.
    type Columns: Copy;

    #[doc(hidden)]
    fn columns(places: &mut Places<'_>) -> Self::Columns;
}

/// The sources of a query's tables, in order.
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
    pub(crate) fn next(&mut self) -> Source {
        match self.sources {
            [source, rest @ ..] => {
                self.sources = rest;
                *source
            }
            // A query has as many sources as tables. A fresh source is refused as a column of no table.
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

/// No table. It only stands for the table that [`Offer::of`](crate::Offer::of) is told.
#[doc(hidden)]
impl Tables for () {
    type Columns = ();

    fn columns(_: &mut Places<'_>) {}
}

/// The tables of a query whose rows can be written: a table, or joined tables, of which the first is written.
#[diagnostic::on_unimplemented(
    message = "the rows of `{Self}` cannot be written",
    label = "expected a table, or a join whose first rows are those of a table"
)]
pub trait WrittenTables: Tables {
    /// The table that is written.
    type Written: Table;
}

impl<T: Table> WrittenTables for T {
    type Written = T;
}

/// The tables of a query with one more.
#[diagnostic::on_unimplemented(
    message = "a query joins at most sixteen tables",
    label = "this would be one more",
    note = "use `from(query)` around the first tables, with their values in a struct by `shape!`"
)]
pub trait Append<X>: Tables {
    /// The tuple of all tables.
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

macro_rules! written_tables {
    ($first:ident $($name:ident)*) => {
        impl<$first: Table, $($name: Tables),*> WrittenTables for ($first, $($name,)*) {
            type Written = $first;
        }
    };
}

for_each_tuple!(written_tables, up_to_16);

macro_rules! append {
    ($($name:ident)+) => {
        impl<Last: Tables + RowShape + Send, $($name: Tables + RowShape + Send),+> Append<Last>
            for ($($name,)+)
        {
            type Output = ($($name,)+ Last,);
        }
    };
}

for_each_tuple!(append, up_to_15);

/// The tables that rows can be joined with: the columns of a parent, or a query of another table.
#[diagnostic::on_unimplemented(
    message = "rows cannot be joined with `{Self}`",
    label = "expected a relation, such as `s.borehole()`, or a query, such as `Lab::rows().filter(..)`"
)]
pub trait JoinTarget {
    /// The joined table; an `Option` if its row may be missing.
    type Joined;

    #[doc(hidden)]
    fn join(self, select: &mut Select);
}

impl<C: RowColumns> JoinTarget for C {
    type Joined = C::Row;

    fn join(self, select: &mut Select) {
        select.rows.push(self.probe().source);
    }
}

impl<C: RowColumns> JoinTarget for Maybe<C> {
    type Joined = Option<C::Row>;

    fn join(self, select: &mut Select) {
        select.rows.push(self.probe().source);
    }
}

impl<U: RowStruct> JoinTarget for Query<U> {
    type Joined = U;

    fn join(self, select: &mut Select) {
        select.join(self, false);
    }
}

impl Select {
    /// Returns whether it is over all rows of its source, in no order.
    fn is_whole_source(&self) -> bool {
        self.entry().path == Path::HERE
            && self.joins.is_empty()
            && self.filters.is_empty()
            && self.orders.is_empty()
            && !self.is_limited()
            && self.grouping.is_none()
            && self.lock.is_none()
            && self.waived.is_none()
    }

    /// Joins the table of `query`, whose filters become the ON condition.
    fn join<U: RowStruct>(&mut self, query: Query<U>, optional: bool) {
        let mut other = *query.select;
        let reason = match () {
            () if other.limit.is_some() || other.offset.is_some() => {
                Some("a query with a limit or an offset cannot be joined; use `from(query)`")
            }
            () if other.grouping.is_some() || other.values.is_some() => {
                Some("a query with groups, `distinct` and the like is joined as `from(query)`")
            }
            () if !other.joins.is_empty() => Some(
                "a query that joins tables cannot be joined itself; join its tables one after the other",
            ),
            () if other.body.calls_of_parents() => {
                Some("an argument of a joined call cannot follow a parent; join that parent first")
            }
            () if optional && other.is_called() && !other.table.policies().is_empty() => {
                Some("rows of a function that are under policies cannot be joined by `left_join`")
            }
            () if optional && other.summary().follows() => {
                Some("the condition of `left_join` cannot follow a parent; join that parent first")
            }
            () => None,
        };
        if let Some(reason) = reason {
            self.filters
                .push(Located { what: Node::Unfit(reason), at: other.asked_at });
        }
        // A row found by its key may have several joined rows.
        self.at_most_one = false;
        self.rows.push(other.entry());
        self.orders.append(&mut other.orders);
        if let Some(mut waived) = other.waived {
            let kept = self.waived.get_or_insert_default();
            kept.here.append(&mut waived.here);
            // The waivers of this query do not apply to the joined table.
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
            full: false,
            asked_at: other.asked_at,
        });
    }
}

impl<T: RowStruct> Query<T> {
    /// Joins the rows of another table, and keeps the rows of both that have no match: FULL JOIN. The row that is
    /// missing is `None`.
    ///
    /// Conditions, limits and policies of the query before count before the join; `filter` after it sees both rows. The
    /// filters of the joined query become the ON condition. It comes before other joins.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Plan { #[nepheline(key)] id: i64, borehole_id: i64, depth_m: f64 }
    /// # #[derive(Debug, Table)] struct Survey { #[nepheline(key)] id: i64, borehole_id: i64, depth_m: f64 }
    /// let compared: Query<(Option<Plan>, Option<Survey>)> =
    ///     Plan::rows().full_join(|p| Survey::rows().filter(|s| s.borehole_id.eq(p.borehole_id)));
    /// assert!(compared.sql(Dialect::Postgres)?.text().ends_with(
    ///     r#"FROM "plan" FULL JOIN "survey" ON "survey"."borehole_id" = "plan"."borehole_id""#
    /// ));
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// MariaDB and MySQL have no such join: the SQL is a UNION ALL of a LEFT JOIN and of the rows without a match.
    /// PostgreSQL needs a condition that it can hash or sort, such as an equality of columns.
    ///
    /// # Errors
    ///
    /// As [`left_join`](Self::left_join). On MariaDB and MySQL [`Unsupported`](crate::ErrorKind::Unsupported) for window
    /// functions, `limit_each` and subqueries over it: use [`from`](crate::from()).
    #[track_caller]
    pub fn full_join<U: RowStruct>(
        self,
        to: impl FnOnce(T::Columns) -> Query<U>,
    ) -> Query<(Option<T>, Option<U>)> {
        let has_policies =
            self.select.body.has_rows_of_table() && !self.select.table.policies().is_empty();
        let is_plain = self.select.is_whole_source() && !has_policies;
        // Behind the join its conditions would remove rows of the other side.
        let mut whole = if is_plain { self } else { super::from(self) };
        let mut other = to(whole.columns());
        let joined = &mut other.select;
        if matches!(joined.body, FromSource::Table) && !joined.table.policies().is_empty() {
            let mut rows = Select::over(joined.table, FromSource::Table, joined.asked_at);
            rows.waived = joined.waived.take().map(|mut waived| {
                let entry = rows.entry();
                waived
                    .here
                    .iter_mut()
                    .for_each(|(source, _)| *source = entry);
                waived
            });
            joined.body = FromSource::Query(Box::new(rows));
        }
        whole.select.join(other, true);
        for join in &mut whole.select.joins {
            join.full = true;
        }
        Query { select: whole.select, rows: PhantomData }
    }
}

impl<T: Tables> Query<T> {
    /// Joins the rows of another table, so that the query is over both and its rows are tuples: INNER JOIN. A
    /// row without a match is left out, unless the closure returns a nullable parent, which is joined by LEFT
    /// JOIN.
    ///
    /// The closure returns what to join: a to-one relation, a to-many relation with filters of its own, or
    /// any query. The filters of that query become the ON condition. A second call joins a third table. The
    /// orders of a joined query come after those of this one.
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
    /// When compiled, [`InvalidQuery`](crate::ErrorKind::InvalidQuery) if the joined query has a limit or an
    /// offset, or joins tables itself.
    pub fn join<J>(
        mut self,
        to: impl FnOnce(T::Columns) -> J,
    ) -> Query<<T as Append<J::Joined>>::Output>
    where
        J: JoinTarget,
        T: Append<J::Joined>,
    {
        to(self.columns()).join(&mut self.select);
        Query { select: self.select, rows: PhantomData }
    }

    /// Joins as [`join`](Self::join) does, but keeps rows without a match, with `None`: LEFT JOIN.
    ///
    /// # Errors
    ///
    /// As [`join`](Self::join), and if a filter of the joined query follows one of its parents.
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
