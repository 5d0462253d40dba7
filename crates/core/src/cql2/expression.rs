//! The tree of CQL2. Every node knows its place in the text that it was read from, and its depth.

use std::fmt;
use std::ops::{BitAnd, BitOr, Not};

use jiff::Timestamp;
use jiff::civil::Date;
use rust_decimal::Decimal;
use rust_decimal::prelude::ToPrimitive;
use smol_str::SmolStr;

use crate::model::Place;

/// The deepest tree. A deeper one becomes [`Kind::TooDeep`], so that every walk over a tree may recurse.
pub(super) const DEEPEST: u16 = 64;

/// An expression of CQL2: a name, a value, or a condition over them.
///
/// [`property`] begins one in Rust. It has no types: an [`Offer`](crate::Offer) checks it by
/// [`filter_of`](crate::Offer::filter_of). `Display` writes it as CQL2 Text, and it serialises as CQL2 JSON. Two
/// expressions are equal if they have the same tree, wherever they stood in a text.
///
/// ```
/// use nepheline::cql2::property;
///
/// let deep = property("depth").gt(100) & (property("region").like("Upper%") | !property("overdue").eq(true));
/// assert_eq!(
///     deep.to_string(),
///     "depth > 100 AND (region LIKE 'Upper%' OR NOT overdue = TRUE)",
/// );
/// ```
#[derive(Clone)]
#[must_use = "an expression does nothing until an offer checks it"]
pub struct Cql2 {
    kind: Kind,
    pub(crate) at: Place,
    depth: u16,
}

#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Kind {
    Boolean(bool),
    Text(SmolStr),
    Number(Number),
    Date(Date),
    Timestamp(Timestamp),
    Property(SmolStr),
    Interval(Box<[Cql2; 2]>),
    /// `'..'`, an end of an interval.
    OpenEnd,
    And(Vec<Cql2>),
    Or(Vec<Cql2>),
    Not(Box<Cql2>),
    Compare(Relation, Box<[Cql2; 2]>),
    Like(Box<[Cql2; 2]>),
    Between(Box<[Cql2; 3]>),
    In(Box<Cql2>, Vec<Cql2>),
    IsNull(Box<Cql2>),
    Temporal(TemporalOperator, Box<[Cql2; 2]>),
    Arithmetic(Arithmetic, Box<[Cql2; 2]>),
    CaseI(Box<Cql2>),
    Function(SmolStr, Vec<Cql2>),
    TooDeep,
}

/// A number: whole where it can be, else exact where it can be. A float is beyond all decimals, or closer to 0 than they are.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) enum Number {
    Whole(i64),
    Decimal(Decimal),
    Float(f64),
}

impl Number {
    /// Reads a number as SQL and JSON write it; `None` if it has more than 28 digits and is no decimal, or is too great or
    /// too small for a float.
    pub(crate) fn parse(text: &str) -> Option<Number> {
        if let Ok(whole) = text.parse() {
            return Some(Number::Whole(whole));
        }
        let mantissa = text.split(['e', 'E']).next().unwrap_or_default();
        let digits = mantissa.bytes().filter(u8::is_ascii_digit);
        let significant = digits.skip_while(|digit| *digit == b'0').count();
        if significant == 0 {
            // Also the texts of floats that are no numbers have no digit.
            return mantissa.contains('0').then_some(Number::Whole(0));
        }
        if let Some(exact) = exact(text) {
            return Some(Number::of_decimal(exact));
        }
        let float: f64 = text
            .parse()
            .ok()
            .filter(|float: &f64| float.is_finite() && *float != 0.0)?;
        // A float within the range of decimals is none only because it has too many digits, and would lose them in silence.
        let rounds = significant > 28 || exact(&format!("{float:?}")).is_some();
        (!rounds).then_some(Number::Float(float))
    }

    fn of_decimal(exact: Decimal) -> Number {
        let exact = exact.normalize();
        match exact.to_i64() {
            Some(whole) if exact.is_integer() => Number::Whole(whole),
            _ => Number::Decimal(exact),
        }
    }

    /// Returns the nearest float.
    pub(crate) fn to_float(self) -> f64 {
        match self {
            Number::Whole(whole) => whole as f64,
            Number::Decimal(exact) => exact.to_string().parse().unwrap_or(f64::NAN),
            Number::Float(float) => float,
        }
    }

    /// Returns the exact decimal; `None` for a number with more digits than one holds.
    pub(crate) fn to_decimal(self) -> Option<Decimal> {
        match self {
            Number::Whole(whole) => Some(Decimal::from(whole)),
            Number::Decimal(exact) => Some(exact),
            Number::Float(_) => None,
        }
    }
}

/// Returns a number as a decimal, if that is exact.
fn exact(text: &str) -> Option<Decimal> {
    match text.split_once(['e', 'E']) {
        // The other function rounds digits that do not fit, this one never does.
        Some((mantissa, _)) => Decimal::from_str_exact(mantissa)
            .ok()
            .and_then(|_| Decimal::from_scientific(text).ok()),
        None => Decimal::from_str_exact(text).ok(),
    }
}

impl fmt::Display for Number {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Number::Whole(whole) => write!(f, "{whole}"),
            Number::Decimal(exact) => write!(f, "{exact}"),
            // The shortest text that reads back as the same float.
            Number::Float(float) => write!(f, "{float:?}"),
        }
    }
}

/// An operator that is written between two sides.
macro_rules! operators {
    ($(#[$doc:meta])* $name:ident { $($variant:ident = $text:literal,)* }) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        pub(crate) enum $name {
            $($variant,)*
        }

        impl $name {
            pub(crate) const ALL: &'static [$name] = &[$($name::$variant,)*];

            /// Returns the operator as CQL2 JSON writes it.
            pub(crate) fn as_str(self) -> &'static str {
                match self {
                    $($name::$variant => $text,)*
                }
            }

            /// Returns the operator with this name, in any case.
            pub(crate) fn named(name: &str) -> Option<$name> {
                $name::ALL.iter().copied().find(|one| one.as_str().eq_ignore_ascii_case(name))
            }
        }
    };
}

operators! {
    /// A comparison.
    Relation {
        Equal = "=",
        NotEqual = "<>",
        Less = "<",
        LessOrEqual = "<=",
        Greater = ">",
        GreaterOrEqual = ">=",
    }
}

operators! {
    /// An operator of numbers.
    Arithmetic {
        Add = "+",
        Subtract = "-",
        Multiply = "*",
        Divide = "/",
        Remainder = "%",
        DivideWhole = "div",
        Power = "^",
    }
}

operators! {
    /// A temporal function of two instants or intervals.
    TemporalOperator {
        After = "t_after",
        Before = "t_before",
        Contains = "t_contains",
        Disjoint = "t_disjoint",
        During = "t_during",
        Equals = "t_equals",
        FinishedBy = "t_finishedBy",
        Finishes = "t_finishes",
        Intersects = "t_intersects",
        Meets = "t_meets",
        MetBy = "t_metBy",
        OverlappedBy = "t_overlappedBy",
        Overlaps = "t_overlaps",
        StartedBy = "t_startedBy",
        Starts = "t_starts",
    }
}

impl Kind {
    /// Calls `visit` for each child.
    #[inline]
    fn each_child<'e>(&'e self, visit: &mut impl FnMut(&'e Cql2)) {
        match self {
            Kind::And(terms) | Kind::Or(terms) | Kind::Function(_, terms) => {
                terms.iter().for_each(visit);
            }
            Kind::Not(one) | Kind::IsNull(one) | Kind::CaseI(one) => visit(one),
            Kind::Compare(_, sides)
            | Kind::Like(sides)
            | Kind::Interval(sides)
            | Kind::Temporal(_, sides)
            | Kind::Arithmetic(_, sides) => sides.iter().for_each(visit),
            Kind::Between(parts) => parts.iter().for_each(visit),
            Kind::In(value, items) => {
                visit(value);
                items.iter().for_each(visit);
            }
            Kind::Boolean(_)
            | Kind::Text(_)
            | Kind::Number(_)
            | Kind::Date(_)
            | Kind::Timestamp(_)
            | Kind::Property(_)
            | Kind::OpenEnd
            | Kind::TooDeep => {}
        }
    }
}

impl Cql2 {
    /// Returns an expression without children.
    #[inline]
    pub(crate) fn leaf(kind: Kind, at: Place) -> Cql2 {
        Cql2 { kind, at, depth: 1 }
    }

    pub(crate) fn new(kind: Kind, at: Place) -> Cql2 {
        let mut deepest = 0;
        kind.each_child(&mut |child| deepest = deepest.max(child.depth));
        match deepest < DEEPEST {
            true => Cql2 { kind, at, depth: deepest + 1 },
            false => Cql2 { kind: Kind::TooDeep, at, depth: 1 },
        }
    }

    /// Returns an expression of Rust, which has no place.
    fn of(kind: Kind) -> Cql2 {
        Cql2::new(kind, Place::default())
    }

    pub(crate) fn kind(&self) -> &Kind {
        &self.kind
    }

    /// Returns the number of names and values in it.
    pub(crate) fn leaves(&self) -> usize {
        let mut leaves = 0;
        self.kind.each_child(&mut |child| leaves += child.leaves());
        leaves.max(1)
    }

    pub(crate) fn is_too_deep(&self) -> bool {
        matches!(self.kind, Kind::TooDeep)
    }

    /// Returns the names in a filter in CQL2 Text; none if it is no filter.
    #[doc(hidden)]
    pub fn names_in(text: &str) -> Vec<String> {
        fn add(expression: &Cql2, names: &mut Vec<String>) {
            if let Kind::Property(name) = &expression.kind {
                names.push(name.to_string());
            }
            expression.kind.each_child(&mut |child| add(child, names));
        }
        let mut names = Vec::new();
        if let Ok(read) = super::read_text(text, super::Bounds::DEFAULT) {
            add(&read, &mut names);
        }
        names
    }

    fn compared(self, relation: Relation, other: impl Into<Cql2>) -> Cql2 {
        Cql2::of(Kind::Compare(relation, Box::new([self, other.into()])))
    }

    /// Tests for equality: `=`.
    pub fn eq(self, other: impl Into<Cql2>) -> Cql2 {
        self.compared(Relation::Equal, other)
    }

    /// Tests for inequality: `<>`.
    pub fn ne(self, other: impl Into<Cql2>) -> Cql2 {
        self.compared(Relation::NotEqual, other)
    }

    /// Tests for less: `<`.
    pub fn lt(self, other: impl Into<Cql2>) -> Cql2 {
        self.compared(Relation::Less, other)
    }

    /// Tests for less or equal: `<=`.
    pub fn le(self, other: impl Into<Cql2>) -> Cql2 {
        self.compared(Relation::LessOrEqual, other)
    }

    /// Tests for greater: `>`.
    pub fn gt(self, other: impl Into<Cql2>) -> Cql2 {
        self.compared(Relation::Greater, other)
    }

    /// Tests for greater or equal: `>=`.
    pub fn ge(self, other: impl Into<Cql2>) -> Cql2 {
        self.compared(Relation::GreaterOrEqual, other)
    }

    /// Tests for a pattern: `LIKE`, with `%` for any text, `_` for one character, and `\` before one that stands for
    /// itself.
    pub fn like(self, pattern: impl Into<Cql2>) -> Cql2 {
        Cql2::of(Kind::Like(Box::new([self, pattern.into()])))
    }

    /// Tests for a range that includes both ends: `BETWEEN`.
    pub fn between(self, low: impl Into<Cql2>, high: impl Into<Cql2>) -> Cql2 {
        Cql2::of(Kind::Between(Box::new([self, low.into(), high.into()])))
    }

    /// Tests for one of several values: `IN`. An empty list is FALSE.
    pub fn one_of<E: Into<Cql2>>(self, items: impl IntoIterator<Item = E>) -> Cql2 {
        let items: Vec<Cql2> = items.into_iter().map(E::into).collect();
        match items.is_empty() {
            true => Cql2::from(false),
            false => Cql2::of(Kind::In(Box::new(self), items)),
        }
    }

    /// Tests for NULL.
    pub fn is_null(self) -> Cql2 {
        Cql2::of(Kind::IsNull(Box::new(self)))
    }

    /// Returns the text without regard to case: `CASEI`. Both sides of a comparison need it.
    pub fn any_case(self) -> Cql2 {
        Cql2::of(Kind::CaseI(Box::new(self)))
    }

    /// Applies an operator by its name in CQL2 JSON: a comparison, an arithmetic operator, `like`, or a temporal function
    /// such as `t_after`. It returns `None` for another name.
    ///
    /// ```
    /// use nepheline::cql2::property;
    ///
    /// // From a request: a field, an operator and a value.
    /// let filter = property("depth").operator(">=", 40).unwrap();
    /// assert_eq!(filter.to_string(), "depth >= 40");
    /// ```
    pub fn operator(self, name: &str, other: impl Into<Cql2>) -> Option<Cql2> {
        let sides = |this, other| Box::new([this, other]);
        let kind = if let Some(relation) = Relation::named(name) {
            Kind::Compare(relation, sides(self, other.into()))
        } else if let Some(arithmetic) = Arithmetic::named(name) {
            Kind::Arithmetic(arithmetic, sides(self, other.into()))
        } else if let Some(temporal) = TemporalOperator::named(name) {
            Kind::Temporal(temporal, sides(self, other.into()))
        } else if name.eq_ignore_ascii_case("like") {
            Kind::Like(sides(self, other.into()))
        } else {
            return None;
        };
        Some(Cql2::of(kind))
    }
}

/// Returns a name of an offer, to be compared.
pub fn property(name: impl AsRef<str>) -> Cql2 {
    Cql2::of(Kind::Property(name.as_ref().into()))
}

impl PartialEq for Cql2 {
    fn eq(&self, other: &Cql2) -> bool {
        self.kind == other.kind
    }
}

impl fmt::Debug for Cql2 {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.kind.fmt(f)
    }
}

macro_rules! literals {
    ($($value:ty => |$given:ident| $kind:expr;)*) => {$(
        impl From<$value> for Cql2 {
            fn from($given: $value) -> Cql2 {
                Cql2::of($kind)
            }
        }
    )*};
}

literals! {
    bool => |value| Kind::Boolean(value);
    &str => |value| Kind::Text(value.into());
    String => |value| Kind::Text(value.into());
    i32 => |value| Kind::Number(Number::Whole(value.into()));
    i64 => |value| Kind::Number(Number::Whole(value));
    u32 => |value| Kind::Number(Number::Whole(value.into()));
    Decimal => |value| Kind::Number(Number::of_decimal(value));
    Date => |value| Kind::Date(value);
    Timestamp => |value| Kind::Timestamp(value);
}

/// A float that is neither infinite nor NaN. Those have no form in CQL2, and an offer refuses them.
impl From<f64> for Cql2 {
    fn from(value: f64) -> Cql2 {
        let text = format!("{value:?}");
        Cql2::of(Kind::Number(Number::parse(&text).unwrap_or(Number::Float(value))))
    }
}

/// Joins two conditions in one flat list.
fn joined(
    left: Cql2,
    right: Cql2,
    list: impl Fn(Vec<Cql2>) -> Kind,
    terms_of: impl Fn(Cql2) -> Result<Vec<Cql2>, Cql2>,
) -> Cql2 {
    let mut terms = terms_of(left).unwrap_or_else(|one| vec![one]);
    terms.extend(terms_of(right).unwrap_or_else(|one| vec![one]));
    Cql2::of(list(terms))
}

impl BitAnd for Cql2 {
    type Output = Cql2;

    fn bitand(self, other: Cql2) -> Cql2 {
        joined(self, other, Kind::And, |one| match one.kind {
            Kind::And(terms) => Ok(terms),
            _ => Err(one),
        })
    }
}

impl BitOr for Cql2 {
    type Output = Cql2;

    fn bitor(self, other: Cql2) -> Cql2 {
        joined(self, other, Kind::Or, |one| match one.kind {
            Kind::Or(terms) => Ok(terms),
            _ => Err(one),
        })
    }
}

impl Not for Cql2 {
    type Output = Cql2;

    fn not(self) -> Cql2 {
        match self.kind {
            Kind::Not(inner) => *inner,
            kind => Cql2::of(Kind::Not(Box::new(Cql2 { kind, ..self }))),
        }
    }
}
