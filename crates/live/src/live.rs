//! The methods that this crate adds to handles.

use nepheline::internal::Describes as _;
use nepheline::prelude::*;
use nepheline::{Readable, RunsQueries};

use crate::catalog::{Catalog, CatalogTable};
use crate::describe::{self, Description};
use crate::profile::{self, Profile, ProfileQueries};
use crate::read::{Queries, Rows};
use crate::scan;
use crate::verify::{Differences, Expected};

/// Reads a catalog through the verb `$read`.
macro_rules! read_catalog {
    ($db:expr, $schemas:expr, $($wait:tt)*) => {{
        let queries = Queries::of($schemas);
        Ok(Rows {
            tables: $db.read(&queries.tables)$($wait)*?,
            columns: $db.read(&queries.columns)$($wait)*?,
            indexes: $db.read(&queries.indexes)$($wait)*?,
            references: $db.read(&queries.references)$($wait)*?,
            checks: $db.read(&queries.checks)$($wait)*?,
            enums: $db.read(&queries.enums)$($wait)*?,
            routines: $db.read(&queries.routines)$($wait)*?,
        }
        .into_catalog($db.dialect()))
    }};
}

/// Tells the tables of more than `$longest` rows that the plan of a query reads as a whole.
macro_rules! tell_scans {
    ($db:expr, $query:expr, $longest:expr, $found:expr, $($wait:tt)*) => {{
        let plan = $db.plan_of($query.query())$($wait)*?;
        let scans = scan::scans($db.dialect(), &plan);
        let catalog = match scans.is_empty() {
            true => Catalog::default(),
            false => $db.catalog()$($wait)*?,
        };
        for scan in scans {
            let table = scan.table(&catalog);
            let estimate = scan.rows.or(table.and_then(|table| table.estimated_rows));
            let rows = match (estimate, table) {
                (Some(rows), _) => rows,
                (None, Some(table)) => $db.count_rows(table)$($wait)*?,
                (None, None) => continue,
            };
            if u64::try_from(rows).is_ok_and(|rows| rows > $longest) {
                let name = table.map_or(&scan.name, |table| &table.name);
                $query.tell_scan(name, rows, $found);
            }
        }
    }};
}

/// Methods of async handles that look at the schema of the database.
pub trait LiveDatabase: RunsQueries {
    /// Reads the tables, views, enum types and functions of the schema that the session uses: `main` of SQLite, the first
    /// of the search path of PostgreSQL, the database of MariaDB and MySQL.
    ///
    /// # Errors
    ///
    /// Those of reading.
    fn catalog(&self) -> impl Future<Output = Result<Catalog, Error>> + Send {
        self.catalog_of(&[])
    }

    /// Reads the catalog of these schemas. SQLite has one, whatever they are.
    ///
    /// # Errors
    ///
    /// Those of reading.
    fn catalog_of(&self, schemas: &[&str]) -> impl Future<Output = Result<Catalog, Error>> + Send {
        async move { read_catalog!(self, schemas, .await) }
    }

    /// Counts the rows of a table. It reads the whole table or one of its indexes.
    ///
    /// # Errors
    ///
    /// Those of reading.
    fn count_rows(&self, table: &CatalogTable) -> impl Future<Output = Result<i64, Error>> + Send {
        async move { self.read_one(&profile::count(self.dialect(), table)).await }
    }

    /// Counts the rows of a table, and the distinct values and NULLs of each column, and reads `sample` of its rows. It reads
    /// the whole table.
    ///
    /// # Errors
    ///
    /// Those of reading.
    fn profile(
        &self,
        table: &CatalogTable,
        sample: u32,
    ) -> impl Future<Output = Result<Profile, Error>> + Send {
        async move {
            let queries = ProfileQueries::of(self.dialect(), table, sample);
            let counts = self.read_one(&queries.counts).await?;
            Profile::of(table, &counts, &self.read(&queries.sample).await?)
        }
    }

    /// Compares the table of a struct with the database, and returns the differences; none if they agree.
    ///
    /// # Errors
    ///
    /// Those of reading the catalog.
    fn verify_table<T: Table>(&self) -> impl Future<Output = Result<Differences, Error>> + Send {
        async move { self.verify(&Expected::new().table::<T>()).await }
    }

    /// Asks the database for the columns and parameters of a query. The database prepares its SQL, and does not run it; of
    /// a query with companions, that of its first statement.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// use nepheline_coreshed::Specimen;
    /// use nepheline_live::LiveDatabase;
    ///
    /// # #[tokio::main(flavor = "current_thread")] async fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// # let db = nepheline::Database::open("sqlite::memory:").await?;
    /// # db.run_script(&nepheline::script!("CREATE TABLE specimen (label TEXT NOT NULL, top_m REAL NOT NULL)")).await?;
    /// let tops = Specimen::rows().select(|s| (s.label, s.top_m));
    /// let described = db.describe(&tops).await?;
    /// assert_eq!(described.columns[1].rust_type.as_deref(), Some("f64"));
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    ///
    /// Those of reading: a query that does not prepare is refused.
    fn describe<Q: Readable>(
        &self,
        query: &Q,
    ) -> impl Future<Output = Result<Description, Error>> + Send {
        async move { Ok(Description::of(self.dialect(), self.described(query).await?)) }
    }

    /// Compares a query with the database, as [`verify`](Self::verify) does.
    ///
    /// # Errors
    ///
    /// Those of the connection.
    fn verify_query<Q: Readable>(
        &self,
        query: &Q,
    ) -> impl Future<Output = Result<Differences, Error>> + Send {
        async move {
            let described = self.described(query).await;
            describe::differences(query, self.dialect(), described)
        }
    }

    /// Compares the tables and queries of a program with the database, at its start or in a test.
    ///
    /// # Errors
    ///
    /// Those of reading the catalog, and of the connection.
    fn verify(
        &self,
        expected: &Expected,
    ) -> impl Future<Output = Result<Differences, Error>> + Send {
        async move {
            let mut found = Differences::default();
            for schema in expected.schemas() {
                let catalog = self.catalog_of(schema.as_slice()).await?;
                expected.compare(schema, self.dialect(), &catalog, &mut found);
            }
            for query in &expected.queries {
                let described = self.described(query.query()).await;
                let prepares = query.compare(self.dialect(), described, &mut found.0)?;
                if let (true, Some(longest)) = (prepares, expected.longest_scan) {
                    tell_scans!(self, query, longest, &mut found.0, .await);
                }
            }
            Ok(found)
        }
    }
}

impl<D: RunsQueries> LiveDatabase for D {}

/// The same for blocking handles.
pub mod blocking {
    use nepheline::blocking::RunsQueries;
    use nepheline::internal::BlockingDescribes as _;

    use super::*;

    /// Methods of blocking handles that look at the schema of the database.
    pub trait LiveDatabase: RunsQueries {
        /// Reads the catalog, as [`LiveDatabase::catalog`](crate::LiveDatabase::catalog) does.
        ///
        /// # Errors
        ///
        /// Those of reading.
        fn catalog(&self) -> Result<Catalog, Error> {
            self.catalog_of(&[])
        }

        /// Reads the catalog of these schemas.
        ///
        /// # Errors
        ///
        /// Those of reading.
        fn catalog_of(&self, schemas: &[&str]) -> Result<Catalog, Error> {
            read_catalog!(self, schemas,)
        }

        /// Counts the rows of a table. It reads the whole table or one of its indexes.
        ///
        /// # Errors
        ///
        /// Those of reading.
        fn count_rows(&self, table: &CatalogTable) -> Result<i64, Error> {
            self.read_one(&profile::count(self.dialect(), table))
        }

        /// Counts the rows of a table, and the distinct values and NULLs of each column, and reads `sample` of its rows.
        /// It reads the whole table.
        ///
        /// # Errors
        ///
        /// Those of reading.
        fn profile(&self, table: &CatalogTable, sample: u32) -> Result<Profile, Error> {
            let queries = ProfileQueries::of(self.dialect(), table, sample);
            let counts = self.read_one(&queries.counts)?;
            Profile::of(table, &counts, &self.read(&queries.sample)?)
        }

        /// Compares the table of a struct with the database, and returns the differences; none if they agree.
        ///
        /// # Errors
        ///
        /// Those of reading the catalog.
        fn verify_table<T: Table>(&self) -> Result<Differences, Error> {
            self.verify(&Expected::new().table::<T>())
        }

        /// Asks the database for the columns and parameters of a query, as
        /// [`LiveDatabase::describe`](crate::LiveDatabase::describe) does.
        ///
        /// # Errors
        ///
        /// Those of reading: a query that does not prepare is refused.
        fn describe<Q: Readable>(&self, query: &Q) -> Result<Description, Error> {
            Ok(Description::of(self.dialect(), self.described(query)?))
        }

        /// Compares a query with the database, as [`verify`](Self::verify) does.
        ///
        /// # Errors
        ///
        /// Those of the connection.
        fn verify_query<Q: Readable>(&self, query: &Q) -> Result<Differences, Error> {
            describe::differences(query, self.dialect(), self.described(query))
        }

        /// Compares the tables and queries of a program with the database, at its start or in a test.
        ///
        /// # Errors
        ///
        /// Those of reading the catalog, and of the connection.
        fn verify(&self, expected: &Expected) -> Result<Differences, Error> {
            let mut found = Differences::default();
            for schema in expected.schemas() {
                let catalog = self.catalog_of(schema.as_slice())?;
                expected.compare(schema, self.dialect(), &catalog, &mut found);
            }
            for query in &expected.queries {
                let described = self.described(query.query());
                let prepares = query.compare(self.dialect(), described, &mut found.0)?;
                if let (true, Some(longest)) = (prepares, expected.longest_scan) {
                    tell_scans!(self, query, longest, &mut found.0,);
                }
            }
            Ok(found)
        }
    }

    impl<D: RunsQueries> LiveDatabase for D {}
}
