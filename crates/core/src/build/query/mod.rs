//! Queries: values that describe the rows to read, and run only when a handle reads them.

mod alongside;
mod filter;
mod from;
mod join;
mod keyset;
mod related;
mod scope;
mod selected;
mod written;

use std::fmt;
use std::marker::PhantomData;
use std::panic::Location;

pub use alongside::{
    Alongside, AndThen, Beside, Companion, Companions, Each, Found, InHand, Lookup, MappedRows,
    OfParents, OptionalParent, OptionalParentBeside, ParentBeside, RequiredParent, RowsBeside,
    Selects, StandsAlongside, StatementAlongside,
};
pub use from::{Cte, cte, from, recursive};
pub use join::{Append, JoinTarget, Places, Tables, WrittenTables};
pub use keyset::Keyset;
pub use related::{Bridge, SumOf, Summed};
pub(crate) use related::{related, with_values};
pub use scope::{Scope, all_scopes, any_scope};
pub use selected::SelectedRow;

use crate::build::compile;
use crate::build::expr::{
    Condition, ExprExt, Grouped, IntoOrders, IntoSelection, KnownPerGroup, KnownPerRow, Level,
    MaybeCondition, PerGroup, PerRow, Selection, ShapedFrom,
};
use crate::build::prepared::{RowCount, count_bind, smaller, together};
use crate::build::table::{RowStruct, Table};
use crate::build::write::{ChangeValues, Delete, IntoAssignments, Update};
use crate::dialect::Dialect;
use crate::model::{BindValue, Carried, Error, Origin};
use crate::plan::write::Change;
use crate::plan::{CompileContext, ReadShape};
use crate::sql::Sql;
use crate::tree::{FromSource, Located, Lock, Node, Select, TopPerGroup};
use smallvec::SmallVec;

/// A query for rows of `T`, each read into an `R`; at the level [`PerGroup`](crate::PerGroup), for groups of
/// such rows.
///
/// A query is a value: clone it, keep it, send it to another thread, extend it later. The order of the method
/// calls does not matter, except among calls of `order_by`. Nothing runs until a handle reads it.
///
/// ```
/// use nepheline::prelude::*;
///
/// #[derive(Debug, Clone, Table)]
/// struct Specimen {
///     #[nepheline(key, generated)]
///     id: i64,
///     label: String,
///     top_m: f64,
///     analyst_id: Option<i64>,
/// }
///
/// let only_unassigned = true;
/// let query = Specimen::rows()
///     .filter(|s| s.top_m.gt(50.0))
///     .filter(|s| only_unassigned.then(|| s.analyst_id.is_null()))
///     .order_by(|s| (s.top_m.desc(), s.label.asc()))
///     .limit(20);
///
/// assert_eq!(
///     query.sql(Dialect::MariaDb)?.text(),
///     "SELECT `specimen`.`id`, `specimen`.`label`, `specimen`.`top_m`, `specimen`.`analyst_id` \
///      FROM `specimen` \
///      WHERE `specimen`.`top_m` > ? AND `specimen`.`analyst_id` IS NULL \
///      ORDER BY `specimen`.`top_m` DESC, CONVERT(`specimen`.`label` USING utf8mb4) COLLATE utf8mb4_nopad_bin \
///      LIMIT ?",
/// );
/// # Ok::<(), Error>(())
/// ```
#[must_use = "a query does nothing until a handle reads it"]
pub struct Query<T, R = T, L = PerRow> {
    select: Box<Select>,
    rows: PhantomData<Holds<T, R, L>>,
}

type Holds<T, R, L> = fn() -> (T, R, L);

impl<T: Table> Query<T> {
    #[doc(hidden)]
    #[track_caller]
    pub fn over_table() -> Query<T> {
        Query::over_body(FromSource::Table)
    }

    /// Returns the query for the single row that `condition` can match, because it compares a key.
    #[doc(hidden)]
    #[track_caller]
    pub fn over_row(condition: impl FnOnce(T::Columns) -> Condition) -> Query<T> {
        let mut query = Query::over_table();
        let condition = condition(T::columns(query.select.entry())).into_node();
        query.select.filter(condition, Location::caller());
        query.select.at_most_one = true;
        query
    }
}

impl<T: Tables> Query<T> {
    /// Selects values instead of all columns: one expression or a tuple of them, computed by the database.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String, top_m: f64, base_m: f64 }
    /// let lengths: Query<Specimen, (String, f64)> =
    ///     Specimen::rows().select(|s| (s.label, s.base_m - s.top_m)).filter(|s| s.top_m.gt(50));
    /// assert_eq!(
    ///     lengths.sql(Dialect::Sqlite)?.text(),
    ///     r#"SELECT "specimen"."label", "specimen"."base_m" - "specimen"."top_m" FROM "specimen" WHERE "specimen"."top_m" > ?"#,
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    #[track_caller]
    pub fn select<F, S>(mut self, values: F) -> Query<T, S::Row, S::Level>
    where
        F: FnOnce(T::Columns) -> S,
        S: IntoSelection,
    {
        let selected = Selection::of(values(self.columns()));
        self.select.values = Some(Located::here(selected));
        self.select.named = S::FIELDS;
        if S::Level::GROUPED {
            self.select.grouping_mut().grouped = true;
            self.select.at_most_one = false;
        }
        Query { select: self.select, rows: PhantomData }
    }
}

impl<T: RowStruct> Query<T> {
    /// Selects the columns that a struct names by its fields.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String, top_m: f64 }
    /// #[derive(Debug, RowShape)]
    /// #[nepheline(shaped_from(Specimen))]
    /// struct Depth {
    ///     label: String,
    ///     top_m: f64,
    /// }
    ///
    /// let depths: Query<Specimen, Depth> = Specimen::rows().shaped_as::<Depth>();
    /// assert_eq!(
    ///     depths.sql(Dialect::Sqlite)?.text(),
    ///     r#"SELECT "specimen"."label" AS "label", "specimen"."top_m" AS "top_m" FROM "specimen""#,
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    #[track_caller]
    pub fn shaped_as<R: ShapedFrom<T>>(mut self) -> Query<T, R> {
        let mut selection = Selection::default();
        R::select_into(self.columns(), &mut selection);
        self.select.values = Some(Located::here(selection.nodes));
        self.select.named = Some(R::INFO);
        Query { select: self.select, rows: PhantomData }
    }
}

impl<T: Tables, R> Query<T, R> {
    /// Removes duplicates from the selected values: SELECT DISTINCT. Text is compared by code point. The rows
    /// can only be ordered by selected values.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, #[nepheline(by_code_point)] rock: String }
    /// let rocks: Query<Specimen, String> =
    ///     Specimen::rows().select(|s| s.rock).distinct().order_by(|s| s.rock.asc());
    /// assert_eq!(
    ///     rocks.sql(Dialect::Sqlite)?.text(),
    ///     r#"SELECT DISTINCT "specimen"."rock" FROM "specimen" ORDER BY 1"#,
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    #[track_caller]
    pub fn distinct(mut self) -> Query<T, R> {
        self.select.grouping_mut().distinct = Some(Origin::of(Location::caller()));
        self
    }

    /// Locks the rows that are read until the transaction ends: FOR UPDATE. It waits for other transactions
    /// that hold a lock, up to the lock timeout of the handle.
    ///
    /// In a join, PostgreSQL locks the rows of the first table only, and MariaDB and MySQL those of all.
    ///
    /// # Errors
    ///
    /// When compiled, [`Unsupported`](crate::ErrorKind::Unsupported) on SQLite, whose transactions lock the
    /// whole database.
    #[track_caller]
    pub fn for_update(mut self) -> Query<T, R> {
        self.select.lock = Some(Located::here(Lock::Wait));
        self
    }

    /// Locks as [`for_update`](Self::for_update), but skips rows that others have locked, so that several
    /// workers can take work from one table: FOR UPDATE SKIP LOCKED.
    ///
    /// # Errors
    ///
    /// As [`for_update`](Self::for_update).
    #[track_caller]
    pub fn for_update_skip_locked(mut self) -> Query<T, R> {
        self.select.lock = Some(Located::here(Lock::Skip));
        self
    }

    /// Locks as [`for_update`](Self::for_update), but fails at once, with kind
    /// [`Locked`](crate::ErrorKind::Locked), if another transaction has locked a row: FOR UPDATE NOWAIT.
    ///
    /// # Errors
    ///
    /// As [`for_update`](Self::for_update).
    #[track_caller]
    pub fn for_update_nowait(mut self) -> Query<T, R> {
        self.select.lock = Some(Located::here(Lock::NoWait));
        self
    }

    /// Keeps at most `rows` rows for each value of an expression, or of a tuple: the first in the order of
    /// the query. With 1 it does what PostgreSQL calls `DISTINCT ON`.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, borehole_id: i64, top_m: f64 }
    /// let three_deepest_of_each = Specimen::rows()
    ///     .order_by(|s| s.top_m.desc())
    ///     .limit_each(3, |s| s.borehole_id);
    /// # assert!(three_deepest_of_each.sql(Dialect::Sqlite)?.text().contains(r#"row_number() OVER (PARTITION BY "specimen"."borehole_id" ORDER BY "specimen"."top_m" DESC) AS n"#));
    /// # Ok::<(), Error>(())
    /// ```
    #[track_caller]
    pub fn limit_each<F, S>(mut self, rows: u64, alike_in: F) -> Query<T, R>
    where
        F: FnOnce(T::Columns) -> S,
        S: IntoSelection<Level = PerRow>,
    {
        let alike_in = Selection::of(alike_in(self.columns())).into_vec();
        self.select.grouping_mut().of_each = Some(TopPerGroup {
            alike_in,
            limit: Some(BindValue::Int(count_bind(rows))),
            offset: None,
            order_apart: false,
            asked_at: Origin::of(Location::caller()),
        });
        self
    }
}

impl<T: Tables, R, L: Level> Query<T, R, L> {
    /// Keeps the groups for which the condition is true: HAVING. The condition may be an `Option`, as in
    /// [`filter`](Self::filter), which applies to rows before they are grouped.
    #[track_caller]
    pub fn having<F, M>(mut self, condition: F) -> Self
    where
        F: FnOnce(T::Columns) -> M,
        M: MaybeCondition<Level: KnownPerGroup>,
        L: Grouped,
    {
        if let Some(condition) = condition(self.columns()).into_condition() {
            let having = Located::here(condition.into_node());
            self.select.grouping_mut().having.push(having);
        }
        self
    }
}

impl<T: Tables, R> Query<T, R, PerGroup> {
    /// Groups by an expression that is not selected, or by each of a tuple, besides the keys marked by
    /// [`per`](crate::per()). A name can be selected while a key separates those who share it:
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Analyst { #[nepheline(key)] id: i64, #[nepheline(by_code_point)] name: String }
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, #[nepheline(references = Analyst)] analyst_id: i64 }
    /// let by_analyst: Query<Specimen, (String, i64), _> = Specimen::rows()
    ///     .select(|s| (per(s.analyst().name), count()))
    ///     .group_by(|s| s.analyst_id);
    /// # assert!(by_analyst.sql(Dialect::Sqlite)?.text().ends_with(r#"GROUP BY 1, "specimen"."analyst_id""#));
    /// # Ok::<(), Error>(())
    /// ```
    #[track_caller]
    pub fn group_by<F, S>(mut self, keys: F) -> Self
    where
        F: FnOnce(T::Columns) -> S,
        S: IntoSelection<Level = PerRow>,
    {
        let at = Origin::of(Location::caller());
        let keys = Selection::of(keys(self.columns()));
        let kept = &mut self.select.grouping_mut().group_keys;
        let keys = keys
            .into_iter()
            .map(|key| Located { what: key.key(false), at });
        kept.extend(keys);
        self
    }
}

impl<T: Tables, R, L: Level> Query<T, R, L> {
    /// Passes the query to a function and returns the result, so that orders, limits and selections can have
    /// names too, and be chained.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String, top_m: f64 }
    /// fn deepest_first(query: Query<Specimen>) -> Query<Specimen> {
    ///     query.order_by(|s| (s.top_m.desc(), s.label.asc()))
    /// }
    ///
    /// fn labels(query: Query<Specimen>) -> Query<Specimen, String> {
    ///     query.select(|s| s.label)
    /// }
    ///
    /// let query = Specimen::rows().apply(deepest_first).limit(3).apply(labels);
    /// ```
    pub fn apply<Q>(self, function: impl FnOnce(Self) -> Q) -> Q {
        function(self)
    }

    /// Keeps the rows for which the condition is true: WHERE.
    ///
    /// The closure receives the columns of the table. It returns a [`Condition`], a boolean column, or an
    /// `Option` of one, where `None` means no condition. A scope function may stand in its place. A second
    /// call adds a condition; nothing ever replaces one.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, rock: String, analyst_id: Option<i64> }
    /// fn unassigned(s: SpecimenColumns) -> Condition {
    ///     s.analyst_id.is_null()
    /// }
    ///
    /// let wanted: Option<&str> = Some("basalt");
    /// let query = Specimen::rows()
    ///     .filter(unassigned)
    ///     .filter(|s| wanted.map(|rock| s.rock.eq(rock)));
    /// ```
    #[track_caller]
    pub fn filter<F, M>(mut self, condition: F) -> Query<T, R, L>
    where
        F: FnOnce(T::Columns) -> M,
        M: MaybeCondition<Level: KnownPerRow>,
    {
        if let Some(condition) = condition(self.columns()).into_condition() {
            self.select
                .filter(condition.into_node(), Location::caller());
        }
        self
    }

    /// Orders the rows by one expression or a tuple of them: ORDER BY. A second call adds terms for rows that
    /// are equal so far.
    ///
    /// Text is ordered by code point, and NULLs come last unless [`nulls_first`](crate::Order::nulls_first)
    /// is called. Without an order, the engine may return rows in any order.
    #[track_caller]
    pub fn order_by<F, O>(mut self, orders: F) -> Query<T, R, L>
    where
        F: FnOnce(T::Columns) -> O,
        O: IntoOrders<L>,
    {
        let at = Origin::of(Location::caller());
        let columns = self.columns();
        let kept = &mut self.select.orders;
        orders(columns).each(&mut |what| kept.push(Located { what, at }));
        self
    }

    /// Returns at most this number of rows, or all rows, if there are fewer: LIMIT. Of two limits the smaller
    /// counts. The number is a `u64`, or a parameter of a [`Prepared`](crate::Prepared) query.
    #[track_caller]
    pub fn limit(mut self, rows: impl RowCount) -> Query<T, R, L> {
        let earlier = self.select.limit.take().map(|limit| limit.what);
        self.select.limit = Some(Located::here(smaller(earlier, rows.into_bind())));
        self
    }

    /// Skips this number of rows: OFFSET. It is meaningful for ordered rows only. Two offsets add up.
    #[track_caller]
    pub fn offset(mut self, rows: impl RowCount) -> Query<T, R, L> {
        let earlier = self.select.offset.take().map(|offset| offset.what);
        self.select.offset = Some(Located::here(together(earlier, rows.into_bind())));
        self
    }

    /// Has PostgreSQL plan the query for its values each time it runs, by what it calls a custom plan.
    ///
    /// A prepared statement gets a plan for any values, from its sixth run on, if the server estimates it to be no worse.
    /// It saves the planning, but may be slower where the best plan depends on the values: a filter that is rare
    /// for one value and common for another, or a report that runs in parallel only with known values. The parameter
    /// `plans=custom` of the database's URL does this for all queries. The SQL is the same, and SQLite, MariaDB and
    /// MySQL plan for the values anyway.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, rock: String }
    /// let of_rock = |rock: &str| Specimen::rows().filter(|s| s.rock.eq(rock)).custom_plan();
    /// # let _ = of_rock("granite");
    /// ```
    pub fn custom_plan(mut self) -> Query<T, R, L> {
        self.select.custom_plan = true;
        self
    }

    /// Returns the SQL of this query in `dialect`, with its binds and the origin of each clause.
    ///
    /// # Errors
    ///
    /// [`Unsupported`](crate::ErrorKind::Unsupported) where the dialect has no SQL with the same meaning,
    /// [`RefusedValue`](crate::ErrorKind::RefusedValue) for a value that no database can be sent,
    /// [`TooDeep`](crate::ErrorKind::TooDeep), [`ColumnNotInQuery`](crate::ErrorKind::ColumnNotInQuery),
    /// [`InvalidQuery`](crate::ErrorKind::InvalidQuery), and
    /// [`MissingCarried`](crate::ErrorKind::MissingCarried) where a policy needs a value: pass it to
    /// [`sql_carrying`](Self::sql_carrying).
    pub fn sql(&self, dialect: Dialect) -> Result<Sql, Error> {
        self.sql_carrying(dialect, &Carried::new())
    }

    /// Returns the SQL of this query on a handle that carries these values, for tables whose policies need
    /// some.
    ///
    /// # Errors
    ///
    /// Those of [`sql`](Self::sql), and [`MissingCarried`](crate::ErrorKind::MissingCarried) for a value that
    /// a policy needs and that is not carried.
    pub fn sql_carrying(&self, dialect: Dialect, carried: &Carried) -> Result<Sql, Error> {
        compile::to_show(
            &self.select,
            CompileContext::to_show(dialect.grammar(), carried),
            ReadShape::Rows,
        )
    }

    /// Returns the SQL that counts the rows of this query.
    ///
    /// # Errors
    ///
    /// Those of [`sql`](Self::sql).
    pub fn count_sql(&self, dialect: Dialect) -> Result<Sql, Error> {
        let carried = &Carried::new();
        compile::to_show(
            &self.select,
            CompileContext::to_show(dialect.grammar(), carried),
            ReadShape::Count,
        )
    }

    /// Returns the SQL that tests whether this query has any row.
    ///
    /// # Errors
    ///
    /// Those of [`sql`](Self::sql).
    pub fn exists_sql(&self, dialect: Dialect) -> Result<Sql, Error> {
        let carried = &Carried::new();
        compile::to_show(
            &self.select,
            CompileContext::to_show(dialect.grammar(), carried),
            ReadShape::Presence,
        )
    }

    /// Selects values whose number is known at run time.
    #[track_caller]
    pub(crate) fn selecting<S>(mut self, nodes: SmallVec<[Node; 1]>) -> Query<T, S, L> {
        self.select.values = Some(Located::here(nodes));
        self.select.named = None;
        Query { select: self.select, rows: PhantomData }
    }

    /// Returns the same query under the level of rows.
    pub(crate) fn at_row_level(self) -> Query<T, R> {
        Query { select: self.select, rows: PhantomData }
    }

    /// Selects group keys and totals whose number is known at run time.
    #[track_caller]
    pub(crate) fn selecting_groups<S>(self, nodes: SmallVec<[Node; 1]>) -> Query<T, S, PerGroup> {
        let mut select = self.selecting::<S>(nodes).select;
        select.grouping_mut().grouped = true;
        select.at_most_one = false;
        Query { select, rows: PhantomData }
    }

    /// Returns the columns that closures receive.
    #[inline]
    pub(crate) fn columns(&self) -> T::Columns {
        T::columns(&mut Places::of(&self.select.rows))
    }

    pub(crate) fn select_mut(&mut self) -> &mut Select {
        &mut self.select
    }

    pub(crate) fn into_select(self) -> Box<Select> {
        self.select
    }

    /// Returns the line of the program that began this query.
    pub fn origin(&self) -> Origin {
        self.select.asked_at
    }
}

impl<T> Located<T> {
    #[track_caller]
    fn here(what: T) -> Located<T> {
        Located { what, at: Origin::of(Location::caller()) }
    }
}

impl<T: WrittenTables> Query<T> {
    /// Updates these rows: UPDATE. Filters, policies and the rest of the query decide which rows.
    ///
    /// A join brings values from other tables (UPDATE .. FROM). The rows of its first table are updated; where several
    /// joined rows match one of them, the engine picks one.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Borehole { #[nepheline(key)] id: i64, depth_m: f64 }
    /// # #[derive(Debug, Table)] struct Survey { #[nepheline(key)] id: i64, borehole_id: i64, depth_m: f64 }
    /// let surveyed = Borehole::rows()
    ///     .join(|b| Survey::rows().filter(|s| s.borehole_id.eq(b.id)))
    ///     .update(|(b, s)| b.depth_m.set(s.depth_m));
    /// assert_eq!(
    ///     nepheline::Writes::sql(&surveyed, Dialect::Postgres)?.text(),
    ///     r#"UPDATE "borehole" SET "depth_m" = "nepheline_values"."v1" FROM (SELECT "borehole"."id" AS "v0", "survey"."depth_m" AS "v1" FROM "borehole" INNER JOIN "survey" ON "survey"."borehole_id" = "borehole"."id") AS "nepheline_values" WHERE "borehole"."id" = "nepheline_values"."v0""#,
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// # Errors
    ///
    /// When compiled, [`InvalidQuery`](crate::ErrorKind::InvalidQuery) for a query without any condition,
    /// unless [`every_row`](Update::every_row) is called; for an update without assignments; for a column
    /// that the database or the handle sets; and for groups, sets and the like, which are no rows of a table.
    #[track_caller]
    pub fn update<A: IntoAssignments>(
        self,
        sets: impl FnOnce(T::Columns) -> A,
    ) -> Update<T::Written> {
        let mut assignments = Vec::new();
        sets(self.columns()).each(&mut |assignment| assignments.push(assignment));
        Update::of(Change::of(self.into_select(), Origin::of(Location::caller())), assignments)
    }

    /// Updates these rows with the values of a struct, such as `SpecimenChanges`, which a request may have brought.
    ///
    /// ```
    /// use nepheline::prelude::*;
    ///
    /// #[derive(Debug, Table)]
    /// #[nepheline(changes(derive(Debug), deserialize))]
    /// struct Specimen {
    ///     #[nepheline(key, generated)]
    ///     id: i64,
    ///     label: String,
    ///     analyst_id: Option<i64>,
    /// }
    ///
    /// let changes: SpecimenChanges = serde_json::from_str(r#"{"label": "KP-7", "analyst_id": null}"#)?;
    /// let update = Specimen::row(7).update_with(changes);
    /// assert_eq!(
    ///     nepheline::Writes::sql(&update, Dialect::Postgres)?.text(),
    ///     r#"UPDATE "specimen" SET "label" = $1, "analyst_id" = $2 WHERE "specimen"."id" = $3"#,
    /// );
    /// assert!(serde_json::from_str::<SpecimenChanges>(r#"{"id": 8}"#).is_err());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Errors
    ///
    /// Those of [`update`](Self::update); changes that are empty are an update without assignments.
    #[track_caller]
    pub fn update_with(self, changes: impl ChangeValues<Table = T::Written>) -> Update<T::Written> {
        let (mut assignments, at) = (Vec::new(), Origin::of(Location::caller()));
        changes.each(&mut |assignment| assignments.push(assignment));
        Update::of(Change::of(self.into_select(), at), assignments)
    }

    /// Deletes these rows: DELETE. Of a join, the rows of the first table are deleted (DELETE .. USING). If the table is declared to `retire` them, it marks them as retired
    /// instead, with the time of the handle's clock. Rows that have the mark stay unchanged.
    ///
    /// With `retire(withdrawn_at, with(assays))` the children of that relation are retired with their
    /// parents, and their children if their table says so: in one transaction, with the same time, unless a
    /// policy hides them. The returned number counts rows of the table itself.
    ///
    /// # Errors
    ///
    /// As [`update`](Self::update).
    #[track_caller]
    pub fn delete(self) -> Delete<T::Written> {
        Delete::of(Change::of(self.into_select(), Origin::of(Location::caller())), false)
    }

    /// Deletes these rows from the database, also if the table retires them otherwise.
    ///
    /// # Errors
    ///
    /// As [`update`](Self::update).
    #[track_caller]
    pub fn delete_for_good(self) -> Delete<T::Written> {
        Delete::of(Change::of(self.into_select(), Origin::of(Location::caller())), true)
    }
}

// By hand, because the derives would ask for `T: Clone` and `T: Debug`.
impl<T, R, L> Clone for Query<T, R, L> {
    fn clone(&self) -> Self {
        Query { select: Box::new(self.select.copied()), rows: PhantomData }
    }
}

impl<T, R, L> fmt::Debug for Query<T, R, L> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Query").field(&self.select).finish()
    }
}
