//! CQL2 JSON: its reader and its writer.
//!
//! The reader keeps the raw text of each value, so that a mistake has a place, and a number all its digits. Each level
//! reads its text once more; the depth is bounded, so that the time stays linear.

use std::fmt;

use serde::de::{Deserialize, Deserializer, Error as _, MapAccess, Visitor};
use serde::ser::{Serialize, SerializeMap, Serializer};
use serde_json::value::RawValue;

use super::expression::DEEPEST;
use super::text::{check_size, end_of_interval, instant, refuse_unsupported};
use super::{Arithmetic, Bounds, Cql2, Kind, Number, Relation, TemporalOperator};
use crate::model::{Mistake, MistakeKind, Place};

/// Reads a condition.
pub(crate) fn read(text: &str, bounds: Bounds) -> Result<Cql2, Mistake> {
    check_size(text, bounds)?;
    let root: &RawValue = serde_json::from_str(text).map_err(|err| broken(text, &err))?;
    let mut reader = Reader { text, terms: bounds.terms, of: bounds };
    reader
        .expression(root, 0)
        .map_err(|mistake| mistake.within(text))
}

/// Returns the mistake of a text that is no JSON.
#[cold]
fn broken(text: &str, err: &serde_json::Error) -> Mistake {
    let lines = text
        .split_inclusive('\n')
        .take(err.line().saturating_sub(1));
    let before: usize = lines.map(str::len).sum();
    let offset = match err.is_eof() {
        true => text.len(),
        false => text.floor_char_boundary(before + err.column().saturating_sub(1)),
    };
    let reason = err.to_string();
    let reason = reason.split(" at line ").next().unwrap_or_default();
    let message = format!("the text is no JSON: {reason}");
    Mistake::new(MistakeKind::Syntax, Place::new(offset, 0), message).within(text)
}

/// The most members of an object, so that looking for one of them stays cheap.
const MOST_MEMBERS: usize = 16;

/// The members of an object, in their order.
struct Members<'t>(Vec<(String, &'t RawValue)>);

impl<'t> Deserialize<'t> for Members<'t> {
    fn deserialize<D: Deserializer<'t>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visit;

        impl<'t> Visitor<'t> for Visit {
            type Value = Members<'t>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("an object")
            }

            fn visit_map<A: MapAccess<'t>>(self, mut map: A) -> Result<Members<'t>, A::Error> {
                let mut members: Vec<(String, &'t RawValue)> = Vec::new();
                while let Some((name, value)) = map.next_entry::<String, &RawValue>()? {
                    // No object of CQL2 has more than two.
                    if members.len() == MOST_MEMBERS {
                        return Err(A::Error::custom("an object has too many members"));
                    }
                    if members.iter().any(|(known, _)| *known == name) {
                        return Err(A::Error::custom(format_args!("`{name}` is given twice")));
                    }
                    members.push((name, value));
                }
                Ok(Members(members))
            }
        }

        deserializer.deserialize_map(Visit)
    }
}

struct Reader<'t> {
    text: &'t str,
    /// The number of names and values that may follow.
    terms: usize,
    of: Bounds,
}

type Read<T> = Result<T, Mistake>;

impl<'t> Reader<'t> {
    /// Returns the place of a value, which is a part of the text.
    fn place(&self, value: &RawValue) -> Place {
        let part = value.get();
        let offset = (part.as_ptr() as usize).saturating_sub(self.text.as_ptr() as usize);
        Place::new(offset, part.len())
    }

    fn syntax<T>(&self, value: &RawValue, message: impl Into<String>) -> Read<T> {
        Err(Mistake::new(MistakeKind::Syntax, self.place(value), message.into()))
    }

    fn leaf(&mut self, kind: Kind, at: Place) -> Read<Cql2> {
        match self.terms.checked_sub(1) {
            Some(left) => {
                self.terms = left;
                Ok(Cql2::new(kind, at))
            }
            None => {
                let message =
                    format!("the filter has more than {} names and values", self.of.terms);
                Err(Mistake::new(MistakeKind::TooLarge, at, message))
            }
        }
    }

    fn expression(&mut self, value: &'t RawValue, depth: u16) -> Read<Cql2> {
        let at = self.place(value);
        if depth == DEEPEST {
            let message = format!("the filter is nested more than {DEEPEST} levels deep");
            return Err(Mistake::new(MistakeKind::TooLarge, at, message));
        }
        match value.get().as_bytes().first() {
            Some(b'{') => self.object(value, depth),
            Some(b'"') => {
                let text = self.string(value)?;
                self.leaf(Kind::Text(text.into()), at)
            }
            Some(b't') => self.leaf(Kind::Boolean(true), at),
            Some(b'f') => self.leaf(Kind::Boolean(false), at),
            Some(b'n') => {
                self.syntax(value, "null is no value; `{\"op\": \"isNull\", ..}` tests for NULL")
            }
            Some(b'[') => self
                .syntax(value, "a list stands only among the arguments of `in` and in `interval`"),
            _ => match Number::parse(value.get()) {
                Some(number) => self.leaf(Kind::Number(number), at),
                None => Err(Mistake::new(
                    MistakeKind::InvalidValue,
                    at,
                    "the number has more than 28 digits, or is out of range",
                )),
            },
        }
    }

    fn object(&mut self, value: &'t RawValue, depth: u16) -> Read<Cql2> {
        let at = self.place(value);
        let members = match serde_json::from_str::<Members<'_>>(value.get()) {
            Ok(Members(members)) => members,
            Err(err) => {
                let reason = err.to_string();
                let reason = reason.split(" at line ").next().unwrap_or_default();
                return self.syntax(value, reason);
            }
        };
        let member = |wanted: &str| {
            members
                .iter()
                .find(|(name, _)| name == wanted)
                .map(|(_, value)| *value)
        };
        let only = |allowed: &[&str]| {
            members
                .iter()
                .find(|(name, _)| !allowed.contains(&name.as_str()))
        };
        let allowed: &[&str] = if let Some(op) = member("op") {
            let (name, arguments) = (self.string(op)?, member("args"));
            let Some(arguments) = arguments else {
                return self.syntax(value, "an operator needs `args`");
            };
            if let Some((name, value)) = only(&["op", "args"]) {
                return self.syntax(value, format!("`{name}` has no meaning beside `op`"));
            }
            return self.operator(&name, self.place(op), arguments, at, depth);
        } else if let Some(name) = member("property") {
            if only(&["property"]).is_none() {
                let name = self.string(name)?;
                return self.leaf(Kind::Property(name.into()), at);
            }
            &["property"]
        } else if let Some((name, text)) = ["date", "timestamp"]
            .into_iter()
            .find_map(|name| Some((name, member(name)?)))
        {
            if only(&[name]).is_none() {
                let (place, text) = (self.place(text), self.string(text)?);
                let kind = instant(name, &text)
                    .map_err(|message| Mistake::new(MistakeKind::InvalidValue, place, message))?;
                return self.leaf(kind, at);
            }
            &["date", "timestamp"]
        } else if let Some(ends) = member("interval") {
            if only(&["interval"]).is_none() {
                return self.interval(ends, at, depth);
            }
            &["interval"]
        } else if member("type").is_some() || member("bbox").is_some() {
            let message = "spatial values of CQL2 are not supported";
            return Err(Mistake::new(MistakeKind::Unsupported, at, message));
        } else {
            &[]
        };
        match only(allowed) {
            Some((name, value)) if !allowed.is_empty() => {
                self.syntax(value, format!("`{name}` has no meaning beside `{}`", allowed[0]))
            }
            _ => self.syntax(
                value,
                "expected an object with `op` and `args`, `property`, `date`, `timestamp` or `interval`",
            ),
        }
    }

    fn string(&self, value: &RawValue) -> Read<String> {
        match serde_json::from_str(value.get()) {
            Ok(text) => Ok(text),
            Err(_) => self.syntax(value, "expected a text in double quotes"),
        }
    }

    fn list(&self, value: &'t RawValue, expected: &str) -> Read<Vec<&'t RawValue>> {
        match serde_json::from_str(value.get()) {
            Ok(items) => Ok(items),
            Err(_) => self.syntax(value, format!("expected {expected}")),
        }
    }

    fn interval(&mut self, ends: &'t RawValue, at: Place, depth: u16) -> Read<Cql2> {
        let items = self.list(ends, "a list of 2 ends")?;
        let [from, to] = items[..] else {
            return self.syntax(ends, format!("an interval has 2 ends, found {}", items.len()));
        };
        let mut end = |value: &'t RawValue| match value.get().starts_with('"') {
            true => {
                let (place, text) = (self.place(value), self.string(value)?);
                let kind = end_of_interval(&text)
                    .map_err(|message| Mistake::new(MistakeKind::InvalidValue, place, message))?;
                self.leaf(kind, place)
            }
            false => self.expression(value, depth + 1),
        };
        let ends = Box::new([end(from)?, end(to)?]);
        Ok(Cql2::new(Kind::Interval(ends), at))
    }

    fn operator(
        &mut self,
        name: &str,
        name_at: Place,
        arguments: &'t RawValue,
        at: Place,
        depth: u16,
    ) -> Read<Cql2> {
        let items = self.list(arguments, "a list of arguments")?;
        let count = |reader: &Self, wanted: &str| -> Read<Cql2> {
            reader.syntax(arguments, format!("`{name}` takes {wanted}, found {}", items.len()))
        };
        if name == "in" {
            let [value, list] = items[..] else { return count(self, "2 arguments") };
            let list = self.list(list, "a list of values")?;
            if list.is_empty() {
                return self.syntax(arguments, "`in` needs at least one value");
            }
            let value = self.expression(value, depth + 1)?;
            let read = list
                .into_iter()
                .map(|item| self.expression(item, depth + 1));
            let list: Vec<Cql2> = read.collect::<Read<_>>()?;
            return Ok(Cql2::new(Kind::In(Box::new(value), list), at));
        }
        refuse_unsupported(name, name_at)?;
        let read = items.iter().map(|item| self.expression(item, depth + 1));
        let read: Vec<Cql2> = read.collect::<Read<_>>()?;
        let one = |read: Vec<Cql2>| <[Cql2; 1]>::try_from(read).ok();
        let two = |read: Vec<Cql2>| <[Cql2; 2]>::try_from(read).ok().map(Box::new);
        let three = |read: Vec<Cql2>| <[Cql2; 3]>::try_from(read).ok().map(Box::new);
        let boxed = |read| one(read).map(|[one]| Box::new(one));
        let (kind, wanted) = match name {
            "and" => ((read.len() > 1).then_some(Kind::And(read)), "at least 2 arguments"),
            "or" => ((read.len() > 1).then_some(Kind::Or(read)), "at least 2 arguments"),
            "not" => (boxed(read).map(Kind::Not), "1 argument"),
            "isNull" => (boxed(read).map(Kind::IsNull), "1 argument"),
            "casei" => (boxed(read).map(Kind::CaseI), "1 argument"),
            "like" => (two(read).map(Kind::Like), "2 arguments"),
            "between" => (three(read).map(Kind::Between), "3 arguments"),
            _ => {
                if let Some(relation) = Relation::named(name) {
                    (two(read).map(|sides| Kind::Compare(relation, sides)), "2 arguments")
                } else if let Some(operator) = Arithmetic::named(name) {
                    (two(read).map(|sides| Kind::Arithmetic(operator, sides)), "2 arguments")
                } else if let Some(operator) = TemporalOperator::named(name) {
                    (two(read).map(|sides| Kind::Temporal(operator, sides)), "2 arguments")
                } else if read.is_empty() {
                    return self.leaf(Kind::Function(name.into(), read), at);
                } else {
                    (Some(Kind::Function(name.into(), read)), "")
                }
            }
        };
        match kind {
            Some(kind) => Ok(Cql2::new(kind, at)),
            None => count(self, wanted),
        }
    }
}

/// An argument of an operator: an expression, or the list of `in`.
enum Argument<'e> {
    One(&'e Cql2),
    List(&'e [Cql2]),
}

impl Serialize for Argument<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Argument::One(one) => one.serialize(serializer),
            Argument::List(items) => items.serialize(serializer),
        }
    }
}

/// An end of an interval, which is a text if it is a value.
struct End<'e>(&'e Cql2);

impl Serialize for End<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self.0.kind() {
            Kind::OpenEnd => serializer.serialize_str(".."),
            Kind::Date(date) => serializer.collect_str(date),
            Kind::Timestamp(timestamp) => serializer.collect_str(timestamp),
            _ => self.0.serialize(serializer),
        }
    }
}

impl Serialize for Number {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let float = self.to_float();
        // Two shortest texts may be equally near to a float, and serde_json writes the one and Rust the other.
        let shortest = serde_json::to_string(&float).map_err(serde::ser::Error::custom)?;
        match self {
            Number::Whole(whole) => serializer.serialize_i64(*whole),
            exact if Number::parse(&shortest) == Some(*exact) => serializer.serialize_f64(float),
            // A float would lose digits.
            exact => RawValue::from_string(exact.to_string())
                .map_err(serde::ser::Error::custom)?
                .serialize(serializer),
        }
    }
}

/// Writes CQL2 JSON.
impl Serialize for Cql2 {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let op = |serializer: S, name: &str, arguments: &[Argument<'_>]| {
            let mut map = serializer.serialize_map(Some(2))?;
            map.serialize_entry("op", name)?;
            map.serialize_entry("args", arguments)?;
            map.end()
        };
        let of_all = |serializer: S, name: &str, arguments: &[Cql2]| {
            let arguments: Vec<Argument<'_>> = arguments.iter().map(Argument::One).collect();
            op(serializer, name, &arguments)
        };
        let single = |serializer: S, name: &str, value: &dyn fmt::Display| {
            let mut map = serializer.serialize_map(Some(1))?;
            map.serialize_entry(name, &value.to_string())?;
            map.end()
        };
        match self.kind() {
            Kind::Boolean(value) => serializer.serialize_bool(*value),
            Kind::Text(text) => serializer.serialize_str(text),
            Kind::Number(number) => number.serialize(serializer),
            Kind::Date(date) => single(serializer, "date", date),
            Kind::Timestamp(timestamp) => single(serializer, "timestamp", timestamp),
            Kind::Property(name) => single(serializer, "property", name),
            Kind::Interval(ends) => {
                let mut map = serializer.serialize_map(Some(1))?;
                map.serialize_entry("interval", &[End(&ends[0]), End(&ends[1])])?;
                map.end()
            }
            Kind::OpenEnd => serializer.serialize_str(".."),
            Kind::And(terms) => of_all(serializer, "and", terms),
            Kind::Or(terms) => of_all(serializer, "or", terms),
            Kind::Not(one) => op(serializer, "not", &[Argument::One(one)]),
            Kind::Compare(relation, sides) => {
                of_all(serializer, relation.as_str(), sides.as_slice())
            }
            Kind::Like(sides) => of_all(serializer, "like", sides.as_slice()),
            Kind::Between(parts) => of_all(serializer, "between", parts.as_slice()),
            Kind::In(value, items) => {
                op(serializer, "in", &[Argument::One(value), Argument::List(items)])
            }
            Kind::IsNull(one) => op(serializer, "isNull", &[Argument::One(one)]),
            Kind::Temporal(operator, sides) => {
                of_all(serializer, operator.as_str(), sides.as_slice())
            }
            Kind::Arithmetic(operator, sides) => {
                of_all(serializer, operator.as_str(), sides.as_slice())
            }
            Kind::CaseI(one) => op(serializer, "casei", &[Argument::One(one)]),
            Kind::Function(name, arguments) => of_all(serializer, name, arguments),
            Kind::TooDeep => Err(serde::ser::Error::custom("the expression is nested too deeply")),
        }
    }
}
