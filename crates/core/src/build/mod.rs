//! Typed expressions, queries and writes, as users write them. They become trees. This folder asks `plan` and `sql` for the statements
//! of them.

pub(crate) mod compile;
pub(crate) mod expr;
pub(crate) mod policy;
pub(crate) mod query;
pub(crate) mod table;
pub(crate) mod write;
