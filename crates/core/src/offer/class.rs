//! The classes of types that filters tell apart.

use jiff::civil::Time;
use jiff::tz::TimeZone;
use uuid::Uuid;

use super::names::ValueType;
use crate::build::expr::cast_node;
use crate::cql2::{Kind, Number};
use crate::model::{Accepted, BindValue, Cell, EnumType, Mistake, MistakeKind, Place, SqlType};
use crate::tree::Node;

/// The class of a type: the types that can be compared with each other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Class {
    Boolean,
    Whole,
    Decimal,
    Float,
    Text,
    Enum(&'static EnumType),
    Date,
    Time,
    DateTime,
    Timestamp,
    Uuid,
    /// A type without a form in CQL2. It is NULL or not.
    Opaque,
}

impl Class {
    pub(crate) fn of(sql_type: SqlType) -> Class {
        match sql_type {
            SqlType::Boolean => Class::Boolean,
            SqlType::SmallInt | SqlType::Integer | SqlType::BigInt => Class::Whole,
            SqlType::Real | SqlType::Double => Class::Float,
            SqlType::Decimal => Class::Decimal,
            SqlType::Text => Class::Text,
            SqlType::Enum(kind) => Class::Enum(kind),
            SqlType::Date => Class::Date,
            SqlType::Time => Class::Time,
            SqlType::DateTime => Class::DateTime,
            SqlType::Timestamp => Class::Timestamp,
            SqlType::Uuid => Class::Uuid,
            SqlType::Bytes | SqlType::Json | SqlType::Native(_) => Class::Opaque,
        }
    }

    /// Returns the class of a literal; `None` for anything else.
    pub(super) fn of_literal(kind: &Kind) -> Option<Class> {
        Some(match kind {
            Kind::Boolean(_) => Class::Boolean,
            Kind::Text(_) => Class::Text,
            Kind::Number(Number::Whole(_)) => Class::Whole,
            Kind::Number(Number::Decimal(_)) => Class::Decimal,
            Kind::Number(Number::Float(_)) => Class::Float,
            Kind::Date(_) => Class::Date,
            Kind::Timestamp(_) => Class::Timestamp,
            _ => return None,
        })
    }

    /// Returns the class in words, with an article where it has one.
    pub(super) fn noun(self) -> &'static str {
        match self {
            Class::Boolean => "a boolean",
            Class::Whole | Class::Decimal | Class::Float => "a number",
            Class::Text | Class::Enum(_) => "text",
            Class::Date => "a date",
            Class::Time => "text with a time of day, such as '08:30:00'",
            Class::DateTime | Class::Timestamp => "a timestamp",
            Class::Uuid => "text with a UUID",
            Class::Opaque => "no comparison, because values of its type have no form in CQL2",
        }
    }

    pub(super) fn is_number(self) -> bool {
        matches!(self, Class::Whole | Class::Decimal | Class::Float)
    }

    pub(super) fn is_instant(self) -> bool {
        matches!(self, Class::Date | Class::DateTime | Class::Timestamp)
    }

    /// Returns whether `<` has a meaning.
    pub(super) fn has_order(self) -> bool {
        !matches!(self, Class::Boolean | Class::Enum(_) | Class::Opaque)
    }

    /// Returns the class in which two numbers are compared and computed.
    pub(super) fn common_number(self, other: Class) -> Class {
        match (self, other) {
            (Class::Whole, Class::Whole) => Class::Whole,
            (Class::Float, _) | (_, Class::Float) => Class::Float,
            _ => Class::Decimal,
        }
    }

    pub(super) fn sql_type(self) -> SqlType {
        match self {
            Class::Boolean => SqlType::Boolean,
            Class::Whole => SqlType::BigInt,
            Class::Decimal => SqlType::Decimal,
            Class::Float => SqlType::Double,
            Class::Text => SqlType::Text,
            Class::Enum(kind) => SqlType::Enum(kind),
            Class::Date => SqlType::Date,
            Class::Time => SqlType::Time,
            Class::DateTime => SqlType::DateTime,
            Class::Timestamp => SqlType::Timestamp,
            Class::Uuid => SqlType::Uuid,
            Class::Opaque => SqlType::Json,
        }
    }

    /// Converts a number to another class.
    pub(super) fn cast(self, to: Class, node: Node) -> Node {
        cast_node(node, self.sql_type(), to.sql_type())
    }

    /// Returns a literal as a value of this class, without further checks of its type; the mistake says what is wrong.
    pub(super) fn bind(self, kind: &Kind, at: Place) -> Result<BindValue, Mistake> {
        let value = ValueType::of_sql_type(self.sql_type(), false);
        value.bind(kind, at)
    }
}

/// Returns a literal as text for a message.
pub(super) fn shown(kind: &Kind) -> String {
    match kind {
        Kind::Boolean(value) => value.to_string().to_uppercase(),
        Kind::Text(text) if text.chars().count() > 40 => {
            format!("'{}…'", text.chars().take(40).collect::<String>())
        }
        Kind::Text(text) => format!("'{text}'"),
        Kind::Number(number) => number.to_string(),
        Kind::Date(date) => format!("DATE('{date}')"),
        Kind::Timestamp(at) => format!("TIMESTAMP('{at}')"),
        _ => "another expression".to_owned(),
    }
}

impl ValueType {
    /// Returns a literal as a bind of this type, checked as a value that is read.
    pub(super) fn bind(&self, kind: &Kind, at: Place) -> Result<BindValue, Mistake> {
        let class = Class::of(self.sql_type);
        let wrong = |expected: &str| {
            let found = Class::of_literal(kind).map_or("another expression", Class::noun);
            let message = format!("{expected} is expected, found {found}");
            Err(Mistake::new(MistakeKind::WrongType, at, message))
        };
        let invalid = |reason: String| Err(Mistake::new(MistakeKind::InvalidValue, at, reason));
        if let Kind::Number(Number::Float(float)) = kind
            && !float.is_finite()
        {
            return invalid("a number that is not finite has no form in CQL2".to_owned());
        }
        let cell = match (class, kind) {
            (Class::Boolean, Kind::Boolean(value)) => Cell::Bool(*value),
            (Class::Whole, Kind::Number(Number::Whole(value))) => Cell::Int(*value),
            (Class::Whole, Kind::Number(_)) => {
                return wrong("a whole number");
            }
            // A float of 32 bits is compared with the nearest such float.
            (Class::Float, Kind::Number(number)) if self.sql_type == SqlType::Real => {
                Cell::Float(f64::from(number.to_float() as f32))
            }
            (Class::Float, Kind::Number(number)) => Cell::Float(number.to_float()),
            (Class::Decimal, Kind::Number(number)) => match number.to_decimal() {
                Some(exact) => Cell::Decimal(exact),
                None => {
                    return invalid("the number is out of the range of decimals".to_owned());
                }
            },
            (Class::Text | Class::Enum(_), Kind::Text(text)) => {
                if text.contains('\0') {
                    return invalid(
                        "text with a NUL character cannot be sent to a database".to_owned(),
                    );
                }
                Cell::Text(text)
            }
            (Class::Date, Kind::Date(date)) => Cell::Date(*date),
            (Class::Timestamp, Kind::Timestamp(at)) => Cell::Timestamp(*at),
            // It has no zone: its date and time are those in UTC.
            (Class::DateTime, Kind::Timestamp(at)) => {
                Cell::DateTime(at.to_zoned(TimeZone::UTC).datetime())
            }
            (Class::Time, Kind::Text(text)) => match text.parse::<Time>() {
                Ok(time) => Cell::Time(time),
                Err(_) => {
                    return invalid(format!(
                        "{} is no time of day of the form '08:30:00'",
                        shown(kind)
                    ));
                }
            },
            (Class::Uuid, Kind::Text(text)) => match text.parse::<Uuid>() {
                Ok(uuid) => Cell::Uuid(uuid),
                Err(_) => return invalid(format!("{} is no UUID", shown(kind))),
            },
            (class, _) => return wrong(class.noun()),
        };
        // No engine has the years before it.
        if let Kind::Timestamp(at) = kind
            && at.to_zoned(TimeZone::UTC).year() < 1
        {
            return invalid(format!("{} is before the year 1", shown(kind)));
        }
        self.read(cell).or_else(|_| {
            invalid(match self.accepted {
                Accepted::Texts(texts) => {
                    let listed = texts.iter().map(|text| format!("'{text}'"));
                    let listed: Vec<String> = listed.collect();
                    format!("{} is not one of {}", shown(kind), listed.join(", "))
                }
                Accepted::Whole(least, greatest) => {
                    format!("{} is outside of {least} to {greatest}", shown(kind))
                }
                Accepted::Any => format!("{} is not a valid value here", shown(kind)),
            })
        })
    }
}
