//! Statements as events of `tracing`, under the names of the OpenTelemetry conventions for databases.

use std::time::Duration;

use nepheline_core::Dialect;
use tracing::{debug, error, warn};

use crate::gate::{Gate, Passed, Passing};

/// Tells `tracing` of every statement when it has ended: at the level `DEBUG`, one that was slow at `WARN`,
/// and one that failed at `ERROR`.
///
/// The fields are named by the OpenTelemetry semantic conventions for database clients:
/// `db.system.name`, `db.operation.name`, `db.collection.name`, `db.query.text`, `db.response.returned_rows`,
/// and `error.type`; besides there are `code.file.path` and `code.line.number` of whoever asked, and
/// `duration_ms`. Values are not told, unless [`with_values`](Self::with_values) is said.
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

/// What the conventions call an engine.
fn system(dialect: Dialect) -> &'static str {
    match dialect {
        Dialect::Sqlite => "sqlite",
        Dialect::Postgres => "postgresql",
        Dialect::MariaDb => "mariadb",
        _ => "mysql",
    }
}

macro_rules! tell {
    ($level:ident, $passing:expr, $passed:expr, $values:expr, $error:expr, $message:literal) => {
        $level!(
            db.system.name = system($passing.dialect()),
            db.operation.name = %$passing.operation(),
            db.collection.name = $passing.tables().first().copied().unwrap_or_default(),
            db.query.text = $passing.sql(),
            db.query.parameters = $values,
            db.response.returned_rows = $passed.rows(),
            error.r#type = $error,
            code.file.path = $passing.origin().file(),
            code.line.number = $passing.origin().line(),
            duration_ms = $passed.took().as_secs_f64() * 1e3,
            in_transaction = $passing.in_transaction(),
            $message
        )
    };
}

impl Gate for Traced {
    fn after(&self, passing: &Passing, passed: &Passed<'_>) {
        let values = self.values.then(|| {
            let values = passing.binds().iter().map(ToString::to_string);
            values.collect::<Vec<_>>().join(", ")
        });
        let values = values.as_deref();
        let failed = passed.error().map(|err| format!("{:?}", err.kind()));
        let error = failed.as_deref();
        let slow = self
            .slow
            .is_some_and(|threshold| passed.took() >= threshold);
        match (error, slow) {
            (Some(_), _) => tell!(error, passing, passed, values, error, "a statement failed"),
            (None, true) => tell!(warn, passing, passed, values, error, "a statement was slow"),
            (None, false) => tell!(debug, passing, passed, values, error, "a statement ran"),
        }
    }
}
