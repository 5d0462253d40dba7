//! The check of a filter: from the tree of CQL2 to a [`Term`], by the names of an offer. Every mistake has its place.

use super::class::Class;
use super::names::Names;
use super::operand::Operand;
use super::predicate::Predicate;
use super::route::Route;
use super::temporal;
use super::term::Term;
use crate::cql2::{Cql2, Kind};
use crate::model::{Mistake, MistakeKind, Place};

pub(super) type Checked<T> = Result<T, Mistake>;

/// A condition that is not yet inside the children that it is about.
struct Open {
    route: Route,
    term: Term,
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
    let mut predicate = Predicate::over(names);
    let term = check(&mut predicate)?;
    match predicate.apart() {
        true => Ok(closed(inside(predicate.route(), term))),
        false => Ok(Open { route: predicate.route(), term }),
    }
}
