//! Text: patterns, parts, and comparisons that ignore case.

use super::{
    Collation, Condition, Expr, ExprExt, Follows, FollowsEither, InCollation, Level, NullOf,
    Operand, Order, follow,
};
use crate::model::{BindValue, ColumnType, Function, Nullness, SqlType, function};
use crate::tree::{Comparison, Node};

/// A pattern of `LIKE`: `%` matches any text and `_` any one character.
///
/// A `&str` is a pattern without an escape character. [`escape`](Self::escape) sets one.
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::Pattern;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String }
/// let half_filled = Pattern::new(r"50\% of %").escape('\\');
/// let query = Specimen::rows().filter(|s| s.label.like(half_filled));
/// ```
#[derive(Debug, Clone)]
pub struct Pattern {
    text: String,
    escape: Option<char>,
}

impl Pattern {
    /// Returns a pattern without an escape character.
    pub fn new(text: impl Into<String>) -> Pattern {
        Pattern { text: text.into(), escape: None }
    }

    /// Sets the escape character, after which a wildcard stands for itself. Compiling refuses a pattern that
    /// ends in its escape character.
    #[must_use]
    pub fn escape(mut self, escape: char) -> Pattern {
        self.escape = Some(escape);
        self
    }

    fn in_tree(&self) -> Result<Box<str>, &'static str> {
        pattern_in_tree(&self.text, self.escape)
    }
}

/// Returns a pattern as the tree stores it, with `!` as escape character, or the reason why it is invalid.
pub(crate) fn pattern_in_tree(text: &str, escape: Option<char>) -> Result<Box<str>, &'static str> {
    let mut tree = String::with_capacity(text.len() + 4);
    let mut characters = text.chars();
    while let Some(character) = characters.next() {
        let (character, literal) = match escape == Some(character) {
            true => match characters.next() {
                Some(escaped) => (escaped, true),
                None => return Err("the pattern ends in its escape character"),
            },
            false => (character, false),
        };
        if character == '!' || literal && matches!(character, '%' | '_') {
            tree.push('!');
        }
        tree.push(character);
    }
    Ok(tree.into())
}

impl From<&str> for Pattern {
    fn from(text: &str) -> Pattern {
        Pattern::new(text)
    }
}

impl From<String> for Pattern {
    fn from(text: String) -> Pattern {
        Pattern::new(text)
    }
}

impl From<&String> for Pattern {
    fn from(text: &String) -> Pattern {
        Pattern::new(text)
    }
}

/// A text in which a part of nullness `P` is replaced by one of nullness `W`.
type Replaced<E, P, W> =
    Expr<FollowsEither<E, <P as Nullness>::Or<W>, String>, <E as ExprExt>::Level>;

/// The side of a text that may be anything.
#[derive(Clone, Copy)]
enum Open {
    Start,
    End,
}

/// Methods of text expressions.
///
/// Comparisons distinguish upper and lower case; [`any_case`](Self::any_case) ignores it. Positions and
/// lengths count characters (Unicode code points), from 1. A result over nullable text is nullable.
///
/// ```
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String }
/// let site_codes: Query<Specimen, String> = Specimen::rows()
///     .filter(|s| s.label.starts_with("KP-") & s.label.any_case().contains("100%"))
///     .select(|s| s.label.substring(1, 2).lower());
/// # assert_eq!(site_codes.sql(Dialect::Postgres)?.binds().len(), 4);
/// # Ok::<(), Error>(())
/// ```
pub trait TextExt: ExprExt<Type: ColumnType<Base = String>> {
    /// Tests for a pattern: `LIKE`. The pattern is a value of the program, not an expression.
    ///
    /// # Errors
    ///
    /// [`RefusedValue`](crate::ErrorKind::RefusedValue) for a pattern that ends in its escape character.
    fn like(self, pattern: impl Into<Pattern>) -> Condition<Self::Level> {
        like(self.into_node(), &pattern.into(), false)
    }

    /// Tests against a pattern: `NOT LIKE`. A row where this is NULL does not pass.
    fn not_like(self, pattern: impl Into<Pattern>) -> Condition<Self::Level> {
        !self.like(pattern)
    }

    /// Tests whether the text contains `part`, in which wildcards have no meaning. Every text contains the
    /// empty text.
    fn contains(self, part: impl Operand<String, Self::Level>) -> Condition<Self::Level> {
        contains(self.into_node(), part.into_operand())
    }

    /// Tests whether the text starts with `start`, in which wildcards have no meaning.
    fn starts_with(self, start: impl Operand<String, Self::Level>) -> Condition<Self::Level> {
        open(self.into_node(), start.into_operand(), Open::End, false)
    }

    /// Tests whether the text ends with `end`, in which wildcards have no meaning.
    fn ends_with(self, end: impl Operand<String, Self::Level>) -> Condition<Self::Level> {
        open(self.into_node(), end.into_operand(), Open::Start, false)
    }

    /// Returns a view of the text whose comparisons ignore case.
    ///
    /// Letters are lower-cased one by one: `É` matches `é`, but `ß` does not match `ss`, and a letter
    /// followed by a combining accent does not match the composed letter. On SQLite the library registers the
    /// function for it on its connections.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String }
    /// let query = Specimen::rows().filter(|s| s.label.any_case().eq("kp-041"));
    /// assert!(query.sql(Dialect::Sqlite)?.text().ends_with(
    ///     r#"WHERE nepheline_fold("specimen"."label") = nepheline_fold(?)"#
    /// ));
    /// # Ok::<(), Error>(())
    /// ```
    fn any_case(self) -> AnyCase<Self> {
        AnyCase { text: self }
    }

    /// Returns the text in the order of a collation of the database, for an order that people read. Without it, text is ordered by
    /// code point on every engine, so that `Z` comes before `a`.
    ///
    /// A name holds for every engine; a [`Collation`](crate::Collation) has one for each. Texts that the collation takes for
    /// equal stay in no certain order: order by more.
    ///
    /// ```
    /// use nepheline::Collation;
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Analyst { #[nepheline(key)] id: i64, name: String }
    /// const GERMAN: Collation = Collation::named("de-x-icu").mariadb("utf8mb4_german2_ci").sqlite("NOCASE");
    ///
    /// let analysts = Analyst::rows().order_by(|a| (a.name.collate(GERMAN).asc(), a.id.asc()));
    /// assert!(analysts.sql(Dialect::Postgres)?.text().ends_with(
    ///     r#"ORDER BY "analyst"."name" COLLATE "de-x-icu", "analyst"."id""#
    /// ));
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// # Errors
    ///
    /// When it runs, that of the database for a collation that it does not have.
    fn collate(self, collation: impl Into<Collation>) -> InCollation<Self> {
        InCollation::new(self, collation.into())
    }

    /// Returns the number of characters.
    fn length(self) -> Expr<Follows<Self, i64>, Self::Level> {
        follow(&function::LENGTH, self, [])
    }

    /// Returns the text in lower case, letter by letter, as [`any_case`](Self::any_case) compares it.
    ///
    /// Engines differ for `İ` (U+0130), and MariaDB does not know letters added after Unicode 5.2.
    fn lower(self) -> Expr<Follows<Self, String>, Self::Level> {
        follow(&function::LOWER, self, [])
    }

    /// Returns the text in upper case, letter by letter. A letter whose upper case would be several, such as
    /// `ß`, stays.
    fn upper(self) -> Expr<Follows<Self, String>, Self::Level> {
        follow(&function::UPPER, self, [])
    }

    /// Returns the text without the spaces at its ends. Other white space stays.
    fn trim(self) -> Expr<Follows<Self, String>, Self::Level> {
        follow(&function::TRIM, self, [])
    }

    /// Returns at most `length` characters from position `start`, counted from 1.
    ///
    /// # Errors
    ///
    /// [`RefusedValue`](crate::ErrorKind::RefusedValue) for a `start` of 0, about which engines disagree.
    fn substring(self, start: u32, length: u32) -> Expr<Follows<Self, String>, Self::Level> {
        let start_place = match start {
            0 => Node::refused(BindValue::Int(0), "positions in a text are counted from 1"),
            _ => place(start),
        };
        follow(&function::SUBSTRING, self, [start_place, place(length)])
    }

    /// Returns the text with every `part` replaced by `with`. An empty part replaces nothing.
    fn replace<P, W>(self, part: P, with: W) -> Replaced<Self, P::Null, W::Null>
    where
        P: Operand<String, Self::Level>,
        W: Operand<String, Self::Level>,
    {
        let texts = [self.into_node().by_code_point(), part.into_operand(), with.into_operand()];
        Expr::from_node(Node::call(&function::REPLACE, SqlType::Text, texts))
    }

    /// Returns the text followed by `other`; NULL if either is NULL.
    fn concat<O: Operand<String, Self::Level>>(
        self,
        other: O,
    ) -> Expr<FollowsEither<Self, O::Null, String>, Self::Level> {
        let texts = [self.into_node(), other.into_operand()];
        Expr::from_node(Node::call(&function::CONCAT, SqlType::Text, texts))
    }

    /// Returns the position where `part` first begins, counted from 1; 0 if the text does not contain it.
    fn position<P: Operand<String, Self::Level>>(
        self,
        part: P,
    ) -> Expr<FollowsEither<Self, P::Null, i64>, Self::Level> {
        let texts = [self.into_node(), part.into_operand().by_code_point()];
        Expr::from_node(Node::call(&function::POSITION, SqlType::BigInt, texts))
    }
}

impl<E: ExprExt<Type: ColumnType<Base = String>>> TextExt for E {}

/// A text whose comparisons ignore case; made by [`TextExt::any_case`].
#[derive(Debug, Clone, Copy)]
#[must_use = "a view of a text does nothing until it is compared"]
pub struct AnyCase<E> {
    text: E,
}

impl<E: TextExt> AnyCase<E> {
    /// Tests for equality, ignoring case.
    pub fn eq(self, other: impl Operand<String, E::Level>) -> Condition<E::Level> {
        self.compare(Comparison::Equal, other.into_operand())
    }

    /// Tests for inequality, ignoring case. A row where the text is NULL does not pass.
    pub fn ne(self, other: impl Operand<String, E::Level>) -> Condition<E::Level> {
        self.compare(Comparison::NotEqual, other.into_operand())
    }

    /// Tests whether the text is one of `texts`, ignoring case. No row matches an empty list.
    pub fn one_of<I>(self, texts: I) -> Condition<E::Level>
    where
        I: IntoIterator<Item: Operand<String, E::Level>>,
    {
        let text = lower(self.text.into_node());
        let alternatives = texts.into_iter().map(|other| {
            Node::compare(Comparison::Equal, text.clone(), lower(other.into_operand()))
        });
        let any = alternatives.reduce(Node::or);
        Condition::from_node(any.unwrap_or_else(|| Node::constant(false)))
    }

    /// Tests for a pattern, ignoring case.
    ///
    /// # Errors
    ///
    /// As [`TextExt::like`].
    pub fn like(self, pattern: impl Into<Pattern>) -> Condition<E::Level> {
        like(lower(self.text.into_node()), &pattern.into(), true)
    }

    /// Tests against a pattern, ignoring case.
    pub fn not_like(self, pattern: impl Into<Pattern>) -> Condition<E::Level> {
        !self.like(pattern)
    }

    /// Tests whether the text contains `part`, ignoring case. Wildcards in `part` have no meaning.
    pub fn contains(self, part: impl Operand<String, E::Level>) -> Condition<E::Level> {
        contains(lower(self.text.into_node()), lower(part.into_operand()))
    }

    /// Tests whether the text starts with `start`, ignoring case. Wildcards in `start` have no meaning.
    pub fn starts_with(self, start: impl Operand<String, E::Level>) -> Condition<E::Level> {
        open(lower(self.text.into_node()), start.into_operand(), Open::End, true)
    }

    /// Tests whether the text ends with `end`, ignoring case. Wildcards in `end` have no meaning.
    pub fn ends_with(self, end: impl Operand<String, E::Level>) -> Condition<E::Level> {
        open(lower(self.text.into_node()), end.into_operand(), Open::Start, true)
    }

    /// Returns the ascending order of the text in lower case.
    pub fn asc(self) -> Order<E::Level> {
        Order::new(lower(self.text.into_node()), NullOf::<E>::NULLABLE, false)
    }

    /// Returns the descending order of the text in lower case.
    pub fn desc(self) -> Order<E::Level> {
        Order::new(lower(self.text.into_node()), NullOf::<E>::NULLABLE, true)
    }

    fn compare(self, comparison: Comparison, other: Node) -> Condition<E::Level> {
        let sides = [self.text.into_node(), other].map(lower);
        let [text, other] = sides;
        Condition::from_node(Node::compare(comparison, text, other))
    }
}

fn lower(text: Node) -> Node {
    Node::call(&function::LOWER, SqlType::Text, [text])
}

/// Returns a position or a length as a bind, limited to what every engine counts to.
fn place(place: u32) -> Node {
    Node::Bind(BindValue::Int(i64::from(place).min(i64::from(i32::MAX))))
}

fn like<L: Level>(text: Node, pattern: &Pattern, any_case: bool) -> Condition<L> {
    Condition::from_node(match pattern.in_tree() {
        Ok(pattern) => text.like(pattern, any_case),
        Err(reason) => Node::refused(BindValue::Text(pattern.text.as_str().into()), reason),
    })
}

fn contains<L: Level>(text: Node, part: Node) -> Condition<L> {
    call(&function::CONTAINS, [text, part.by_code_point()])
}

/// Tests for the start or the end of a text. A value becomes a pattern, because an index can serve it.
fn open<L: Level>(text: Node, part: Node, open: Open, any_case: bool) -> Condition<L> {
    match part {
        Node::Bind(BindValue::Text(part)) => {
            let mut pattern = String::with_capacity(part.len() + 1);
            if matches!(open, Open::Start) {
                pattern.push('%');
            }
            for character in part.chars() {
                if matches!(character, '%' | '_' | '!') {
                    pattern.push('!');
                }
                pattern.push(character);
            }
            if matches!(open, Open::End) {
                pattern.push('%');
            }
            Condition::from_node(text.like(pattern.into(), any_case))
        }
        part => {
            let part = if any_case { lower(part) } else { part };
            let function = match open {
                Open::End => &function::STARTS_WITH,
                Open::Start => &function::ENDS_WITH,
            };
            call(function, [text, part.by_code_point()])
        }
    }
}

fn call<L: Level>(function: &'static Function, arguments: [Node; 2]) -> Condition<L> {
    Condition::from_node(Node::call(function, SqlType::Boolean, arguments))
}
