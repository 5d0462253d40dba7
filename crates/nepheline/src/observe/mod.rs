//! Code around statements: interceptors, the log, tracing, budgets, and the trace context.

pub(crate) mod added;
pub(crate) mod interceptor;
pub(crate) mod log;
pub(crate) mod trace_context;
#[cfg(feature = "tracing")]
pub(crate) mod traced;
