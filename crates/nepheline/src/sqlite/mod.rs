//! SQLite through `rusqlite`.

mod cells;
mod direct;

pub(crate) use direct::Direct;
