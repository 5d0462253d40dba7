//! Hand-written SQL as an expression.

use std::panic::Location;

use super::{Argument, Condition, Expr, PerGroup};
use crate::model::{ColumnType, Function, Origin, SqlType, Storable};
use crate::tree::{Call, Node, Trusted};

/// A fragment of hand-written SQL whose type is still to be said; made by `verbatim!`.
///
/// [`typed`](Self::typed) says which type it is read as, [`holds`](Self::holds) that it is a
/// condition. Both check nothing here: a value of another type is an error when it is read.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String, top_m: f64 }
/// let tray: i64 = 4;
/// let query = Specimen::rows()
///     .filter(|s| verbatim!("{} % 10 = {tray}", s.id).holds())
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
#[must_use = "a fragment needs a type: `.typed::<T>()`, or `.holds()` for a condition"]
pub struct Verbatim {
    body: Body,
}

#[derive(Debug, Clone)]
enum Body {
    Fragment { function: &'static Function, arguments: Vec<Node>, asked_at: Origin },
    Trusted(Box<str>),
}

/// An argument of a fragment, ready for the tree.
#[doc(hidden)]
#[derive(Debug)]
pub struct FragmentArgument(Node);

/// What `verbatim!` writes around each argument.
#[doc(hidden)]
pub fn argument<A: Argument>(argument: A) -> FragmentArgument {
    FragmentArgument(argument.into_argument())
}

impl Verbatim {
    /// What `verbatim!` makes of its literals.
    #[doc(hidden)]
    #[track_caller]
    pub fn fragment<const N: usize>(
        function: &'static Function,
        arguments: [FragmentArgument; N],
    ) -> Verbatim {
        let asked_at = Origin::of(Location::caller());
        let arguments = arguments.map(|argument| argument.0).into();
        Verbatim { body: Body::Fragment { function, arguments, asked_at } }
    }

    /// SQL text that was made at run time, taken as it is. **Whoever can decide about the text can
    /// read and change the whole database.**
    ///
    /// It is safe where every piece of the text comes from the program itself: a fragment picked from
    /// a fixed list, or text that a tool of yours wrote. It is never safe with anything of a user's
    /// in it, quoted or not: values are for `{}` in `verbatim!`, and for names, match on what the
    /// user chose and take the column.
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
        Verbatim { body: Body::Trusted(text.into().into()) }
    }

    fn into_node(self, sql_type: SqlType, of_call: impl FnOnce(Call) -> Node) -> Node {
        match self.body {
            Body::Fragment { function, arguments, asked_at } => of_call(Call {
                function,
                sql_type,
                arguments: arguments.into(),
                asked_at: Some(asked_at),
            }),
            Body::Trusted(text) => {
                Node::Trusted(Box::new(Trusted { text, closed: false, sql_type }))
            }
        }
    }

    /// The fragment as a value of type `T`, an `Option` if it may be NULL.
    pub fn typed<T: ColumnType>(self) -> Expr<T> {
        Expr::from_node(self.into_node(T::Base::SQL_TYPE, Node::of_call))
    }

    /// The fragment as a condition.
    pub fn holds(self) -> Condition {
        Condition::from_node(self.into_node(SqlType::Boolean, Node::of_call))
    }

    /// The fragment as an aggregate: its arguments have a value for each row, and it has one of type
    /// `T` for each group of them.
    pub fn typed_per_group<T: ColumnType>(self) -> Expr<T, PerGroup> {
        let of_rows = |call| Node::aggregate(Node::of_rows(call));
        Expr::from_node(self.into_node(T::Base::SQL_TYPE, of_rows))
    }
}
