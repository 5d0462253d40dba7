//! Policies: conditions that hold wherever a table appears until they are waived, and the values that a
//! handle carries for them.

mod guard;

use std::any::{Any, TypeId, type_name};
use std::fmt;
use std::panic::Location;
use std::sync::Arc;

pub(crate) use guard::Guard;
use jiff::Timestamp;

use crate::expr::{Condition, Level};
use crate::origin::Origin;
use crate::query::{Query, Source, Tables};
use crate::storable::{BindValue, Storable};
use crate::table::TableInfo;
use crate::tree::{Asked, Node};

/// Typed values that a handle carries for policies and fills: who is asking, and for whom.
///
/// There is one value of each type at most. Cloning is cheap.
///
/// ```
/// use nepheline::Carried;
///
/// struct AgencyId(i64);
///
/// let carried = Carried::new().with(AgencyId(3));
/// assert_eq!(carried.get::<AgencyId>().map(|agency| agency.0), Some(3));
/// ```
#[derive(Clone, Default)]
pub struct Carried {
    values: Option<Arc<Vec<CarriedValue>>>,
}

#[derive(Clone)]
struct CarriedValue {
    id: TypeId,
    type_name: &'static str,
    value: Arc<dyn Any + Send + Sync>,
}

impl Carried {
    /// Nothing.
    pub fn new() -> Carried {
        Carried::default()
    }

    /// The same with this value, in place of an earlier one of its type.
    pub fn with<V: Any + Send + Sync>(&self, value: V) -> Carried {
        let mut values = self.values.as_deref().cloned().unwrap_or_default();
        let id = TypeId::of::<V>();
        values.retain(|carried| carried.id != id);
        let value: Arc<dyn Any + Send + Sync> = Arc::new(value);
        values.push(CarriedValue { id, type_name: type_name::<V>(), value });
        Carried { values: Some(Arc::new(values)) }
    }

    /// The value of this type, if there is one.
    pub fn get<V: Any>(&self) -> Option<&V> {
        let mut values = self.values.iter().flat_map(|values| values.iter());
        let carried = values.find(|carried| carried.id == TypeId::of::<V>())?;
        carried.value.downcast_ref()
    }
}

// The values may be secrets, so that only their types are shown.
impl fmt::Debug for Carried {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let values = self.values.iter().flat_map(|values| values.iter());
        f.debug_set()
            .entries(values.map(|carried| carried.type_name))
            .finish()
    }
}

/// What tells the time for marks and stamps, carried by a handle in place of the system's clock:
/// `db.carrying(Clock::fixed(at))`.
#[derive(Clone)]
pub struct Clock(Arc<dyn Fn() -> Timestamp + Send + Sync>);

impl Clock {
    /// A clock that asks a function each time.
    pub fn new(now: impl Fn() -> Timestamp + Send + Sync + 'static) -> Clock {
        Clock(Arc::new(now))
    }

    /// A clock that stands still.
    pub fn fixed(at: Timestamp) -> Clock {
        Clock::new(move || at)
    }

    pub(crate) fn now(&self) -> Timestamp {
        (self.0)()
    }
}

impl fmt::Debug for Clock {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Clock")
    }
}

/// A function that can be a policy of a table: from its columns, and where it needs one a reference to a
/// carried value, to a condition.
///
/// A table names its policies in `#[nepheline(policies(not_withdrawn, own_agency))]`; from then on they
/// hold wherever its rows are read, asked, joined, counted, updated or deleted, until
/// [`waive`](crate::Query::waive) names the function.
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
    note = "a policy is a function from the table's columns, and perhaps a reference to a carried value, to a `Condition`"
)]
pub trait Policy<Columns, Needs>: Copy + 'static {
    #[doc(hidden)]
    fn condition(self, columns: Columns, carried: &Carried) -> Result<Condition, MissingValue>;
}

/// The name of the type of a value that a policy needs and nobody carries.
#[doc(hidden)]
#[derive(Debug)]
pub struct MissingValue(&'static str);

impl MissingValue {
    pub(crate) fn type_name(&self) -> &'static str {
        self.0
    }
}

/// The value that a filled column takes from what is carried.
#[doc(hidden)]
pub fn fill_of<V: Storable + Any>(carried: &Carried) -> Result<BindValue, MissingValue> {
    carried
        .get::<V>()
        .map(Storable::to_bind)
        .ok_or(MissingValue(type_name::<V>()))
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
            None => Err(MissingValue(type_name::<V>())),
        }
    }
}

/// A policy of a table; `#[derive(Table)]` writes it.
#[doc(hidden)]
#[derive(Debug)]
pub struct PolicyInfo {
    name: &'static str,
    id: fn() -> TypeId,
    condition: fn(Source, &Carried) -> Result<Condition, MissingValue>,
    declared_at: &'static Location<'static>,
}

impl PolicyInfo {
    #[track_caller]
    pub const fn new(
        name: &'static str,
        id: fn() -> TypeId,
        condition: fn(Source, &Carried) -> Result<Condition, MissingValue>,
    ) -> PolicyInfo {
        PolicyInfo { name, id, condition, declared_at: Location::caller() }
    }

    pub(crate) fn is(&self, id: TypeId) -> bool {
        (self.id)() == id
    }
}

/// What tells a function apart from all others.
#[doc(hidden)]
pub fn policy_id<F: 'static>(_: &F) -> TypeId {
    TypeId::of::<F>()
}

/// A policy that is waived, and who said so.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Waiver {
    id: TypeId,
    at: Origin,
}

impl Waiver {
    #[track_caller]
    pub(crate) fn of<F: 'static>(policy: &F) -> Waiver {
        Waiver { id: policy_id(policy), at: Origin::of(Location::caller()) }
    }

    pub(crate) fn of_all(table: &'static TableInfo, at: Origin) -> impl Iterator<Item = Waiver> {
        table
            .policies()
            .iter()
            .map(move |policy| Waiver { id: (policy.id)(), at })
    }

    pub(crate) fn is_of(&self, policy: &PolicyInfo) -> bool {
        policy.is(self.id)
    }
}

/// The policies that a query waives.
#[derive(Debug, Clone, Default)]
pub(crate) struct Waived {
    /// For the rows of one table that it is over.
    pub(crate) here: Vec<(Source, Waiver)>,
    /// For every table in it, and in what is inside of it.
    pub(crate) everywhere: Vec<Waiver>,
    /// Each and every one, for it and what is inside of it.
    pub(crate) all: Option<Origin>,
}

/// A policy that a statement came across: applied, or waived, and by which line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PolicyUse {
    table: &'static str,
    policy: &'static str,
    waived: bool,
    origin: Origin,
}

impl PolicyUse {
    /// The table whose policy it is.
    pub fn table(&self) -> &'static str {
        self.table
    }

    /// The name of the function.
    pub fn policy(&self) -> &'static str {
        self.policy
    }

    /// Whether it was waived, so that it does not hold.
    pub fn is_waived(&self) -> bool {
        self.waived
    }

    /// Where the table declares it; for one that is waived, the line that waived it.
    pub fn origin(&self) -> Origin {
        self.origin
    }
}

impl fmt::Display for PolicyUse {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let PolicyUse { table, policy, waived, origin } = self;
        let state = if *waived { "waived" } else { "applied" };
        write!(f, "{policy} of {table}: {state} @ {origin}")
    }
}

impl<T: Tables, R, L: Level> Query<T, R, L> {
    /// Leaves out a policy of the tables whose rows this query is of; every other stays on, and so does
    /// this one wherever else the table appears, in queries inside or as a parent that is followed.
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
    /// When compiled, [`UnfitParts`](crate::ErrorKind::UnfitParts) if none of these tables has the policy.
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
            let stray = Asked { what: Node::Unfit(STRAY), at: waiver.at };
            select.filters.push(stray);
        }
        let here = &mut select.waived.get_or_insert_default().here;
        here.extend(places.into_iter().map(|place| (place, waiver)));
        self
    }

    /// Leaves out a policy wherever its table appears in this query: also as a parent that is followed, in
    /// queries inside, and in what is put [`alongside`](Query::alongside) afterwards.
    #[track_caller]
    pub fn waive_everywhere<C, N>(mut self, policy: impl Policy<C, N>) -> Query<T, R, L> {
        let waiver = Waiver::of(&policy);
        let waived = self.select_mut().waived.get_or_insert_default();
        waived.everywhere.push(waiver);
        self
    }

    /// Leaves out each and every policy of every table in this query, as
    /// [`waive_everywhere`](Self::waive_everywhere) does for one. What agencies keep from each other is no
    /// longer kept: it is for whoever looks after the database.
    #[track_caller]
    pub fn waive_every_policy(mut self) -> Query<T, R, L> {
        let waived = self.select_mut().waived.get_or_insert_default();
        waived.all = Some(Origin::of(Location::caller()));
        self
    }
}

const STRAY: &str = "a policy is waived that none of the tables has whose rows the query is of; where a \
     table is followed or asked inside, waive it there or with `waive_everywhere`";
