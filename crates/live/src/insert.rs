//! New rows for tables that are only known at run time, and new tables.

use nepheline::internal::{ReadColumn, ReadTable, RuntimeTable, create_and_drop, read_table};
use nepheline::{BindValue, ColumnInfo, Dialect, Error, Insert, Script, SqlType, TableInfo};

use crate::text::{UnreadableText, read_text};

/// An insert into a table that is only known at run time. The verb `write` takes it.
pub type LiveInsert = Insert<RuntimeTable>;

/// New rows for a table that is only known at run time; made by [`LiveTables::new_rows`](crate::LiveTables::new_rows) and
/// [`NewTable::new_rows`].
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
///     "CREATE TABLE reading (id INTEGER PRIMARY KEY, taken_on DATE NOT NULL, depth_m REAL)"
/// ))?;
/// let tables = LiveTables::of(&db.catalog()?, db.dialect());
/// let mut rows = tables.new_rows("reading", &["taken_on", "depth_m"])?;
/// rows.add_text(["2026-03-14", "80.5"])?;
/// rows.add_text(["2026-03-15", ""])?;
/// assert_eq!(
///     rows.add_text(["2026-03-16", "deep"]).unwrap_err().to_string(),
///     "column `depth_m`: `deep`: expected a number",
/// );
/// assert_eq!(db.write(&rows.insert())?, 2);
///
/// let query = tables.table("reading")?.filter("depth_m IS NULL").show("taken_on").rows()?;
/// assert_eq!(db.read(&query)?.len(), 1);
/// # Ok(())
/// # }
/// ```
#[derive(Debug, Clone)]
pub struct NewRows {
    table: &'static TableInfo,
    /// The values of all rows, one row after the other.
    values: Vec<BindValue>,
}

/// The column of a row that could not be added, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum UnfitRow {
    /// The text is no value of its column.
    Text {
        /// The name of the column.
        column: &'static str,
        /// Why not.
        cause: UnreadableText,
    },
    /// The row has more or fewer values than columns were named.
    Width {
        /// The number of columns.
        expected: usize,
        /// The number of values.
        found: usize,
    },
}

impl std::fmt::Display for UnfitRow {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            UnfitRow::Text { column, cause } => write!(f, "column `{column}`: {cause}"),
            UnfitRow::Width { expected, found } => {
                write!(f, "the row has {found} values for {expected} columns")
            }
        }
    }
}

impl std::error::Error for UnfitRow {}

impl NewRows {
    pub(crate) fn into_table(table: ReadTable) -> NewRows {
        NewRows { table: read_table(table), values: Vec::new() }
    }

    /// Returns the names, types and nullability of the columns that each row gives, in their order.
    pub fn columns(&self) -> impl Iterator<Item = (&'static str, SqlType, bool)> + use<> {
        self.given()
            .map(|column| (column.name(), column.sql_type(), column.is_nullable()))
    }

    /// Adds a row by its values in the order of the columns. The database refuses values of another type.
    ///
    /// # Errors
    ///
    /// [`UnfitRow::Width`] for more or fewer values than columns.
    pub fn add(&mut self, row: impl IntoIterator<Item = BindValue>) -> Result<(), UnfitRow> {
        let before = self.values.len();
        self.values.extend(row);
        self.check_width(before)
    }

    /// Adds a row by the texts of its values, as [`read_text`] reads them. Empty text is NULL.
    ///
    /// # Errors
    ///
    /// [`UnfitRow`] for a text that is no value of its column, and for more or fewer texts than columns.
    pub fn add_text<'t>(&mut self, row: impl IntoIterator<Item = &'t str>) -> Result<(), UnfitRow> {
        let before = self.values.len();
        let mut columns = self.columns();
        for text in row {
            // A text without a column is counted below.
            let (column, sql_type) = columns
                .next()
                .map_or(("", SqlType::Text), |(column, sql_type, _)| (column, sql_type));
            let value = match text {
                "" => Ok(BindValue::Null(sql_type)),
                text => read_text(text, sql_type),
            };
            match value {
                Ok(value) => self.values.push(value),
                Err(cause) => {
                    self.values.truncate(before);
                    return Err(UnfitRow::Text { column, cause });
                }
            }
        }
        self.check_width(before)
    }

    /// Takes the last row out again if it has another width.
    fn check_width(&mut self, before: usize) -> Result<(), UnfitRow> {
        let (expected, found) = (self.given().count(), self.values.len() - before);
        if expected == found {
            return Ok(());
        }
        self.values.truncate(before);
        Err(UnfitRow::Width { expected, found })
    }

    /// Returns the number of rows.
    pub fn len(&self) -> usize {
        self.values.len() / self.given().count().max(1)
    }

    /// Returns whether there are no rows.
    pub fn is_empty(&self) -> bool {
        self.values.is_empty()
    }

    /// Returns the insert of these rows. Like every insert of many rows it uses the bulk way of the engine: COPY on PostgreSQL,
    /// statements of many rows on the others.
    #[track_caller]
    pub fn insert(self) -> LiveInsert {
        LiveInsert::of_values(self.table, self.values)
    }

    fn given(&self) -> impl Iterator<Item = &'static ColumnInfo> + use<> {
        let columns = self.table.columns().iter();
        columns.filter(|column| !column.is_generated())
    }
}

/// A table that is to be created, known at run time.
///
/// ```
/// use nepheline::blocking::Database;
/// use nepheline::prelude::*;
/// use nepheline::SqlType;
/// use nepheline_live::NewTable;
///
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// let reading = NewTable::named("reading").generated_key("id").column("depth_m", SqlType::Double, false);
/// let db = Database::open("sqlite::memory:")?;
/// db.run_script(&reading.create(db.dialect())?)?;
/// let mut rows = reading.new_rows();
/// rows.add_text(["80.5"])?;
/// assert_eq!(db.write(&rows.insert())?, 1);
/// # Ok(())
/// # }
/// ```
#[derive(Debug, Clone)]
#[must_use = "a new table does nothing until its script runs"]
pub struct NewTable {
    table: ReadTable,
}

impl NewTable {
    /// Begins a table without columns, in the schema of the session.
    pub fn named(name: impl Into<String>) -> NewTable {
        NewTable { table: ReadTable::of(None, &name.into(), Vec::new()) }
    }

    /// Adds a column.
    pub fn column(self, name: impl Into<String>, sql_type: SqlType, nullable: bool) -> NewTable {
        self.with(ReadColumn {
            name: name.into(),
            sql_type,
            nullable,
            key: false,
            generated: false,
            unique: false,
        })
    }

    /// Adds a column of the primary key, whose values the rows give.
    pub fn key(self, name: impl Into<String>, sql_type: SqlType) -> NewTable {
        let mut with = self.column(name, sql_type, false);
        if let Some(column) = with.table.columns.last_mut() {
            column.key = true;
        }
        with
    }

    /// Adds a primary key whose numbers the database generates, before the other columns.
    pub fn generated_key(mut self, name: impl Into<String>) -> NewTable {
        let key = ReadColumn {
            name: name.into(),
            sql_type: SqlType::BigInt,
            nullable: false,
            key: true,
            generated: true,
            unique: false,
        };
        self.table.columns.insert(0, key);
        self
    }

    fn with(mut self, column: ReadColumn) -> NewTable {
        self.table.columns.push(column);
        self
    }

    /// Allows it on handles that require policies. No policy applies to it.
    pub fn outside_policies(mut self) -> NewTable {
        self.table.open_to_all = true;
        self
    }

    /// Returns the script that creates the table. Types are wide, as those of [`nepheline::create_table`].
    ///
    /// # Errors
    ///
    /// [`Unsupported`](nepheline::ErrorKind::Unsupported) on a dialect without such a script.
    pub fn create(&self, dialect: Dialect) -> Result<Script, Error> {
        let [create, _] = create_and_drop(self.info(), dialect)?;
        Ok(create)
    }

    /// Returns the script that drops the table.
    ///
    /// # Errors
    ///
    /// Those of [`create`](Self::create).
    pub fn drop(&self, dialect: Dialect) -> Result<Script, Error> {
        let [_, drop] = create_and_drop(self.info(), dialect)?;
        Ok(drop)
    }

    /// Begins rows for the table, with all columns but a generated key.
    pub fn new_rows(&self) -> NewRows {
        NewRows { table: self.info(), values: Vec::new() }
    }

    fn info(&self) -> &'static TableInfo {
        read_table(self.table.clone())
    }
}
