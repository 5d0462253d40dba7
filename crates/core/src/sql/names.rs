//! What the tables of a query are called in its text: by their own names, and where a name is taken
//! already, by an alias.

use smallvec::SmallVec;

use crate::model::{Error, Origin, Reference, TableInfo};
use crate::tree::{Asked, Path, Select, Source, SourceId};

/// Engines give up when queries stand in queries much deeper.
const DEEPEST: usize = 10;

/// The longest name that an alias is made of whole: engines cut names at 63 bytes.
const LONGEST: usize = 55;

/// The tables that are in sight, from the outermost query to the innermost.
#[derive(Debug, Default)]
pub(super) struct Names {
    visible: SmallVec<[Visible; 2]>,
    /// How many were in sight before each query that was gone into.
    before: SmallVec<[usize; 2]>,
    /// How many of the first cannot be seen, because a query in the place of a table stands between.
    hidden: usize,
    /// True if a filter requires the row of a parent that is optional otherwise.
    requires: bool,
}

#[derive(Debug)]
pub(super) struct Visible {
    pub(super) source: Source,
    pub(super) table: &'static TableInfo,
    pub(super) alias: Option<Box<str>>,
    /// How it came to be followed, and who asked for it first.
    pub(super) followed: Option<Asked<&'static Reference>>,
    /// True if there may be no row of it.
    pub(super) optional: bool,
    /// True if it is the new row that an insert brings, beside the stored one.
    pub(super) is_new: bool,
}

impl Names {
    /// Goes into a query, which sees what is around it, with the parents that are followed in it.
    ///
    /// A parent whose row a filter requires is not optional.
    pub(super) fn enter(
        &mut self,
        select: &Select,
        followed: Vec<Asked<Source>>,
    ) -> Result<(), Error> {
        if self.before.len() > DEEPEST {
            return Err(Error::too_many_subqueries(DEEPEST));
        }
        self.before.push(self.visible.len());
        self.stand(select.source, select.table, false);
        self.follow_from(select, select.source, &followed)?;
        for join in &select.joins {
            self.stand(join.source, join.table, join.optional);
            self.follow_from(select, join.source, &followed)?;
        }
        Ok(())
    }

    /// A table that the query is over.
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

    /// The new row that an insert brings, beside the stored one.
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
        followed: &[Asked<Source>],
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
        let mut optional = optional || reference.is_optional();
        if optional && select.requires(source) {
            optional = false;
            self.requires = true;
        }
        let table = reference.target();
        // The second time a table is followed to, the reference tells which it is.
        let alias = self.alias_for(table.name(), reference.name());
        self.visible.push(Visible {
            source,
            table,
            alias,
            followed: Some(Asked { what: reference, at }),
            optional,
            is_new: false,
        });
        Ok(())
    }

    /// Returns whether a filter requires the row of a parent that is optional otherwise, here or in a query before.
    pub(super) fn requires(&self) -> bool {
        self.requires
    }

    /// Hides what is in sight from a query in the place of a table, and tells what was hidden before.
    pub(super) fn hide(&mut self) -> usize {
        std::mem::replace(&mut self.hidden, self.visible.len())
    }

    /// The opposite.
    pub(super) fn show(&mut self, hidden: usize) {
        self.hidden = hidden;
    }

    /// Leaves the innermost query.
    pub(super) fn leave(&mut self) {
        if let Some(before) = self.before.pop() {
            self.visible.truncate(before);
        }
    }

    /// The tables of the innermost query but the first, by their places.
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

    /// What to call a table whose name is taken: by `preferred`, if that is free, or with a number.
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
            // Some engines do not tell names apart that differ in case only.
            called.eq_ignore_ascii_case(name)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::{LONGEST, Names};
    use crate::model::{Origin, ReadColumn, SqlType, TableInfo, read_table};
    use crate::tree::{Body, Select};

    fn table(name: &str) -> &'static TableInfo {
        let column = ReadColumn {
            name: "id".to_owned(),
            sql_type: SqlType::BigInt,
            nullable: false,
            key: true,
            generated: true,
            unique: false,
        };
        read_table(None, name, vec![column])
    }

    fn over(name: &str) -> Select {
        Select::over(table(name), Body::Table, Origin::of(std::panic::Location::caller()))
    }

    /// What a query inside others calls its table, from the outermost to the innermost.
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
        // A table may have the name that an alias would have.
        assert_eq!(called(&["lab_2", "lab", "lab"]), ["lab_2", "lab", "lab_3"]);
        // Engines that ignore letter case would take them for one.
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
