//! The writer of CQL2 Text.

use std::fmt::{self, Write as _};

use super::lexer::{Keyword, continues_name, starts_name};
use super::{Arithmetic, Cql2, Kind};

/// The binding strength of an expression, from the weakest to the strongest. An expression that binds more weakly than its
/// place needs brackets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Binding {
    Or,
    And,
    Not,
    Predicate,
    Sum,
    Product,
    Power,
    Value,
}

impl Cql2 {
    fn binding(&self) -> Binding {
        match self.kind() {
            Kind::Or(_) => Binding::Or,
            Kind::And(_) => Binding::And,
            Kind::Not(inner) if inner.has_infix_not() => Binding::Predicate,
            Kind::Not(_) => Binding::Not,
            Kind::Compare(..)
            | Kind::Like(_)
            | Kind::Between(_)
            | Kind::In(..)
            | Kind::IsNull(_) => Binding::Predicate,
            Kind::Arithmetic(Arithmetic::Add | Arithmetic::Subtract, _) => Binding::Sum,
            Kind::Arithmetic(Arithmetic::Power, _) => Binding::Power,
            Kind::Arithmetic(..) => Binding::Product,
            _ => Binding::Value,
        }
    }

    /// Returns whether NOT stands inside it: `a NOT LIKE b`.
    fn has_infix_not(&self) -> bool {
        matches!(self.kind(), Kind::Like(_) | Kind::Between(_) | Kind::In(..) | Kind::IsNull(_))
    }

    /// Writes the expression where at least `least` is needed.
    fn write(&self, f: &mut fmt::Formatter<'_>, least: Binding) -> fmt::Result {
        match self.binding() < least {
            true => {
                f.write_char('(')?;
                self.write_inside(f)?;
                f.write_char(')')
            }
            false => self.write_inside(f),
        }
    }

    fn write_inside(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.kind() {
            Kind::Boolean(true) => f.write_str("TRUE"),
            Kind::Boolean(false) => f.write_str("FALSE"),
            Kind::Text(text) => write_text(f, text),
            Kind::Number(number) => write!(f, "{number}"),
            Kind::Date(date) => write!(f, "DATE('{date}')"),
            Kind::Timestamp(timestamp) => write!(f, "TIMESTAMP('{timestamp}')"),
            Kind::Property(name) => write_name(f, name),
            Kind::Interval(ends) => {
                f.write_str("INTERVAL(")?;
                write_end(f, &ends[0])?;
                f.write_str(", ")?;
                write_end(f, &ends[1])?;
                f.write_char(')')
            }
            Kind::OpenEnd => f.write_str("'..'"),
            // A list in a list of the same kind keeps its brackets.
            Kind::And(terms) => write_list(f, terms, " AND ", Binding::Not),
            Kind::Or(terms) => write_list(f, terms, " OR ", Binding::And),
            Kind::Not(inner) if inner.has_infix_not() => inner.write_predicate(f, true),
            Kind::Not(inner) => {
                f.write_str("NOT ")?;
                inner.write(f, Binding::Predicate)
            }
            Kind::Compare(relation, sides) => {
                sides[0].write(f, Binding::Sum)?;
                write!(f, " {} ", relation.as_str())?;
                sides[1].write(f, Binding::Sum)
            }
            Kind::Like(_) | Kind::Between(_) | Kind::In(..) | Kind::IsNull(_) => {
                self.write_predicate(f, false)
            }
            Kind::Temporal(operator, sides) => {
                f.write_str(&operator.as_str().to_uppercase())?;
                write_arguments(f, sides.as_slice())
            }
            Kind::Arithmetic(operator, sides) => {
                // Operators of one strength are read from the left; `^` stands between two values.
                let (left, right) = match operator {
                    Arithmetic::Add | Arithmetic::Subtract => (Binding::Sum, Binding::Product),
                    Arithmetic::Power => (Binding::Value, Binding::Value),
                    _ => (Binding::Product, Binding::Power),
                };
                sides[0].write(f, left)?;
                write!(f, " {} ", operator.as_str())?;
                sides[1].write(f, right)
            }
            Kind::CaseI(inner) => {
                f.write_str("CASEI(")?;
                inner.write(f, Binding::Sum)?;
                f.write_char(')')
            }
            Kind::Function(name, arguments) => {
                f.write_str(name)?;
                write_arguments(f, arguments)
            }
            Kind::TooDeep => f.write_str("(..)"),
        }
    }

    fn write_predicate(&self, f: &mut fmt::Formatter<'_>, negated: bool) -> fmt::Result {
        let not = if negated { "NOT " } else { "" };
        match self.kind() {
            Kind::Like(sides) => {
                sides[0].write(f, Binding::Sum)?;
                write!(f, " {not}LIKE ")?;
                sides[1].write(f, Binding::Value)
            }
            Kind::Between(parts) => {
                parts[0].write(f, Binding::Sum)?;
                write!(f, " {not}BETWEEN ")?;
                parts[1].write(f, Binding::Sum)?;
                f.write_str(" AND ")?;
                parts[2].write(f, Binding::Sum)
            }
            Kind::In(value, items) => {
                value.write(f, Binding::Sum)?;
                write!(f, " {not}IN ")?;
                f.write_char('(')?;
                write_list(f, items, ", ", Binding::Sum)?;
                f.write_char(')')
            }
            Kind::IsNull(value) => {
                value.write(f, Binding::Sum)?;
                write!(f, " IS {not}NULL")
            }
            _ => Ok(()),
        }
    }
}

fn write_list(
    f: &mut fmt::Formatter<'_>,
    terms: &[Cql2],
    between: &str,
    least: Binding,
) -> fmt::Result {
    for (number, term) in terms.iter().enumerate() {
        if number > 0 {
            f.write_str(between)?;
        }
        term.write(f, least)?;
    }
    Ok(())
}

fn write_arguments(f: &mut fmt::Formatter<'_>, arguments: &[Cql2]) -> fmt::Result {
    f.write_char('(')?;
    write_list(f, arguments, ", ", Binding::Or)?;
    f.write_char(')')
}

fn write_text(f: &mut fmt::Formatter<'_>, text: &str) -> fmt::Result {
    write!(f, "'{}'", text.replace('\'', "''"))
}

/// Writes a name, in double quotes unless it is a word of its own.
fn write_name(f: &mut fmt::Formatter<'_>, name: &str) -> fmt::Result {
    let plain = name.starts_with(starts_name)
        && name.chars().all(continues_name)
        && Keyword::of(name).is_none();
    match plain {
        true => f.write_str(name),
        false => write!(f, "\"{name}\""),
    }
}

fn write_end(f: &mut fmt::Formatter<'_>, end: &Cql2) -> fmt::Result {
    match end.kind() {
        Kind::Date(date) => write!(f, "'{date}'"),
        Kind::Timestamp(timestamp) => write!(f, "'{timestamp}'"),
        _ => end.write(f, Binding::Value),
    }
}

impl fmt::Display for Cql2 {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.write(f, Binding::Or)
    }
}
