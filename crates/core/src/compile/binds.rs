//! What a statement binds, lent by the query where nothing had to change.

use std::borrow::Cow;
use std::slice;

use smallvec::SmallVec;

use crate::storable::BindValue;

/// The binds of a statement, in the order of their placeholders.
#[derive(Debug)]
pub(crate) enum Binds<'q> {
    // Room for what most queries bind, so that it needs no allocation.
    Each(SmallVec<[Cow<'q, BindValue>; 6]>),
    /// The values of new rows, just as they were given.
    AsGiven(&'q [BindValue]),
}

impl<'q> Binds<'q> {
    pub(crate) fn iter(&self) -> Iter<'_, 'q> {
        match self {
            Binds::Each(binds) => Iter::Each(binds.iter()),
            Binds::AsGiven(values) => Iter::AsGiven(values.iter()),
        }
    }

    /// The same, nothing of it lent.
    pub(crate) fn into_owned<'o>(self) -> Binds<'o> {
        let each = |bind: Cow<'_, BindValue>| Cow::Owned(bind.into_owned());
        match self {
            Binds::Each(binds) => Binds::Each(binds.into_iter().map(each).collect()),
            Binds::AsGiven(values) => Binds::of_values(values.to_vec()),
        }
    }

    pub(crate) fn of_values(values: Vec<BindValue>) -> Binds<'q> {
        Binds::Each(values.into_iter().map(Cow::Owned).collect())
    }

    pub(crate) fn into_values(self) -> Vec<BindValue> {
        match self {
            Binds::Each(binds) => binds.into_iter().map(Cow::into_owned).collect(),
            Binds::AsGiven(values) => values.to_vec(),
        }
    }
}

/// Goes through them.
#[derive(Debug)]
pub(crate) enum Iter<'b, 'q> {
    Each(slice::Iter<'b, Cow<'q, BindValue>>),
    AsGiven(slice::Iter<'q, BindValue>),
}

impl<'b, 'q: 'b> Iterator for Iter<'b, 'q> {
    type Item = &'b BindValue;

    #[inline]
    fn next(&mut self) -> Option<&'b BindValue> {
        match self {
            Iter::Each(binds) => binds.next().map(|bind| &**bind),
            Iter::AsGiven(values) => values.next(),
        }
    }

    #[inline]
    fn size_hint(&self) -> (usize, Option<usize>) {
        match self {
            Iter::Each(binds) => binds.size_hint(),
            Iter::AsGiven(values) => values.size_hint(),
        }
    }
}

impl<'b, 'q: 'b> ExactSizeIterator for Iter<'b, 'q> {}
