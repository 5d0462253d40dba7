//! The trace that a request belongs to, sent to the database with each statement.

use std::fmt;
use std::str::FromStr;
use std::sync::Arc;

use nepheline_core::internal::Statement;
use nepheline_core::Error;

/// The position of a request in a distributed trace: the value of the header `traceparent` of W3C Trace
/// Context.
///
/// ```
/// use nepheline::TraceParent;
///
/// let header = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01";
/// let parent: TraceParent = header.parse()?;
/// assert_eq!(parent.to_string(), header);
/// assert!("00-0af7*/; DROP TABLE site".parse::<TraceParent>().is_err());
/// # Ok::<(), nepheline::Error>(())
/// ```
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct TraceParent(Box<str>);

impl FromStr for TraceParent {
    type Err = Error;

    /// # Errors
    ///
    /// [`RefusedValue`](crate::ErrorKind::RefusedValue) for a text that the recommendation does not allow
    /// ("The traceparent Header"): anything but four groups of lower-case hexadecimal digits, or identifiers
    /// of zeros.
    fn from_str(text: &str) -> Result<TraceParent, Error> {
        let is_hex = |part: &str| part.bytes().all(|b| matches!(b, b'0'..=b'9' | b'a'..=b'f'));
        let is_some = |part: &str| part.bytes().any(|b| b != b'0');
        let fits = match text.split('-').collect::<Vec<_>>().as_slice() {
            [version, trace, parent, flags] => {
                let parts = [(version, 2), (trace, 32), (parent, 16), (flags, 2)];
                parts.iter().all(|(part, length)| part.len() == *length && is_hex(part))
                    && *version != "ff"
                    && is_some(trace)
                    && is_some(parent)
            }
            _ => false,
        };
        match fits {
            true => Ok(TraceParent(text.into())),
            false => Err(Error::unfit_trace_parent(text)),
        }
    }
}

impl fmt::Display for TraceParent {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// Appends a comment with the current [`TraceParent`] to each statement, so that the server's log of
/// statements leads back to the request: `.. /*traceparent='00-0af7..-01'*/`. A handle carries it:
///
/// ```no_run
/// # use nepheline::{Database, TraceContext, TraceParent};
/// # fn current_span() -> Option<TraceParent> { None }
/// # fn f(db: Database, header: &str) -> Result<(), nepheline::Error> {
/// let parent: TraceParent = header.parse()?;
/// let of_request = db.carrying(TraceContext::of(parent));          // the same for all statements
/// let of_spans = db.carrying(TraceContext::asking(current_span));  // asked for each
/// # Ok(())
/// # }
/// ```
///
/// The comment has the form that OpenTelemetry's conventions for databases name. Interceptors see the SQL
/// without it. Each text then occurs once, so servers parse it each time, and no prepared statement is
/// cached. SQLite, which has no log of statements, gets no comment; neither do statements that begin and end
/// transactions.
#[derive(Clone)]
pub struct TraceContext(Arc<dyn Fn() -> Option<TraceParent> + Send + Sync>);

impl TraceContext {
    /// Returns the context of one request.
    pub fn of(parent: TraceParent) -> TraceContext {
        TraceContext::asking(move || Some(parent.clone()))
    }

    /// Returns a context that calls `current` when a statement is sent; `None` adds no comment.
    pub fn asking(
        current: impl Fn() -> Option<TraceParent> + Send + Sync + 'static,
    ) -> TraceContext {
        TraceContext(Arc::new(current))
    }

    pub(crate) fn comment(&self, statement: &mut Statement<'_>) {
        if !statement.is_of_server() {
            return;
        }
        if let Some(parent) = (self.0)() {
            statement.comment(&format!("traceparent='{parent}'"));
        }
    }
}

impl fmt::Debug for TraceContext {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("TraceContext")
    }
}
