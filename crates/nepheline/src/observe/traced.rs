//! Statements as spans of `tracing`, with the names of the OpenTelemetry conventions for databases.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use tracing::{Span, debug, debug_span, error, field, warn};

use super::interceptor::{Interceptor, StatementOutcome, StatementInfo, Decision};

/// Opens a span of `tracing` around every statement, and logs its end in it: at level `DEBUG`, a slow one at
/// `WARN`, and a failed one at `ERROR`.
///
/// The span is named `statement` and has level `DEBUG`. Its fields have the names of the OpenTelemetry
/// semantic conventions for database clients: `otel.name`, `otel.kind`, `db.system.name`,
/// `db.operation.name`, `db.collection.name`, `db.query.text`, `code.file.path` and `code.line.number` of the
/// caller, and at the end `db.response.returned_rows` and `error.type`. Events of slow and failed statements
/// repeat these fields, for logs that leave out levels below `WARN`. Values are left out, unless
/// [`with_values`](Self::with_values) is called.
///
/// ```no_run
/// # use std::time::Duration;
/// # use nepheline::{Database, Traced};
/// # fn f(db: Database) {
/// let db = db.intercepted_by(Traced::new().slow(Duration::from_millis(200)));
/// # }
/// ```
#[derive(Debug, Clone, Default)]
pub struct Traced {
    slow: Option<Duration>,
    values: bool,
    /// The spans of running statements, by their numbers.
    open: Arc<Mutex<HashMap<u64, Span>>>,
}

impl Traced {
    /// Returns an interceptor that logs all statements at one level, without values.
    pub fn new() -> Traced {
        Traced::default()
    }

    /// Logs statements that take this long or longer as warnings.
    pub fn slow(mut self, threshold: Duration) -> Traced {
        self.slow = Some(threshold);
        self
    }

    /// Adds the values, in `db.query.parameters`. They may be secrets.
    pub fn with_values(mut self) -> Traced {
        self.values = true;
        self
    }
}

/// Returns the table of the statement.
fn collection(info: &StatementInfo) -> &'static str {
    info.tables().first().copied().unwrap_or_default()
}

impl Interceptor for Traced {
    fn before(&self, info: &StatementInfo) -> Decision {
        let collection = collection(info);
        let span = debug_span!(
            "statement",
            otel.name = format!("{} {collection}", info.operation()),
            otel.kind = "client",
            db.system.name = info.dialect().grammar().system_name(),
            db.operation.name = %info.operation(),
            db.collection.name = collection,
            db.query.text = info.sql(),
            db.query.parameters = field::Empty,
            db.response.returned_rows = field::Empty,
            error.r#type = field::Empty,
            code.file.path = info.origin().file(),
            code.line.number = info.origin().line(),
            in_transaction = info.in_transaction(),
        );
        if self.values {
            let values: Vec<String> = info.binds().iter().map(ToString::to_string).collect();
            span.record("db.query.parameters", values.join(", "));
        }
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        open.insert(info.number(), span);
        Decision::Pass
    }

    fn after(&self, info: &StatementInfo, outcome: &StatementOutcome<'_>) {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(span) = open.remove(&info.number()) else { return };
        drop(open);
        span.record("db.response.returned_rows", outcome.rows());
        let duration_ms = outcome.took().as_secs_f64() * 1e3;
        let slow = self
            .slow
            .is_some_and(|threshold| outcome.took() >= threshold);
        let error_type = outcome.error().map(|err| format!("{:?}", err.kind()));
        if let Some(error_type) = &error_type {
            span.record("error.type", error_type);
        }
        // Where spans of this level are disabled, the event itself names its statement.
        macro_rules! tell {
            ($at_level:ident, $what:literal) => {
                $at_level!(
                    duration_ms,
                    db.system.name = info.dialect().grammar().system_name(),
                    db.operation.name = %info.operation(),
                    db.collection.name = collection(info),
                    db.query.text = info.sql(),
                    db.response.returned_rows = outcome.rows(),
                    error.r#type = error_type,
                    code.file.path = info.origin().file(),
                    code.line.number = info.origin().line(),
                    $what
                )
            };
        }
        span.in_scope(|| match (outcome.error(), slow) {
            (Some(_), _) => tell!(error, "a statement failed"),
            (None, true) => tell!(warn, "a statement was slow"),
            (None, false) => debug!(duration_ms, "a statement ran"),
        });
    }
}
