//! Handles and their settings. The verbs of all handles are defined once, in `handle`.

pub(crate) mod asynchronous;
pub(crate) mod blocking;
pub(crate) mod database;
pub(crate) mod direct;
pub(crate) mod handle;
pub(crate) mod inside;
pub(crate) mod options;
#[cfg(any(feature = "postgres", feature = "mysql"))]
pub(crate) mod session;
pub(crate) mod setting;
pub(crate) mod transaction;
