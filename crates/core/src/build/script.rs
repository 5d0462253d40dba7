//! Scripts: several statements of hand-written SQL without values.

use std::borrow::Cow;
use std::fmt;
use std::panic::Location;

use crate::model::Origin;

/// Several statements of hand-written SQL in one text; made by `script!`. A handle's `run_script` runs them in order.
///
/// Statements end at semicolons outside of quotes, comments, and the bodies of functions, procedures and triggers. They
/// take no values; statements with values are made by `statement!`.
#[derive(Clone)]
#[must_use = "a script does nothing until a handle runs it"]
pub struct Script {
    text: Cow<'static, str>,
    at: Origin,
    outside: bool,
}

impl Script {
    /// Creates a script; `script!` calls it with its literal.
    #[doc(hidden)]
    #[track_caller]
    pub fn of(text: &'static str) -> Script {
        Script { text: Cow::Borrowed(text), at: Origin::of(Location::caller()), outside: false }
    }

    /// Uses text that was made at run time, unchanged. **Whoever controls the text can read and change the whole
    /// database.** It is safe for files that the program ships or its administrator writes.
    #[track_caller]
    pub fn trusting_text_made_at_run_time(text: impl Into<String>) -> Script {
        let at = Origin::of(Location::caller());
        Script { text: Cow::Owned(text.into()), at, outside: false }
    }

    /// Declares that the script may read and write outside the policies of the tables that it names. A handle with
    /// `policies_required` needs it.
    pub fn outside_policies(self) -> Script {
        Script { outside: true, ..self }
    }

    /// Returns the whole text.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Returns the line of the program that made it.
    pub fn origin(&self) -> Origin {
        self.at
    }

    #[doc(hidden)]
    pub fn is_outside_policies(&self) -> bool {
        self.outside
    }
}

impl fmt::Debug for Script {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Script({} bytes @ {})", self.text.len(), self.at)
    }
}
