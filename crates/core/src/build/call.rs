//! Functions and procedures of the database, called by their names.

use std::fmt;
use std::marker::PhantomData;
use std::panic::Location;
use std::sync::Arc;

use super::compile;
use super::expr::{Argument, Condition, Expr, FragmentArgument, PerGroup, argument};
use super::query::Query;
use super::statement::STATEMENT;
use super::table::RowStruct;
use crate::model::{
    BindValue, ByName, Cells, ColumnType, Error, Function, Origin, RowShape, SqlType, Storable,
    WantedColumns, function,
};
use crate::plan::{CompileContext, ReadShape};
use crate::sql::{Operation, Statement};
use crate::tree::{Call, FromSource, Located, Node, Select};

const NO_PROCEDURES: &str = "SQLite has none: write a `transaction` of the handle";
const NO_CURSORS: &str = "use a function that returns rows, or a procedure with a result set";
const NO_RESULT_SETS: &str =
    "PostgreSQL's procedures return none: use a function that returns rows, or a cursor";
const OUT_COUNT: &str = "`out` names as many parameters as the call has `_` and `inout`";

/// The texts of a function or procedure: as an expression, in CALL, and in SELECT alone.
#[doc(hidden)]
#[derive(Debug)]
pub struct Callable {
    function: Function,
    procedure: Function,
    cursor: Function,
}

impl Callable {
    /// Creates the texts; `call!` calls it. The first of each pair is in the quotes of the SQL standard, the second in
    /// those of MySQL.
    pub const fn of(
        function: [&'static str; 2],
        procedure: [&'static str; 2],
        cursor: &'static str,
    ) -> Callable {
        let [standard, mysql] = function;
        let [call_standard, call_mysql] = procedure;
        Callable {
            function: Function::of_database("a database function", "call another function")
                .all(standard)
                .mysql(mysql),
            procedure: Function::of_database("a procedure", NO_PROCEDURES)
                .postgres(call_standard)
                .mysql(call_mysql),
            cursor: Function::of_database("a function that returns a cursor", NO_CURSORS)
                .postgres(cursor),
        }
    }
}

/// An argument of a call.
#[doc(hidden)]
#[derive(Debug)]
pub struct CallArgument {
    value: FragmentArgument,
    /// True for a parameter that the procedure returns.
    is_returned: bool,
}

/// Converts an argument; `call!` calls it for each.
#[doc(hidden)]
pub fn in_argument<A: Argument>(value: A) -> CallArgument {
    CallArgument { value: argument(value), is_returned: false }
}

/// Converts the value of an INOUT parameter.
#[doc(hidden)]
pub fn in_out_argument<A: Argument>(value: A) -> CallArgument {
    CallArgument { value: argument(value), is_returned: true }
}

/// Returns the place of an OUT parameter.
#[doc(hidden)]
pub fn out_argument() -> CallArgument {
    CallArgument { value: FragmentArgument::of(out_place()), is_returned: true }
}

fn out_place() -> Node {
    let nothing = Node::Bind(BindValue::Null(SqlType::Text));
    Node::call(&function::OUT_PARAMETER, SqlType::Text, [nothing])
}

/// A call of a function or procedure of the database; made by `call!`.
///
/// | the database has | use |
/// |---|---|
/// | a function that returns one value | [`typed`](Self::typed) or [`condition`](Self::condition), as an expression in a query |
/// | a function that returns rows | `Specimen::rows_from(call!(..))`, a query like any other |
/// | a procedure | the verb `call` of a handle, with [`out`](Self::out) for its OUT and INOUT parameters and [`result_sets`](Self::result_sets) for its rows |
/// | a function that returns a cursor | [`cursor_as`](Self::cursor_as) and the verb `call` |
#[derive(Debug, Clone)]
#[must_use = "a call does nothing until a query uses it, or a handle's `call` runs it"]
pub struct DatabaseCall {
    callable: &'static Callable,
    arguments: Vec<Node>,
    /// The number of arguments that are OUT or INOUT parameters.
    returned: usize,
    reads_arguments_only: bool,
    asked_at: Origin,
}

impl DatabaseCall {
    /// Creates a call; `call!` calls it with its literals.
    #[doc(hidden)]
    #[track_caller]
    pub fn of<const N: usize>(
        callable: &'static Callable,
        arguments: [CallArgument; N],
    ) -> DatabaseCall {
        DatabaseCall {
            callable,
            returned: arguments
                .iter()
                .filter(|argument| argument.is_returned)
                .count(),
            arguments: arguments.map(|argument| argument.value.into_node()).into(),
            reads_arguments_only: false,
            asked_at: Origin::of(Location::caller()),
        }
    }

    fn node(&self, function: &'static Function, sql_type: SqlType, arguments: Vec<Node>) -> Call {
        Call {
            function,
            sql_type,
            arguments: arguments.into(),
            asked_at: Some(self.asked_at),
            reads_arguments_only: self.reads_arguments_only,
        }
    }

    fn into_call(self, sql_type: SqlType) -> Call {
        let arguments = self.arguments.clone();
        self.node(&self.callable.function, sql_type, arguments)
    }

    /// Returns the value of the function as an expression of type `T`, an `Option` if it may be NULL.
    pub fn typed<T: ColumnType>(self) -> Expr<T> {
        Expr::from_node(Node::of_call(self.into_call(T::Base::SQL_TYPE)))
    }

    /// Returns the value of the function as a condition.
    pub fn condition(self) -> Condition {
        Condition::from_node(Node::of_call(self.into_call(SqlType::Boolean)))
    }

    /// Returns the value of an aggregate function as an expression: its arguments have a value for each row, and the
    /// result is one value of type `T` for each group.
    pub fn typed_per_group<T: ColumnType>(self) -> Expr<T, PerGroup> {
        let call = self.into_call(T::Base::SQL_TYPE);
        Expr::from_node(Node::aggregate(Node::of_rows(call)))
    }

    /// Declares that the function reads nothing but its arguments, as `Verbatim::of_arguments_only` does.
    pub fn of_arguments_only(self) -> DatabaseCall {
        DatabaseCall { reads_arguments_only: true, ..self }
    }

    /// Declares that the function or procedure may read and write outside the policies of the tables that it names. A
    /// handle with `policies_required` needs it.
    pub fn outside_policies(self) -> DatabaseCall {
        DatabaseCall { reads_arguments_only: true, ..self }
    }

    /// Gives the OUT and INOUT parameters of a procedure a type: a tuple in their order, or a struct of
    /// `#[derive(RowShape)]`, whose fields have the names of the parameters.
    ///
    /// The arguments are the IN parameters, and the OUT parameters follow them. Where they are mixed, `_` stands for an
    /// OUT parameter, and `inout value` for an INOUT parameter: `call!("tally"(site, _, inout balance))`.
    ///
    /// # Errors
    ///
    /// When called, [`InvalidQuery`](crate::ErrorKind::InvalidQuery) if `R` has another number of columns than the call
    /// has `_` and `inout`.
    pub fn out<O: RowShape + Send + 'static>(self) -> ProcedureCall<(), O> {
        ProcedureCall::<(), ()>::of(self).out()
    }

    /// Gives the result sets of a procedure their types, in order: `result_sets::<(Specimen, i64)>()` returns
    /// `(Vec<Specimen>, Vec<i64>)`. The columns of each are matched as in `rows_as` of a statement.
    ///
    /// # Errors
    ///
    /// When called, [`Unsupported`](crate::ErrorKind::Unsupported) on PostgreSQL, whose procedures have none;
    /// [`Mismatch`](crate::ErrorKind::Mismatch) for another number of result sets, or unfit columns.
    pub fn result_sets<S: RowSets>(self) -> ProcedureCall<S, ()> {
        ProcedureCall::of(self)
    }

    /// Reads the rows of the cursor that the function returns. The verb `call` opens it in a transaction, or in the
    /// handle's own, reads it in chunks, and closes it whatever happens.
    ///
    /// # Errors
    ///
    /// When called, [`Unsupported`](crate::ErrorKind::Unsupported) on other engines than PostgreSQL.
    pub fn cursor_as<R: RowShape + Send + 'static>(self) -> CursorCall<R> {
        CursorCall { call: self, rows: PhantomData }
    }

    /// Returns the line of the program that wrote it.
    #[doc(hidden)]
    pub fn origin(&self) -> Origin {
        self.asked_at
    }

    /// Returns a whole statement with a text of the callable.
    fn statement(
        &self,
        function: &'static Function,
        arguments: Vec<Node>,
        context: CompileContext<'_>,
    ) -> Result<Statement<'static>, Error> {
        let text = Node::of_call(self.node(function, SqlType::Boolean, arguments));
        let select = Select::over(&STATEMENT, FromSource::Text(Box::new(text)), self.asked_at);
        let kept = CompileContext { kept: None, ..context };
        let statement = compile::to_run(&select, kept, ReadShape::Rows)?.into_owned_binds();
        Ok(statement.of_program(Operation::Call))
    }
}

/// A call of a procedure with the types of its results; made by [`DatabaseCall::out`] and
/// [`DatabaseCall::result_sets`].
#[must_use = "a call does nothing until a handle's `call` runs it"]
pub struct ProcedureCall<S, O> {
    call: DatabaseCall,
    results: PhantomData<fn() -> (S, O)>,
}

impl<S: RowSets, O: OutParameters> ProcedureCall<S, O> {
    fn of(call: DatabaseCall) -> ProcedureCall<S, O> {
        ProcedureCall { call, results: PhantomData }
    }

    /// Returns a call without results.
    #[doc(hidden)]
    pub fn plain(call: &DatabaseCall) -> ProcedureCall<S, O> {
        ProcedureCall::of(call.clone())
    }

    /// Gives the OUT and INOUT parameters a type, as [`DatabaseCall::out`] does.
    pub fn out<P: RowShape + Send + 'static>(self) -> ProcedureCall<S, P> {
        ProcedureCall { call: self.call, results: PhantomData }
    }

    /// Returns the line of the program that wrote it.
    #[doc(hidden)]
    pub fn origin(&self) -> Origin {
        self.call.asked_at
    }

    #[doc(hidden)]
    pub fn statement(&self, context: CompileContext<'_>) -> Result<Statement<'static>, Error> {
        let call = &self.call;
        let refused = |reason| Err(Error::invalid_query(reason).asked_at(call.asked_at));
        let mut arguments = call.arguments.clone();
        match call.returned {
            0 => arguments.extend(std::iter::repeat_with(out_place).take(O::COUNT)),
            returned if returned != O::COUNT && O::COUNT > 0 => return refused(OUT_COUNT),
            _ => {}
        }
        let grammar = context.grammar;
        if S::COUNT > 0 && !grammar.has_result_sets() {
            let what = "a result set of a procedure";
            let err = Error::unsupported(what, grammar.name(), NO_RESULT_SETS);
            return Err(err.asked_at(call.asked_at));
        }
        let statement = call.statement(&call.callable.procedure, arguments, context)?;
        let mut wanted = Vec::with_capacity(S::COUNT + 1);
        S::wanted(&mut wanted);
        O::wanted(&mut wanted);
        Ok(statement.wanting(wanted.into()))
    }
}

impl<S, O> fmt::Debug for ProcedureCall<S, O> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "ProcedureCall({})", self.call.asked_at)
    }
}

/// A call of a function that returns a cursor; made by [`DatabaseCall::cursor_as`].
#[must_use = "a call does nothing until a handle's `call` runs it"]
pub struct CursorCall<R> {
    call: DatabaseCall,
    rows: PhantomData<fn() -> R>,
}

impl<R: RowShape + Send + 'static> CursorCall<R> {
    /// Returns the statement that opens the cursor, and returns its name.
    #[doc(hidden)]
    pub fn opening(&self, context: CompileContext<'_>) -> Result<Statement<'static>, Error> {
        let arguments = self.call.arguments.clone();
        self.call
            .statement(&self.call.callable.cursor, arguments, context)
    }

    /// Returns the columns that its rows want.
    #[doc(hidden)]
    pub fn wanting<'s>(&self, statement: Statement<'s>) -> Statement<'s> {
        statement.wanting(Arc::new([WantedColumns::of::<R>()]))
    }

    /// Returns the line of the program that wrote it.
    #[doc(hidden)]
    pub fn origin(&self) -> Origin {
        self.call.asked_at
    }
}

impl<R> fmt::Debug for CursorCall<R> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "CursorCall({})", self.call.asked_at)
    }
}

/// The types of a procedure's result sets: a tuple of row types.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a tuple of row types",
    label = "expected one type for each result set, such as `(Specimen,)`"
)]
pub trait RowSets: 'static {
    /// A tuple with the rows of each.
    type Rows: Default + Send + 'static;

    /// The rows together with OUT parameters of type `O`.
    #[doc(hidden)]
    type WithOut<O: Send + 'static>: Send + 'static;

    #[doc(hidden)]
    const COUNT: usize;

    #[doc(hidden)]
    fn with_out<O: Send + 'static>(rows: Self::Rows, out: O) -> Self::WithOut<O>;

    #[doc(hidden)]
    fn wanted(wanted: &mut Vec<WantedColumns>);

    /// Reads a row of the result set with this number.
    #[doc(hidden)]
    fn take<C: Cells>(rows: &mut Self::Rows, set: usize, cells: &mut C) -> Result<(), Error>;
}

impl RowSets for () {
    type Rows = ();
    type WithOut<O: Send + 'static> = O;

    const COUNT: usize = 0;

    fn with_out<O: Send + 'static>((): (), out: O) -> O {
        out
    }

    fn wanted(_: &mut Vec<WantedColumns>) {}

    fn take<C: Cells>(_: &mut (), _: usize, _: &mut C) -> Result<(), Error> {
        Ok(())
    }
}

macro_rules! row_sets {
    ($($name:ident)+) => {
        impl<$($name: RowShape + Send + 'static),+> RowSets for ($($name,)+) {
            type Rows = ($(Vec<$name>,)+);
            type WithOut<Out: Send + 'static> = (Self::Rows, Out);

            const COUNT: usize = [$(stringify!($name)),+].len();

            fn with_out<Out: Send + 'static>(rows: Self::Rows, out: Out) -> (Self::Rows, Out) {
                (rows, out)
            }

            fn wanted(wanted: &mut Vec<WantedColumns>) {
                $(wanted.push(WantedColumns::of::<$name>());)+
            }

            #[expect(non_snake_case, reason = "the names of the types name the rows")]
            fn take<Row: Cells>(rows: &mut Self::Rows, set: usize, cells: &mut Row) -> Result<(), Error> {
                let ($($name,)+) = rows;
                let mut number = 0;
                $(
                    if set == number {
                        $name.push(ByName::read(cells)?.into_row());
                        return Ok(());
                    }
                    number += 1;
                )+
                let _ = number;
                Ok(())
            }
        }
    };
}

for_each_tuple!(row_sets, up_to_8);

/// The OUT and INOUT parameters of a procedure: none, or a row.
#[doc(hidden)]
pub trait OutParameters: Sized + Send + 'static {
    /// The rows of the result sets, and these parameters if there are any.
    type With<S: RowSets>: Send;

    const COUNT: usize;

    fn with<S: RowSets>(self, rows: S::Rows) -> Self::With<S>;

    fn wanted(wanted: &mut Vec<WantedColumns>);

    /// Returns the parameters of a procedure that has none.
    fn nothing() -> Option<Self>;

    /// Reads the parameters.
    fn take<C: Cells>(cells: &mut C) -> Result<Self, Error>;
}

impl OutParameters for () {
    type With<S: RowSets> = S::Rows;

    const COUNT: usize = 0;

    fn with<S: RowSets>(self, rows: S::Rows) -> S::Rows {
        rows
    }

    fn wanted(_: &mut Vec<WantedColumns>) {}

    fn nothing() -> Option<()> {
        Some(())
    }

    fn take<C: Cells>(_: &mut C) -> Result<(), Error> {
        Ok(())
    }
}

impl<R: RowShape + Send + 'static> OutParameters for R {
    type With<S: RowSets> = S::WithOut<R>;

    const COUNT: usize = R::WIDTH;

    fn with<S: RowSets>(self, rows: S::Rows) -> S::WithOut<R> {
        S::with_out(rows, self)
    }

    fn wanted(wanted: &mut Vec<WantedColumns>) {
        wanted.push(WantedColumns::of::<R>());
    }

    fn nothing() -> Option<R> {
        None
    }

    fn take<C: Cells>(cells: &mut C) -> Result<R, Error> {
        ByName::read(cells).map(ByName::into_row)
    }
}

/// Returns the query for the rows of a function.
#[track_caller]
pub(crate) fn rows_from<R: RowStruct>(call: DatabaseCall) -> Query<R> {
    let asked_at = call.asked_at;
    let is_called = call.returned == 0;
    let node = Node::of_call(call.into_call(SqlType::Boolean));
    let mut query = Query::over_body(FromSource::Function(Box::new(node)));
    if !is_called {
        let what =
            Node::Unfit("`_` and `inout` stand for parameters of procedures; a function has none");
        query
            .select_mut()
            .filters
            .push(Located { what, at: asked_at });
    }
    query
}
