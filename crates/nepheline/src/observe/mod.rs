//! Code around statements: gates, the record, tracing, budgets, and the context of a trace.

pub(crate) mod gate;
pub(crate) mod record;
pub(crate) mod trace_context;
#[cfg(feature = "tracing")]
pub(crate) mod traced;
