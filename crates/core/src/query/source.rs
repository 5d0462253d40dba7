//! Numbers that tell apart the tables standing in queries, also the same table standing twice.

use std::cell::Cell;
use std::sync::atomic::{AtomicU64, Ordering};

/// One appearance of a table in a query. The text never shows it: names are given when a query is compiled.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SourceId(u64);

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
