//! Queries as sources: the rows of a query asked further, and sets of rows.

use std::fmt;
use std::marker::PhantomData;
use std::panic::Location;
use std::sync::Arc;

use super::{Query, Tables};
use crate::build::expr::Level;
use crate::build::table::RowStruct;
use crate::model::{BindValue, Origin, SqlType, function};
use crate::tree::{
    Asked, Body, Comparison, Named, Node, Path, ROUND, RawColumn, Recursion, Select, SetOperator,
    Sets, Source,
};

/// The rows of a query as a table of their own, whose columns are the fields of the struct that they
/// are read into: to filter by what was computed, to group groups, to join totals.
///
/// The order of the inner query counts only for its limit: order the outer one.
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
/// When compiled, [`ForeignColumn`](crate::ErrorKind::ForeignColumn) if the inner query uses columns of
/// a query around it, which engines do not allow there.
#[track_caller]
pub fn from<T: Tables, R: RowStruct, L: Level>(query: Query<T, R, L>) -> Query<R> {
    Query::over_body(Body::Query(Box::new(query.into_source())))
}

/// A query that one statement uses in several places, and is written and computed once: `WITH`.
///
/// ```
/// use nepheline::named;
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, borehole_id: i64 }
/// #[derive(Debug, RowShape)]
/// struct PerBorehole {
///     borehole_id: i64,
///     specimens: i64,
/// }
///
/// let totals = named(
///     Specimen::rows().select(|s| shape!(PerBorehole { borehole_id: per(s.borehole_id), specimens: count() })),
/// );
/// let mean = totals.rows().select(|t| avg(t.specimens)).value();
/// let above: Query<PerBorehole> = totals.rows().filter(|t| t.specimens.cast::<f64>().gt(mean));
/// assert_eq!(
///     above.sql(Dialect::Sqlite)?.text(),
///     r#"WITH "nepheline_1" AS (SELECT "specimen"."borehole_id" AS "borehole_id", count(*) AS "specimens" FROM "specimen" GROUP BY 1) SELECT "per_borehole"."borehole_id", "per_borehole"."specimens" FROM "nepheline_1" AS "per_borehole" WHERE CAST("per_borehole"."specimens" AS REAL) > (SELECT avg("per_borehole_2"."specimens") FROM "nepheline_1" AS "per_borehole_2")"#,
/// );
/// # Ok::<(), Error>(())
/// ```
pub fn named<T: Tables, R: RowStruct, L: Level>(query: Query<T, R, L>) -> NamedQuery<R> {
    let (id, fields) = (Source::fresh().id, R::INFO);
    let named = Named { id, select: query.into_source(), fields };
    NamedQuery { named: Arc::new(named), rows: PhantomData }
}

/// A query for several places of a statement; made by [`named`].
pub struct NamedQuery<R> {
    named: Arc<Named>,
    rows: PhantomData<fn() -> R>,
}

impl<R: RowStruct> NamedQuery<R> {
    /// Its rows, to be asked further; each call is another place.
    #[track_caller]
    pub fn rows(&self) -> Query<R> {
        Query::over_body(Body::Named(self.named.clone()))
    }
}

// By hand, because the derives would ask for `R: Clone` and `R: Debug`.
impl<R> Clone for NamedQuery<R> {
    fn clone(&self) -> Self {
        NamedQuery { named: self.named.clone(), rows: PhantomData }
    }
}

impl<R> fmt::Debug for NamedQuery<R> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("NamedQuery").field(&self.named).finish()
    }
}

/// Queries stand in queries no deeper than this, so that cloning and dropping them may recurse.
const DEEPEST: usize = 50;

impl<R: RowStruct> Query<R> {
    #[track_caller]
    pub(crate) fn over_body(body: Body) -> Query<R> {
        let mut select = Select::over(R::INFO, body, Origin::of(Location::caller()));
        if select.body.depth() > DEEPEST {
            select.body = Body::Table;
            select
                .filters
                .push(Asked { what: Node::TooDeep, at: select.asked_at });
        }
        Query { select: Box::new(select), rows: PhantomData }
    }
}

/// Rows that lead to further rows, round by round: those of `start`, then those that `step` finds by the
/// rows of the round before, and so on until a round finds nothing: `WITH RECURSIVE`.
///
/// `step` is given the rows of the round before as a query, to use once: joined, or as what is joined
/// to. There are `rounds` rounds after the start at most, so that rows which lead to each other in a
/// circle come to an end; what lies further is not among the rows.
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
/// When compiled, [`UnfitParts`](crate::ErrorKind::UnfitParts) if `step` does not use the rows before
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
    let mut step = step(Query::over_body(Body::Again)).into_source();
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
                .push(Asked { what: going_on, at: step.asked_at });
            None
        }
    };
    let mut query = Query::over_body(Body::Recursion(Box::new(Recursion { start, step })));
    if let Some(reason) = unfit {
        let at = query.select.asked_at;
        query
            .select
            .filters
            .push(Asked { what: Node::Unfit(reason), at });
    }
    query
}

const LIMITED_ROUNDS: &str = "the parts of a recursion cannot have limits; limit its rows instead";
const USED_OTHERWISE: &str = "each round of a recursion uses the rows before it exactly once: \
     joined, or as what is joined to";

impl<T, R, L> Query<T, R, L> {
    /// The query as the source of another one, without orders where they say nothing there.
    fn into_source(self) -> Select {
        let mut select = *self.select;
        let of_each = select
            .special
            .as_ref()
            .is_some_and(|special| special.of_each.is_some());
        if !select.is_limited() && !of_each {
            select.orders.clear();
        }
        select
    }
}

impl Select {
    /// The set that this is, if another query can be put to it as the next of a chain; else one of it alone. A chain is
    /// computed from left to right, but some engines compute INTERSECT first.
    fn into_sets(self, operator: SetOperator) -> Sets {
        let first = |operator: SetOperator| operator == SetOperator::Intersect;
        match self.body {
            Body::Sets(sets)
                if self.filters.is_empty()
                    && self.joins.is_empty()
                    && self.values.is_none()
                    && self.special.is_none()
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

    /// Where the rows of the round before stand, if they do exactly once.
    fn rounds_before(&self) -> Option<Source> {
        let own = std::iter::once((self.source, &self.body));
        let joined = self.joins.iter().map(|join| (join.source, &join.body));
        let again = own
            .chain(joined)
            .filter(|(_, body)| matches!(body, Body::Again));
        let mut again = again.map(|(id, _)| Source { id, path: Path::HERE });
        again.next().filter(|_| again.next().is_none())
    }
}

/// Sets of rows of one struct, of whatever tables. The result is a query of its own: filter, order,
/// limit it, or make sets of it in turn. What stands on either side may have a limit.
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
///     r#"SELECT "named"."name" FROM (SELECT "site"."name" AS "name" FROM "site" UNION SELECT "lab"."name" AS "name" FROM "lab") AS "named" ORDER BY "named"."name" LIMIT ?"#,
/// );
/// # Ok::<(), Error>(())
/// ```
impl<T: Tables, R: RowStruct, L: Level> Query<T, R, L> {
    /// The rows of either, each once: `UNION`. Text is told apart by code point.
    #[track_caller]
    pub fn union<U: Tables, M: Level>(self, other: Query<U, R, M>) -> Query<R> {
        self.set(SetOperator::Union, other)
    }

    /// The rows of both, one after the other: `UNION ALL`.
    #[track_caller]
    pub fn union_all<U: Tables, M: Level>(self, other: Query<U, R, M>) -> Query<R> {
        self.set(SetOperator::UnionAll, other)
    }

    /// The rows that are in both, each once: `INTERSECT`.
    ///
    /// On MySQL it needs 8.0.31.
    #[track_caller]
    pub fn intersect<U: Tables, M: Level>(self, other: Query<U, R, M>) -> Query<R> {
        self.set(SetOperator::Intersect, other)
    }

    /// The rows of this that are not in the other, each once: `EXCEPT`.
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
        Query::over_body(Body::Sets(Box::new(sets)))
    }
}
