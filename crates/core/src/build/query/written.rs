//! Writes of the rows of a query: updates and deletes.

use std::panic::Location;

use super::{Query, WrittenTables};
use crate::build::expr::{Condition, ExprExt as _};
use crate::build::write::{Delete, IntoAssignments, Update};
use crate::model::{ColumnInfo, Origin, SqlType};
use crate::plan::write::Change;
use crate::tree::{Assignment, Case, Located, Node, RawColumn, Source};

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

    /// Updates each row with values of its own: `each` returns for an item the condition that finds its rows, and the
    /// assignments of these. The updates are few, each for hundreds of items; a handle's `write_each` runs them in one
    /// transaction.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, top_m: f64 }
    /// let measured = [(7, 12.5), (8, 13.0)];
    /// let updates = Specimen::rows().update_each(measured, |s, (id, top)| (s.id.eq(id), s.top_m.set(top)));
    /// assert_eq!(
    ///     nepheline::Writes::sql(&updates[0], Dialect::Sqlite)?.text(),
    ///     r#"UPDATE "specimen" SET "top_m" = CASE WHEN "specimen"."id" = ? THEN ? WHEN "specimen"."id" = ? THEN ? ELSE "specimen"."top_m" END WHERE "specimen"."id" = ? OR "specimen"."id" = ?"#,
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// # Errors
    ///
    /// Those of [`update`](Self::update).
    #[track_caller]
    pub fn update_each<I, A>(
        self,
        items: I,
        each: impl Fn(T::Columns, I::Item) -> (Condition, A),
    ) -> Vec<Update<T::Written>>
    where
        I: IntoIterator,
        A: IntoAssignments,
    {
        let (mut items, at) = (items.into_iter().peekable(), Origin::of(Location::caller()));
        let mut updates = Vec::new();
        while items.peek().is_some() {
            let query = self.clone();
            let columns = query.columns();
            let chunk = items.by_ref().take(ITEMS_AT_ONCE).map(|item| {
                let (condition, assignments) = each(columns, item);
                let mut sets = Vec::new();
                assignments.each(&mut |assignment| sets.push(assignment));
                (condition.into_node(), sets)
            });
            let (found, sets) = of_each(query.select.entry(), chunk);
            let mut select = query.into_select();
            select.filters.push(Located { what: found, at });
            updates.push(Update::of(Change::of(select, at), sets));
        }
        updates
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

/// The items of one update: each row is compared with the items before its own.
const ITEMS_AT_ONCE: usize = 250;

/// Returns the condition that finds the rows of any item, and for each column the value of the first item that finds
/// the row.
fn of_each(
    entry: Source,
    items: impl Iterator<Item = (Node, Vec<Assignment>)>,
) -> (Node, Vec<Assignment>) {
    let (mut found, mut cases) =
        (Node::constant(false), Vec::<(&'static ColumnInfo, Vec<[Node; 2]>)>::new());
    for (condition, sets) in items {
        for Assignment { column, value } in sets {
            let branch = [condition.clone(), value];
            match cases
                .iter_mut()
                .find(|(known, _)| std::ptr::eq(*known, column))
            {
                Some((_, branches)) => branches.push(branch),
                None => cases.push((column, vec![branch])),
            }
        }
        found = found.or(condition);
    }
    let sets = cases.into_iter().map(|(column, branches)| {
        let own = Node::Column(RawColumn { source: entry, info: column });
        Assignment { column, value: value_of(branches, own, column.sql_type()) }
    });
    (found, sets.collect())
}

fn value_of(branches: Vec<[Node; 2]>, otherwise: Node, sql_type: SqlType) -> Node {
    Node::of_case(Case { branches, otherwise: Some(otherwise), sql_type })
}
