//! The names of tables in the text of a query: their own names, or an alias where a name is taken.

use smallvec::SmallVec;

use crate::model::{Error, Origin, Reference, TableInfo};
use crate::tree::{Located, Path, Select, Source, SourceId};

/// The depth of nested queries at which engines give up.
const DEEPEST: usize = 10;

/// The longest name that becomes part of an alias unshortened: engines cut names at 63 bytes.
const LONGEST: usize = 55;

/// The tables in scope, from the outermost query to the innermost.
#[derive(Debug, Default)]
pub(super) struct Names {
    visible: SmallVec<[Visible; 2]>,
    /// The number of tables in scope before each query that was entered.
    before: SmallVec<[usize; 2]>,
    /// The number of tables that are hidden, because a derived table stands between.
    hidden: usize,
    /// True if a filter requires the row of an optional parent.
    requires: bool,
}

#[derive(Debug)]
pub(super) struct Visible {
    pub(super) source: Source,
    pub(super) table: &'static TableInfo,
    pub(super) alias: Option<Box<str>>,
    /// The reference that leads to it, and the line that first asked for it.
    pub(super) followed: Option<Located<&'static Reference>>,
    /// True if its row may be missing.
    pub(super) optional: bool,
    /// True if it is the proposed row of an insert, beside the stored one.
    pub(super) is_new: bool,
}

impl Names {
    /// Enters a query, which sees the tables around it, with the parents that are followed in it.
    ///
    /// A parent whose row a filter requires is not optional.
    pub(super) fn enter(
        &mut self,
        select: &Select,
        followed: Vec<Located<Source>>,
    ) -> Result<(), Error> {
        if self.before.len() > DEEPEST {
            return Err(Error::too_many_subqueries(DEEPEST));
        }
        self.before.push(self.visible.len());
        let here = Source { id: select.source, path: Path::HERE };
        let optional = select.full_join().is_some() && !select.requires_row(here);
        self.stand(select.source, select.table, optional);
        self.follow_from(select, select.source, &followed)?;
        for join in &select.joins {
            let here = Source { id: join.source, path: Path::HERE };
            let optional = join.optional && !select.requires_row(here);
            self.stand(join.source, join.table, optional);
            self.follow_from(select, join.source, &followed)?;
        }
        Ok(())
    }

    /// Enters a query over a table that is in scope already, under another name.
    pub(super) fn enter_again(&mut self, id: SourceId, table: &'static TableInfo) {
        self.before.push(self.visible.len());
        self.stand(id, table, false);
    }

    /// Adds a table that the query is over.
    fn stand(&mut self, id: SourceId, table: &'static TableInfo, optional: bool) {
        let source = Source { id, path: Path::HERE };
        let alias = self.alias_for(table.name(), table.name());
        self.visible.push(Visible {
            source,
            table,
            alias,
            followed: None,
            optional,
            is_new: false,
        });
    }

    /// Adds the proposed row of an insert, beside the stored one.
    pub(super) fn stand_new(&mut self, source: Source, table: &'static TableInfo) {
        let (alias, followed) = (None, None);
        self.visible.push(Visible {
            source,
            table,
            alias,
            followed,
            optional: false,
            is_new: true,
        });
    }

    fn follow_from(
        &mut self,
        select: &Select,
        id: SourceId,
        followed: &[Located<Source>],
    ) -> Result<(), Error> {
        let mut from_here = followed.iter().filter(|followed| followed.what.id == id);
        from_here.try_for_each(|followed| self.follow(select, followed.what, followed.at))
    }

    fn follow(&mut self, select: &Select, source: Source, at: Origin) -> Result<(), Error> {
        let last = source.path.last().filter(|_| !source.path.is_too_long());
        let from = last.and_then(|(path, step)| {
            let from = self.visible.iter().rev();
            let from = from
                .into_iter()
                .find(|visible| visible.source == Source { path, ..source })?;
            Some((from.optional, from.table.references().get(step)?))
        });
        let Some((optional, reference)) = from else {
            return Err(Error::too_many_references());
        };
        let mut optional = (optional || reference.is_optional()) && !source.is_required();
        if optional && select.requires(source) {
            optional = false;
            self.requires = true;
        }
        let table = reference.target();
        // The second time a table is followed to, the name of the reference becomes its alias.
        let alias = self.alias_for(table.name(), reference.name());
        self.visible.push(Visible {
            source,
            table,
            alias,
            followed: Some(Located { what: reference, at }),
            optional,
            is_new: false,
        });
        Ok(())
    }

    /// Returns whether a filter requires the row of an optional parent, in this query or an earlier one.
    pub(super) fn requires(&self) -> bool {
        self.requires
    }

    /// Hides the tables in scope from a derived table, and returns what was hidden before.
    pub(super) fn hide(&mut self) -> usize {
        std::mem::replace(&mut self.hidden, self.visible.len())
    }

    /// Shows the hidden tables again.
    pub(super) fn show(&mut self, hidden: usize) {
        self.hidden = hidden;
    }

    /// Leaves the innermost query.
    pub(super) fn leave(&mut self) {
        if let Some(before) = self.before.pop() {
            self.visible.truncate(before);
        }
    }

    /// Returns the places of the tables of the innermost query, without the first.
    pub(super) fn innermost(&self) -> std::ops::Range<usize> {
        self.before.last().map_or(0, |before| before + 1)..self.visible.len()
    }

    pub(super) fn get(&self, index: usize) -> Option<&Visible> {
        self.visible.get(index)
    }

    pub(super) fn find(&self, source: Source) -> Option<&Visible> {
        let in_sight = self.visible.get(self.hidden..).unwrap_or_default();
        in_sight
            .iter()
            .rev()
            .find(|visible| visible.source == source)
    }

    /// Returns whether a source stands in a query around the innermost one.
    pub(super) fn is_around(&self, source: Source) -> bool {
        let innermost = self.before.last().copied().unwrap_or_default();
        let around = self.visible.get(self.hidden..innermost);
        let mut around = around.unwrap_or_default().iter();
        around.any(|visible| visible.source == source)
    }

    /// Returns the alias of a table whose name is taken: `preferred` if that is free, or one with a number.
    fn alias_for(&self, name: &str, preferred: &str) -> Option<Box<str>> {
        if !self.is_taken(name) {
            return None;
        }
        if !self.is_taken(preferred) && preferred.len() <= LONGEST {
            return Some(preferred.into());
        }
        let kept = &preferred[..preferred.floor_char_boundary(LONGEST)];
        let mut aliases = (2..).map(|number| format!("{kept}_{number}"));
        aliases.find(|alias| !self.is_taken(alias)).map(Into::into)
    }

    fn is_taken(&self, name: &str) -> bool {
        let mut in_sight = self.visible.iter().skip(self.hidden);
        in_sight.any(|visible| {
            let called = visible.alias.as_deref().unwrap_or(visible.table.name());
            // Some engines do not distinguish names that differ in case only.
            called.eq_ignore_ascii_case(name)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::{LONGEST, Names};
    use crate::model::{Origin, ReadColumn, ReadTable, SqlType, TableInfo, read_table};
    use crate::tree::{FromSource, Select};

    fn table(name: &str) -> &'static TableInfo {
        let column = ReadColumn {
            name: "id".to_owned(),
            sql_type: SqlType::BigInt,
            nullable: false,
            key: true,
            generated: true,
            unique: false,
        };
        read_table(ReadTable::of(None, name, vec![column]))
    }

    fn over(name: &str) -> Select {
        Select::over(table(name), FromSource::Table, Origin::of(std::panic::Location::caller()))
    }

    /// Returns the names of the tables of nested queries, from the outermost to the innermost.
    fn called(tables: &[&str]) -> Vec<String> {
        let mut names = Names::default();
        let selects: Vec<Select> = tables.iter().map(|name| over(name)).collect();
        let called = selects.iter().map(|select| {
            assert!(names.enter(select, Vec::new()).is_ok());
            let visible = names.find(select.entry());
            let name = visible.map(|visible| {
                visible
                    .alias
                    .as_deref()
                    .unwrap_or(visible.table.name())
                    .to_owned()
            });
            name.unwrap_or_default()
        });
        called.collect()
    }

    #[test]
    fn a_name_that_is_taken_gets_a_number() {
        assert_eq!(called(&["lab", "site"]), ["lab", "site"]);
        assert_eq!(called(&["lab", "lab", "lab"]), ["lab", "lab_2", "lab_3"]);
        // A table may itself have the name that an alias would have.
        assert_eq!(called(&["lab_2", "lab", "lab"]), ["lab_2", "lab", "lab_3"]);
        // Engines that ignore letter case would confuse them.
        assert_eq!(called(&["lab", "LAB"]), ["lab", "LAB_2"]);
    }

    #[test]
    fn a_long_name_is_cut_where_a_character_ends() {
        let long = format!("{}ö{}", "a".repeat(LONGEST - 1), "b".repeat(7));
        let [first, second] = &*called(&[&long, &long]) else { panic!("two names") };
        assert_eq!((first, second), (&long, &format!("{}_2", "a".repeat(LONGEST - 1))));
    }

    #[test]
    fn a_name_is_free_again_when_its_query_is_left() {
        let mut names = Names::default();
        let (outer, inner, other) = (over("lab"), over("site"), over("site"));
        for select in [&outer, &inner] {
            assert!(names.enter(select, Vec::new()).is_ok());
        }
        names.leave();
        assert!(names.find(inner.entry()).is_none());
        assert!(names.enter(&other, Vec::new()).is_ok());
        assert!(
            names
                .find(other.entry())
                .is_some_and(|visible| visible.alias.is_none())
        );
    }

    #[test]
    fn a_table_that_was_read_twice_is_one() {
        assert!(std::ptr::eq(table("drill_log"), table("drill_log")));
        assert!(!std::ptr::eq(table("drill_log"), table("drill_plan")));
    }
}
