//! Matches rows of companions to the rows they belong to, by the values of the related columns.

use std::collections::HashSet;
use std::sync::Arc;

use foldhash::fast::RandomState;
use indexmap::IndexMap;
use smallvec::SmallVec;

use super::Companion;
use crate::model::{BindValue, ColumnInfo, Error, Key, KeyPart, KeyedRow, List, SqlType};

/// The way in which the matching rows are attached to a row.
#[doc(hidden)]
pub trait Found<R> {
    /// The type that stands beside the row.
    type Beside: Send + 'static;

    fn of(
        rows: Option<Taken<'_, R>>,
        missing: impl FnOnce() -> Error,
    ) -> Result<Self::Beside, Error>;
}

/// All matching rows, as a `Vec`.
#[doc(hidden)]
#[derive(Debug)]
pub enum Each {}

/// The one row that must exist, shared in an `Arc`.
#[doc(hidden)]
#[derive(Debug)]
pub enum RequiredParent {}

/// The one row that may exist, shared in an `Arc`.
#[doc(hidden)]
#[derive(Debug)]
pub enum OptionalParent {}

impl<R: Clone + Send + 'static> Found<R> for Each {
    type Beside = Vec<R>;

    fn of(rows: Option<Taken<'_, R>>, _: impl FnOnce() -> Error) -> Result<Vec<R>, Error> {
        Ok(match rows {
            None => Vec::new(),
            // The last owner takes the rows without a copy.
            Some(taken) if taken.is_last => std::mem::take(taken.rows),
            Some(taken) => taken.rows.clone(),
        })
    }
}

impl<R: Send + Sync + 'static> Found<R> for OptionalParent {
    type Beside = Option<Arc<R>>;

    fn of(rows: Option<Taken<'_, R>>, _: impl FnOnce() -> Error) -> Result<Option<Arc<R>>, Error> {
        Ok(rows.and_then(Taken::shared))
    }
}

impl<R: Send + Sync + 'static> Found<R> for RequiredParent {
    type Beside = Arc<R>;

    fn of(rows: Option<Taken<'_, R>>, missing: impl FnOnce() -> Error) -> Result<Arc<R>, Error> {
        rows.and_then(Taken::shared).ok_or_else(missing)
    }
}

/// The matching rows of one row, where they are stored.
#[doc(hidden)]
#[derive(Debug)]
pub struct Taken<'l, R> {
    rows: &'l mut Vec<R>,
    shared: &'l mut Option<Arc<R>>,
    is_last: bool,
}

impl<R> Taken<'_, R> {
    /// Returns the single row.
    fn shared(self) -> Option<Arc<R>> {
        if self.shared.is_none() {
            *self.shared = self.rows.pop().map(Arc::new);
        }
        self.shared.clone()
    }
}

/// The rows of a companion, by the values that match them.
#[doc(hidden)]
#[derive(Debug)]
pub struct Lookup<R> {
    // Kept in the order of the rows, so that the same rows give the same statement.
    slots: IndexMap<Key, Slot<R>, RandomState>,
    width: usize,
    /// The types of the keys, if the rows are in hand: their values have Rust's types, whatever the engine returns.
    in_hand: Option<SmallVec<[SqlType; 2]>>,
}

#[derive(Debug)]
struct Slot<R> {
    rows: Vec<R>,
    shared: Option<Arc<R>>,
    /// The number of rows that still need them.
    owners: usize,
}

impl<R> Lookup<R> {
    /// Returns a lookup for rows with these keys.
    pub fn of<'k, Q, A>(
        companion: &Companion<Q, A>,
        keys: impl Iterator<Item = &'k [KeyPart]>,
    ) -> Lookup<R> {
        let keys = keys.map(|keys| companion.key(keys));
        let mut slots: IndexMap<Key, Slot<R>, RandomState> =
            IndexMap::with_capacity_and_hasher(keys.size_hint().0, RandomState::default());
        for key in keys {
            if key.contains(&KeyPart::Null) {
                continue;
            }
            match slots.get_mut(key) {
                Some(slot) => slot.owners += 1,
                None => {
                    let slot = Slot { rows: Vec::new(), shared: None, owners: 1 };
                    slots.insert(key.into(), slot);
                }
            }
        }
        Lookup { slots, width: companion.pairs.len(), in_hand: None }
    }

    /// Returns a lookup for rows in hand with these keys.
    pub fn of_rows_in_hand<'k, Q, A>(
        companion: &Companion<Q, A>,
        keys: impl Iterator<Item = &'k [KeyPart]>,
    ) -> Lookup<R> {
        let types = companion.pairs.iter().map(|[of_row, _]| of_row.sql_type());
        Lookup { in_hand: Some(types.collect()), ..Lookup::of(companion, keys) }
    }

    /// Returns the number of key cells that match an arriving row.
    pub fn width(&self) -> usize {
        self.width
    }

    /// Stores rows that arrived, all of whose key cells are for matching.
    pub fn put_all(&mut self, arrived: Vec<KeyedRow<R>>) {
        for KeyedRow { row, keys } in arrived {
            self.put(&keys, row);
        }
    }

    /// Returns whether there is nothing to look up.
    pub fn is_empty(&self) -> bool {
        self.slots.is_empty()
    }

    pub(super) fn lists(&self, pairs: &[[&'static ColumnInfo; 2]]) -> Result<Vec<List>, Error> {
        let each = pairs.iter().enumerate().map(|(place, [of_row, own])| {
            let sql_type = own.sql_type();
            // A single column of several may have a value more than once.
            let (mut seen, several) = (HashSet::new(), pairs.len() > 1);
            let parts = self.slots.keys().filter_map(|key| key.get(place));
            let parts = parts.filter(|part| !several || seen.insert(*part));
            let items = parts.map(|part| part.bound_as(sql_type, of_row));
            let items: Vec<BindValue> = items.collect::<Result<_, Error>>()?;
            Ok(List::new(sql_type, items))
        });
        each.collect()
    }

    /// Stores a row that arrived. A row without a match is dropped.
    pub fn put(&mut self, key: &[KeyPart], row: R) {
        if let Some(types) = &self.in_hand {
            let parts = key.iter().zip(types);
            let key = parts.map(|(part, sql_type)| part.as_in_hand(*sql_type));
            let Some(key) = key.collect::<Option<Key>>() else { return };
            if let Some(slot) = self.slots.get_mut(&*key) {
                slot.rows.push(row);
            }
            return;
        }
        if let Some(slot) = self.slots.get_mut(key) {
            slot.rows.push(row);
        }
    }

    /// Returns what stands beside a row with these keys.
    pub fn take<Q, A: Found<R>>(
        &mut self,
        companion: &Companion<Q, A>,
        keys: &[KeyPart],
    ) -> Result<A::Beside, Error> {
        let taken = self.slots.get_mut(companion.key(keys)).map(|slot| {
            slot.owners = slot.owners.saturating_sub(1);
            Taken { rows: &mut slot.rows, shared: &mut slot.shared, is_last: slot.owners == 0 }
        });
        A::of(taken, || companion.required_row_missing(keys))
    }
}

impl<Q, A> Companion<Q, A> {
    /// Returns the error about a missing required row, with the names of both.
    #[cold]
    fn required_row_missing(&self, keys: &[KeyPart]) -> Error {
        let told = |columns: &mut dyn Iterator<Item = &'static ColumnInfo>, keys: &[KeyPart]| {
            let each = columns.zip(keys).map(|(column, part)| {
                let bind = part.to_bind(column.sql_type());
                let value = bind.map_or_else(|| "NULL".to_owned(), |bind| bind.to_string());
                format!("`{}` = {value}", column.name())
            });
            each.collect::<Vec<_>>().join(" and ")
        };
        let key = self.key(keys);
        let (named_by, names) = self.name(keys);
        let of_row = self.pairs.first().map_or("?", |[of_row, _]| of_row.table());
        let target = self.pairs.first().map_or("?", |[_, own]| own.table());
        let row = told(&mut named_by.iter().copied(), names);
        let by = told(&mut self.pairs.iter().map(|[of_row, _]| *of_row), key);
        let missing = told(&mut self.pairs.iter().map(|[_, own]| *own), key);
        Error::required_row_missing([of_row, &row, &by], [target, &missing])
    }
}
