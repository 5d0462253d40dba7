//! A list of properties that arrived as text, and the queries whose columns are known at run time.

use std::fmt;
use std::sync::Arc;

use super::list::{check_once, items};
use super::names::EntryKind;
use super::predicate::own_value;
use super::row::{Columns, NamedValues, RawRow};
use super::term::Resolve as _;
use super::{Body, Offer, Over};
use crate::build::expr::{Level, PerRow};
use crate::build::query::{Query, Selects, Tables};
use crate::dialect::Dialect;
use crate::model::{Carried, Error, Key};
use crate::plan::CompileContext;
use crate::sql::Sql;
use crate::tree::Select;

/// A list of properties that arrived as text, checked by an [`Offer`]; made by [`Offer::properties`].
#[must_use = "properties do nothing until rows are read with them"]
pub struct OfferedProperties<T: Tables> {
    body: Arc<Body<T>>,
    indexes: Vec<usize>,
    columns: Columns,
}

impl<T: Tables> Offer<T> {
    /// Reads a list of properties: names with commas between.
    ///
    /// Each row then has their values in this order, and serialises as a JSON object. One select reads them.
    ///
    /// ```
    /// use nepheline::blocking::Database;
    /// use nepheline::prelude::*;
    /// use nepheline::Offer;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String, top_m: f64 }
    ///
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// # let db = Database::open("sqlite::memory:")?;
    /// # db.run_script(&nepheline::script!(
    /// #     "CREATE TABLE specimen (id INTEGER PRIMARY KEY, label TEXT, top_m REAL); INSERT INTO specimen VALUES (1, 'KP-1', 80.5)"
    /// # ))?;
    /// let offer = Offer::of::<Specimen>()
    ///     .value("label", |s| s.label)
    ///     .value("depth", |s| s.top_m)
    ///     .build()?;
    /// let query = offer.properties("depth,label")?.rows_of(Specimen::rows());
    /// assert_eq!(serde_json::to_string(&db.read(&query)?)?, r#"[{"depth":80.5,"label":"KP-1"}]"#);
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    ///
    /// [`InvalidRequest`](crate::ErrorKind::InvalidRequest) for a name that is not offered, is of children, or is listed twice.
    pub fn properties(&self, text: &str) -> Result<OfferedProperties<T>, Error> {
        let read = || {
            let mut seen = Vec::new();
            let read = items(text, "a name")?.into_iter().map(|item| {
                check_once(&mut seen, item)?;
                let (index, entry) = own_value(&self.body.names, item.text, item.at)?;
                Ok((index, item.text, entry))
            });
            read.collect::<Result<Vec<_>, _>>()
        };
        let read = read().map_err(|mistake: crate::model::Mistake| mistake.within(text))?;
        let columns = read
            .iter()
            .filter_map(|(_, name, entry)| match &entry.kind {
                EntryKind::Value(value) => Some(((*name).into(), *value)),
                EntryKind::Children { .. } => None,
            });
        let columns = Columns::of(columns);
        let indexes = read.iter().map(|(index, ..)| *index).collect();
        Ok(OfferedProperties { body: self.body.clone(), indexes, columns })
    }

    /// Returns the properties that are all offered values, in the order of the offer.
    pub fn all_properties(&self) -> OfferedProperties<T> {
        let entries = self.body.names.entries.iter().enumerate();
        let values = entries.filter_map(|(index, (name, entry))| match &entry.kind {
            EntryKind::Value(value) => Some((index, (name.clone(), *value))),
            EntryKind::Children { .. } => None,
        });
        let (indexes, columns): (Vec<_>, Vec<_>) = values.unzip();
        OfferedProperties { body: self.body.clone(), indexes, columns: Columns::of(columns) }
    }
}

impl<T: Tables> OfferedProperties<T> {
    /// Returns the query for the properties of the rows of a query, in place of what it selects.
    pub fn rows_of<R>(&self, query: Query<T, R>) -> NamedRows<T> {
        let over = Over { body: &self.body, columns: query.columns() };
        let nodes = self.indexes.iter().map(|index| over.value(*index));
        let nodes = nodes.collect();
        NamedRows { query: query.selecting(nodes), columns: self.columns.clone() }
    }

    /// Returns the names in their order.
    pub fn names(&self) -> impl ExactSizeIterator<Item = &str> {
        self.columns.names.iter().map(AsRef::as_ref)
    }
}

impl<T: Tables> Clone for OfferedProperties<T> {
    fn clone(&self) -> Self {
        OfferedProperties {
            body: self.body.clone(),
            indexes: self.indexes.clone(),
            columns: self.columns.clone(),
        }
    }
}

impl<T: Tables> fmt::Debug for OfferedProperties<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("OfferedProperties")
            .field(&self.columns.names)
            .finish()
    }
}

/// A query whose selected values are known at run time, read into [`NamedValues`].
///
/// Every verb that reads takes it. Filter and order the query before.
#[must_use = "a query does nothing until a handle reads it"]
pub struct NamedRows<T, L = PerRow> {
    pub(super) query: Query<T, RawRow, L>,
    pub(super) columns: Columns,
}

impl<T: Tables, L: Level> NamedRows<T, L> {
    /// Returns at most this number of rows, as [`Query::limit`].
    #[track_caller]
    pub fn limit(mut self, rows: u64) -> Self {
        self.query = self.query.limit(rows);
        self
    }

    /// Skips rows, as [`Query::offset`].
    #[track_caller]
    pub fn offset(mut self, rows: u64) -> Self {
        self.query = self.query.offset(rows);
        self
    }

    /// Returns the names of the values in their order.
    pub fn names(&self) -> impl ExactSizeIterator<Item = &str> {
        self.columns.names.iter().map(AsRef::as_ref)
    }

    /// Returns the SQL, as [`Query::sql`].
    ///
    /// # Errors
    ///
    /// Those of [`Query::sql`].
    pub fn sql(&self, dialect: Dialect) -> Result<Sql, Error> {
        self.query.sql(dialect)
    }

    /// Returns the SQL on a handle that carries these values, as [`Query::sql_carrying`].
    ///
    /// # Errors
    ///
    /// Those of [`Query::sql_carrying`].
    pub fn sql_carrying(&self, dialect: Dialect, carried: &Carried) -> Result<Sql, Error> {
        self.query.sql_carrying(dialect, carried)
    }

    /// Returns the same query without the level in its type, for queries that group or not at run time.
    #[doc(hidden)]
    pub fn of_groups(self) -> NamedRows<T> {
        NamedRows { query: self.query.at_row_level(), columns: self.columns }
    }

    /// Checks a row that arrived.
    #[doc(hidden)]
    pub fn named(&self, row: RawRow) -> Result<NamedValues, Error> {
        self.columns.named(row)
    }
}

impl<T: Tables, L: Level> Selects for NamedRows<T, L> {
    type Row = NamedValues;
    type Base = RawRow;
    type Read = RawRow;

    fn with_keys(base: RawRow, _: Key) -> RawRow {
        base
    }

    fn select(&self) -> &Select {
        self.query.select()
    }

    fn select_mut(&mut self) -> &mut Select {
        self.query.select_mut()
    }

    fn show(&self, context: CompileContext<'_>, shown: &mut Vec<Sql>) -> Result<(), Error> {
        self.query.show(context, shown)
    }
}

impl<T, L> Clone for NamedRows<T, L> {
    fn clone(&self) -> Self {
        NamedRows { query: self.query.clone(), columns: self.columns.clone() }
    }
}

impl<T, L> fmt::Debug for NamedRows<T, L> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("NamedRows").field(&self.query).finish()
    }
}
