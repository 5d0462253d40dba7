//! Descriptors of tables and columns. `#[derive(Table)]` writes them; everything else reads them.

use std::any::{Any, TypeId};
use std::panic::Location;

use super::carried::{Carried, MissingValue};
use super::storable::{BindValue, SqlType};

/// What is known of a table before any query runs.
#[derive(Debug)]
pub struct TableInfo {
    name: &'static str,
    schema: Option<&'static str>,
    // Written once at compile time for each quote mark, because every statement needs them.
    from: PerQuote,
    select_list: PerQuote,
    columns: &'static [ColumnInfo],
    references: &'static [Reference],
    policies: &'static [PolicyInfo],
    /// The relations to the rows that are retired with those of this table.
    retired_with: &'static [Reference],
}

/// From the rows of a table to at most one row of another: a foreign key, or the other side of one
/// that is unique.
#[doc(hidden)]
#[derive(Debug)]
pub struct Reference {
    name: &'static str,
    // Asked when it is followed, because tables may lead to each other in circles.
    target: fn() -> &'static TableInfo,
    /// The columns that are equal: of this table, and of the other.
    pairs: &'static [[ColumnOf; 2]],
    optional: bool,
}

/// A column of a table. Asked when it is needed, because tables may lead to each other in circles.
type ColumnOf = fn() -> &'static ColumnInfo;

impl Reference {
    /// `optional` where there may be no such row.
    pub const fn new(
        name: &'static str,
        target: fn() -> &'static TableInfo,
        pairs: &'static [[ColumnOf; 2]],
        optional: bool,
    ) -> Reference {
        Reference { name, target, pairs, optional }
    }

    pub(crate) fn name(&self) -> &'static str {
        self.name
    }

    pub(crate) fn target(&self) -> &'static TableInfo {
        (self.target)()
    }

    pub(crate) fn is_optional(&self) -> bool {
        self.optional
    }

    /// The columns that are equal: of this table, and of the other.
    pub(crate) fn pairs(&self) -> impl Iterator<Item = [&'static ColumnInfo; 2]> {
        self.pairs.iter().map(|pair| pair.map(|column| column()))
    }
}

/// A policy of a table; `#[derive(Table)]` writes it.
#[doc(hidden)]
#[derive(Debug)]
pub struct PolicyInfo {
    name: &'static str,
    id: fn() -> TypeId,
    // Descriptors know nothing of conditions: what this is, the tree knows.
    condition: &'static (dyn Any + Send + Sync),
    declared_at: &'static Location<'static>,
}

impl PolicyInfo {
    #[track_caller]
    pub const fn new(
        name: &'static str,
        id: fn() -> TypeId,
        condition: &'static (dyn Any + Send + Sync),
    ) -> PolicyInfo {
        PolicyInfo { name, id, condition, declared_at: Location::caller() }
    }

    pub(crate) fn name(&self) -> &'static str {
        self.name
    }

    pub(crate) fn id(&self) -> TypeId {
        (self.id)()
    }

    pub(crate) fn condition(&self) -> &'static (dyn Any + Send + Sync) {
        self.condition
    }

    pub(crate) fn declared_at(&self) -> &'static Location<'static> {
        self.declared_at
    }
}

/// A piece of SQL text for each of the quote marks in use: `"` and `` ` ``.
pub(crate) type PerQuote = [&'static str; 2];

impl TableInfo {
    #[doc(hidden)]
    pub const fn new(
        schema: Option<&'static str>,
        name: &'static str,
        from: PerQuote,
        select_list: PerQuote,
        columns: &'static [ColumnInfo],
        references: &'static [Reference],
    ) -> TableInfo {
        TableInfo {
            name,
            schema,
            from,
            select_list,
            columns,
            references,
            policies: &[],
            retired_with: &[],
        }
    }

    #[doc(hidden)]
    pub const fn under(mut self, policies: &'static [PolicyInfo]) -> TableInfo {
        self.policies = policies;
        self
    }

    #[doc(hidden)]
    pub const fn retiring(mut self, with: &'static [Reference]) -> TableInfo {
        self.retired_with = with;
        self
    }

    /// The table's name in the database, without its schema.
    pub fn name(&self) -> &'static str {
        self.name
    }

    /// The schema that the table was declared in, if one was given.
    pub fn schema(&self) -> Option<&'static str> {
        self.schema
    }

    /// The columns, in the order of the struct's fields.
    pub fn columns(&self) -> &'static [ColumnInfo] {
        self.columns
    }

    /// The columns of the primary key, in the order of the struct's fields.
    pub fn key(&self) -> impl Iterator<Item = &'static ColumnInfo> {
        self.columns.iter().filter(|column| column.is_key())
    }

    pub(crate) fn policies(&self) -> &'static [PolicyInfo] {
        self.policies
    }

    pub(crate) fn retired_with(&self) -> &'static [Reference] {
        self.retired_with
    }

    pub(crate) fn references(&self) -> &'static [Reference] {
        self.references
    }

    #[inline]
    pub(crate) fn from_clause(&self) -> &PerQuote {
        &self.from
    }

    #[inline]
    pub(crate) fn select_list(&self) -> &PerQuote {
        &self.select_list
    }
}

/// What is known of a column before any query runs.
#[derive(Debug)]
pub struct ColumnInfo {
    table: &'static str,
    name: &'static str,
    qualified: PerQuote,
    sql_type: SqlType,
    nullable: bool,
    role: ColumnRole,
}

/// What the attributes of a field say about its column.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, Default)]
pub struct ColumnRole {
    pub key: bool,
    pub generated: bool,
    pub unique: bool,
    pub by_code_point: bool,
    /// True if a time in it marks the row as withdrawn.
    pub retires: bool,
    pub made: Made,
}

/// Where the value of a column comes from that the database does not generate.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, Default)]
pub enum Made {
    /// Whoever writes the row gives it.
    #[default]
    Given,
    /// From what the handle carries.
    Filled(fn(&Carried) -> Result<BindValue, MissingValue>),
    /// The time of the insert.
    StampedOnInsert,
    /// The time of the last write.
    StampedOnWrite,
    /// Counted up by each update.
    Version,
}

impl ColumnInfo {
    #[doc(hidden)]
    pub const fn new(
        table: &'static str,
        name: &'static str,
        qualified: PerQuote,
        (sql_type, nullable): (SqlType, bool),
        role: ColumnRole,
    ) -> ColumnInfo {
        ColumnInfo { table, name, qualified, sql_type, nullable, role }
    }

    /// The name of the table that the column is part of.
    pub fn table(&self) -> &'static str {
        self.table
    }

    /// The column's name in the database.
    pub fn name(&self) -> &'static str {
        self.name
    }

    /// The SQL type that the field's Rust type is stored as.
    pub fn sql_type(&self) -> SqlType {
        self.sql_type
    }

    /// Returns whether the field is an `Option`, so that NULL is expected.
    pub fn is_nullable(&self) -> bool {
        self.nullable
    }

    /// Returns whether the column is the primary key or a part of it.
    pub fn is_key(&self) -> bool {
        self.role.key
    }

    /// Returns whether the database makes the value when a row is inserted.
    pub fn is_generated(&self) -> bool {
        self.role.generated
    }

    /// Returns whether no two rows share a value of this column.
    pub fn is_unique(&self) -> bool {
        self.role.unique
    }

    /// Returns whether the database compares the column's text by code point of its own accord.
    pub fn is_by_code_point(&self) -> bool {
        self.role.by_code_point
    }

    /// Returns whether an insert is given its value.
    pub(crate) fn is_given(&self) -> bool {
        !self.is_generated() && matches!(self.role.made, Made::Given)
    }

    pub(crate) fn made(&self) -> Made {
        self.role.made
    }

    pub(crate) fn retires(&self) -> bool {
        self.role.retires
    }

    #[inline]
    pub(crate) fn qualified(&self) -> &PerQuote {
        &self.qualified
    }
}
