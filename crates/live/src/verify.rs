//! Differences between the structs of a program and the tables of a database.

use std::fmt;
use std::ops::Deref;

use nepheline::prelude::*;
use nepheline::{Dialect, Readable, SqlType};

use crate::catalog::{Catalog, CatalogColumn, CatalogReference, CatalogTable, Generated};
use crate::declared::{DeclaredColumn, DeclaredReference, DeclaredTable};
use crate::describe::ExpectedQuery;
use crate::kind::{Fit, Kind};

/// A difference between a struct and its table. It displays as a sentence with the way out.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
#[non_exhaustive]
pub struct Difference {
    /// The table or the query.
    #[serde(flatten)]
    pub subject: Subject,
    /// The column, if it is about one.
    pub column: Option<String>,
    /// The kind of the difference.
    pub kind: DifferenceKind,
    /// The finding, and the next step.
    pub message: String,
}

impl fmt::Display for Difference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (&self.subject, &self.column) {
            (Subject::Table(table), Some(column)) => write!(f, "`{table}`.`{column}`")?,
            (Subject::Table(table), None) => write!(f, "`{table}`")?,
            (Subject::Query(query), Some(column)) => {
                write!(f, "query \"{query}\", column `{column}`")?;
            }
            (Subject::Query(query), None) => write!(f, "query \"{query}\"")?,
        }
        write!(f, ": {}", self.message)
    }
}

/// The table or query that a difference is about.
#[derive(Debug, Clone, PartialEq, Eq, Hash, serde::Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Subject {
    /// The table of a struct, by its name in the database.
    Table(String),
    /// A query, by the name that [`Expected::query`] gave it.
    Query(String),
}

/// The kinds of differences between a struct and its table, or between a query and the database.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, serde::Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum DifferenceKind {
    /// The database has no such table.
    MissingTable,
    /// The table has no such column.
    MissingColumn,
    /// The column stores values of another type.
    OtherType,
    /// The column holds numbers that the field does not.
    WiderColumn,
    /// The column turns the texts of decimals into floats.
    NumericAffinity,
    /// The column may be NULL, and the field may not.
    NullableColumn,
    /// The field may be NULL, and the column may not.
    NullableField,
    /// The primary key has other columns.
    OtherKey,
    /// The struct declares a unique column or set that the database does not guarantee.
    MissingUnique,
    /// The struct declares a reference without a foreign key.
    MissingReference,
    /// The foreign key leads to another table or column.
    OtherTarget,
    /// The field claims that the column compares by code point.
    OtherCollation,
    /// The column's collation treats different texts as equal.
    NondeterministicCollation,
    /// The enum types have other values, or another order.
    OtherEnumValues,
    /// The field is `generated`, and the database makes no value.
    NotGenerated,
    /// The database computes the value, and the struct writes it.
    ComputedColumn,
    /// A new row needs a value for a column that the struct does not have.
    MissingField,
    /// The query does not prepare.
    RefusedQuery,
    /// The plan of the query reads a whole table that is large.
    LongScan,
}

/// The differences that a comparison found. It displays as one line for each.
#[derive(Debug, Clone, Default, PartialEq, Eq, serde::Serialize)]
#[serde(transparent)]
pub struct Differences(pub(crate) Vec<Difference>);

impl Differences {
    /// Returns an error that lists them, unless there are none.
    ///
    /// # Errors
    ///
    /// The differences themselves.
    pub fn into_result(self) -> Result<(), Differences> {
        if self.0.is_empty() { Ok(()) } else { Err(self) }
    }
}

impl Deref for Differences {
    type Target = [Difference];

    fn deref(&self) -> &[Difference] {
        &self.0
    }
}

impl fmt::Display for Differences {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0.len() {
            0 => return f.write_str("the structs and the database agree"),
            1 => f.write_str("the structs and the database differ in 1 place:")?,
            n => write!(f, "the structs and the database differ in {n} places:")?,
        }
        self.0
            .iter()
            .try_for_each(|difference| write!(f, "\n- {difference}"))
    }
}

impl std::error::Error for Differences {}

/// The tables and queries that a program expects, for [`verify`](crate::LiveDatabase::verify).
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::statement;
/// use nepheline_coreshed::{Borehole, Site, Specimen};
/// use nepheline_live::Expected;
/// use nepheline_live::blocking::LiveDatabase;
///
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// let db = nepheline_coreshed::in_memory()?;
/// let expected = Expected::new()
///     .table::<Site>()
///     .table::<Borehole>()
///     .table::<Specimen>()
///     .query("deep specimens", Specimen::rows().filter(|s| s.top_m.gt(100.0)))
///     .query("labels", statement!("SELECT label FROM specimen").rows_as::<String>());
/// db.verify(&expected)?.into_result()?;
/// # Ok(())
/// # }
/// ```
#[derive(Debug, Clone, Default)]
#[must_use = "a list does nothing until a handle verifies it"]
pub struct Expected {
    tables: Vec<ExpectedTable>,
    pub(crate) queries: Vec<ExpectedQuery>,
    pub(crate) longest_scan: Option<u64>,
}

#[derive(Debug, Clone, Copy)]
struct ExpectedTable {
    schema: Option<&'static str>,
    declared: fn() -> DeclaredTable,
}

impl Expected {
    /// Returns an empty list.
    pub fn new() -> Expected {
        Expected::default()
    }

    /// Adds the table of a struct.
    pub fn table<T: Table>(mut self) -> Expected {
        self.tables
            .push(ExpectedTable { schema: T::INFO.schema(), declared: DeclaredTable::of::<T> });
        self
    }

    /// Adds a query, under a name that the differences give it. The database prepares its SQL, and does not run it; of a
    /// query with companions, that of its first statement.
    ///
    /// A difference is a query that does not prepare, a column of another type than the row reads, and, in a hand-written
    /// statement, a column that may be NULL. What the engine does not tell is passed over: SQLite tells no types of
    /// computed columns and none of parameters, MariaDB and MySQL none of parameters
    /// and of what DELETE returns. There, types are compared only
    /// where no conversion can stand between them: numbers of all kinds are taken for each other.
    pub fn query(mut self, name: impl Into<String>, query: impl Readable + 'static) -> Expected {
        self.queries.push(ExpectedQuery::new(name.into(), query));
        self
    }

    /// Also tells queries whose plan reads a whole table of more than this number of rows. The number of rows is the estimate of
    /// the database; on SQLite, which has none, the rows are counted. Tables that the plan names by an alias of a
    /// hand-written statement are passed over on SQLite and MySQL.
    ///
    /// A handle with `policies_required` shows no plans, so that this is an error there.
    pub fn telling_scans_over(mut self, rows: u64) -> Expected {
        self.longest_scan = Some(rows);
        self
    }

    /// Returns the schemas of the tables, `None` for that of the session.
    pub(crate) fn schemas(&self) -> Vec<Option<&'static str>> {
        let mut schemas: Vec<_> = self.tables.iter().map(|table| table.schema).collect();
        schemas.sort_unstable();
        schemas.dedup();
        schemas
    }

    /// Compares the tables of a schema.
    pub(crate) fn compare(
        &self,
        schema: Option<&'static str>,
        dialect: Dialect,
        catalog: &Catalog,
        found: &mut Differences,
    ) {
        let tables = self.tables.iter().filter(|table| table.schema == schema);
        tables.for_each(|table| compare(&(table.declared)(), dialect, catalog, found));
    }
}

/// Compares what a struct declares with the catalog of its schema.
pub(crate) fn compare(
    declared: &DeclaredTable,
    dialect: Dialect,
    catalog: &Catalog,
    found: &mut Differences,
) {
    let Some(table) = catalog.table(&declared.name) else {
        found.0.push(Difference {
            subject: Subject::Table(declared.name.clone()),
            column: None,
            kind: DifferenceKind::MissingTable,
            message: match catalog.tables.is_empty() {
                true => "the schema has no table at all; is it the right database?".into(),
                false => "the database has no such table; create it, or correct `#[nepheline(table = \"..\")]`".into(),
            },
        });
        return;
    };
    let mut comparison = Comparison { dialect, table, found: &mut found.0 };
    for field in &declared.columns {
        comparison.column(field);
    }
    let key = declared.columns.iter().filter(|column| column.key);
    comparison.key(key.map(|column| column.name.as_str()).collect());
    for set in &declared.unique {
        comparison.unique(&set.iter().map(String::as_str).collect::<Vec<_>>());
    }
    for reference in &declared.references {
        comparison.reference(reference, catalog);
    }
    comparison.missing_fields(&declared.columns);
}

/// A comparison in progress.
struct Comparison<'c> {
    dialect: Dialect,
    table: &'c CatalogTable,
    found: &'c mut Vec<Difference>,
}

impl Comparison<'_> {
    fn tell(&mut self, column: Option<&str>, kind: DifferenceKind, message: impl Into<String>) {
        self.found.push(Difference {
            subject: Subject::Table(self.table.name.clone()),
            column: column.map(str::to_owned),
            kind,
            message: message.into(),
        });
    }

    fn column(&mut self, field: &DeclaredColumn) {
        let name = Some(field.name.as_str());
        let Some(column) = self.table.column(&field.name) else {
            let near = nearest(&field.name, &self.table.columns);
            let near = near.map_or(String::new(), |near| format!(" (did you mean `{near}`?)"));
            let message =
                format!("the table has no such column{near}; add it, or remove the field");
            return self.tell(name, DifferenceKind::MissingColumn, message);
        };
        if let Some(sql_type) = field.sql_type {
            self.type_of(field, sql_type, column);
        }
        let values = (&field.enum_values, &column.enum_values);
        if !values.0.is_empty() && !values.1.is_empty() && values.0 != values.1 {
            let message = enum_difference(values.0, values.1);
            self.tell(name, DifferenceKind::OtherEnumValues, message);
        }
        self.nullness(field, column);
        self.collation(field, column);
        if field.generated && column.generated == Generated::Never && column.default.is_none() {
            let message = "the field is `generated`, and the database makes no value; declare an identity or a default, or \
                           remove `generated`";
            self.tell(name, DifferenceKind::NotGenerated, message);
        }
        if !field.generated && column.generated == Generated::Computed {
            let message = "the database computes the value and refuses to be given one; mark the field `generated`, or \
                           remove it if another is";
            self.tell(name, DifferenceKind::ComputedColumn, message);
        }
    }

    fn type_of(&mut self, field: &DeclaredColumn, sql_type: SqlType, column: &CatalogColumn) {
        let kind = Kind::of(self.dialect, column);
        let name = Some(field.name.as_str());
        let database_type = &column.database_type;
        let rust = || kind.rust_type().unwrap_or_default();
        match kind.fit(self.dialect, sql_type, field.approximate) {
            Fit::Yes | Fit::Unknown => {}
            Fit::No => {
                let instead = match kind.rust_type() {
                    Some(rust) => format!("its Rust type is `{rust}`"),
                    None => "no Rust type stores it: cast it in hand-written SQL".to_owned(),
                };
                let message = format!(
                    "the field stores {sql_type}, and the column is `{database_type}`; {instead}"
                );
                self.tell(name, DifferenceKind::OtherType, message);
            }
            Fit::Wider => {
                let message = format!(
                    "the column is `{database_type}`, and the field holds less; its Rust type is `{}`",
                    rust()
                );
                self.tell(name, DifferenceKind::WiderColumn, message);
            }
            Fit::Exact => {
                let message = format!(
                    "the column is `{database_type}`, and the field is a float; write `Decimal`, or add `approximate`"
                );
                self.tell(name, DifferenceKind::OtherType, message);
            }
            Fit::Affinity => {
                let message = format!(
                    "a column declared `{database_type}` keeps 15 digits of a decimal; declare it as TEXT"
                );
                self.tell(name, DifferenceKind::NumericAffinity, message);
            }
        }
    }

    fn nullness(&mut self, field: &DeclaredColumn, column: &CatalogColumn) {
        let name = Some(field.name.as_str());
        // Nobody tells whether a column of a view may be NULL.
        match (field.nullable, column.nullable) {
            (false, true) if !self.table.is_view => {
                let message = "the column may be NULL, and the field may not; write `Option<..>`, or declare NOT NULL";
                self.tell(name, DifferenceKind::NullableColumn, message);
            }
            (true, false) => {
                let message = "the field is an `Option`, and the column is never NULL; write the type without `Option`";
                self.tell(name, DifferenceKind::NullableField, message);
            }
            _ => {}
        }
    }

    fn collation(&mut self, field: &DeclaredColumn, column: &CatalogColumn) {
        let name = Some(field.name.as_str());
        let Some(wanted) = collation_by_code_point(self.dialect) else { return };
        if field.by_code_point && !is_by_code_point(self.dialect, column) {
            let found = column.collation.as_deref().unwrap_or("the default one");
            let message = format!(
                "the field is `by_code_point`, and the column's collation is {found}; declare COLLATE \"{wanted}\", or \
                 remove `by_code_point`"
            );
            self.tell(name, DifferenceKind::OtherCollation, message);
        }
        if column.is_nondeterministic
            && !field.nondeterministic
            && field.sql_type == Some(SqlType::Text)
        {
            let message = "the column's collation treats different texts as equal; add `nondeterministic` to the field";
            self.tell(name, DifferenceKind::NondeterministicCollation, message);
        }
    }

    fn key(&mut self, mut declared: Vec<&str>) {
        // A view has no key that the database knows.
        if self.table.is_view {
            return;
        }
        let mut found: Vec<&str> = self.table.key.iter().map(String::as_str).collect();
        let message = format!(
            "the key of the struct is {}, and that of the table is {}",
            list(&declared),
            list(&found)
        );
        declared.sort_unstable();
        found.sort_unstable();
        if declared != found {
            self.tell(None, DifferenceKind::OtherKey, message);
        }
    }

    fn unique(&mut self, declared: &[&str]) {
        let same = |columns: &[String]| {
            columns.len() == declared.len()
                && declared
                    .iter()
                    .all(|name| columns.iter().any(|column| column == name))
        };
        let is_there = same(&self.table.key)
            || self
                .table
                .unique
                .iter()
                .any(|unique| unique.condition.is_none() && same(&unique.columns));
        if !is_there && !self.table.is_view {
            let message = format!(
                "the struct says that no two rows share {}, and no constraint says so; add UNIQUE",
                list(declared)
            );
            let column = if let [one] = declared { Some(*one) } else { None };
            self.tell(column, DifferenceKind::MissingUnique, message);
        }
    }

    fn reference(&mut self, declared: &DeclaredReference, catalog: &Catalog) {
        let DeclaredReference { target, pairs } = declared;
        let columns: Vec<&str> = pairs.iter().map(|(own, _)| own.as_str()).collect();
        let column = if let [one] = columns.as_slice() { Some(*one) } else { None };
        let own = |reference: &CatalogReference| {
            reference.columns.len() == columns.len()
                && columns
                    .iter()
                    .all(|own| reference.columns.iter().any(|column| column == own))
        };
        let Some(reference) = self
            .table
            .references
            .iter()
            .find(|reference| own(reference))
        else {
            if !self.table.is_view {
                let message =
                    format!("no foreign key leads from {} to `{target}`; add one", list(&columns));
                self.tell(column, DifferenceKind::MissingReference, message);
            }
            return;
        };
        let key = catalog.table(target).map_or(&[][..], |table| &table.key);
        let leads = |(place, (own, theirs)): (usize, &(String, Option<String>))| {
            let theirs = theirs.as_ref().or_else(|| key.get(place));
            let mut both = reference.columns.iter().zip(&reference.target_columns);
            both.any(|(column, other)| column == own && theirs.is_none_or(|theirs| other == theirs))
        };
        if reference.target != *target || !pairs.iter().enumerate().all(leads) {
            let found: Vec<&str> = reference
                .target_columns
                .iter()
                .map(String::as_str)
                .collect();
            let message = format!(
                "the foreign key leads to {} of `{}`, and the struct refers to `{target}`; correct `references`",
                list(&found),
                reference.target,
            );
            self.tell(column, DifferenceKind::OtherTarget, message);
        }
    }

    fn missing_fields(&mut self, fields: &[DeclaredColumn]) {
        if self.table.is_view {
            return;
        }
        let has = |name: &str| fields.iter().any(|field| field.name == name);
        let needed = self.table.columns.iter().filter(|column| {
            !has(&column.name)
                && !column.nullable
                && column.default.is_none()
                && column.generated == Generated::Never
        });
        let names: Vec<String> = needed.map(|column| column.name.clone()).collect();
        for name in names {
            let message = "a new row needs a value, and the struct has no such field; add it, or give the column a default";
            self.tell(Some(&name), DifferenceKind::MissingField, message);
        }
    }
}

/// Returns the collation that compares text by code point.
fn collation_by_code_point(dialect: Dialect) -> Option<&'static str> {
    match dialect {
        Dialect::Postgres => Some("C"),
        Dialect::MariaDb => Some("utf8mb4_nopad_bin"),
        Dialect::MySql => Some("utf8mb4_0900_bin"),
        Dialect::Sqlite => Some("BINARY"),
        _ => None,
    }
}

/// Returns whether the column's own collation compares by code point.
pub(crate) fn is_by_code_point(dialect: Dialect, column: &CatalogColumn) -> bool {
    if dialect == Dialect::Sqlite {
        return column.collation.is_none();
    }
    let known = [collation_by_code_point(dialect).unwrap_or("C"), "POSIX", "ucs_basic"];
    column
        .collation
        .as_ref()
        .is_some_and(|collation| known.contains(&collation.as_str()))
}

fn enum_difference(declared: &[String], found: &[String]) -> String {
    let unknown: Vec<&str> = found
        .iter()
        .map(String::as_str)
        .filter(|value| !declared.iter().any(|other| other == value))
        .collect();
    let missing: Vec<&str> = declared
        .iter()
        .map(String::as_str)
        .filter(|value| !found.iter().any(|other| other == value))
        .collect();
    match (unknown.is_empty(), missing.is_empty()) {
        (true, true) => {
            "the values of the enum are in another order in the database; order the variants alike"
                .into()
        }
        (false, true) => format!("the Rust enum lacks {}; add variants", list(&unknown)),
        (true, false) => format!(
            "the database's type lacks {}; add values, or remove the variants",
            list(&missing)
        ),
        (false, false) => {
            format!(
                "the Rust enum lacks {}, and the database's type lacks {}",
                list(&unknown),
                list(&missing)
            )
        }
    }
}

/// Returns names with commas between.
fn list(names: &[&str]) -> String {
    match names {
        [] => "none".into(),
        names => names
            .iter()
            .map(|name| format!("`{name}`"))
            .collect::<Vec<_>>()
            .join(", "),
    }
}

/// Returns the column whose name is most like another, if one is.
fn nearest<'c>(name: &str, columns: &'c [CatalogColumn]) -> Option<&'c str> {
    let simple = |name: &str| name.replace('_', "").to_lowercase();
    let wanted = simple(name);
    let distances = columns
        .iter()
        .map(|column| (distance(&wanted, &simple(&column.name)), column));
    let (distance, column) = distances.min_by_key(|(distance, _)| *distance)?;
    (distance * 3 <= wanted.len()).then_some(column.name.as_str())
}

/// Returns the number of letters to insert, remove or replace.
fn distance(left: &str, right: &str) -> usize {
    let right: Vec<char> = right.chars().collect();
    let mut row: Vec<usize> = (0..=right.len()).collect();
    for (i, letter) in left.chars().enumerate() {
        let mut before = i;
        row[0] = i + 1;
        for (j, other) in right.iter().enumerate() {
            let replaced = before + usize::from(letter != *other);
            before = row[j + 1];
            row[j + 1] = replaced.min(before + 1).min(row[j] + 1);
        }
    }
    row[right.len()]
}
