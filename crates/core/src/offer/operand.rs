//! The operands of a predicate, and how two of them get one type.

use super::check::{Checked, wrong};
use super::class::Class;
use super::names::{Entry, ValueType};
use super::term::Value;
use crate::cql2::{Cql2, Kind, Number};
use crate::model::{BindValue, List, Place};

/// A value with its type.
pub(super) struct Typed<'n> {
    pub(super) value: Value,
    pub(super) class: Class,
    pub(super) nullable: bool,
    /// The type of a name itself, which says what values it has.
    pub(super) value_type: Option<&'n ValueType>,
    /// The name that it is, whose uses may be restricted.
    pub(super) entry: Option<&'n Entry>,
    pub(super) at: Place,
}

/// A literal, whose type depends on the other side, or a value that has one.
pub(super) enum Operand<'e, 'n> {
    Literal(&'e Kind, Place),
    Typed(Typed<'n>),
}

/// Returns a literal with its usual type.
pub(super) fn literal<'n>(kind: &Kind, at: Place) -> Checked<Typed<'n>> {
    let class = Class::of_literal(kind).unwrap_or(Class::Opaque);
    let value = Value::Bind(class.bind(kind, at)?);
    Ok(Typed { value, class, nullable: false, value_type: None, entry: None, at })
}

impl Operand<'_, '_> {
    pub(super) fn class(&self) -> (Class, Place) {
        match self {
            Operand::Literal(kind, at) => (Class::of_literal(kind).unwrap_or(Class::Opaque), *at),
            Operand::Typed(typed) => (typed.class, typed.at),
        }
    }
}

impl<'n> Typed<'n> {
    /// Converts a number to another class.
    pub(super) fn cast(self, to: Class) -> Typed<'n> {
        if self.class == to {
            return self;
        }
        let value = match (self.value, to) {
            (Value::Bind(BindValue::Int(whole)), Class::Float) => {
                Value::Bind(BindValue::Float(whole as f64))
            }
            (value, to) => Value::Cast(Box::new((self.class, to, value))),
        };
        Typed { value, class: to, value_type: None, ..self }
    }

    /// Returns a literal beside this value, and the value, which may have become another number.
    pub(super) fn beside(self, kind: &Kind, at: Place) -> Checked<(Class, [Typed<'n>; 2])> {
        // A number with a fraction beside whole numbers is compared exactly, and one beyond all decimals as a float.
        if let (Kind::Number(number), true) = (kind, self.class.is_number()) {
            let given = match number {
                Number::Whole(_) => Class::Whole,
                Number::Decimal(_) => Class::Decimal,
                Number::Float(_) => Class::Float,
            };
            let class = self.class.common_number(given);
            if class != self.class {
                let bind = Value::Bind(class.bind(kind, at)?);
                let other = Typed {
                    value: bind,
                    class,
                    nullable: false,
                    value_type: None,
                    entry: None,
                    at,
                };
                return Ok((class, [self.cast(class), other]));
            }
        }
        let bind = match self.value_type {
            Some(value_type) => value_type.bind(kind, at)?,
            None => self.class.bind(kind, at)?,
        };
        let class = self.class;
        let other = Typed {
            value: Value::Bind(bind),
            class,
            nullable: false,
            value_type: None,
            entry: None,
            at,
        };
        Ok((class, [self, other]))
    }

    /// Returns the items as one list, if all are literals of this type.
    pub(super) fn list(&self, items: &[Cql2]) -> Checked<Option<List>> {
        let Some(value_type) = self.value_type else { return Ok(None) };
        if self.class == Class::Opaque {
            return Ok(None);
        }
        let mut binds = Vec::with_capacity(items.len());
        for item in items {
            let Some(class) = Class::of_literal(item.kind()) else { return Ok(None) };
            if class.is_number()
                && self.class.is_number()
                && self.class.common_number(class) != self.class
            {
                return Ok(None);
            }
            binds.push(value_type.bind(item.kind(), item.at)?);
        }
        Ok(Some(List::new(value_type.sql_type, binds)))
    }
}

/// Brings two values to one class, or says why that is impossible.
pub(super) fn unify<'n>(
    left: Operand<'_, 'n>,
    right: Operand<'_, 'n>,
) -> Checked<(Class, [Typed<'n>; 2])> {
    match (left, right) {
        (Operand::Typed(typed), Operand::Literal(kind, at)) => typed.beside(kind, at),
        (Operand::Literal(kind, at), Operand::Typed(typed)) => {
            let (class, [typed, literal]) = typed.beside(kind, at)?;
            Ok((class, [literal, typed]))
        }
        (Operand::Literal(left, left_at), Operand::Literal(right, right_at)) => {
            unify_typed(literal(left, left_at)?, literal(right, right_at)?)
        }
        (Operand::Typed(left), Operand::Typed(right)) => unify_typed(left, right),
    }
}

fn unify_typed<'n>(left: Typed<'n>, right: Typed<'n>) -> Checked<(Class, [Typed<'n>; 2])> {
    if left.class.is_number() && right.class.is_number() {
        let class = left.class.common_number(right.class);
        return Ok((class, [left.cast(class), right.cast(class)]));
    }
    if left.class == right.class && left.class != Class::Opaque {
        return Ok((left.class, [left, right]));
    }
    let (expected, found) = (left.class.noun(), right.class.noun());
    let message = match expected == found {
        true => format!("{found} of another type is expected"),
        false => format!("{expected} is expected, found {found}"),
    };
    Err(wrong(right.at, message))
}

/// Refuses `<` and the like for values without an order.
pub(super) fn check_order(class: Class, sides: &[Typed<'_>; 2]) -> Checked<()> {
    if class.has_order() {
        return Ok(());
    }
    let side = sides.iter().find(|side| side.entry.is_some());
    let at = side
        .map_or_else(|| sides.first().map_or_else(Place::default, |side| side.at), |side| side.at);
    let message = match class {
        Class::Boolean => "booleans have no order: compare them by = or <>",
        Class::Enum(_) => "the values of this name have no order: compare them by =, <> or IN",
        _ => "values of this type have no form in CQL2: test them by IS NULL",
    };
    Err(wrong(at, message))
}
