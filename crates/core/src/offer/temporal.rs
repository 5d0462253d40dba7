//! The temporal functions of CQL2: relations of two instants or intervals, by comparisons of their ends.

use super::check::{Checked, wrong};
use super::class::Class;
use super::names::OfferedUse;
use super::operand::Operand;
use super::predicate::Predicate;
use super::term::{Term, Value};
use crate::cql2::{Cql2, Kind, TemporalOperator};
use crate::model::{Mistake, MistakeKind, Place};
use crate::tree::Comparison;

/// An end of an interval. An instant has itself as both ends.
#[derive(Clone)]
enum End {
    /// Before every instant.
    Open,
    At {
        value: Value,
        nullable: bool,
    },
    /// After every instant.
    OpenAfter,
}

/// One side of a temporal function.
struct Side {
    start: End,
    end: End,
    is_instant: bool,
    at: Place,
}

/// Checks a temporal function.
pub(super) fn check(
    predicate: &mut Predicate<'_>,
    operator: TemporalOperator,
    sides: &[Cql2; 2],
) -> Checked<Term> {
    let class = class_of(predicate, sides)?;
    let [left, right] = sides;
    let (a, b) = (side(predicate, left, class)?, side(predicate, right, class)?);
    let both = matches!(
        operator,
        TemporalOperator::After
            | TemporalOperator::Before
            | TemporalOperator::Equals
            | TemporalOperator::Disjoint
            | TemporalOperator::Intersects
    );
    let instant = [&a, &b].into_iter().find(|side| side.is_instant);
    let allowed = both || operator == TemporalOperator::During && !b.is_instant;
    if let (Some(instant), false) = (instant, allowed) {
        let wrong_side = if operator == TemporalOperator::During { &b } else { instant };
        let name = operator.as_str().to_uppercase();
        let message = format!(
            "{name} compares intervals: INTERVAL('2023-01-01', '2023-12-31') is expected here"
        );
        return Err(wrong(wrong_side.at, message));
    }
    let (less, equal) = (
        |a: &End, b: &End| compared(Comparison::Less, a, b),
        |a: &End, b: &End| compared(Comparison::Equal, a, b),
    );
    let terms = match operator {
        TemporalOperator::After => vec![less(&b.end, &a.start)],
        TemporalOperator::Before => vec![less(&a.end, &b.start)],
        TemporalOperator::Equals => vec![equal(&a.start, &b.start), equal(&a.end, &b.end)],
        TemporalOperator::Disjoint => {
            return Ok(Term::Any(vec![less(&a.end, &b.start), less(&b.end, &a.start)]));
        }
        TemporalOperator::Intersects => vec![
            compared(Comparison::LessOrEqual, &b.start, &a.end),
            compared(Comparison::LessOrEqual, &a.start, &b.end),
        ],
        TemporalOperator::Contains => vec![less(&a.start, &b.start), less(&b.end, &a.end)],
        TemporalOperator::During => vec![less(&b.start, &a.start), less(&a.end, &b.end)],
        TemporalOperator::FinishedBy => vec![less(&a.start, &b.start), equal(&a.end, &b.end)],
        TemporalOperator::Finishes => vec![less(&b.start, &a.start), equal(&a.end, &b.end)],
        TemporalOperator::Meets => vec![equal(&a.end, &b.start)],
        TemporalOperator::MetBy => vec![equal(&a.start, &b.end)],
        TemporalOperator::Overlaps => {
            vec![less(&a.start, &b.start), less(&b.start, &a.end), less(&a.end, &b.end)]
        }
        TemporalOperator::OverlappedBy => {
            vec![less(&b.start, &a.start), less(&a.start, &b.end), less(&b.end, &a.end)]
        }
        TemporalOperator::StartedBy => vec![equal(&a.start, &b.start), less(&b.end, &a.end)],
        TemporalOperator::Starts => vec![equal(&a.start, &b.start), less(&a.end, &b.end)],
    };
    Ok(Term::All(terms))
}

/// Returns the expressions of both sides, without the open ends.
fn ends(sides: &[Cql2; 2]) -> impl Iterator<Item = &Cql2> {
    sides
        .iter()
        .flat_map(|side| match side.kind() {
            Kind::Interval(ends) => ends.as_slice(),
            _ => std::slice::from_ref(side),
        })
        .filter(|end| !matches!(end.kind(), Kind::OpenEnd))
}

/// Returns the class of all instants of both sides: that of the first name, or else of the first value.
fn class_of(predicate: &mut Predicate<'_>, sides: &[Cql2; 2]) -> Checked<Class> {
    let mut class = None;
    for end in ends(sides) {
        let operand = predicate.operand(end)?;
        let (given, place) = operand.class();
        if !given.is_instant() {
            return Err(wrong(
                place,
                format!("a date, a timestamp or an interval is expected, found {}", given.noun()),
            ));
        }
        match operand {
            Operand::Typed(_) => return Ok(given),
            Operand::Literal(..) => class = class.or(Some(given)),
        }
    }
    // Intervals that are open at both ends compare as any instants do.
    Ok(class.unwrap_or(Class::Date))
}

fn side(predicate: &mut Predicate<'_>, expression: &Cql2, class: Class) -> Checked<Side> {
    let at = expression.at;
    let Kind::Interval(interval) = expression.kind() else {
        let instant = instant(predicate, expression, class)?;
        return Ok(Side { start: instant.clone(), end: instant, is_instant: true, at });
    };
    let [from, to] = &**interval;
    let ordered = match (from.kind(), to.kind()) {
        (Kind::Date(from), Kind::Date(to)) => from <= to,
        (Kind::Timestamp(from), Kind::Timestamp(to)) => from <= to,
        _ => true,
    };
    if !ordered {
        return Err(Mistake::new(
            MistakeKind::InvalidValue,
            at,
            "the interval ends before it begins",
        ));
    }
    let mut end = |end: &Cql2, open: End| match end.kind() {
        Kind::OpenEnd => Ok(open),
        _ => instant(predicate, end, class),
    };
    let (start, end) = (end(from, End::Open)?, end(to, End::OpenAfter)?);
    Ok(Side { start, end, is_instant: false, at })
}

/// Checks an instant, which is of the class of all others.
fn instant(predicate: &mut Predicate<'_>, expression: &Cql2, class: Class) -> Checked<End> {
    let typed = match predicate.operand(expression)? {
        Operand::Literal(kind, at) => {
            let value = Value::Bind(class.bind(kind, at)?);
            return Ok(End::At { value, nullable: false });
        }
        Operand::Typed(typed) => typed,
    };
    predicate.allow(&typed, OfferedUse::Temporal)?;
    match typed.class == class {
        true => Ok(End::At { value: typed.value, nullable: typed.nullable }),
        false => {
            let message = format!("{} is expected, found {}", class.noun(), typed.class.noun());
            Err(wrong(typed.at, message))
        }
    }
}

/// Compares two ends. One that is open is before or after every instant.
fn compared(comparison: Comparison, left: &End, right: &End) -> Term {
    let order = |end: &End| match end {
        End::Open => -1,
        End::At { .. } => 0,
        End::OpenAfter => 1,
    };
    if let (End::At { value: left, .. }, End::At { value: right, .. }) = (left, right) {
        return match (left, right) {
            (Value::Bind(_), other) if !matches!(other, Value::Bind(_)) => {
                let turned = match comparison {
                    Comparison::Less => Comparison::Greater,
                    Comparison::LessOrEqual => Comparison::GreaterOrEqual,
                    other => other,
                };
                Term::Compare(turned, right.clone(), left.clone())
            }
            _ => Term::Compare(comparison, left.clone(), right.clone()),
        };
    }
    let (of_left, of_right) = (order(left), order(right));
    let holds = match comparison {
        Comparison::Less => of_left < of_right,
        Comparison::LessOrEqual => of_left <= of_right,
        _ => of_left == of_right,
    };
    match (left, right) {
        (End::At { value, nullable: true }, _) | (_, End::At { value, nullable: true }) => {
            Term::Known(holds, value.clone())
        }
        _ => Term::Constant(holds),
    }
}
