//! The names that questions to a table may use: its columns and relations, and theirs.

use nepheline::internal::ReadTable;
use nepheline::{Error, SqlType};

use crate::tables::LiveTables;

/// A name that a question to a table may use; returned by [`LiveTables::names_of`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum LiveName<'t> {
    /// A column.
    Column {
        /// Its name.
        name: &'t str,
        /// The type of its values.
        sql_type: SqlType,
        /// True if NULL is allowed.
        nullable: bool,
        /// The values of its enum type, in their order; none for other types.
        enum_values: &'t [String],
    },
    /// A relation to one row of another table.
    Parent {
        /// Its name.
        name: &'t str,
        /// The table that it leads to.
        table: &'t str,
    },
    /// A relation to the rows of another table that refer to a row of this one.
    Children {
        /// Its name.
        name: &'t str,
        /// The table that it leads to.
        table: &'t str,
    },
}

impl<'t> LiveName<'t> {
    /// Returns the name itself.
    pub fn name(&self) -> &'t str {
        match self {
            LiveName::Column { name, .. }
            | LiveName::Parent { name, .. }
            | LiveName::Children { name, .. } => name,
        }
    }
}

impl LiveTables {
    /// Returns the columns and relations of a table, or of the table that a path of relations leads to, such as
    /// `borehole.site`: for completion, or for the choices of a page. An empty path is the table itself.
    ///
    /// ```
    /// use nepheline::blocking::Database;
    /// use nepheline::prelude::*;
    /// use nepheline_live::LiveTables;
    /// use nepheline_live::blocking::LiveDatabase;
    ///
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// let db = Database::open("sqlite::memory:")?;
    /// db.run_script(&nepheline::script!(
    ///     "CREATE TABLE site (id INTEGER PRIMARY KEY, region TEXT NOT NULL);
    ///      CREATE TABLE borehole (id INTEGER PRIMARY KEY, site_id INTEGER NOT NULL REFERENCES site)"
    /// ))?;
    /// let tables = LiveTables::of(&db.catalog()?, db.dialect());
    /// let names = |path| tables.names_of("borehole", path).map(|all| all.map(|name| name.name()).collect::<Vec<_>>());
    /// assert_eq!(names("")?, ["id", "site_id", "site"]);
    /// assert_eq!(names("site")?, ["id", "region", "boreholes"]);
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    ///
    /// [`InvalidRequest`](nepheline::ErrorKind::InvalidRequest) for a table or relation that is not there, with the nearest
    /// name.
    pub fn names_of(
        &self,
        table: &str,
        path: &str,
    ) -> Result<impl Iterator<Item = LiveName<'_>>, Error> {
        let (mut number, mut at) = self.described(table)?;
        for step in path.split('.').filter(|step| !step.is_empty()) {
            let found = self.relations(number, at).find(|(name, ..)| *name == step);
            match found {
                Some((_, target, _)) => (number, at) = target,
                None => {
                    let known: Vec<&str> =
                        self.relations(number, at).map(|(name, ..)| name).collect();
                    return Err(Error::unknown_name("relation", step, &known));
                }
            }
        }
        let columns = at.columns.iter().map(move |column| LiveName::Column {
            name: &column.name,
            sql_type: column.sql_type,
            nullable: column.nullable,
            enum_values: self.enum_values(number, &column.name),
        });
        let relations = self
            .relations(number, at)
            .map(|(name, (_, target), is_parent)| {
                let table = target.name.as_str();
                match is_parent {
                    true => LiveName::Parent { name, table },
                    false => LiveName::Children { name, table },
                }
            });
        Ok(columns.chain(relations))
    }

    /// Returns the relations of a table: the name, the table that it leads to, and whether that is a parent.
    fn relations<'t>(
        &'t self,
        number: usize,
        table: &'t ReadTable,
    ) -> impl Iterator<Item = (&'t str, (usize, &'t ReadTable), bool)> {
        let parents = table.references.iter();
        let parents = parents.map(|reference| (reference.name.as_str(), reference.target, true));
        let children = self.children_of(number).iter();
        let children = children.map(|(name, child, _)| (name.as_str(), *child, false));
        parents
            .chain(children)
            .filter_map(|(name, target, is_parent)| {
                Some((name, (target, self.table_at(target)?), is_parent))
            })
    }
}
