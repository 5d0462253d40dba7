//! Queries over tables that are only known at run time: by names, through the same tree and the same writer as typed ones.

use std::collections::{HashMap, HashSet};
use std::sync::{Arc, LazyLock, Mutex, PoisonError};

use nepheline::cql2::Cql2;
use nepheline::internal::{
    ReadColumn, ReadReference, ReadTable, RuntimeTable, RuntimeTables, read_tables,
};
use nepheline::{Dialect, EnumType, Error, NamedRows, NativeType, SqlType};

use crate::catalog::{Catalog, CatalogColumn, CatalogTable, Generated};
use crate::insert::NewRows;
use crate::kind::Kind;
use crate::plural::plural;

/// The tables of a catalog, to be queried by their names.
///
/// A column has its name in the database. A reference by `borehole_id` is the relation `borehole`; rows that refer to a table
/// are a relation with the plural of their table, such as `specimens`: the names that `nepheline draft` writes. Relations are
/// followed by a dot: `borehole.site.region`, `assays.ppm`.
///
/// Values are binds and names are quoted, as in every query. Policies are declared on structs, so that none apply here: a
/// handle with `policies_required` refuses these tables, unless they are [`outside_policies`](LiveTables::outside_policies).
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
///      CREATE TABLE borehole (id INTEGER PRIMARY KEY, site_id INTEGER NOT NULL REFERENCES site, depth_m REAL NOT NULL);
///      INSERT INTO site VALUES (1, 'Upper Tarn'), (2, 'Varnholt');
///      INSERT INTO borehole VALUES (1, 1, 80.5), (2, 1, 312.0), (3, 2, 45.0)"
/// ))?;
/// let tables = LiveTables::of(&db.catalog()?, db.dialect());
/// let boreholes = tables.table("borehole")?;
///
/// let deep = boreholes.clone().filter("depth_m > 50 AND site.region LIKE 'Upper%'").show("id, depth_m, site.region");
/// assert_eq!(
///     serde_json::to_string(&db.read(&deep.sort_by("-depth_m").rows()?)?)?,
///     r#"[{"id":2,"depth_m":312.0,"site.region":"Upper Tarn"},{"id":1,"depth_m":80.5,"site.region":"Upper Tarn"}]"#,
/// );
///
/// let totals = boreholes.clone().totals("site.region", "count, max(depth_m) as deepest").sort_by("-deepest");
/// assert_eq!(db.read(&totals.rows()?)?.len(), 2);
///
/// let err = boreholes.filter("site.regoin = 'x'").rows().unwrap_err();
/// assert_eq!(err.mistake().unwrap().message(), "unknown name `site.regoin`; did you mean `site.region`?");
/// # Ok(())
/// # }
/// ```
#[derive(Debug, Clone)]
pub struct LiveTables {
    tables: Arc<RuntimeTables>,
    described: Arc<Vec<ReadTable>>,
    /// The names of the relations of each table to its children, with the numbers of the child and of its reference.
    children: Arc<Children>,
    enums: Arc<EnumValues>,
}

type Children = HashMap<usize, Vec<(String, usize, usize)>>;

/// The values of columns of enum types, by the number of the table and the name of the column.
type EnumValues = HashMap<(usize, String), Vec<String>>;

impl LiveTables {
    /// Returns the tables and views of a catalog, which was read from a database of this dialect.
    ///
    /// Columns of types without a Rust type are left out.
    pub fn of(catalog: &Catalog, dialect: Dialect) -> LiveTables {
        let tables: Vec<ReadTable> = catalog
            .tables
            .iter()
            .map(|table| read_table(catalog, table, dialect))
            .collect();
        let children = children_of(&tables);
        let mut enums = EnumValues::new();
        for (number, table) in catalog.tables.iter().enumerate() {
            for column in table
                .columns
                .iter()
                .filter(|column| !column.enum_values.is_empty())
            {
                enums.insert((number, column.name.clone()), column.enum_values.clone());
            }
        }
        LiveTables::new(tables, children, Arc::new(enums))
    }

    fn new(tables: Vec<ReadTable>, children: Children, enums: Arc<EnumValues>) -> LiveTables {
        let infos = read_tables(tables.clone());
        LiveTables {
            tables: Arc::new(RuntimeTables::new(&infos, children.clone())),
            described: Arc::new(tables),
            children: Arc::new(children),
            enums,
        }
    }

    /// Allows these tables on handles that require policies. No policy applies to them.
    pub fn outside_policies(&self) -> LiveTables {
        let tables = self.described.iter().cloned();
        let open = tables.map(|table| ReadTable { open_to_all: true, ..table });
        LiveTables::new(open.collect(), (*self.children).clone(), self.enums.clone())
    }

    /// Returns the query for all rows of a table or view, by its name, or by its schema and name with a dot between.
    ///
    /// # Errors
    ///
    /// [`InvalidRequest`](nepheline::ErrorKind::InvalidRequest) for a table that is not there, with the nearest name.
    pub fn table(&self, name: &str) -> Result<LiveQuery, Error> {
        Ok(LiveQuery::over(self.tables.clone(), self.described(name)?.0))
    }

    /// Returns a table with its number.
    pub(crate) fn described(&self, name: &str) -> Result<(usize, &ReadTable), Error> {
        let of_schema = || {
            let (schema, name) = name.split_once('.')?;
            let is =
                |table: &ReadTable| table.name == name && table.schema.as_deref() == Some(schema);
            self.described
                .iter()
                .enumerate()
                .find(|(_, table)| is(table))
        };
        let mut all = self.described.iter().enumerate();
        let found = all.find(|(_, table)| table.name == name);
        found.or_else(of_schema).ok_or_else(|| {
            let names: Vec<&str> = self.names().collect();
            Error::unknown_name("table", name, &names)
        })
    }

    pub(crate) fn table_at(&self, number: usize) -> Option<&ReadTable> {
        self.described.get(number)
    }

    /// Returns the relations of a table to its children: the name, and the numbers of the child and of its reference.
    pub(crate) fn children_of(&self, number: usize) -> &[(String, usize, usize)] {
        self.children.get(&number).map_or(&[], Vec::as_slice)
    }

    pub(crate) fn enum_values(&self, number: usize, column: &str) -> &[String] {
        let values = self.enums.get(&(number, column.to_owned()));
        values.map_or(&[], Vec::as_slice)
    }

    /// Begins new rows for a table, which give these columns.
    ///
    /// # Errors
    ///
    /// [`InvalidRequest`](nepheline::ErrorKind::InvalidRequest) for a table or column that is not there, with the nearest
    /// name.
    pub fn new_rows(&self, table: &str, columns: &[impl AsRef<str>]) -> Result<NewRows, Error> {
        let described = self.described(table)?.1;
        let known: Vec<&str> = described
            .columns
            .iter()
            .map(|column| column.name.as_str())
            .collect();
        let chosen = columns.iter().map(|name| {
            let mut all = described.columns.iter();
            match all.find(|column| column.name == name.as_ref()) {
                Some(column) => Ok(ReadColumn { generated: false, ..column.clone() }),
                None => Err(Error::unknown_name("column", name.as_ref(), &known)),
            }
        });
        let columns = chosen.collect::<Result<Vec<_>, Error>>()?;
        Ok(NewRows::into_table(ReadTable { columns, ..described.clone() }))
    }

    /// Returns the names of the tables and views.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.described.iter().map(|table| table.name.as_str())
    }
}

/// A query over a table that is only known at run time; made by [`LiveTables::table`].
///
/// The methods take text, as a shell or a page has it, and may be called in any order. [`rows`](LiveQuery::rows) reads the
/// texts and returns the query that handles read.
#[derive(Debug, Clone)]
#[must_use = "a query does nothing until a handle reads it"]
pub struct LiveQuery {
    tables: Arc<RuntimeTables>,
    table: usize,
    filters: Vec<String>,
    show: Option<String>,
    sort: Option<String>,
    totals: Option<[String; 2]>,
    having: Option<String>,
    limit: Option<u64>,
    offset: Option<u64>,
}

/// The rows of a [`LiveQuery`], which every verb that reads takes.
pub type LiveRows = NamedRows<RuntimeTable>;

impl LiveQuery {
    fn over(tables: Arc<RuntimeTables>, table: usize) -> LiveQuery {
        LiveQuery {
            tables,
            table,
            filters: Vec::new(),
            show: None,
            sort: None,
            totals: None,
            having: None,
            limit: None,
            offset: None,
        }
    }

    /// Keeps the rows for which a condition in CQL2 Text holds. A second call adds a condition.
    pub fn filter(mut self, cql2: impl Into<String>) -> LiveQuery {
        self.filters.push(cql2.into());
        self
    }

    /// Selects these names, with commas between. Without it, all columns of the table are selected.
    pub fn show(mut self, names: impl Into<String>) -> LiveQuery {
        self.show = Some(names.into());
        self
    }

    /// Sorts the rows, or the groups, as [`Offer::sort_by`](nepheline::Offer::sort_by) reads it: `-depth_m,label`.
    pub fn sort_by(mut self, names: impl Into<String>) -> LiveQuery {
        self.sort = Some(names.into());
        self
    }

    /// Groups the rows by keys and computes totals, as [`Offer::totals`](nepheline::Offer::totals) reads them.
    pub fn totals(mut self, keys: impl Into<String>, totals: impl Into<String>) -> LiveQuery {
        self.totals = Some([keys.into(), totals.into()]);
        self
    }

    /// Keeps the groups for which a condition over the keys and totals holds.
    pub fn having(mut self, cql2: impl Into<String>) -> LiveQuery {
        self.having = Some(cql2.into());
        self
    }

    /// Returns at most this number of rows.
    pub fn limit(mut self, rows: u64) -> LiveQuery {
        self.limit = Some(rows);
        self
    }

    /// Skips this number of rows.
    pub fn offset(mut self, rows: u64) -> LiveQuery {
        self.offset = Some(rows);
        self
    }

    /// Reads the texts, and returns the query.
    ///
    /// # Errors
    ///
    /// [`InvalidRequest`](nepheline::ErrorKind::InvalidRequest) for a mistake in one of them, with its place, and the nearest
    /// name where one is unknown.
    pub fn rows(&self) -> Result<LiveRows, Error> {
        let mut names: HashSet<String> = HashSet::new();
        for filter in &self.filters {
            names.extend(Cql2::names_in(filter));
        }
        let lists = self
            .totals
            .iter()
            .flatten()
            .chain(&self.show)
            .chain(&self.sort);
        for list in lists {
            names.extend(names_in(list));
        }
        let offer = self
            .tables
            .offer(self.table, names.iter().map(String::as_str));
        let mut query = self
            .tables
            .rows(self.table)
            .ok_or_else(|| Error::unknown_name("table", "", &[]))?;
        for filter in &self.filters {
            query = query.filter(offer.cql2_text(filter)?.scope());
        }
        let rows = match &self.totals {
            Some([keys, totals]) => {
                let mut totals = offer.totals(keys, totals)?;
                if let Some(having) = &self.having {
                    totals = totals.having(having)?;
                }
                if let Some(sort) = &self.sort {
                    totals = totals.sort_by(sort)?;
                }
                totals.rows_of(query).of_groups()
            }
            None => {
                if let Some(sort) = &self.sort {
                    query = query.order_by(offer.sort_by(sort)?.orders());
                }
                match &self.show {
                    Some(names) => offer.properties(names)?.rows_of(query),
                    None => {
                        let columns = self.tables.columns(self.table);
                        let all = self.tables.offer(self.table, columns);
                        all.all_properties().rows_of(query)
                    }
                }
            }
        };
        let rows = self.limit.map_or(rows.clone(), |limit| rows.limit(limit));
        Ok(match self.offset {
            Some(offset) => rows.offset(offset),
            None => rows,
        })
    }
}

/// Returns the words of a list that may be names.
fn names_in(list: &str) -> impl Iterator<Item = String> {
    let words = list.split(|c: char| !(c.is_alphanumeric() || matches!(c, '_' | '.')));
    words.filter(|word| !word.is_empty()).map(str::to_owned)
}

/// Describes a table for the tree.
fn read_table(catalog: &Catalog, table: &CatalogTable, dialect: Dialect) -> ReadTable {
    let known = |table: &CatalogTable| -> Vec<(String, SqlType, bool)> {
        let columns = table.columns.iter().filter_map(|column| {
            let sql_type = sql_type(dialect, column)?;
            Some((column.name.clone(), sql_type, column.nullable))
        });
        columns.collect()
    };
    let columns = known(table).into_iter().map(|(name, sql_type, nullable)| {
        let of = table.column(&name);
        ReadColumn {
            key: table.key.contains(&name),
            generated: of.is_some_and(|column| column.generated != Generated::Never),
            unique: table.key == [name.as_str()]
                || table
                    .unique
                    .iter()
                    .any(|unique| unique.columns == [name.as_str()] && unique.condition.is_none()),
            name,
            sql_type,
            nullable,
        }
    });
    let columns: Vec<ReadColumn> = columns.collect();
    let mut taken: HashSet<String> = columns.iter().map(|column| column.name.clone()).collect();
    let references = table.references.iter().filter_map(|reference| {
        let is_target = |other: &CatalogTable| {
            other.name == reference.target
                && (reference.target_schema.is_none() || other.schema == reference.target_schema)
        };
        let target = catalog.tables.iter().position(is_target)?;
        let theirs = known(catalog.tables.get(target)?);
        let pairs = reference
            .columns
            .iter()
            .zip(&reference.target_columns)
            .map(|(own, other)| {
                let own = columns.iter().position(|column| column.name == *own)?;
                Some([own, theirs.iter().position(|(name, ..)| name == other)?])
            });
        let pairs: Vec<[usize; 2]> = pairs.collect::<Option<_>>()?;
        let nullable = pairs
            .iter()
            .any(|[own, _]| columns.get(*own).is_none_or(|own| own.nullable));
        // As `draft` names them.
        let base = match reference.columns.as_slice() {
            [own] => own.strip_suffix("_id").filter(|base| !base.is_empty()),
            _ => None,
        };
        let snake = snake(&reference.target);
        let choices = base.map(|base| [base.to_owned(), format!("{base}_{snake}")]);
        let name = free(&mut taken, choices.into_iter().flatten().chain([snake]))?;
        Some(ReadReference { name, target, pairs, optional: nullable })
    });
    let references = references.collect();
    ReadTable {
        schema: table.schema.clone(),
        name: table.name.clone(),
        columns,
        references,
        open_to_all: false,
    }
}

/// Returns the relations to children, by the references of the tables.
fn children_of(tables: &[ReadTable]) -> Children {
    let mut taken: Vec<HashSet<String>> = tables
        .iter()
        .map(|table| {
            let columns = table.columns.iter().map(|column| column.name.clone());
            columns
                .chain(
                    table
                        .references
                        .iter()
                        .map(|reference| reference.name.clone()),
                )
                .collect()
        })
        .collect();
    let mut children = Children::new();
    for (child, table) in tables.iter().enumerate() {
        for (number, reference) in table.references.iter().enumerate() {
            let plural = plural(&snake(&table.name));
            let by = format!("{plural}_by_{}", reference.name);
            let Some(taken) = taken.get_mut(reference.target) else { continue };
            if let Some(name) = free(taken, [plural, by]) {
                children
                    .entry(reference.target)
                    .or_default()
                    .push((name, child, number));
            }
        }
    }
    children
}

/// Returns the first name that nothing else has, and takes it.
fn free(taken: &mut HashSet<String>, names: impl IntoIterator<Item = String>) -> Option<String> {
    names.into_iter().find(|name| taken.insert(name.clone()))
}

fn snake(name: &str) -> String {
    heck::ToSnakeCase::to_snake_case(name)
}

/// Returns the type of a column for the tree; `None` if it has none.
fn sql_type(dialect: Dialect, column: &CatalogColumn) -> Option<SqlType> {
    static STRINGS: NativeType = NativeType::Array(SqlType::Text);
    static INET: NativeType = NativeType::Inet;
    static INTERVAL: NativeType = NativeType::Interval;
    Some(match Kind::of(dialect, column) {
        Kind::Boolean => SqlType::Boolean,
        Kind::Whole { bits: ..=16, unsigned: false } => SqlType::SmallInt,
        Kind::Whole { bits: 17..=32, unsigned: false } => SqlType::Integer,
        Kind::Whole { .. } => SqlType::BigInt,
        Kind::Single => SqlType::Real,
        Kind::Double => SqlType::Double,
        Kind::Decimal | Kind::NumericAffinity => SqlType::Decimal,
        Kind::Text | Kind::Anything => SqlType::Text,
        Kind::Enum if dialect == Dialect::Postgres => SqlType::Enum(enum_type(column)),
        Kind::Enum => SqlType::Text,
        Kind::Bytes => SqlType::Bytes,
        Kind::Date => SqlType::Date,
        Kind::Time => SqlType::Time,
        Kind::DateTime => SqlType::DateTime,
        Kind::Timestamp => SqlType::Timestamp,
        Kind::Uuid => SqlType::Uuid,
        Kind::Json => SqlType::Json,
        Kind::Array(_) => SqlType::Native(&STRINGS),
        Kind::Inet => SqlType::Native(&INET),
        Kind::Interval => SqlType::Native(&INTERVAL),
        Kind::Range(_) | Kind::Unknown => return None,
    })
}

/// Returns the enum type of a column. It stays in memory, once for each type.
fn enum_type(column: &CatalogColumn) -> &'static EnumType {
    type Known = HashMap<(String, Vec<String>), &'static EnumType>;
    static KNOWN: LazyLock<Mutex<Known>> = LazyLock::new(Mutex::default);
    let mut known = KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
    let description = (column.database_type.clone(), column.enum_values.clone());
    known
        .entry(description)
        .or_insert_with_key(|(name, values)| {
            let kept = |text: &str| -> &'static str { Box::leak(text.into()) };
            let values: Vec<&'static str> = values.iter().map(|value| kept(value)).collect();
            Box::leak(Box::new(EnumType::new(kept(name), Box::leak(values.into()))))
        })
}
