//! Statements as spans of `tracing`, under the names of the OpenTelemetry conventions for databases.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use tracing::{Span, debug, debug_span, error, field, warn};

use super::gate::{Gate, Passed, Passing, Verdict};

/// Opens a span of `tracing` around every statement, and tells in it how the statement ended: at the level
/// `DEBUG`, one that was slow at `WARN`, and one that failed at `ERROR`.
///
/// The span is called `statement`, of the level `DEBUG`; its fields are named by the OpenTelemetry semantic
/// conventions for database clients: `otel.name`, `otel.kind`, `db.system.name`, `db.operation.name`,
/// `db.collection.name`, `db.query.text`, `code.file.path` and `code.line.number` of whoever asked, and when it has
/// ended `db.response.returned_rows` and `error.type`. What was slow or failed tells these itself, for logs that leave
/// out what is below `WARN`. Values are not told, unless [`with_values`](Self::with_values) is said.
///
/// ```no_run
/// # use std::time::Duration;
/// # use nepheline::{Database, Traced};
/// # fn f(db: Database) {
/// let db = db.through(Traced::new().slow(Duration::from_millis(200)));
/// # }
/// ```
#[derive(Debug, Clone, Default)]
pub struct Traced {
    slow: Option<Duration>,
    values: bool,
    /// The spans of statements that run, by their numbers.
    open: Arc<Mutex<HashMap<u64, Span>>>,
}

impl Traced {
    /// All statements at one level, without values.
    pub fn new() -> Traced {
        Traced::default()
    }

    /// Warns of statements that take this long or longer.
    pub fn slow(mut self, threshold: Duration) -> Traced {
        self.slow = Some(threshold);
        self
    }

    /// Tells the values too, in `db.query.parameters`. They may be secrets.
    pub fn with_values(mut self) -> Traced {
        self.values = true;
        self
    }
}

/// The table that it is of.
fn collection(passing: &Passing) -> &'static str {
    passing.tables().first().copied().unwrap_or_default()
}

impl Gate for Traced {
    fn before(&self, passing: &Passing) -> Verdict {
        let collection = collection(passing);
        let span = debug_span!(
            "statement",
            otel.name = format!("{} {collection}", passing.operation()),
            otel.kind = "client",
            db.system.name = passing.dialect().grammar().system_name(),
            db.operation.name = %passing.operation(),
            db.collection.name = collection,
            db.query.text = passing.sql(),
            db.query.parameters = field::Empty,
            db.response.returned_rows = field::Empty,
            error.r#type = field::Empty,
            code.file.path = passing.origin().file(),
            code.line.number = passing.origin().line(),
            in_transaction = passing.in_transaction(),
        );
        if self.values {
            let values: Vec<String> = passing.binds().iter().map(ToString::to_string).collect();
            span.record("db.query.parameters", values.join(", "));
        }
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        open.insert(passing.number(), span);
        Verdict::Pass
    }

    fn after(&self, passing: &Passing, passed: &Passed<'_>) {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(span) = open.remove(&passing.number()) else { return };
        drop(open);
        span.record("db.response.returned_rows", passed.rows());
        let duration_ms = passed.took().as_secs_f64() * 1e3;
        let slow = self
            .slow
            .is_some_and(|threshold| passed.took() >= threshold);
        let error_type = passed.error().map(|err| format!("{:?}", err.kind()));
        if let Some(error_type) = &error_type {
            span.record("error.type", error_type);
        }
        // Where spans of its level are left out, what went wrong says of which statement it is.
        macro_rules! tell {
            ($at_level:ident, $what:literal) => {
                $at_level!(
                    duration_ms,
                    db.system.name = passing.dialect().grammar().system_name(),
                    db.operation.name = %passing.operation(),
                    db.collection.name = collection(passing),
                    db.query.text = passing.sql(),
                    db.response.returned_rows = passed.rows(),
                    error.r#type = error_type,
                    code.file.path = passing.origin().file(),
                    code.line.number = passing.origin().line(),
                    $what
                )
            };
        }
        span.in_scope(|| match (passed.error(), slow) {
            (Some(_), _) => tell!(error, "a statement failed"),
            (None, true) => tell!(warn, "a statement was slow"),
            (None, false) => debug!(duration_ms, "a statement ran"),
        });
    }
}
