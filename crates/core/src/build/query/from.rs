//! Derived tables, common table expressions, recursion, and set operations.

use std::fmt;
use std::marker::PhantomData;
use std::panic::Location;
use std::sync::Arc;

use super::{Query, Tables};
use crate::build::expr::Level;
use crate::build::table::RowStruct;
use crate::model::{BindValue, Origin, SqlType, TableInfo, function};
use crate::tree::{
    Comparison, CteQuery, FromSource, Located, Node, Path, ROUND, RawColumn, Recursion, Select,
    SetOperator, Sets, Source,
};

/// Uses a query as a table (a derived table), whose columns are the fields of the struct that its rows are
/// read into: to filter by a computed value, to group groups, to join totals.
///
/// The order of the inner query only counts together with its limit; order the outer query.
///
/// ```
/// use nepheline::from;
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, borehole_id: i64, top_m: f64, base_m: f64 }
/// #[derive(Debug, RowShape)]
/// struct PerBorehole {
///     borehole_id: i64,
///     specimens: i64,
/// }
///
/// let per_borehole =
///     Specimen::rows().select(|s| shape!(PerBorehole { borehole_id: per(s.borehole_id), specimens: count() }));
/// // How many boreholes have so many specimens: groups of groups.
/// let sizes: Query<PerBorehole, (i64, i64), _> = from(per_borehole)
///     .filter(|b| b.specimens.gt(3))
///     .select(|b| (per(b.specimens), count()));
/// assert_eq!(
///     sizes.sql(Dialect::Sqlite)?.text(),
///     r#"SELECT "per_borehole"."specimens", count(*) FROM (SELECT "specimen"."borehole_id" AS "borehole_id", count(*) AS "specimens" FROM "specimen" GROUP BY 1) AS "per_borehole" WHERE "per_borehole"."specimens" > ? GROUP BY 1"#,
/// );
/// # Ok::<(), Error>(())
/// ```
///
/// # Errors
///
/// When compiled, [`ColumnNotInQuery`](crate::ErrorKind::ColumnNotInQuery) if the inner query uses columns of
/// a query around it, which engines do not allow in FROM.
#[track_caller]
pub fn from<T: Tables, R: RowStruct, L: Level>(query: Query<T, R, L>) -> Query<R> {
    Query::over_body(FromSource::Query(Box::new(query.into_source())))
}

/// Defines a common table expression (WITH): a query that one statement uses in several places. It is written
/// and computed once.
///
/// ```
/// use nepheline::cte;
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, borehole_id: i64 }
/// #[derive(Debug, RowShape)]
/// struct PerBorehole {
///     borehole_id: i64,
///     specimens: i64,
/// }
///
/// let totals = cte(
///     Specimen::rows().select(|s| shape!(PerBorehole { borehole_id: per(s.borehole_id), specimens: count() })),
/// )
/// .called("totals");
/// let mean = totals.rows().select(|t| avg(t.specimens)).value();
/// let above: Query<PerBorehole> = totals.rows().filter(|t| t.specimens.cast::<f64>().gt(mean));
/// assert_eq!(
///     above.sql(Dialect::Sqlite)?.text(),
///     r#"WITH "totals" AS (SELECT "specimen"."borehole_id" AS "borehole_id", count(*) AS "specimens" FROM "specimen" GROUP BY 1) SELECT "per_borehole"."borehole_id", "per_borehole"."specimens" FROM "totals" AS "per_borehole" WHERE CAST("per_borehole"."specimens" AS REAL) > (SELECT avg("per_borehole_2"."specimens") FROM "totals" AS "per_borehole_2")"#,
/// );
/// # Ok::<(), Error>(())
/// ```
pub fn cte<T: Tables, R: RowStruct, L: Level>(query: Query<T, R, L>) -> Cte<R> {
    let (id, fields) = (Source::fresh().id, R::INFO);
    let query = CteQuery { id, select: query.into_source(), fields, name: None };
    Cte { query: Arc::new(query), rows: PhantomData }
}

/// A common table expression; made by [`cte`].
pub struct Cte<R> {
    query: Arc<CteQuery>,
    rows: PhantomData<fn() -> R>,
}

impl<R: RowStruct> Cte<R> {
    /// Names the expression in the SQL. Without it the name is `nepheline_1`, counted in the statement.
    ///
    /// # Errors
    ///
    /// When compiled, [`InvalidQuery`](crate::ErrorKind::InvalidQuery) for a name that is empty, longer than 63
    /// bytes, that of a table or of another expression in the statement.
    #[must_use]
    pub fn called(self, name: impl Into<Arc<str>>) -> Cte<R> {
        let query = CteQuery { name: Some(name.into()), ..Arc::unwrap_or_clone(self.query) };
        Cte { query: Arc::new(query), rows: PhantomData }
    }

    /// Returns a query over its rows; each call is another use.
    #[track_caller]
    pub fn rows(&self) -> Query<R> {
        Query::over_body(FromSource::Cte(self.query.clone()))
    }
}

// Written by hand, because the derives would require `R: Clone` and `R: Debug`.
impl<R> Clone for Cte<R> {
    fn clone(&self) -> Self {
        Cte { query: self.query.clone(), rows: PhantomData }
    }
}

impl<R> fmt::Debug for Cte<R> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Cte").field(&self.query).finish()
    }
}

/// The depth limit of nested queries, so that cloning and dropping them may recurse.
const DEEPEST: usize = 50;

impl<T: Tables, R> Query<T, R> {
    /// Returns the query over a table that is only known at run time.
    pub(crate) fn over_runtime(
        table: &'static TableInfo,
        at: &'static Location<'static>,
    ) -> Query<T, R> {
        Query { select: select_over(table, FromSource::Table, at), rows: PhantomData }
    }
}

impl<R: RowStruct> Query<R> {
    #[track_caller]
    pub(crate) fn over_body(body: FromSource) -> Query<R> {
        let select = select_over(R::INFO, body, Location::caller());
        Query { select, rows: PhantomData }
    }
}

// Apart from the type of the rows, so that it is compiled once.
fn select_over(
    table: &'static TableInfo,
    body: FromSource,
    at: &'static Location<'static>,
) -> Box<Select> {
    let mut select = Select::over(table, body, Origin::of(at));
    if select.body.depth() > DEEPEST {
        select.body = FromSource::Table;
        select
            .filters
            .push(Located { what: Node::TooDeep, at: select.asked_at });
    }
    Box::new(select)
}

/// Follows rows to further rows, round by round (WITH RECURSIVE): it begins with the rows of `start`, and
/// `step` finds more from the rows of the previous round, until a round finds none.
///
/// `step` receives the rows of the previous round as a query, and must use it exactly once, in FROM or in a
/// join. At most `rounds` rounds follow the start, which ends the recursion where rows refer to each other in
/// a circle. Rows further away are not returned.
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::recursive;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, #[nepheline(by_code_point)] label: String, parent_id: Option<i64> }
/// #[derive(Debug, RowShape)]
/// struct Part {
///     id: i64,
///     #[nepheline(by_code_point)]
///     label: String,
///     level: i64,
/// }
///
/// // Specimen 46, what was split from it, what was split from that, and so on.
/// let start = Specimen::row(46).select(|s| shape!(Part { id: s.id, label: s.label, level: bind(0_i64) }));
/// let tree: Query<Part> = recursive(start, 20, |whole| {
///     Specimen::rows()
///         .join(|s| whole.filter(|w| s.parent_id.eq(w.id)))
///         .select(|(s, w)| shape!(Part { id: s.id, label: s.label, level: w.level + 1 }))
/// })
/// .order_by(|p| (p.level.asc(), p.label.asc()));
/// # assert!(tree.sql(Dialect::Postgres)?.text().contains("WITH RECURSIVE"));
/// # Ok::<(), Error>(())
/// ```
///
/// # Errors
///
/// When compiled, [`InvalidQuery`](crate::ErrorKind::InvalidQuery) if `step` does not use the previous rows
/// exactly once, or if either query has a limit.
/// exactly once, or if either query has a limit.
#[track_caller]
pub fn recursive<T, R, L, U, M>(
    start: Query<T, R, L>,
    rounds: u32,
    step: impl FnOnce(Query<R>) -> Query<U, R, M>,
) -> Query<R>
where
    T: Tables,
    R: RowStruct,
    L: Level,
    U: Tables,
    M: Level,
{
    let mut start = start.into_source();
    let mut step = step(Query::over_body(FromSource::RecursiveReference)).into_source();
    let unfit = match step.rounds_before() {
        _ if start.is_limited() || step.is_limited() => Some(LIMITED_ROUNDS),
        None => Some(USED_OTHERWISE),
        Some(before) => {
            let round = Node::Column(RawColumn { source: before, info: &ROUND });
            let next = [round.clone(), Node::number(1)];
            start.keys.push(Node::number(0));
            step.keys
                .push(Node::call(&function::ADD, SqlType::Integer, next));
            let going_on =
                Node::compare(Comparison::Less, round, Node::Bind(BindValue::Int(rounds.into())));
            step.filters
                .push(Located { what: going_on, at: step.asked_at });
            None
        }
    };
    let mut query = Query::over_body(FromSource::Recursion(Box::new(Recursion { start, step })));
    if let Some(reason) = unfit {
        let at = query.select.asked_at;
        query
            .select
            .filters
            .push(Located { what: Node::Unfit(reason), at });
    }
    query
}

const LIMITED_ROUNDS: &str =
    "the parts of a recursion cannot have limits; limit the whole recursion instead";
const USED_OTHERWISE: &str =
    "the step of a recursion must use the previous rows exactly once, in FROM or in a join";

impl<T, R, L> Query<T, R, L> {
    /// Returns the query as the source of another, without orders that would have no effect.
    fn into_source(self) -> Select {
        let mut select = *self.select;
        let of_each = select
            .grouping
            .as_ref()
            .is_some_and(|grouping| grouping.of_each.is_some());
        if !select.is_limited() && !of_each {
            select.orders.clear();
        }
        select
    }
}

impl Select {
    /// Returns the set operation that this query is, if another operand can be appended to it, or a new one
    /// with this query alone. A chain is evaluated from left to right, but some engines evaluate INTERSECT
    /// first.
    fn into_sets(self, operator: SetOperator) -> Sets {
        let first = |operator: SetOperator| operator == SetOperator::Intersect;
        match self.body {
            FromSource::Sets(sets)
                if self.filters.is_empty()
                    && self.joins.is_empty()
                    && self.values.is_none()
                    && self.grouping.is_none()
                    && self.lock.is_none()
                    && self.waived.is_none()
                    && self.keys.is_empty()
                    && self.limit.is_none()
                    && self.offset.is_none()
                    && sets
                        .others
                        .iter()
                        .all(|(before, _)| first(*before) == first(operator)) =>
            {
                *sets
            }
            body => Sets { first: Select { body, ..self }, others: Vec::new() },
        }
    }

    /// Returns the source of the previous round's rows, if the query uses them exactly once.
    fn rounds_before(&self) -> Option<Source> {
        let own = std::iter::once((self.source, &self.body));
        let joined = self.joins.iter().map(|join| (join.source, &join.body));
        let again = own
            .chain(joined)
            .filter(|(_, body)| matches!(body, FromSource::RecursiveReference));
        let mut again = again.map(|(id, _)| Source { id, path: Path::HERE });
        again.next().filter(|_| again.next().is_none())
    }
}

/// Set operations over queries that are read into the same struct. The result is a query of its own: filter,
/// order and limit it, or combine it again. Either side may have a limit.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Site { #[nepheline(key)] id: i64, #[nepheline(by_code_point)] name: String }
/// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64, #[nepheline(by_code_point)] name: String }
/// #[derive(Debug, RowShape)]
/// struct Named {
///     #[nepheline(by_code_point)]
///     name: String,
/// }
///
/// let sites = Site::rows().select(|s| shape!(Named { name: s.name }));
/// let labs = Lab::rows().select(|l| shape!(Named { name: l.name }));
/// let all = sites.union(labs).order_by(|n| n.name.asc()).limit(20);
/// assert_eq!(
///     all.sql(Dialect::Sqlite)?.text(),
///     r#"SELECT "named"."name" FROM (SELECT "site"."name" AS "name" FROM "site" UNION SELECT "lab"."name" AS "name" FROM "lab") AS "named" ORDER BY "named"."name" LIMIT +?"#,
/// );
/// # Ok::<(), Error>(())
/// ```
impl<T: Tables, R: RowStruct, L: Level> Query<T, R, L> {
    /// Combines the rows of both queries, without duplicates: UNION. Text is compared by code point.
    #[track_caller]
    pub fn union<U: Tables, M: Level>(self, other: Query<U, R, M>) -> Query<R> {
        self.set(SetOperator::Union, other)
    }

    /// Combines the rows of both queries: UNION ALL.
    #[track_caller]
    pub fn union_all<U: Tables, M: Level>(self, other: Query<U, R, M>) -> Query<R> {
        self.set(SetOperator::UnionAll, other)
    }

    /// Keeps the rows that are in both queries, without duplicates: INTERSECT.
    ///
    /// On MySQL it needs 8.0.31.
    #[track_caller]
    pub fn intersect<U: Tables, M: Level>(self, other: Query<U, R, M>) -> Query<R> {
        self.set(SetOperator::Intersect, other)
    }

    /// Keeps the rows of this query that are not in the other, without duplicates: EXCEPT.
    ///
    /// On MySQL it needs 8.0.31.
    #[track_caller]
    pub fn except<U: Tables, M: Level>(self, other: Query<U, R, M>) -> Query<R> {
        self.set(SetOperator::Except, other)
    }

    #[track_caller]
    fn set<U: Tables, M: Level>(self, operator: SetOperator, other: Query<U, R, M>) -> Query<R> {
        let (first, other) = (self.into_source(), other.into_source());
        let mut sets = first.into_sets(operator);
        sets.others.push((operator, other));
        Query::over_body(FromSource::Sets(Box::new(sets)))
    }
}
