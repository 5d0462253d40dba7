//! Policies: conditions that apply wherever a table appears, until they are waived.

use std::any::Any;
use std::panic::Location;

use super::expr::{Condition, ExprExt, Level};
use super::query::{Query, Tables};
use crate::model::{Carried, MissingValue, Origin};
use crate::tree::{Located, Node, Source, Waiver};

/// A function that can be a policy of a table. It takes the table's columns, and optionally a reference to a
/// carried value, and returns a condition.
///
/// A table declares its policies in `#[nepheline(policies(not_withdrawn, own_agency))]`. They apply wherever
/// its rows are read, asked, joined, counted, updated or deleted, until [`waive`](crate::Query::waive) names
/// the function.
///
/// ```
/// use nepheline::prelude::*;
///
/// #[derive(Debug, Table)]
/// #[nepheline(policies(not_closed, own_agency))]
/// struct Site {
///     #[nepheline(key)]
///     id: i64,
///     agency_id: i64,
///     closed_on: Option<Date>,
/// }
///
/// struct AgencyId(i64);
///
/// fn not_closed(s: SiteColumns) -> Condition {
///     s.closed_on.is_null()
/// }
///
/// fn own_agency(s: SiteColumns, agency: &AgencyId) -> Condition {
///     s.agency_id.eq(agency.0)
/// }
///
/// let carried = Carried::new().with(AgencyId(3));
/// assert_eq!(
///     Site::rows().sql_carrying(Dialect::Sqlite, &carried)?.text(),
///     r#"SELECT "site"."id", "site"."agency_id", "site"."closed_on" FROM "site" WHERE "site"."closed_on" IS NULL AND "site"."agency_id" = ?"#,
/// );
/// // Without the value that it needs there is no statement.
/// let refused = Site::rows().sql(Dialect::Sqlite).unwrap_err();
/// assert_eq!(refused.kind(), ErrorKind::MissingCarried);
/// # Ok::<(), Error>(())
/// ```
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be a policy here",
    note = "a policy is a function that takes the table's columns, and optionally a reference to a carried value, and returns a `Condition`"
)]
pub trait Policy<Columns, Needs>: Copy + 'static {
    #[doc(hidden)]
    fn condition(self, columns: Columns, carried: &Carried) -> Result<Condition, MissingValue>;
}

impl<C, F: Fn(C) -> Condition + Copy + 'static> Policy<C, ()> for F {
    fn condition(self, columns: C, _: &Carried) -> Result<Condition, MissingValue> {
        Ok(self(columns))
    }
}

impl<C, V: Any, F: Fn(C, &V) -> Condition + Copy + 'static> Policy<C, (V,)> for F {
    fn condition(self, columns: C, carried: &Carried) -> Result<Condition, MissingValue> {
        match carried.get::<V>() {
            Some(value) => Ok(self(columns, value)),
            None => Err(MissingValue::of::<V>()),
        }
    }
}

/// Returns the condition of a policy in the form that descriptors store.
#[doc(hidden)]
pub fn condition_of<C, N>(
    policy: impl Policy<C, N>,
    columns: C,
    carried: &Carried,
) -> Result<Node, MissingValue> {
    policy.condition(columns, carried).map(ExprExt::into_node)
}

impl<T: Tables, R, L: Level> Query<T, R, L> {
    /// Waives a policy for the tables that this query is over. All other policies still apply, and so does
    /// this one wherever else the table appears: in subqueries, and as a parent.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] #[nepheline(policies(not_withdrawn))] struct Specimen { #[nepheline(key)] id: i64, withdrawn_at: Option<Timestamp> }
    /// fn not_withdrawn(s: SpecimenColumns) -> Condition {
    ///     s.withdrawn_at.is_null()
    /// }
    ///
    /// let all = Specimen::rows().waive(not_withdrawn);
    /// assert!(!all.sql(Dialect::Sqlite)?.text().contains("WHERE"));
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// # Errors
    ///
    /// When compiled, [`InvalidQuery`](crate::ErrorKind::InvalidQuery) if none of these tables has the policy.
    #[track_caller]
    pub fn waive<C, N>(mut self, policy: impl Policy<C, N>) -> Query<T, R, L> {
        let waiver = Waiver::of(&policy);
        let select = self.select_mut();
        let has = |source: &Source| {
            let table = select.table_at(*source);
            table.is_some_and(|table| table.policies().iter().any(|own| waiver.is_of(own)))
        };
        let places: Vec<Source> = select.rows.iter().copied().filter(has).collect();
        if places.is_empty() {
            let stray = Located { what: Node::Unfit(STRAY), at: waiver.at() };
            select.filters.push(stray);
        }
        let here = &mut select.waived.get_or_insert_default().here;
        here.extend(places.into_iter().map(|place| (place, waiver)));
        self
    }

    /// Waives a policy wherever its table appears in this query: also as a parent, in subqueries, and in what
    /// is added with [`alongside`](Query::alongside) afterwards.
    #[track_caller]
    pub fn waive_everywhere<C, N>(mut self, policy: impl Policy<C, N>) -> Query<T, R, L> {
        let waiver = Waiver::of(&policy);
        let waived = self.select_mut().waived.get_or_insert_default();
        waived.everywhere.push(waiver);
        self
    }

    /// Waives every policy of every table in this query, as [`waive_everywhere`](Self::waive_everywhere) does
    /// for one. This switches off tenant isolation too, so it belongs in administration code only.
    #[track_caller]
    pub fn waive_every_policy(mut self) -> Query<T, R, L> {
        let waived = self.select_mut().waived.get_or_insert_default();
        waived.all = Some(Origin::of(Location::caller()));
        self
    }
}

const STRAY: &str = "a waived policy belongs to none of the tables that the query is over; for a parent or a \
     subquery, waive it there or with `waive_everywhere`";
