//! Values that a handle carries for policies and for carried columns, and the clock that it may carry.

use std::any::{Any, TypeId, type_name};
use std::fmt;
use std::sync::Arc;

use jiff::Timestamp;

use super::storable::{BindValue, ColumnType, Storable};

/// Typed values that a handle carries for policies and carried columns, such as the tenant and the user of a
/// request.
///
/// It holds at most one value of each type. Cloning is cheap.
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
    /// The values that the policy of each table must need.
    required: Option<Arc<Vec<RequiredValue>>>,
}

/// The type of a carried value that the policy of each table must need.
#[derive(Debug, Clone, Copy)]
pub(crate) struct RequiredValue {
    id: TypeId,
    type_name: &'static str,
}

impl RequiredValue {
    pub(crate) fn id(self) -> TypeId {
        self.id
    }

    pub(crate) fn type_name(self) -> &'static str {
        self.type_name
    }
}

#[derive(Clone)]
struct CarriedValue {
    id: TypeId,
    type_name: &'static str,
    value: Arc<dyn Any + Send + Sync>,
}

impl Carried {
    /// Returns an empty set of carried values.
    pub fn new() -> Carried {
        Carried::default()
    }

    /// Returns a copy that has this value, in place of an earlier one of the same type.
    pub fn with<V: Any + Send + Sync>(&self, value: V) -> Carried {
        let mut values = self.values.as_deref().cloned().unwrap_or_default();
        let id = TypeId::of::<V>();
        values.retain(|carried| carried.id != id);
        let value: Arc<dyn Any + Send + Sync> = Arc::new(value);
        values.push(CarriedValue { id, type_name: type_name::<V>(), value });
        Carried { values: Some(Arc::new(values)), ..self.clone() }
    }

    /// Returns a copy under which each table needs a policy that needs a `V`.
    #[doc(hidden)]
    #[must_use]
    pub fn requiring<V: Any>(&self) -> Carried {
        let mut required = self.required.as_deref().cloned().unwrap_or_default();
        let id = TypeId::of::<V>();
        if required.iter().all(|required| required.id != id) {
            required.push(RequiredValue { id, type_name: type_name::<V>() });
        }
        Carried { required: Some(Arc::new(required)), ..self.clone() }
    }

    /// Returns whether each table needs a policy.
    #[doc(hidden)]
    pub fn requires_policies(&self) -> bool {
        self.required.is_some()
    }

    #[inline]
    pub(crate) fn required(&self) -> &[RequiredValue] {
        self.required.as_deref().map_or(&[], Vec::as_slice)
    }

    /// Returns the value of this type, or `None` if there is none.
    pub fn get<V: Any>(&self) -> Option<&V> {
        let mut values = self.values.iter().flat_map(|values| values.iter());
        let carried = values.find(|carried| carried.id == TypeId::of::<V>())?;
        carried.value.downcast_ref()
    }
}

// Only the types are shown, because the values may be secrets.
impl fmt::Debug for Carried {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let values = self.values.iter().flat_map(|values| values.iter());
        f.debug_set()
            .entries(values.map(|carried| carried.type_name))
            .finish()
    }
}

/// The clock that gives the time for stamps and for the marks of retired rows. A handle that carries one uses
/// it in place of the system's clock: `db.carrying(Clock::stopped_at(at))`.
#[derive(Clone)]
pub struct Clock(Arc<dyn Fn() -> Timestamp + Send + Sync>);

impl Clock {
    /// Returns a clock that calls a function each time.
    pub fn new(now: impl Fn() -> Timestamp + Send + Sync + 'static) -> Clock {
        Clock(Arc::new(now))
    }

    /// Returns a clock that always gives this time.
    pub fn stopped_at(at: Timestamp) -> Clock {
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

/// The name of a type that a policy needs and that the handle does not carry.
#[doc(hidden)]
#[derive(Debug)]
pub struct MissingValue {
    id: TypeId,
    type_name: &'static str,
}

impl MissingValue {
    pub(crate) fn of<V: Any>() -> MissingValue {
        MissingValue { id: TypeId::of::<V>(), type_name: type_name::<V>() }
    }

    pub(crate) fn id(&self) -> TypeId {
        self.id
    }

    pub(crate) fn type_name(&self) -> &'static str {
        self.type_name
    }
}

/// Returns the carried value of type `V`, as the bind of a carried column.
#[doc(hidden)]
pub fn carried_value<V: Storable + Any>(carried: &Carried) -> Result<BindValue, MissingValue> {
    carried
        .get::<V>()
        .map(Storable::to_bind)
        .ok_or_else(MissingValue::of::<V>)
}

/// A type of carried values that a column of `B` stores as they are: `B` itself.
#[diagnostic::on_unimplemented(
    message = "a column of `{B}` cannot take its value from a carried `{Self}`",
    label = "the column stores a `{B}`",
    note = "give the field and the carried value one type, such as `AgencyId` for `carried(agency_id = AgencyId)`"
)]
pub trait CarriedFor<B> {}

impl<B> CarriedFor<B> for B {}

/// Compiles only if a column of the type `T` can store what is carried as a `V`.
#[doc(hidden)]
pub const fn is_carried_by<T: ColumnType, V: CarriedFor<T::Base>>() {}
