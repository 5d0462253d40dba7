//! The session settings on which the meaning of statements depends.

use std::fmt::Write as _;
use std::time::Duration;

use crate::access::options::Plans;

/// The settings of every session: each overrides a default of the server, the database or the role.
const ALWAYS: [&str; 4] = [
    "TIME ZONE 'UTC'",
    "client_encoding TO 'UTF8'",
    "standard_conforming_strings TO on",
    "transform_null_equals TO off",
];

/// Resets everything that hand-written text may have left in a session, except prepared statements, which the
/// library manages.
pub(super) const AS_AT_FIRST: &str = "SET SESSION AUTHORIZATION DEFAULT; RESET ALL; CLOSE ALL; UNLISTEN *; \
     SELECT pg_advisory_unlock_all(); DISCARD TEMP;";

/// The settings of one session.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Settings {
    pub(super) lock_timeout: Option<Duration>,
    pub(super) statement_timeout: Option<Duration>,
    pub(super) plans: Plans,
}

impl Settings {
    /// Returns the text that sets them for the session.
    pub(super) fn text(self) -> String {
        self.text_after("SET ")
    }

    /// Returns the text that sets them for a transaction.
    pub(super) fn text_in_transaction(self) -> String {
        // The server checks regularly whether the client is still connected ("Client Connection Defaults").
        self.text_after("SET LOCAL ") + "SET LOCAL client_connection_check_interval TO 1000; "
    }

    fn text_after(self, set: &str) -> String {
        let mut text = String::new();
        for setting in ALWAYS {
            let _ = write!(text, "{set}{setting}; ");
        }
        if let Some(longest) = self.lock_timeout {
            let _ = write!(text, "{set}lock_timeout TO {}; ", milliseconds(longest));
        }
        if let Some(longest) = self.statement_timeout {
            let _ = write!(text, "{set}statement_timeout TO {}; ", milliseconds(longest));
        }
        if self.plans == Plans::Custom {
            let _ = write!(text, "{set}plan_cache_mode TO force_custom_plan; ");
        }
        text
    }
}

/// Returns the text that sets the statement timeout.
pub(super) fn statement_timeout(longest: Option<Duration>) -> String {
    format!("SET statement_timeout TO {}", longest.map_or(0, milliseconds))
}

/// Zero means no limit to the server, so a duration below a millisecond becomes one.
fn milliseconds(longest: Duration) -> u128 {
    longest.as_millis().max(1)
}
