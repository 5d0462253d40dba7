//! Descriptors of tables and columns. `#[derive(Table)]` writes them; everything else reads them.

use std::any::{Any, TypeId};
use std::panic::Location;
use std::sync::OnceLock;

use super::role::{ColumnRole, ValueSource};
use super::storable::SqlType;

/// A table, as its struct declares it.
#[derive(Debug)]
pub struct TableInfo {
    name: &'static str,
    schema: Option<&'static str>,
    // Prepared at compile time for each quote mark, because every statement needs them.
    from: PerQuote,
    select_list: PerQuote,
    columns: &'static [ColumnInfo],
    references: &'static [Reference],
    policies: &'static [PolicyInfo],
    /// The relations whose rows are retired together with those of this table.
    retired_with: &'static [Reference],
    /// True if handles that require policies may read it without any.
    open_to_all: bool,
    /// Where something is kept of the table while the program runs.
    slot: Option<&'static TableSlot>,
}

/// A place for one value that is made while the program runs. It is no part of a descriptor itself, which constants
/// read.
#[doc(hidden)]
#[derive(Debug, Default)]
pub struct TableSlot(OnceLock<Box<dyn Any + Send + Sync>>);

impl TableSlot {
    pub const fn new() -> TableSlot {
        TableSlot(OnceLock::new())
    }
}

/// A reference from the rows of a table to at most one row of another: a foreign key, or the other side of a
/// unique one.
#[doc(hidden)]
#[derive(Debug)]
pub struct Reference {
    name: &'static str,
    ends: Ends,
    optional: bool,
    /// True if the other row holds the foreign key.
    of_child: bool,
}

/// Returns a column of a table. A function, because tables may refer to each other in circles.
type ColumnOf = fn() -> &'static ColumnInfo;

/// The table that a reference leads to, and the pairs of equal columns: of its own table, and of the other.
#[derive(Debug)]
enum Ends {
    // Functions, because tables may refer to each other in circles.
    Declared {
        target: fn() -> &'static TableInfo,
        pairs: &'static [[ColumnOf; 2]],
    },
    /// Those of a catalog, which are set when all of its tables have been read.
    Read(OnceLock<ReadEnds>),
}

#[derive(Debug)]
struct ReadEnds {
    target: &'static TableInfo,
    pairs: Box<[[&'static ColumnInfo; 2]]>,
}

/// The target of a reference that was read, before its tables are there.
static NO_TABLE: TableInfo = TableInfo::new(None, "", ["", ""], ["", ""], &[]);

impl Reference {
    /// Returns a reference; `optional` if there may be no such row.
    pub const fn new(
        name: &'static str,
        target: fn() -> &'static TableInfo,
        pairs: &'static [[ColumnOf; 2]],
        optional: bool,
    ) -> Reference {
        Reference { name, ends: Ends::Declared { target, pairs }, optional, of_child: false }
    }

    /// Returns a reference of a catalog, whose ends are set later.
    pub(super) fn read(name: &'static str, optional: bool) -> Reference {
        Reference { name, ends: Ends::Read(OnceLock::new()), optional, of_child: false }
    }

    /// Sets the ends of a reference of a catalog, once.
    pub(super) fn set_ends(
        &self,
        target: &'static TableInfo,
        pairs: Box<[[&'static ColumnInfo; 2]]>,
    ) {
        if let Ends::Read(ends) = &self.ends {
            let first = ends.set(ReadEnds { target, pairs });
            debug_assert!(first.is_ok(), "the ends of a reference are set once");
        }
    }

    /// Marks a reference that leads to a child, whose row holds the foreign key.
    #[must_use]
    pub const fn of_child(mut self) -> Reference {
        self.of_child = true;
        self
    }

    /// Returns whether the foreign key is in the row of this table.
    pub fn is_foreign_key(&self) -> bool {
        !self.of_child
    }

    pub(crate) fn name(&self) -> &'static str {
        self.name
    }

    /// Returns the table that it leads to.
    pub fn target(&self) -> &'static TableInfo {
        match &self.ends {
            Ends::Declared { target, .. } => target(),
            Ends::Read(ends) => ends.get().map_or(&NO_TABLE, |ends| ends.target),
        }
    }

    pub(crate) fn is_optional(&self) -> bool {
        self.optional
    }

    /// Returns the pairs of equal columns: of this table, and of the other.
    pub fn pairs(&self) -> impl Iterator<Item = [&'static ColumnInfo; 2]> {
        let (declared, read): (&[[ColumnOf; 2]], &[[&'static ColumnInfo; 2]]) = match &self.ends {
            Ends::Declared { pairs, .. } => (pairs, &[]),
            Ends::Read(ends) => (&[], ends.get().map_or(&[], |ends| &ends.pairs)),
        };
        let declared = declared.iter().map(|pair| pair.map(|column| column()));
        declared.chain(read.iter().copied())
    }
}

/// A policy of a table; `#[derive(Table)]` writes it.
#[doc(hidden)]
#[derive(Debug)]
pub struct PolicyInfo {
    name: &'static str,
    id: fn() -> TypeId,
    // Descriptors know nothing of conditions; `tree` knows the type behind it.
    condition: &'static (dyn Any + Send + Sync),
    declared_at: &'static Location<'static>,
    /// Tells whether written rows are checked, if the table says so itself.
    checks_writes: Option<bool>,
}

impl PolicyInfo {
    #[track_caller]
    pub const fn new(
        name: &'static str,
        id: fn() -> TypeId,
        condition: &'static (dyn Any + Send + Sync),
    ) -> PolicyInfo {
        PolicyInfo { name, id, condition, declared_at: Location::caller(), checks_writes: None }
    }

    /// Sets whether written rows are checked.
    #[must_use]
    pub const fn checking_writes(mut self, checks: bool) -> PolicyInfo {
        self.checks_writes = Some(checks);
        self
    }

    pub(crate) fn checks_writes(&self) -> Option<bool> {
        self.checks_writes
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

/// A piece of SQL text for each of the two quote marks: `"` and `` ` ``.
pub(crate) type PerQuote = [&'static str; 2];

/// Compares texts while the program is compiled, where `==` is not available yet.
pub(crate) const fn is_same(one: &str, other: &str) -> bool {
    let (one, other) = (one.as_bytes(), other.as_bytes());
    if one.len() != other.len() {
        return false;
    }
    let mut place = 0;
    while place < one.len() {
        if one[place] != other[place] {
            return false;
        }
        place += 1;
    }
    true
}

impl TableInfo {
    /// Returns whether a column has this name, also while the program is compiled.
    pub(crate) const fn has_column(&self, name: &str) -> bool {
        let mut place = 0;
        while place < self.columns.len() {
            if is_same(self.columns[place].name, name) {
                return true;
            }
            place += 1;
        }
        false
    }

    #[doc(hidden)]
    pub const fn new(
        schema: Option<&'static str>,
        name: &'static str,
        from: PerQuote,
        select_list: PerQuote,
        columns: &'static [ColumnInfo],
    ) -> TableInfo {
        TableInfo {
            name,
            schema,
            from,
            select_list,
            columns,
            references: &[],
            policies: &[],
            retired_with: &[],
            open_to_all: false,
            slot: None,
        }
    }

    #[doc(hidden)]
    pub const fn keeping(mut self, slot: &'static TableSlot) -> TableInfo {
        self.slot = Some(slot);
        self
    }

    #[doc(hidden)]
    pub const fn open_to_all(mut self) -> TableInfo {
        self.open_to_all = true;
        self
    }

    /// Returns what is kept of the table, a value of one type.
    pub(crate) fn kept<T: Any + Default + Send + Sync>(&self) -> Option<&T> {
        let TableSlot(kept) = self.slot?;
        kept.get_or_init(|| Box::new(T::default())).downcast_ref()
    }

    pub(crate) fn is_open_to_all(&self) -> bool {
        self.open_to_all
    }

    #[doc(hidden)]
    pub const fn referring(mut self, references: &'static [Reference]) -> TableInfo {
        self.references = references;
        self
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

    /// Returns the table's name in the database, without its schema.
    pub fn name(&self) -> &'static str {
        self.name
    }

    /// Returns the schema that the table was declared in, if there is one.
    pub fn schema(&self) -> Option<&'static str> {
        self.schema
    }

    /// Returns the columns in the order of the struct's fields.
    pub fn columns(&self) -> &'static [ColumnInfo] {
        self.columns
    }

    /// Returns the columns of the primary key in the order of the struct's fields.
    pub fn key(&self) -> impl Iterator<Item = &'static ColumnInfo> {
        self.columns.iter().filter(|column| column.is_key())
    }

    pub(crate) fn policies(&self) -> &'static [PolicyInfo] {
        self.policies
    }

    /// Returns whether writes to it may need checks: it has policies, or refers to a table that has.
    pub(crate) fn is_checked(&self) -> bool {
        let has_policies = |reference: &Reference| !reference.target().policies.is_empty();
        !self.policies.is_empty() || self.references.iter().any(has_policies)
    }

    pub(crate) fn retired_with(&self) -> &'static [Reference] {
        self.retired_with
    }

    #[doc(hidden)]
    pub fn references(&self) -> &'static [Reference] {
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

/// A column, as its field declares it.
#[derive(Debug)]
pub struct ColumnInfo {
    table: &'static str,
    name: &'static str,
    qualified: PerQuote,
    sql_type: SqlType,
    nullable: bool,
    role: ColumnRole,
}

impl ColumnInfo {
    #[doc(hidden)]
    pub const fn new(
        table: &'static str,
        name: &'static str,
        qualified: PerQuote,
        (sql_type, nullable): (SqlType, bool),
    ) -> ColumnInfo {
        ColumnInfo { table, name, qualified, sql_type, nullable, role: ColumnRole::PLAIN }
    }

    #[doc(hidden)]
    pub const fn with_role(mut self, role: ColumnRole) -> ColumnInfo {
        self.role = role;
        self
    }

    /// Returns the name of the column's table.
    pub fn table(&self) -> &'static str {
        self.table
    }

    /// Returns the column's name in the database.
    pub fn name(&self) -> &'static str {
        self.name
    }

    /// Returns the SQL type that stores the field's Rust type.
    pub fn sql_type(&self) -> SqlType {
        self.sql_type
    }

    /// Returns whether the field is an `Option`, so that NULL is allowed.
    pub fn is_nullable(&self) -> bool {
        self.nullable
    }

    /// Returns whether the column is the primary key or part of it.
    pub fn is_key(&self) -> bool {
        self.role.key
    }

    /// Returns whether the database generates the value on insert.
    pub fn is_generated(&self) -> bool {
        self.role.generated
    }

    /// Returns whether no two rows share a value of this column.
    pub fn is_unique(&self) -> bool {
        self.role.unique
    }

    /// Returns whether the database itself compares the column's text by code point.
    pub fn is_by_code_point(&self) -> bool {
        self.role.by_code_point
    }

    /// Returns whether the column holds exact numbers, of which the nearest float is read.
    pub fn is_approximate(&self) -> bool {
        self.role.approximate
    }

    /// Returns whether the program gives its value on insert.
    pub(crate) fn is_given(&self) -> bool {
        !self.is_generated() && matches!(self.role.made, ValueSource::Given)
    }

    /// Returns whether the database treats different texts of the column as equal: it has a nondeterministic collation
    /// of PostgreSQL.
    pub fn is_nondeterministic(&self) -> bool {
        self.role.nondeterministic
    }

    /// Returns whether it identifies rows: as a key, or as part of one, or as a unique column.
    pub(crate) fn identifies(&self) -> bool {
        self.role.key || self.role.unique
    }

    pub(crate) fn made(&self) -> ValueSource {
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
