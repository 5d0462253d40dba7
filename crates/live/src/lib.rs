//! The live database: reads its schema into a [`Catalog`], and tells where it and the structs of a program differ.
//!
//! Two traits add methods to every handle of Nepheline: [`LiveDatabase`] to async ones, and
//! [`blocking::LiveDatabase`] to blocking ones.
//!
//! ```
//! use nepheline::blocking::Database;
//! use nepheline::prelude::*;
//! use nepheline_live::blocking::LiveDatabase;
//!
//! #[derive(Debug, Table)]
//! struct Lab {
//!     #[nepheline(key, generated)]
//!     id: i64,
//!     #[nepheline(unique)]
//!     name: String,
//!     country: Option<String>,
//! }
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! let db = Database::open("sqlite::memory:")?;
//! db.run_script(&nepheline::script!(
//!     "CREATE TABLE lab (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, country TEXT NOT NULL)"
//! ))?;
//! let lab = db.catalog()?.table("lab").cloned().unwrap();
//! assert_eq!(lab.columns[1].rust_type.as_deref(), Some("String"));
//!
//! let differences = db.verify_table::<Lab>()?;
//! assert_eq!(
//!     differences[0].to_string(),
//!     "`lab`.`country`: the field is an `Option`, and the column is never NULL; write the type without `Option`",
//! );
//! # Ok(())
//! # }
//! ```

mod catalog;
mod declared;
mod describe;
#[cfg(feature = "draft")]
mod draft;
mod insert;
mod kind;
mod live;
mod names;
mod plural;
mod profile;
mod read;
mod scan;
mod tables;
mod text;
mod verify;

pub use catalog::{
    Catalog, CatalogCheck, CatalogColumn, CatalogEnum, CatalogIndex, CatalogReference,
    CatalogRoutine, CatalogTable, CatalogUnique, Generated,
};
pub use describe::{DescribedColumn, DescribedParameter, Description};
#[cfg(feature = "draft")]
pub use draft::{
    Draft, DraftOptions, FolderDraft, UnreadableRust, compare_files, draft, draft_folder,
};
pub use insert::{LiveInsert, NewRows, NewTable, UnfitRow};
pub use live::{LiveDatabase, blocking};
pub use names::LiveName;
pub use profile::{ColumnProfile, Profile};
pub use tables::{LiveQuery, LiveRows, LiveTables};
pub use text::{UnreadableText, read_text};
pub use verify::{Difference, DifferenceKind, Differences, Expected, Subject};
