//! What tells apart the tables standing in queries, also the same table standing twice: a number for
//! each, and for a parent that is followed from it the path of references.

use std::cell::Cell;
use std::sync::atomic::{AtomicU64, Ordering};

use super::RawColumn;
use crate::model::Reference;

/// One appearance of a table in a query. The text never shows it: names are given when a query is compiled.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct SourceId(u64);

/// Each thread takes this many numbers at a time, so that threads which build queries at once do
/// not contend for one counter.
const BLOCK: u64 = 1024;

static NEXT_BLOCK: AtomicU64 = AtomicU64::new(0);

thread_local! {
    /// The next number, and how many are left of the block.
    static NEXT: Cell<(u64, u64)> = const { Cell::new((0, 0)) };
}

impl SourceId {
    /// A number that no other source of this process has.
    pub(crate) fn fresh() -> SourceId {
        NEXT.with(|next| {
            let (id, left) = match next.get() {
                (_, 0) => (NEXT_BLOCK.fetch_add(1, Ordering::Relaxed) * BLOCK, BLOCK),
                block => block,
            };
            next.set((id + 1, left - 1));
            SourceId(id)
        })
    }
}

/// A table in a query: one that the query is over, or a parent that is followed from it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Source {
    pub(crate) id: SourceId,
    pub(crate) path: Path,
}

impl Source {
    /// No table of any query, to ask for the columns of a table wherever it stands.
    pub const NOWHERE: Source = Source { id: SourceId(u64::MAX), path: Path::HERE };

    /// A table that nothing else of this process is.
    pub(crate) fn fresh() -> Source {
        Source { id: SourceId::fresh(), path: Path::HERE }
    }

    /// The parent that the reference with this number leads to.
    #[inline]
    pub fn followed(self, reference: u8) -> Source {
        Source { id: self.id, path: self.path.then(reference) }
    }
}

/// The references that were followed, in their order: a byte for each, one more than its number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Path(u64);

impl Path {
    pub(crate) const HERE: Path = Path(0);

    /// More references than a path can hold, which no dialect prints.
    const TOO_LONG: Path = Path(u64::MAX);

    fn then(self, reference: u8) -> Path {
        match self.0.leading_zeros() >= 8 && reference < u8::MAX - 1 {
            true => Path(self.0 << 8 | (u64::from(reference) + 1)),
            false => Path::TOO_LONG,
        }
    }

    pub(crate) fn is_too_long(self) -> bool {
        self == Path::TOO_LONG
    }

    /// The path without its last reference, and the number of that.
    pub(crate) fn last(self) -> Option<(Path, usize)> {
        let step = (self.0 & 0xFF) as usize;
        (step > 0).then(|| (Path(self.0 >> 8), step - 1))
    }
}

impl Reference {
    /// The columns that are equal, where its table and the other stand in a query.
    pub(crate) fn pairs_at(
        &self,
        own: Source,
        target: Source,
    ) -> impl Iterator<Item = [RawColumn; 2]> {
        self.pairs().map(move |[of_own, of_target]| {
            [RawColumn { source: own, info: of_own }, RawColumn { source: target, info: of_target }]
        })
    }
}

#[cfg(test)]
mod tests {
    use super::Path;

    #[test]
    fn a_path_gives_back_its_references_from_the_last_to_the_first() {
        let references = [0, 253, 7, 0, 1, 2, 3, 4];
        let mut path = references
            .iter()
            .fold(Path::HERE, |path, reference| path.then(*reference));
        assert!(!path.is_too_long());
        for reference in references.iter().rev() {
            let Some((before, last)) = path.last() else { panic!("shorter than it was made") };
            assert_eq!(last, usize::from(*reference));
            path = before;
        }
        assert_eq!((path, path.last()), (Path::HERE, None));
    }

    #[test]
    fn a_path_that_has_no_room_is_too_long_and_stays_so() {
        let eight = (0..8).fold(Path::HERE, |path, _| path.then(1));
        for too_long in [eight.then(0), Path::HERE.then(254), Path::HERE.then(255)] {
            assert!(too_long.is_too_long());
            assert!(too_long.then(0).is_too_long());
        }
    }
}
