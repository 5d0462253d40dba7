//! The identity of each table in a query, also of the same table used twice: a number, and for a parent
//! followed from it the path of references.

use std::cell::Cell;
use std::sync::atomic::{AtomicU64, Ordering};

use super::RawColumn;
use crate::model::Reference;

/// One use of a table in a query. It is never written: names are assigned when a query is compiled.
///
/// The first byte is a mark, which is no part of the identity: the number of references behind it whose rows must
/// exist, plus one for its own row; 0 if none must.
#[derive(Debug, Clone, Copy, Eq)]
pub(crate) struct SourceId(u64);

/// The bits of a number without the mark.
const IDENTITY: u64 = u64::MAX >> MARK;

/// The place of the mark.
const MARK: u32 = 56;

impl PartialEq for SourceId {
    #[inline]
    fn eq(&self, other: &SourceId) -> bool {
        (self.0 ^ other.0) & IDENTITY == 0
    }
}

/// The size of the blocks of numbers that each thread takes, so that threads do not contend for one counter.
const BLOCK: u64 = 1024;

static NEXT_BLOCK: AtomicU64 = AtomicU64::new(0);

thread_local! {
    /// The next number, and how many of the block are left.
    static NEXT: Cell<(u64, u64)> = const { Cell::new((0, 0)) };
}

impl SourceId {
    /// Returns a number that no other source of this process has.
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

    fn mark(self) -> u64 {
        self.0 >> MARK
    }

    /// Returns the same number with the greater one of two marks.
    pub(crate) fn marked_as(self, other: SourceId) -> SourceId {
        SourceId(self.0 & IDENTITY | self.mark().max(other.mark()) << MARK)
    }
}

/// A table in a query: one that the query is over, or a parent followed from it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Source {
    pub(crate) id: SourceId,
    pub(crate) path: Path,
}

impl Source {
    /// A source that stands in no query, for reading the columns of a table wherever it stands.
    pub const NOWHERE: Source = Source { id: SourceId(IDENTITY), path: Path::HERE };

    /// Returns a source that nothing else in this process has.
    pub(crate) fn fresh() -> Source {
        Source { id: SourceId::fresh(), path: Path::HERE }
    }

    /// Returns the same source, whose row must exist.
    pub(crate) fn required(self) -> Source {
        let mark = SourceId((u64::from(self.path.len()) + 1) << MARK);
        Source { id: self.id.marked_as(mark), path: self.path }
    }

    /// Returns whether its own row must exist, because a column of it or of a parent behind it is required.
    pub(crate) fn is_required(self) -> bool {
        self.id.mark() > u64::from(self.path.len())
    }

    /// Returns whether it leads over the row of another source, or to that row, and requires it.
    pub(crate) fn requires(self, other: Source) -> bool {
        let mut path = self.path;
        while path.len() > other.path.len() {
            path = path.last().map_or(Path::HERE, |(before, _)| before);
        }
        (Source { path, ..self }).is_required() && Source { path, ..self } == other
    }

    /// Returns whether any row on its way must exist.
    pub(crate) fn is_marked(self) -> bool {
        self.id.mark() > 0
    }

    /// Returns the parent that the reference with this number leads to.
    #[inline]
    pub fn followed(self, reference: u8) -> Source {
        Source { id: self.id, path: self.path.then(reference) }
    }
}

/// The references that were followed, in order: a byte for each, with its number plus one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Path(u64);

impl Path {
    pub(crate) const HERE: Path = Path(0);

    /// More references than a path can hold; compiling it is an error.
    const TOO_LONG: Path = Path(u64::MAX);

    fn then(self, reference: u8) -> Path {
        match self.0.leading_zeros() >= 8 && reference < u8::MAX - 1 {
            true => Path(self.0 << 8 | (u64::from(reference) + 1)),
            false => Path::TOO_LONG,
        }
    }

    /// Returns the number of references.
    fn len(self) -> u32 {
        (u64::BITS - self.0.leading_zeros()).div_ceil(8)
    }

    pub(crate) fn is_too_long(self) -> bool {
        self == Path::TOO_LONG
    }

    /// Returns the path without its last reference, and the number of that reference.
    pub(crate) fn last(self) -> Option<(Path, usize)> {
        let step = (self.0 & 0xFF) as usize;
        (step > 0).then(|| (Path(self.0 >> 8), step - 1))
    }

    /// Returns the number of the first reference, and the path from there on.
    pub(crate) fn first(self) -> Option<(usize, Path)> {
        let beyond = self.len().checked_sub(1)? * 8;
        let step = (self.0 >> beyond) as usize;
        Some((step.checked_sub(1)?, Path(self.0 & !(u64::MAX << beyond))))
    }
}

impl Reference {
    /// Returns the pairs of equal columns, for the sources of its table and of the other.
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
        let mut path = references
            .iter()
            .fold(Path::HERE, |path, step| path.then(*step));
        for reference in references {
            let Some((first, rest)) = path.first() else { panic!("shorter than it was made") };
            assert_eq!(first, usize::from(reference));
            path = rest;
        }
        assert_eq!((path, path.first()), (Path::HERE, None));
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
