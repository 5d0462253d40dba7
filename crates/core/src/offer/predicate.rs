//! The check of one predicate: its names, the types of its operands, and the uses that are offered.

use super::check::{Checked, wrong};
use super::class::Class;
use super::names::{Entry, EntryKind, LONGEST_PATH, Names, OfferedUse};
use super::operand::{Operand, Typed, check_order, literal, unify};
use super::route::Route;
use super::term::{Term, Value};
use crate::cql2::{Arithmetic, Cql2, Kind, Relation};
use crate::model::{Mistake, MistakeKind, Place};
use crate::tree::Comparison;

/// The check of one predicate.
pub(super) struct Predicate<'n> {
    names: &'n Names,
    /// The children of its names so far.
    route: Route,
    /// True if the children say that each term stands for itself.
    apart: bool,
}

/// A name that was looked up.
struct Found<'n> {
    route: Route,
    index: usize,
    entry: &'n Entry,
    apart: bool,
}

/// Looks up a name, also of children.
fn look_up<'n>(names: &'n Names, wanted: &str) -> Option<Found<'n>> {
    // A name of many dots would be looked up once for each.
    if wanted.len() > LONGEST_PATH {
        return None;
    }
    if let Some((index, _, entry)) = names.entries.get_full(wanted) {
        return Some(Found { route: Route::HERE, index, entry, apart: false });
    }
    let dots = wanted.match_indices('.');
    dots.filter_map(|(dot, _)| {
        let (children, rest) = wanted.split_at_checked(dot)?;
        let (child, _, entry) = names.entries.get_full(children)?;
        let EntryKind::Children { names, apart } = &entry.kind else { return None };
        let mut found = look_up(names, rest.get(1..)?)?;
        found.route = Route::to(child, found.route)?;
        found.apart |= apart;
        Some(found)
    })
    .next()
}

/// Returns the mistake of a name that is not offered.
#[cold]
pub(super) fn unknown(names: &Names, name: &str, at: Place) -> Mistake {
    let mut message = format!("unknown name `{}`", name.chars().take(64).collect::<String>());
    if let Some(nearest) = names.nearest(name) {
        message.push_str(&format!("; did you mean `{nearest}`?"));
    } else {
        let mut offered = Vec::new();
        names.each_name("", &mut |name| offered.push(format!("`{name}`")));
        let more = offered.len().saturating_sub(12);
        offered.truncate(12);
        message.push_str(&format!("; offered are {}", offered.join(", ")));
        if more > 0 {
            message.push_str(&format!(" and {more} more"));
        }
    }
    Mistake::new(MistakeKind::UnknownName, at, message)
}

impl<'n> Predicate<'n> {
    pub(super) fn over(names: &'n Names) -> Predicate<'n> {
        Predicate { names, route: Route::HERE, apart: false }
    }

    /// Returns the children that its names belong to.
    pub(super) fn route(&self) -> Route {
        self.route
    }

    /// Returns whether these children say that each term stands for itself.
    pub(super) fn apart(&self) -> bool {
        self.apart
    }

    /// Checks a value.
    pub(super) fn operand<'e>(&mut self, expression: &'e Cql2) -> Checked<Operand<'e, 'n>> {
        let at = expression.at;
        let typed = match expression.kind() {
            literal if Class::of_literal(literal).is_some() => {
                return Ok(Operand::Literal(literal, at));
            }
            Kind::Property(name) => self.name(name, at)?,
            Kind::Arithmetic(operator, sides) => {
                self.arithmetic(*operator, &sides[0], &sides[1], at)?
            }
            Kind::CaseI(inner) => {
                let mut typed = self.text(inner)?;
                self.allow(&typed, OfferedUse::CaseI)?;
                typed.value = Value::Lower(Box::new(typed.value));
                typed.value_type = None;
                typed
            }
            Kind::Function(name, arguments) => self.function(name, arguments, at)?,
            Kind::Interval(_) => {
                return Err(wrong(
                    at,
                    "an interval stands only in temporal functions, such as T_DURING",
                ));
            }
            _ => return Err(wrong(at, "a value is expected, found a condition")),
        };
        Ok(Operand::Typed(typed))
    }

    /// Checks a value that has a type of its own: a literal gets its usual one.
    fn typed(&mut self, expression: &Cql2) -> Checked<Typed<'n>> {
        match self.operand(expression)? {
            Operand::Typed(typed) => Ok(typed),
            Operand::Literal(kind, at) => literal(kind, at),
        }
    }

    fn text(&mut self, expression: &Cql2) -> Checked<Typed<'n>> {
        let typed = self.typed(expression)?;
        match typed.class {
            Class::Text => Ok(typed),
            other => Err(wrong(typed.at, format!("text is expected, found {}", other.noun()))),
        }
    }

    fn name(&mut self, name: &str, at: Place) -> Checked<Typed<'n>> {
        let found = look_up(self.names, name).ok_or_else(|| unknown(self.names, name, at))?;
        let EntryKind::Value(value_type) = &found.entry.kind else {
            let message = format!(
                "`{name}` are children: name one of their values, such as {}",
                example(found.entry, name)
            );
            return Err(Mistake::new(MistakeKind::UnknownName, at, message));
        };
        let level = found.route.levels();
        let is_along = match level > self.route.levels() {
            true => self.route.begins(found.route),
            false => found.route.begins(self.route),
        };
        if !is_along {
            let message = "one comparison can be about one kind of children only";
            return Err(Mistake::new(MistakeKind::NotOffered, at, message));
        }
        if level > self.route.levels() {
            self.route = found.route;
        }
        self.apart |= found.apart;
        Ok(Typed {
            value: Value::Name { level: number(level), index: number(found.index) },
            class: Class::of(value_type.sql_type),
            nullable: value_type.nullable,
            value_type: Some(value_type),
            entry: Some(found.entry),
            at,
        })
    }

    /// Refuses a use that is not offered.
    pub(super) fn allow(&self, typed: &Typed<'_>, wanted: OfferedUse) -> Checked<()> {
        match typed.entry {
            Some(entry) if !entry.uses.allows(wanted) => {
                let name = &entry.name;
                let (wanted, uses) = (wanted.as_str(), entry.uses);
                let verb = if wanted.contains(' ') && wanted != "IS NULL" { "are" } else { "is" };
                let but =
                    if uses.is_empty() { String::new() } else { format!(", but only {uses}") };
                let message = format!("{wanted} {verb} not offered for `{name}`{but}");
                Err(Mistake::new(MistakeKind::NotOffered, typed.at, message))
            }
            _ => Ok(()),
        }
    }

    pub(super) fn allow_operand(
        &self,
        operand: &Operand<'_, '_>,
        wanted: OfferedUse,
    ) -> Checked<()> {
        match operand {
            Operand::Typed(typed) => self.allow(typed, wanted),
            Operand::Literal(..) => Ok(()),
        }
    }

    pub(super) fn comparison(
        &mut self,
        relation: Relation,
        left: &Cql2,
        right: &Cql2,
    ) -> Checked<Term> {
        let operands = [self.operand(left)?, self.operand(right)?];
        let (comparison, wanted) = match relation {
            Relation::Equal => (Comparison::Equal, OfferedUse::Equal),
            Relation::NotEqual => (Comparison::NotEqual, OfferedUse::NotEqual),
            Relation::Less => (Comparison::Less, OfferedUse::Ordered),
            Relation::LessOrEqual => (Comparison::LessOrEqual, OfferedUse::Ordered),
            Relation::Greater => (Comparison::Greater, OfferedUse::Ordered),
            Relation::GreaterOrEqual => (Comparison::GreaterOrEqual, OfferedUse::Ordered),
        };
        for operand in &operands {
            self.allow_operand(operand, wanted)?;
        }
        let [left, right] = operands;
        let (class, sides) = unify(left, right)?;
        if wanted == OfferedUse::Ordered {
            check_order(class, &sides)?;
        }
        let [left, right] = sides.map(|side| side.value);
        // The literal stands on the right, where the tree looks for it.
        let (comparison, left, right) = match (left, right) {
            (left @ Value::Bind(_), right) if !matches!(right, Value::Bind(_)) => {
                (turned(comparison), right, left)
            }
            sides => (comparison, sides.0, sides.1),
        };
        Ok(Term::Compare(comparison, left, right))
    }

    pub(super) fn between(&mut self, parts: &[Cql2; 3]) -> Checked<Term> {
        let [value, low, high] = parts;
        let mut beside = |end: &Cql2| -> Checked<(Class, [Value; 2])> {
            let (value, end) = (self.operand(value)?, self.operand(end)?);
            self.allow_operand(&value, OfferedUse::Between)?;
            self.allow_operand(&end, OfferedUse::Between)?;
            let (class, sides) = unify(value, end)?;
            check_order(class, &sides)?;
            Ok((class, sides.map(|side| side.value)))
        };
        let (of_low, [value, low]) = beside(low)?;
        let (of_high, [again, high]) = beside(high)?;
        Ok(match of_low == of_high {
            true => Term::Between(Box::new([value, low, high])),
            // The ends are numbers of different classes, and so is the value beside each.
            false => Term::All(vec![
                Term::Compare(Comparison::GreaterOrEqual, value, low),
                Term::Compare(Comparison::LessOrEqual, again, high),
            ]),
        })
    }

    pub(super) fn one_of(&mut self, value: &Cql2, items: &[Cql2]) -> Checked<Term> {
        if let Operand::Typed(typed) = self.operand(value)? {
            self.allow(&typed, OfferedUse::In)?;
            if let Some(list) = typed.list(items)? {
                return Ok(Term::OneOf(typed.value, list));
            }
        }
        // The value stands beside each item, so that a large one would grow with their number.
        let most = self.names.bounds.terms;
        if value.leaves().saturating_mul(items.len()) > most {
            let message = format!(
                "a computed value beside so many items of IN has more than {most} names and values"
            );
            return Err(Mistake::new(MistakeKind::TooLarge, value.at, message));
        }
        let mut equal = Vec::with_capacity(items.len());
        for item in items {
            let (value, item) = (self.operand(value)?, self.operand(item)?);
            self.allow_operand(&item, OfferedUse::In)?;
            let (_, sides) = unify(value, item)?;
            let [value, item] = sides.map(|side| side.value);
            equal.push(Term::Compare(Comparison::Equal, value, item));
        }
        Ok(Term::Any(equal))
    }

    pub(super) fn is_null(&mut self, value: &Cql2) -> Checked<Term> {
        let typed = self.typed(value)?;
        self.allow(&typed, OfferedUse::IsNull)?;
        Ok(Term::IsNull(typed.value))
    }

    pub(super) fn like(&mut self, text: &Cql2, pattern: &Cql2) -> Checked<Term> {
        let text = self.text(text)?;
        self.allow(&text, OfferedUse::Like)?;
        let (pattern, any_case) = match pattern.kind() {
            Kind::CaseI(inner) => (&**inner, true),
            _ => (pattern, false),
        };
        let at = pattern.at;
        let Kind::Text(written) = pattern.kind() else {
            return Err(wrong(at, "a pattern is expected: text in single quotes, or CASEI of one"));
        };
        let invalid = |reason: &'static str| Mistake::new(MistakeKind::InvalidValue, at, reason);
        if written.contains('\0') {
            return Err(invalid("text with a NUL character cannot be sent to a database"));
        }
        let pattern = crate::build::expr::pattern_in_tree(written, Some('\\')).map_err(invalid)?;
        Ok(Term::Like { text: text.value, pattern, any_case })
    }

    fn arithmetic(
        &mut self,
        operator: Arithmetic,
        left: &Cql2,
        right: &Cql2,
        at: Place,
    ) -> Checked<Typed<'n>> {
        let operands = [self.operand(left)?, self.operand(right)?];
        for operand in &operands {
            self.allow_operand(operand, OfferedUse::Computing)?;
            let (class, place) = operand.class();
            if !class.is_number() {
                let message =
                    format!("`{}` needs numbers, found {}", operator.as_str(), class.noun());
                return Err(wrong(place, message));
            }
        }
        let [left, right] = operands;
        let (class, sides) = unify(left, right)?;
        let class = match operator {
            // A quotient and a power have a fraction.
            Arithmetic::Divide | Arithmetic::Power => Class::Float,
            Arithmetic::DivideWhole | Arithmetic::Remainder if class != Class::Whole => {
                let message = format!("`{}` needs whole numbers on both sides", operator.as_str());
                return Err(wrong(at, message));
            }
            Arithmetic::Add
            | Arithmetic::Subtract
            | Arithmetic::Multiply
            | Arithmetic::DivideWhole
            | Arithmetic::Remainder => class,
        };
        let may_fail = matches!(
            operator,
            Arithmetic::Divide
                | Arithmetic::DivideWhole
                | Arithmetic::Remainder
                | Arithmetic::Power
        );
        let nullable = may_fail || sides.iter().any(|side| side.nullable);
        let sides = sides.map(|side| side.cast(class).value);
        Ok(Typed {
            value: Value::Arithmetic(operator, Box::new((class, sides))),
            class,
            nullable,
            value_type: None,
            entry: None,
            at,
        })
    }

    fn function(&mut self, name: &str, arguments: &[Cql2], at: Place) -> Checked<Typed<'n>> {
        let names: &'n Names = self.names;
        let Some((index, _, function)) = names.functions.get_full(name) else {
            let mut message =
                format!("unknown function `{}`", name.chars().take(64).collect::<String>());
            let offered: Vec<String> = names
                .functions
                .keys()
                .map(|name| format!("`{name}`"))
                .collect();
            message.push_str(&match offered.is_empty() {
                true => "; no functions are offered".to_owned(),
                false => format!("; offered are {}", offered.join(", ")),
            });
            return Err(Mistake::new(MistakeKind::UnknownName, at, message));
        };
        if arguments.len() != function.parameters.len() {
            let given = arguments.len();
            let wanted = match function.parameters.len() {
                1 => "1 argument".to_owned(),
                more => format!("{more} arguments"),
            };
            let message = format!("`{name}` takes {wanted}, found {given}");
            return Err(Mistake::new(MistakeKind::Syntax, at, message));
        }
        let mut nullable = function.result.nullable;
        let mut values = Vec::with_capacity(arguments.len());
        for (argument, parameter) in arguments.iter().zip(&function.parameters) {
            let wanted = Class::of(parameter.sql_type);
            values.push(match self.operand(argument)? {
                Operand::Literal(kind, at) => Value::Bind(parameter.bind(kind, at)?),
                Operand::Typed(typed) => {
                    self.allow(&typed, OfferedUse::Computing)?;
                    nullable |= typed.nullable;
                    let fits = typed.class == wanted
                        || typed.class.is_number()
                            && wanted.is_number()
                            && typed.class.common_number(wanted) == wanted;
                    if !fits {
                        let message =
                            format!("{} is expected, found {}", wanted.noun(), typed.class.noun());
                        return Err(wrong(typed.at, message));
                    }
                    typed.cast(wanted).value
                }
            });
        }
        Ok(Typed {
            value: Value::Call(index, values),
            class: Class::of(function.result.sql_type),
            nullable,
            value_type: Some(&function.result),
            entry: None,
            at,
        })
    }
}

/// Returns the comparison with its sides exchanged.
fn turned(comparison: Comparison) -> Comparison {
    match comparison {
        Comparison::Less => Comparison::Greater,
        Comparison::LessOrEqual => Comparison::GreaterOrEqual,
        Comparison::Greater => Comparison::Less,
        Comparison::GreaterOrEqual => Comparison::LessOrEqual,
        other => other,
    }
}

/// Returns a number of a level or a name, of which the build of an offer allows no more.
fn number(index: usize) -> u16 {
    u16::try_from(index).unwrap_or(u16::MAX)
}

/// Returns the name of a value of children, as an example.
fn example(entry: &Entry, name: &str) -> String {
    let mut first = None;
    if let EntryKind::Children { names, .. } = &entry.kind {
        names.each_name(name, &mut |name| {
            first.get_or_insert_with(|| format!("`{name}`"));
        });
    }
    first.unwrap_or_default()
}

/// Looks up a name that has one value for each row: not one of children.
pub(super) fn own_value<'n>(
    names: &'n Names,
    name: &str,
    at: Place,
) -> Checked<(usize, &'n Entry)> {
    let found = look_up(names, name).ok_or_else(|| unknown(names, name, at))?;
    match (&found.entry.kind, found.route == Route::HERE) {
        (EntryKind::Value(_), true) => Ok((found.index, found.entry)),
        _ => {
            let message = format!(
                "`{name}` is of children, which are several: it is offered for filters only"
            );
            Err(Mistake::new(MistakeKind::NotOffered, at, message))
        }
    }
}
