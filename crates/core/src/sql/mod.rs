//! From a planned tree to SQL: one writer for all dialects, which asks each how something is written.

mod binds;
mod form;
mod identifiers;
mod layout;
pub(crate) mod list;
mod names;
mod operation;
mod pattern;
pub(crate) mod schema;
pub(crate) mod script;
mod shown;
mod statement;
mod template;
mod writer;

pub(crate) use binds::Binds;
pub use operation::Operation;
pub use shown::{ByClause, Sql};
pub(crate) use statement::Purpose;
pub use statement::{Copying, Statement};
pub(crate) use template::Template;
pub(crate) use writer::NewValues;
