//! What a handle is set to: what it carries for policies, and what it does around each statement.

use std::any::Any;

use jiff::Timestamp;
use nepheline_core::internal::{Asking, Statement};
use nepheline_core::{Carried, Dialect};

use crate::record::{Record, Running};

/// The setting of a handle, which its transactions inherit.
#[derive(Debug, Clone, Default)]
pub(crate) struct Setting {
    carried: Carried,
    record: Option<Record>,
}

impl Setting {
    pub(crate) fn carrying<V: Any + Send + Sync>(&self, value: V) -> Setting {
        Setting { carried: self.carried.with(value), ..self.clone() }
    }

    pub(crate) fn recording_to(&self, record: &Record) -> Setting {
        Setting { record: Some(record.clone()), ..self.clone() }
    }

    pub(crate) fn asking(&self, dialect: Dialect) -> Asking<'_> {
        Asking { dialect, carried: &self.carried, time: Timestamp::now }
    }

    /// To be called when a statement is sent.
    #[inline]
    pub(crate) fn begin(&self, statement: &Statement<'_>) -> Running {
        Record::begin(self.record.as_ref(), statement)
    }
}
