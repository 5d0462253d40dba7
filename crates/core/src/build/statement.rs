//! Whole statements of hand-written SQL, and the types of their rows.

use std::fmt;
use std::marker::PhantomData;
use std::ops::Range;
use std::panic::Location;
use std::sync::Arc;

use super::compile;
use super::expr::FragmentArgument;
use super::query::{Query, Selects};
use super::table::RowStruct;
use super::write::Writes;
use crate::model::{
    ByName, Error, ErrorKind, Function, Key, NoRow, Origin, RowShape, SqlType, TableInfo,
    WantedColumns,
};
use crate::plan::write::{Part, Step, WriteShape};
use crate::plan::{CompileContext, ReadShape};
use crate::sql::{Operation, Sql, Statement};
use crate::tree::{Call, FromSource, Node, RawSql, Select};

/// The descriptor of what hand-written SQL returns.
pub(super) static STATEMENT: TableInfo = TableInfo::new(None, "statement", ["", ""], ["", ""], &[]);

const OF_TRANSACTION: &str =
    "a statement cannot begin or end a transaction; use `transaction` of the handle";

/// A whole statement of hand-written SQL; made by `statement!`.
///
/// A handle's `write` runs it and returns the number of rows that it wrote. [`rows_as`](Self::rows_as) gives its
/// rows a type, so that all reading verbs read it. Values are binds, as in `verbatim!`.
#[derive(Clone)]
#[must_use = "a statement does nothing until a handle reads or writes it"]
pub struct WholeStatement {
    select: Box<Select>,
    /// True if the text begins like a statement that only reads, or the program says so.
    reads: bool,
}

impl WholeStatement {
    /// Creates a statement; `statement!` calls it with its literals.
    #[doc(hidden)]
    #[track_caller]
    pub fn of<const N: usize>(
        function: &'static Function,
        arguments: [FragmentArgument; N],
    ) -> WholeStatement {
        let asked_at = Origin::of(Location::caller());
        let text = Node::of_call(Call {
            asked_at: Some(asked_at),
            ..Call::of(
                function,
                SqlType::Boolean,
                arguments
                    .map(FragmentArgument::into_node)
                    .into_iter()
                    .collect(),
            )
        });
        WholeStatement::of_text(text, function.reads(), asked_at)
    }

    /// Uses the text of a whole statement that was made at run time, unchanged. **Whoever controls the text can read
    /// and change the whole database.**
    ///
    /// It is safe if every piece of the text comes from the program itself, such as a statement from a fixed list. It
    /// is never safe with user input inside, quoted or not: values belong in `{}` of `statement!`.
    #[track_caller]
    pub fn trusting_text_made_at_run_time(text: impl Into<String>) -> WholeStatement {
        let (text, asked_at) = (text.into(), Origin::of(Location::caller()));
        let reads = Function::begins_to_read(&text);
        if Function::is_of_transaction(&text) {
            return WholeStatement::of_text(Node::Unfit(OF_TRANSACTION), false, asked_at);
        }
        let raw = RawSql {
            text: text.into(),
            closed: false,
            reads_arguments_only: false,
            sql_type: SqlType::Boolean,
        };
        WholeStatement::of_text(Node::RawSql(Box::new(raw)), reads, asked_at)
    }

    fn of_text(text: Node, reads: bool, asked_at: Origin) -> WholeStatement {
        let body = FromSource::Text(Box::new(text));
        WholeStatement { select: Box::new(Select::over(&STATEMENT, body, asked_at)), reads }
    }

    /// Declares that the statement only reads, where its first word does not show it: a function that is called by
    /// SELECT is taken for a read, a statement in parentheses or one that begins with `CALL` is not.
    pub fn reading(self) -> WholeStatement {
        WholeStatement { reads: true, ..self }
    }

    /// Declares that the statement writes, although it begins like one that reads: a SELECT of a function that
    /// writes, or a WITH around an INSERT.
    pub fn writing(self) -> WholeStatement {
        WholeStatement { reads: false, ..self }
    }

    /// Declares that the statement may read and write outside the policies of the tables that it names. A handle
    /// with `policies_required` needs it for every hand-written statement.
    pub fn outside_policies(mut self) -> WholeStatement {
        if let FromSource::Text(text) = &mut self.select.body {
            text.declare_checked();
        }
        self
    }

    /// Gives the rows a type: a struct of `#[derive(Table)]` or `#[derive(RowShape)]`, a single value, or a tuple of
    /// these, each also as an `Option`.
    ///
    /// The columns of a struct are found by their names, in any order. A tuple takes the columns from left to right;
    /// where a struct stands in it, the names are checked.
    ///
    /// # Errors
    ///
    /// When read, [`Mismatch`](crate::ErrorKind::Mismatch) before the first row, if a column is missing, there twice,
    /// or not asked for: it lists what arrived and what was wanted.
    pub fn rows_as<R: RowShape + Send + 'static>(self) -> StatementRows<R> {
        let wanted = Arc::new([WantedColumns::of::<R>()]);
        StatementRows { statement: self, wanted, rows: PhantomData }
    }

    fn compiled<'s>(
        &'s self,
        context: CompileContext<'s>,
        shape: ReadShape,
    ) -> Result<Statement<'s>, Error> {
        let statement = compile::to_run(&self.select, context, shape)?;
        let operation = if self.reads { Operation::Read } else { Operation::HandWritten };
        Ok(statement.of_program(operation))
    }
}

impl fmt::Debug for WholeStatement {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "WholeStatement({})", self.select.asked_at)
    }
}

impl Writes for WholeStatement {
    type Row = NoRow;
    type Read = NoRow;

    fn row_of(read: NoRow) -> NoRow {
        read
    }

    fn statement(&self, context: CompileContext<'_>, _: &Step<'_>) -> Result<Statement<'_>, Error> {
        let kept = CompileContext { kept: None, ..context };
        let statement = compile::to_run(&self.select, kept, ReadShape::Rows)?.into_owned_binds();
        Ok(statement.of_program(Operation::HandWritten))
    }

    fn shown(&self, context: CompileContext<'_>) -> Result<Sql, Error> {
        compile::to_show(&self.select, context, ReadShape::Rows)
    }

    fn rows_of(&self, _: Part) -> Range<usize> {
        0..0
    }

    fn foreign_key(&self, _: Option<&str>) -> ErrorKind {
        ErrorKind::ForeignKeyViolation
    }

    fn origin(&self) -> Origin {
        self.select.asked_at
    }

    fn table(&self) -> &'static TableInfo {
        &STATEMENT
    }
}

/// A whole statement whose rows have a type; made by [`WholeStatement::rows_as`].
///
/// All reading verbs read it, and `write_returning` writes it. A page appends `LIMIT` and `OFFSET` to the text, and
/// counting puts the text in a subquery, so such a text must not end in a limit of its own. [`from_statement`] uses
/// it as a table.
#[must_use = "a statement does nothing until a handle reads or writes it"]
pub struct StatementRows<R> {
    statement: WholeStatement,
    wanted: Arc<[WantedColumns; 1]>,
    rows: PhantomData<fn() -> R>,
}

impl<R> StatementRows<R> {
    /// Accepts columns that the struct has no field for. Without it they are an error.
    pub fn ignoring_other_columns(self) -> StatementRows<R> {
        let [wanted] = Arc::unwrap_or_clone(self.wanted);
        StatementRows { wanted: Arc::new([wanted.ignoring_others()]), ..self }
    }
}

/// Uses a whole statement as a table (a derived table), whose columns are the fields of the struct that its rows
/// are read into: to filter, group and join its rows.
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::{from_statement, statement};
///
/// #[derive(Debug, RowShape)]
/// struct Drilled {
///     borehole: String,
///     metres: f64,
/// }
///
/// let site = 7_i64;
/// let drilled = statement!("SELECT name AS borehole, depth_m AS metres FROM borehole WHERE site_id = {site}");
/// let deep = from_statement(drilled.rows_as::<Drilled>()).filter(|d| d.metres.gt(300));
/// assert_eq!(
///     deep.sql(Dialect::Sqlite)?.text(),
///     r#"SELECT "drilled"."borehole", "drilled"."metres" FROM (SELECT name AS borehole, depth_m AS metres FROM borehole WHERE site_id = ?) AS "drilled" WHERE "drilled"."metres" > ?"#,
/// );
/// # Ok::<(), Error>(())
/// ```
#[track_caller]
pub fn from_statement<R: RowStruct>(rows: StatementRows<R>) -> Query<R> {
    Query::over_body(rows.statement.select.body)
}

impl<R> Clone for StatementRows<R> {
    fn clone(&self) -> Self {
        let StatementRows { statement, wanted, rows: _ } = self;
        StatementRows { statement: statement.clone(), wanted: wanted.clone(), rows: PhantomData }
    }
}

impl<R> fmt::Debug for StatementRows<R> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "StatementRows({})", self.statement.select.asked_at)
    }
}

impl<R: RowShape + Send + 'static> Selects for StatementRows<R> {
    type Row = R;
    type Base = ByName<R>;
    type Read = ByName<R>;

    fn with_keys(base: ByName<R>, _: Key) -> ByName<R> {
        base
    }

    fn select(&self) -> &Select {
        &self.statement.select
    }

    fn select_mut(&mut self) -> &mut Select {
        &mut self.statement.select
    }

    fn show(&self, context: CompileContext<'_>, shown: &mut Vec<Sql>) -> Result<(), Error> {
        shown.push(compile::to_show(&self.statement.select, context, ReadShape::Rows)?);
        Ok(())
    }

    fn statement<'s>(
        &'s self,
        context: CompileContext<'s>,
        shape: ReadShape,
    ) -> Result<Statement<'s>, Error> {
        let statement = self.statement.compiled(context, shape)?;
        Ok(match shape {
            ReadShape::Count | ReadShape::Presence => statement,
            ReadShape::Rows | ReadShape::AtMost(_) | ReadShape::Page { .. } => {
                statement.wanting(self.wanted.clone())
            }
        })
    }
}

impl<R: RowShape + Send + 'static> Writes for StatementRows<R> {
    type Row = R;
    type Read = ByName<R>;

    fn row_of(read: ByName<R>) -> R {
        read.into_row()
    }

    fn statement(
        &self,
        context: CompileContext<'_>,
        step: &Step<'_>,
    ) -> Result<Statement<'_>, Error> {
        let statement = Writes::statement(&self.statement, context, step)?;
        Ok(match step.shape {
            WriteShape::Rows => statement.wanting(self.wanted.clone()),
            WriteShape::Count | WriteShape::Kinds => statement,
        })
    }

    fn shown(&self, context: CompileContext<'_>) -> Result<Sql, Error> {
        self.statement.shown(context)
    }

    fn origin(&self) -> Origin {
        self.statement.origin()
    }

    fn table(&self) -> &'static TableInfo {
        &STATEMENT
    }
}

impl Select {
    /// Returns whether it is nothing but a whole statement of hand-written SQL.
    pub(crate) fn is_whole_text(&self) -> bool {
        std::ptr::eq(self.table, &STATEMENT)
    }
}

impl Node {
    /// Declares that hand-written text is to run whatever it reads.
    fn declare_checked(&mut self) {
        match self {
            Node::RawSql(raw) => raw.reads_arguments_only = true,
            Node::Call(_, call) => call.reads_arguments_only = true,
            _ => {}
        }
    }
}
