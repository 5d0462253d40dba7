//! Writes that interceptors add to those of the program: an audit trail, an outbox.

use std::any::Any;
use std::fmt;
use std::ops::Range;
use std::sync::Arc;

use nepheline_core::internal::{
    Checks, CompileContext, NoRow, Part, Parts, Statement, Step, WriteShape, Written as Counted,
};
use nepheline_core::{
    BindValue, Carried, Error, ErrorKind, Operation, Origin, Sql, TableInfo, Writes,
};


/// A write that has run and is not committed yet, as interceptors see it when they add writes of their own.
#[derive(Debug)]
pub struct CompletedWrite<'a> {
    pub(crate) table: &'static str,
    pub(crate) origin: Origin,
    pub(crate) carried: &'a Carried,
    pub(crate) rows: u64,
    pub(crate) statements: &'a [WrittenStatement],
}

/// A statement that changed rows.
#[derive(Debug, Clone)]
pub struct WrittenStatement {
    pub(crate) operation: Operation,
    pub(crate) sql: Box<str>,
    pub(crate) binds: Vec<BindValue>,
}

impl CompletedWrite<'_> {
    /// Returns the name of the table that was written.
    pub fn table(&self) -> &'static str {
        self.table
    }

    /// Returns the line of the program that made the write.
    pub fn origin(&self) -> Origin {
        self.origin
    }

    /// Returns the number of rows that were inserted, changed or deleted, as the verb counts them. It may be 0.
    pub fn rows(&self) -> u64 {
        self.rows
    }

    /// Returns the statements that changed rows, in order: several for many new rows, and for soft deletes with
    /// their children. Statements that only look rows up are not among them.
    pub fn statements(&self) -> &[WrittenStatement] {
        self.statements
    }

    /// Returns the carried value of this type, if the handle carries one: the user, the tenant.
    pub fn carried<V: Any>(&self) -> Option<&V> {
        self.carried.get()
    }
}

impl WrittenStatement {
    /// Returns the operation. A soft delete is an update.
    pub fn operation(&self) -> Operation {
        self.operation
    }

    /// Returns the text, which contains no values.
    pub fn sql(&self) -> &str {
        &self.sql
    }

    /// Returns the values, in the order of the text: those of new rows, those that an update sets, and those of its
    /// conditions, where keys are. Values that the database makes are not among them.
    pub fn binds(&self) -> &[BindValue] {
        &self.binds
    }
}

/// A write that an interceptor adds; made from any write of the library.
#[derive(Clone)]
pub struct AddedWrite(Arc<dyn Writes<Row = NoRow, Read = NoRow>>);

impl AddedWrite {
    pub(crate) fn write(&self) -> &dyn Writes<Row = NoRow, Read = NoRow> {
        &*self.0
    }
}

impl<W: Writes + 'static> From<W> for AddedWrite {
    fn from(write: W) -> AddedWrite {
        AddedWrite(Arc::new(WithoutRows(write)))
    }
}

impl fmt::Debug for AddedWrite {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "AddedWrite(to {} @ {})", self.0.table_name(), self.0.origin())
    }
}

/// A write whose rows nobody reads, so that all of them have one type.
struct WithoutRows<W>(W);

impl<W: Writes> Writes for WithoutRows<W> {
    type Row = NoRow;
    type Read = NoRow;

    fn row_of(read: NoRow) -> NoRow {
        read
    }

    fn shown(&self, context: CompileContext<'_>) -> Result<Sql, Error> {
        self.0.shown(context)
    }

    fn parts(&self, context: CompileContext<'_>, shape: WriteShape, keyed: bool) -> Result<Parts, Error> {
        self.0.parts(context, shape, keyed)
    }

    fn checks(&self, context: CompileContext<'_>) -> Result<Option<Box<Checks>>, Error> {
        self.0.checks(context)
    }

    fn foreign_key(&self, table: Option<&str>) -> ErrorKind {
        self.0.foreign_key(table)
    }

    fn rows_of(&self, part: Part) -> Range<usize> {
        self.0.rows_of(part)
    }

    fn statement(&self, context: CompileContext<'_>, step: &Step<'_>) -> Result<Statement<'_>, Error> {
        self.0.statement(context, step)
    }

    fn counted(&self, context: CompileContext<'_>, step: &Step<'_>, written: Counted) -> u64 {
        self.0.counted(context, step, written)
    }

    fn finds_rows(&self) -> bool {
        self.0.finds_rows()
    }

    fn expects_a_version(&self) -> bool {
        self.0.expects_a_version()
    }

    fn origin(&self) -> Origin {
        self.0.origin()
    }

    fn table(&self) -> &'static TableInfo {
        self.0.table()
    }
}
