//! Updates that give each row values of its own.

use std::panic::Location;

use super::{Query, WrittenTables};
use crate::build::expr::{Condition, ExprExt as _};
use crate::build::write::{IntoAssignments, Update};
use crate::model::{ColumnInfo, Origin, SqlType};
use crate::plan::write::Change;
use crate::tree::{Assignment, Case, Located, Node, RawColumn, Source};

impl<T: WrittenTables> Query<T> {
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
