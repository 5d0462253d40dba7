//! Values that a handle carries for policies and filled columns, and the clock that it may carry.

use std::any::{Any, TypeId, type_name};
use std::fmt;
use std::sync::Arc;

use jiff::Timestamp;

use super::storable::{BindValue, Storable};

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

/// The name of the type of a value that a policy needs and nobody carries.
#[doc(hidden)]
#[derive(Debug)]
pub struct MissingValue(&'static str);

impl MissingValue {
    pub(crate) fn of<V>() -> MissingValue {
        MissingValue(type_name::<V>())
    }

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
