//! Hand-written SQL as an expression.

use std::panic::Location;

use smallvec::smallvec;

use super::{Argument, Condition, Expr, PerGroup};
use crate::build::table::RowStruct;
use crate::model::{ColumnType, Function, Origin, SqlType, Storable, function};
use crate::tree::{Call, ColumnsOf, Node, RawSql};

/// A fragment of hand-written SQL without a type yet; made by `verbatim!`.
///
/// [`typed`](Self::typed) sets the type that it is read as, [`condition`](Self::condition) makes it a
/// condition. Neither checks the SQL: a value of another type is an error when it is read.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String, top_m: f64 }
/// let tray: i64 = 4;
/// let query = Specimen::rows()
///     .filter(|s| verbatim!("{} % 10 = {tray}", s.id).condition())
///     .order_by(|s| verbatim!(sqlite: "substr({}, -3)", postgres: "right({}, 3)", s.label).typed::<String>().asc());
/// assert!(query.sql(Dialect::Postgres)?.text().ends_with(
///     r#"WHERE "specimen"."id" % 10 = $1 ORDER BY (right("specimen"."label", 3)) COLLATE "C""#
/// ));
/// // A dialect without a variant is refused, naming the line of the fragment.
/// assert_eq!(query.sql(Dialect::MySql).unwrap_err().kind(), ErrorKind::Unsupported);
/// # Ok::<(), Error>(())
/// ```
///
/// # A database function of your own
///
/// A Rust function gives it a type, and its name in each dialect, in one place:
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Analyst { #[nepheline(key)] id: i64, name: String }
/// /// How a name sounds in English: a letter and three digits.
/// pub fn soundex(text: impl Argument<Type = String>) -> Expr<String> {
///     verbatim!(sqlite: "soundex({text})", postgres: "soundex({text})", mysql: "SOUNDEX({text})").typed()
/// }
///
/// let alike = Analyst::rows().filter(|a| soundex(a.name).eq(soundex("Smith")));
/// assert!(alike.sql(Dialect::Sqlite)?.text().ends_with(
///     r#"WHERE (soundex("analyst"."name")) COLLATE BINARY = (soundex(?))"#
/// ));
/// # Ok::<(), Error>(())
/// ```
#[derive(Debug, Clone)]
#[must_use = "a fragment needs a type: `.typed::<T>()`, or `.condition()` for a condition"]
pub struct Verbatim {
    body: Body,
    reads_arguments_only: bool,
}

#[derive(Debug, Clone)]
enum Body {
    Fragment { function: &'static Function, arguments: Vec<Node>, asked_at: Origin },
    RawSql(Box<str>),
}

/// An argument of a fragment, as a node.
#[doc(hidden)]
#[derive(Debug)]
pub struct FragmentArgument(Node);

impl FragmentArgument {
    pub(crate) fn of(node: Node) -> FragmentArgument {
        FragmentArgument(node)
    }

    pub(crate) fn into_node(self) -> Node {
        self.0
    }
}

/// Converts an argument; `verbatim!` calls it for each. A value has the type of its Rust type: binds of every width are
/// sent with 64 bits, and PostgreSQL finds no function of an `integer` for them.
#[doc(hidden)]
pub fn argument<A: Argument>(argument: A) -> FragmentArgument {
    let sql_type = <A::Type as ColumnType>::Base::SQL_TYPE;
    FragmentArgument(narrowed(argument.into_argument(), sql_type))
}

/// Returns a node whose bind has the width of its type.
pub(super) fn narrowed(node: Node, sql_type: SqlType) -> Node {
    let narrow = match (&node, sql_type) {
        (Node::Bind(_), SqlType::SmallInt) => &function::AS_SMALLINT,
        (Node::Bind(_), SqlType::Integer) => &function::AS_INTEGER,
        (Node::Bind(_), SqlType::Real) => &function::AS_REAL,
        _ => return node,
    };
    Node::of_call(Call::of(narrow, sql_type, smallvec![node]))
}

/// Returns the name of the handle's schema; the macros call it for `{schema}`.
#[doc(hidden)]
pub fn schema_name() -> FragmentArgument {
    FragmentArgument(Node::SchemaName)
}

/// Converts a list of columns; `statement!` calls it for each `{columns of Struct as alias}`.
#[doc(hidden)]
pub fn columns_of<R: RowStruct>(alias: &'static str, prefixed: bool) -> FragmentArgument {
    FragmentArgument(Node::ColumnsOf(Box::new(ColumnsOf { table: R::INFO, alias, prefixed })))
}

impl Verbatim {
    /// Creates a fragment; `verbatim!` calls it with its literals.
    #[doc(hidden)]
    #[track_caller]
    pub fn fragment<const N: usize>(
        function: &'static Function,
        arguments: [FragmentArgument; N],
    ) -> Verbatim {
        let asked_at = Origin::of(Location::caller());
        let arguments = arguments.map(|argument| argument.0).into();
        Verbatim {
            body: Body::Fragment { function, arguments, asked_at },
            reads_arguments_only: false,
        }
    }

    /// Uses SQL text that was made at run time, unchanged. **Whoever controls the text can read and change
    /// the whole database.**
    ///
    /// It is safe if every piece of the text comes from the program itself: a fragment picked from a fixed
    /// list, or text that your own tool wrote. It is never safe with user input inside, quoted or not. Values
    /// belong in `{}` of `verbatim!`; for names, match on the user's choice and use the column.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// use nepheline::Verbatim;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, top_m: f64 }
    /// const FORMULAS: [&str; 2] = ["top_m * 3.28084", "top_m"]; // feet, metres
    /// let chosen: usize = 1; // of the request, and of nothing else
    /// let formula = FORMULAS[chosen].to_owned();
    /// let query = Specimen::rows()
    ///     .select(|_| Verbatim::trusting_text_made_at_run_time(formula).typed::<f64>());
    /// ```
    pub fn trusting_text_made_at_run_time(text: impl Into<String>) -> Verbatim {
        Verbatim { body: Body::RawSql(text.into().into()), reads_arguments_only: false }
    }

    /// Declares that the text reads nothing but its arguments: no table, and no function that reads one. A handle with
    /// `policies_required` accepts only such fragments, because policies do not apply to tables that hand-written
    /// text names.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64 }
    /// let odd = Specimen::rows().filter(|s| verbatim!("{} % 2 = 1", s.id).of_arguments_only().condition());
    /// # assert!(odd.sql(Dialect::Sqlite)?.text().ends_with("% 2 = 1"));
    /// # Ok::<(), Error>(())
    /// ```
    pub fn of_arguments_only(self) -> Verbatim {
        Verbatim { reads_arguments_only: true, ..self }
    }

    fn into_node(self, sql_type: SqlType, of_call: impl FnOnce(Call) -> Node) -> Node {
        let Verbatim { body, reads_arguments_only } = self;
        match body {
            Body::Fragment { function, arguments, asked_at } => of_call(Call {
                function,
                sql_type,
                arguments: arguments.into(),
                asked_at: Some(asked_at),
                reads_arguments_only,
            }),
            Body::RawSql(text) => {
                let text = RawSql { text, closed: false, reads_arguments_only, sql_type };
                Node::RawSql(Box::new(text))
            }
        }
    }

    /// Returns the fragment as a value of type `T`, an `Option` if it may be NULL.
    pub fn typed<T: ColumnType>(self) -> Expr<T> {
        Expr::from_node(self.into_node(T::Base::SQL_TYPE, Node::of_call))
    }

    /// Returns the fragment as a condition.
    pub fn condition(self) -> Condition {
        Condition::from_node(self.into_node(SqlType::Boolean, Node::of_call))
    }

    /// Returns the fragment as an aggregate: its arguments have a value for each row, and the result is one
    /// value of type `T` for each group.
    pub fn typed_per_group<T: ColumnType>(self) -> Expr<T, PerGroup> {
        let of_rows = |call| Node::aggregate(Node::of_rows(call));
        Expr::from_node(self.into_node(T::Base::SQL_TYPE, of_rows))
    }
}
