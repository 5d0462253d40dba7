//! What a handle is set to: what it carries for policies, and the gates around its statements.

use std::any::Any;
use std::sync::Arc;

use jiff::Timestamp;
use nepheline_core::internal::{Asking, Statement};
use nepheline_core::{Carried, Dialect, Error};

use crate::gate::{Gate, Gates, Running};

/// The setting of a handle, which its transactions inherit.
#[derive(Debug, Clone, Default)]
pub(crate) struct Setting {
    carried: Carried,
    gates: Gates,
    in_transaction: bool,
}

impl Setting {
    pub(crate) fn carrying<V: Any + Send + Sync>(&self, value: V) -> Setting {
        Setting { carried: self.carried.with(value), ..self.clone() }
    }

    pub(crate) fn through(&self, gate: impl Gate) -> Setting {
        Setting { gates: self.gates.with(Arc::new(gate)), ..self.clone() }
    }

    pub(crate) fn in_transaction(&self) -> Setting {
        Setting { in_transaction: true, ..self.clone() }
    }

    pub(crate) fn asking(&self, dialect: Dialect) -> Asking<'_> {
        Asking { dialect, carried: &self.carried, time: Timestamp::now }
    }

    /// To be called when a statement is sent.
    #[inline]
    pub(crate) fn begin(&self, statement: &Statement<'_>) -> Result<Running, Error> {
        self.gates.begin(statement, self.in_transaction)
    }
}
