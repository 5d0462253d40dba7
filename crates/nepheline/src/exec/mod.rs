//! The execution of statements, written once for all engines and for async and blocking handles: connections
//! and their state, single statements, reads with companions and pages, writes of several statements, and
//! transactions.

pub(crate) mod access;
pub(crate) mod answer;
pub(crate) mod ask;
pub(crate) mod call;
pub(crate) mod companions;
pub(crate) mod describe;
pub(crate) mod cursor_keys;
pub(crate) mod levels;
pub(crate) mod limit;
pub(crate) mod line;
pub(crate) mod page;
pub(crate) mod read;
pub(crate) mod run;
pub(crate) mod script;
pub(crate) mod sink;
pub(crate) mod together;
pub(crate) mod transaction;
pub(crate) mod write;
