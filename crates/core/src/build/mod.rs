//! The public types: expressions, queries and writes. They build trees, and ask `plan` and `sql` for
//! statements.

pub(crate) mod call;
pub(crate) mod compile;
pub(crate) mod expr;
pub(crate) mod policy;
pub(crate) mod prepared;
pub(crate) mod query;
pub(crate) mod schema;
pub(crate) mod script;
pub(crate) mod statement;
pub(crate) mod table;
pub(crate) mod write;
