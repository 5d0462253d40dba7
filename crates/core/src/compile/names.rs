//! What the tables of a query are called in its text: by their own names, and where a table stands
//! inside a query that has it already, by an alias.

use smallvec::SmallVec;

use crate::error::Error;
use crate::query::SourceId;
use crate::tree::Select;

/// Engines give up when queries stand in queries much deeper.
const DEEPEST: usize = 10;

/// The longest table name that an alias is made of whole: engines cut names at 63 bytes.
const LONGEST: usize = 55;

/// The tables that are in sight, from the outermost query to the innermost.
#[derive(Debug, Default)]
pub(super) struct Names {
    visible: SmallVec<[Visible; 2]>,
}

#[derive(Debug)]
struct Visible {
    source: SourceId,
    table: &'static str,
    alias: Option<Box<str>>,
}

impl Names {
    /// Goes into a query, which sees what is around it.
    pub(super) fn enter(&mut self, select: &Select) -> Result<(), Error> {
        if self.visible.len() > DEEPEST {
            return Err(Error::too_many_subqueries(DEEPEST));
        }
        let table = select.table.name();
        let taken = self.visible.iter().any(|other| other.is_called(table));
        let alias = taken.then(|| self.alias_for(table));
        self.visible
            .push(Visible { source: select.source, table, alias });
        Ok(())
    }

    /// Leaves the innermost query.
    pub(super) fn leave(&mut self) {
        self.visible.pop();
    }

    /// The alias of a table in sight, or `Some(None)` if it goes by its own name.
    pub(super) fn find(&self, source: SourceId) -> Option<Option<&str>> {
        let innermost = self
            .visible
            .iter()
            .rev()
            .find(|visible| visible.source == source)?;
        Some(innermost.alias.as_deref())
    }

    /// The alias of a table, if it has one.
    pub(super) fn alias(&self, source: SourceId) -> Option<&str> {
        self.find(source).flatten()
    }

    #[cold]
    fn alias_for(&self, table: &str) -> Box<str> {
        let whole = table.len().min(LONGEST);
        let kept = &table[..table.floor_char_boundary(whole)];
        let mut aliases = (2..).map(|number| format!("{kept}_{number}"));
        let free = aliases.find(|alias| !self.visible.iter().any(|other| other.is_called(alias)));
        free.unwrap_or_default().into()
    }
}

impl Visible {
    fn is_called(&self, name: &str) -> bool {
        // Some engines do not tell names apart that differ in case only.
        self.alias
            .as_deref()
            .unwrap_or(self.table)
            .eq_ignore_ascii_case(name)
    }
}
