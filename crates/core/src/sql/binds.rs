//! The binds of a statement, borrowed from the query where they are unchanged.

use std::borrow::Cow;
use std::ops::Range;
use std::slice;

use smallvec::SmallVec;

use crate::model::{BindValue, LentBind};
use crate::plan::write::RowBinds;

/// The binds of a statement, in the order of their placeholders.
#[derive(Debug)]
pub(crate) enum Binds<'q> {
    // Inline capacity for what most queries bind, which saves an allocation.
    Each(SmallVec<[Cow<'q, BindValue>; 6]>),
    /// The values of new rows, row by row.
    OfRows(RowBinds<'q>),
}

impl<'q> Binds<'q> {
    pub(crate) fn iter(&self) -> Iter<'_, 'q> {
        match self {
            Binds::Each(binds) => Iter::Each(binds.iter()),
            Binds::OfRows(of) => Iter::OfRows { of, next: of.range.clone(), lent: Vec::new() },
        }
    }

    /// Passes each bind to `take`, faster than an iterator for many rows.
    #[inline]
    pub(crate) fn each<'b>(&'b self, take: &mut dyn FnMut(LentBind<'b>)) {
        match self {
            Binds::Each(binds) => binds.iter().for_each(|bind| take(LentBind::Value(bind))),
            Binds::OfRows(of) => of.rows.lend(of.range.clone(), &of.made, take),
        }
    }

    /// Returns whether it is plain that no dialect refuses one of them.
    pub(crate) fn are_ordinary(&self) -> bool {
        match self {
            Binds::Each(binds) => binds.iter().all(|bind| bind.is_ordinary()),
            Binds::OfRows(of) => {
                of.rows.are_ordinary(of.range.clone()) && of.made.iter().all(BindValue::is_ordinary)
            }
        }
    }

    /// Returns the same binds without borrowing.
    pub(crate) fn into_owned<'o>(self) -> Binds<'o> {
        match self {
            Binds::Each(binds) => {
                let each = |bind: Cow<'_, BindValue>| Cow::Owned(bind.into_owned());
                Binds::Each(binds.into_iter().map(each).collect())
            }
            rows => Binds::of_values(rows.into_values()),
        }
    }

    pub(crate) fn of_values(values: Vec<BindValue>) -> Binds<'q> {
        Binds::Each(values.into_iter().map(Cow::Owned).collect())
    }

    pub(crate) fn into_values(self) -> Vec<BindValue> {
        match self {
            Binds::Each(binds) => binds.into_iter().map(Cow::into_owned).collect(),
            rows => rows.iter().map(|bind| bind.to_value()).collect(),
        }
    }
}

/// An iterator over binds.
#[derive(Debug)]
pub(crate) enum Iter<'b, 'q> {
    Each(slice::Iter<'b, Cow<'q, BindValue>>),
    OfRows {
        of: &'b RowBinds<'q>,
        /// The rows that are still to come.
        next: Range<usize>,
        /// The remaining binds of the current row.
        lent: Vec<LentBind<'b>>,
    },
}

impl<'b, 'q: 'b> Iterator for Iter<'b, 'q> {
    type Item = LentBind<'b>;

    #[inline]
    fn next(&mut self) -> Option<LentBind<'b>> {
        match self {
            Iter::Each(binds) => binds.next().map(|bind| LentBind::Value(bind)),
            Iter::OfRows { of, next, lent } => {
                if lent.is_empty() {
                    let row = next.next()?;
                    of.rows
                        .lend(row..row + 1, &of.made, &mut |bind| lent.push(bind));
                    // Reversed, so that they can be taken from the end.
                    lent.reverse();
                }
                lent.pop()
            }
        }
    }

    #[inline]
    fn size_hint(&self) -> (usize, Option<usize>) {
        match self {
            Iter::Each(binds) => binds.size_hint(),
            Iter::OfRows { of, next, lent } => {
                let left = lent.len() + next.len() * of.width;
                (left, Some(left))
            }
        }
    }
}

impl<'b, 'q: 'b> ExactSizeIterator for Iter<'b, 'q> {}
