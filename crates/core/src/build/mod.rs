//! What users write: typed expressions, queries and writes, which become trees. It asks `plan` and `sql` for the statements
//! of them.

pub(crate) mod compile;
pub(crate) mod expr;
pub(crate) mod policy;
pub(crate) mod query;
pub(crate) mod table;
pub(crate) mod write;
