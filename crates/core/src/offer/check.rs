//! The check of a filter: from the tree of CQL2 to a [`Term`], by the names of an offer. Every mistake has its place.

use super::class::Class;
use super::names::{Entry, EntryKind, Names, OfferedUse, ValueType};
use super::temporal;
use super::term::{Term, Value};
use crate::cql2::{Arithmetic, Cql2, Kind, Number, Relation};
use crate::model::{BindValue, List, Mistake, MistakeKind, Place};
use crate::tree::Comparison;

/// The children that a condition is about, from the outermost: for each level the number of the children among its names,
/// plus one, in 16 bits.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
struct Route(u64);

impl Route {
    const BITS: u32 = u16::BITS;

    /// Returns the route of the row itself.
    const HERE: Route = Route(0);

    /// Returns the route to children and from there on; `None` for more levels than an offer may have.
    fn to(child: usize, rest: Route) -> Option<Route> {
        let step = u64::from(u16::try_from(child).ok()?) + 1;
        let has_room = rest.0.leading_zeros() >= Route::BITS;
        has_room.then_some(Route(rest.0 << Route::BITS | step))
    }

    /// Returns the outermost children, and the route from there on.
    fn first(self) -> Option<(usize, Route)> {
        let step = (self.0 & u64::from(u16::MAX)) as usize;
        Some((step.checked_sub(1)?, Route(self.0 >> Route::BITS)))
    }

    /// Returns the number of levels.
    fn levels(self) -> usize {
        (u64::BITS - self.0.leading_zeros()).div_ceil(Route::BITS) as usize
    }

    /// Returns whether the other begins with this route.
    fn begins(self, other: Route) -> bool {
        match (self.first(), other.first()) {
            (None, _) => true,
            (Some((child, rest)), Some((other, others))) => child == other && rest.begins(others),
            (Some(_), None) => false,
        }
    }
}

pub(super) type Checked<T> = Result<T, Mistake>;

/// A condition that is not yet inside the children that it is about.
struct Open {
    route: Route,
    term: Term,
}

/// A value with its type.
pub(super) struct Typed<'n> {
    pub(super) value: Value,
    pub(super) class: Class,
    pub(super) nullable: bool,
    /// The type of a name itself, which says what values it has.
    value_type: Option<&'n ValueType>,
    /// The name that it is, whose uses may be restricted.
    entry: Option<&'n Entry>,
    pub(super) at: Place,
}

/// A literal, whose type depends on the other side, or a value that has one.
pub(super) enum Operand<'e, 'n> {
    Literal(&'e Kind, Place),
    Typed(Typed<'n>),
}

/// Checks a condition.
pub(super) fn check(names: &Names, expression: &Cql2) -> Checked<Term> {
    let open = condition(names, expression)?;
    Ok(inside(open.route, open.term))
}

/// Puts a term into the children that it is about.
fn inside(route: Route, term: Term) -> Term {
    match route.first() {
        None => term,
        Some((child, rest)) => Term::Child(child, Box::new(inside(rest, term))),
    }
}

fn closed(term: Term) -> Open {
    Open { route: Route::HERE, term }
}

pub(super) fn wrong(at: Place, message: impl Into<String>) -> Mistake {
    Mistake::new(MistakeKind::WrongType, at, message.into())
}

fn condition(names: &Names, expression: &Cql2) -> Checked<Open> {
    let at = expression.at;
    match expression.kind() {
        Kind::Boolean(holds) => Ok(closed(Term::Constant(*holds))),
        Kind::And(terms) => {
            let mut joined = Conjunction::new(terms.len());
            conjunction(names, terms, &mut joined)?;
            Ok(joined.finish())
        }
        Kind::Or(terms) => {
            let open = terms.iter().map(|term| condition(names, term));
            let open: Vec<Open> = open.collect::<Checked<_>>()?;
            Ok(any_of(open))
        }
        // The opposite of "there is such a child" is that there is none.
        Kind::Not(inner) => {
            let Open { route, term } = condition(names, inner)?;
            Ok(closed(Term::Not(Box::new(inside(route, term)))))
        }
        Kind::Compare(relation, sides) => predicate(names, |check| {
            let [left, right] = &**sides;
            check.comparison(*relation, left, right)
        }),
        Kind::Like(sides) => predicate(names, |check| check.like(&sides[0], &sides[1])),
        Kind::Between(parts) => predicate(names, |check| check.between(parts)),
        Kind::In(value, items) => predicate(names, |check| check.one_of(value, items)),
        Kind::IsNull(value) => predicate(names, |check| check.is_null(value)),
        Kind::Temporal(operator, sides) => {
            predicate(names, |check| temporal::check(check, *operator, sides))
        }
        Kind::Function(..) => predicate(names, |check| match check.operand(expression)? {
            Operand::Typed(typed) if typed.class == Class::Boolean => Ok(Term::Holds(typed.value)),
            _ => Err(wrong(
                at,
                "a condition is expected, and this function returns a value: compare it",
            )),
        }),
        Kind::Property(name) => predicate(names, |check| {
            let Operand::Typed(typed) = check.operand(expression)? else {
                return Ok(Term::Constant(false));
            };
            let example = match typed.class {
                Class::Boolean => format!("a comparison is expected, such as `{name} = TRUE`"),
                _ => format!("a comparison is expected, such as `{name} = ..`"),
            };
            Err(Mistake::new(MistakeKind::Syntax, at, example))
        }),
        Kind::TooDeep => {
            Err(Mistake::new(MistakeKind::TooLarge, at, "the filter is nested too deeply"))
        }
        Kind::Text(_)
        | Kind::Number(_)
        | Kind::Date(_)
        | Kind::Timestamp(_)
        | Kind::Interval(_)
        | Kind::OpenEnd
        | Kind::Arithmetic(..)
        | Kind::CaseI(_) => {
            Err(Mistake::new(MistakeKind::Syntax, at, "a condition is expected, found a value"))
        }
    }
}

/// Checks the terms of AND, with those of an AND inside it.
fn conjunction(names: &Names, terms: &[Cql2], joined: &mut Conjunction) -> Checked<()> {
    for term in terms {
        match term.kind() {
            Kind::And(inner) => conjunction(names, inner, joined)?,
            _ => joined.push(condition(names, term)?),
        }
    }
    Ok(())
}

/// The terms of AND. Those on the same children are about one child.
struct Conjunction {
    terms: Vec<Term>,
    /// The terms of each kind of children, as these see them.
    of_children: Vec<(usize, Conjunction)>,
}

impl Conjunction {
    fn new(terms: usize) -> Conjunction {
        Conjunction { terms: Vec::with_capacity(terms), of_children: Vec::new() }
    }

    fn push(&mut self, Open { route, term }: Open) {
        let Some((child, rest)) = route.first() else { return self.terms.push(term) };
        let inner = Open { route: rest, term };
        match self
            .of_children
            .iter_mut()
            .find(|(known, _)| *known == child)
        {
            Some((_, same)) => same.push(inner),
            None => {
                let mut same = Conjunction::new(2);
                same.push(inner);
                self.of_children.push((child, same));
            }
        }
    }

    fn finish(self) -> Open {
        let Conjunction { mut terms, mut of_children } = self;
        // If all are about the same children, an AND or OR around them may go on.
        if terms.is_empty() && of_children.len() == 1 {
            let only = of_children
                .pop()
                .map(|(child, same)| (child, same.finish()));
            if let Some((child, Open { route, term })) = only {
                return match Route::to(child, route) {
                    Some(route) => Open { route, term },
                    None => closed(Term::Child(child, Box::new(inside(route, term)))),
                };
            }
        }
        for (child, same) in of_children {
            let Open { route, term } = same.finish();
            terms.push(Term::Child(child, Box::new(inside(route, term))));
        }
        closed(match terms.len() {
            1 => terms.remove(0),
            _ => Term::All(terms),
        })
    }
}

/// Joins terms by OR. If all are about the same children, so is the OR.
fn any_of(open: Vec<Open>) -> Open {
    let route = open.first().map(|one| one.route).unwrap_or_default();
    if open.iter().all(|one| one.route == route) {
        return Open { route, term: Term::Any(open.into_iter().map(|one| one.term).collect()) };
    }
    let terms = open.into_iter().map(|one| inside(one.route, one.term));
    closed(Term::Any(terms.collect()))
}

/// Checks a condition without conditions inside it, which is about the children that its names belong to.
fn predicate(
    names: &Names,
    check: impl FnOnce(&mut Predicate<'_>) -> Checked<Term>,
) -> Checked<Open> {
    let mut predicate = Predicate { names, route: Route::HERE, apart: false };
    let term = check(&mut predicate)?;
    match predicate.apart {
        true => Ok(closed(inside(predicate.route, term))),
        false => Ok(Open { route: predicate.route, term }),
    }
}

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

    fn comparison(&mut self, relation: Relation, left: &Cql2, right: &Cql2) -> Checked<Term> {
        let operands = [self.operand(left)?, self.operand(right)?];
        let (comparison, wanted) = match relation {
            Relation::Equal => (Comparison::Equal, OfferedUse::Equal),
            Relation::NotEqual => (Comparison::NotEqual, OfferedUse::NotEqual),
            Relation::Less => (Comparison::Less, OfferedUse::Order),
            Relation::LessOrEqual => (Comparison::LessOrEqual, OfferedUse::Order),
            Relation::Greater => (Comparison::Greater, OfferedUse::Order),
            Relation::GreaterOrEqual => (Comparison::GreaterOrEqual, OfferedUse::Order),
        };
        for operand in &operands {
            self.allow_operand(operand, wanted)?;
        }
        let [left, right] = operands;
        let (class, sides) = unify(left, right)?;
        if wanted == OfferedUse::Order {
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

    fn between(&mut self, parts: &[Cql2; 3]) -> Checked<Term> {
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

    fn one_of(&mut self, value: &Cql2, items: &[Cql2]) -> Checked<Term> {
        if let Operand::Typed(typed) = self.operand(value)? {
            self.allow(&typed, OfferedUse::In)?;
            if let Some(list) = typed.list(items)? {
                return Ok(Term::OneOf(typed.value, list));
            }
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

    fn is_null(&mut self, value: &Cql2) -> Checked<Term> {
        let typed = self.typed(value)?;
        self.allow(&typed, OfferedUse::IsNull)?;
        Ok(Term::IsNull(typed.value))
    }

    fn like(&mut self, text: &Cql2, pattern: &Cql2) -> Checked<Term> {
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

/// Returns a literal with its usual type.
fn literal<'n>(kind: &Kind, at: Place) -> Checked<Typed<'n>> {
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
    fn cast(self, to: Class) -> Typed<'n> {
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
    fn beside(self, kind: &Kind, at: Place) -> Checked<(Class, [Typed<'n>; 2])> {
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
    fn list(&self, items: &[Cql2]) -> Checked<Option<List>> {
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
