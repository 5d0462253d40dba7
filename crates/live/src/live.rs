//! The methods that this crate adds to handles.

use nepheline::RunsQueries;
use nepheline::prelude::*;

use crate::catalog::{Catalog, CatalogTable};
use crate::profile::{self, Profile, ProfileQueries};
use crate::read::{Queries, Rows};
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

    /// Compares the tables of a program with the database, at its start or in a test.
    ///
    /// # Errors
    ///
    /// Those of reading the catalog.
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
            Ok(found)
        }
    }
}

impl<D: RunsQueries> LiveDatabase for D {}

/// The same for blocking handles.
pub mod blocking {
    use nepheline::blocking::RunsQueries;

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

        /// Compares the tables of a program with the database, at its start or in a test.
        ///
        /// # Errors
        ///
        /// Those of reading the catalog.
        fn verify(&self, expected: &Expected) -> Result<Differences, Error> {
            let mut found = Differences::default();
            for schema in expected.schemas() {
                let catalog = self.catalog_of(schema.as_slice())?;
                expected.compare(schema, self.dialect(), &catalog, &mut found);
            }
            Ok(found)
        }
    }

    impl<D: RunsQueries> LiveDatabase for D {}
}
