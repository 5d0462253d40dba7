//! The origin of a clause: the source line that asked for it.

use std::fmt;
use std::panic::Location;

/// The line of the program that asked for a clause, printed as `file:line`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Origin(&'static Location<'static>);

impl Origin {
    #[doc(hidden)]
    pub fn of(location: &'static Location<'static>) -> Origin {
        Origin(location)
    }

    /// Returns the source file, as the compiler was given it.
    pub fn file(&self) -> &'static str {
        self.0.file()
    }

    /// Returns the line, counted from 1.
    pub fn line(&self) -> u32 {
        self.0.line()
    }
}

impl fmt::Display for Origin {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.file(), self.line())
    }
}
