//! CQL2 in plain Rust: a filter as CQL2 JSON, over a row whose values are looked up by name. It shares no code with the
//! library.

use nepheline::prelude::*;
use serde_json::Value as Json;

/// A value of CQL2; NULL is `None`.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Plain {
    Bool(bool),
    Whole(i64),
    Float(f64),
    Text(String),
    Day(Date),
    At(Timestamp),
}

/// A row: the value of a name, and the rows of children.
pub(crate) trait PlainRow {
    fn value(&self, name: &str) -> Option<Plain>;

    fn children(&self, name: &str) -> Vec<&dyn PlainRow>;
}

/// The place where names are looked up: a row, and a child of it while a term on children is tested.
#[derive(Clone, Copy)]
struct Place<'r> {
    row: &'r dyn PlainRow,
    child: Option<(&'r str, &'r dyn PlainRow)>,
}

/// Returns whether a row passes a filter.
pub(crate) fn passes(filter: &Json, row: &dyn PlainRow) -> bool {
    test(filter, Place { row, child: None }) == Some(true)
}

/// Returns the truth of a condition; `None` is NULL.
fn test(condition: &Json, place: Place<'_>) -> Option<bool> {
    if let Json::Bool(value) = condition {
        return Some(*value);
    }
    let (op, args) = operator(condition);
    if place.child.is_none()
        && let Some(children) = about(condition)
    {
        return Some(exists(&[condition], &children, place));
    }
    match op {
        "and" => {
            let mut terms = Vec::new();
            flatten(args, &mut terms);
            let (of_children, own): (Vec<&Json>, Vec<&Json>) = terms
                .into_iter()
                .partition(|term| place.child.is_none() && about(term).is_some());
            let mut truths: Vec<Option<bool>> = own.iter().map(|term| test(term, place)).collect();
            // The terms of this AND, and of an AND inside it, are about one child.
            if let Some(children) = of_children.first().and_then(|first| about(first)) {
                truths.push(Some(exists(&of_children, &children, place)));
            }
            match () {
                () if truths.contains(&Some(false)) => Some(false),
                () if truths.contains(&None) => None,
                () => Some(true),
            }
        }
        "or" => {
            let truths: Vec<Option<bool>> = args.iter().map(|term| test(term, place)).collect();
            match () {
                () if truths.contains(&Some(true)) => Some(true),
                () if truths.contains(&None) => None,
                () => Some(false),
            }
        }
        "not" => test(&args[0], place).map(|holds| !holds),
        "isNull" => Some(value(&args[0], place).is_none()),
        "in" => {
            let items = args[1].as_array().unwrap();
            let truths: Vec<Option<bool>> = items
                .iter()
                .map(|item| Some(compare(&value(&args[0], place)?, &value(item, place)?)? == 0))
                .collect();
            match () {
                () if truths.contains(&Some(true)) => Some(true),
                () if truths.contains(&None) => None,
                () => Some(false),
            }
        }
        "between" => {
            let [this, low, high] = [0, 1, 2].map(|part| value(&args[part], place));
            let this = this?;
            let above = low.and_then(|low| Some(compare(&this, &low)? >= 0));
            let below = high.and_then(|high| Some(compare(&this, &high)? <= 0));
            match (above, below) {
                (Some(false), _) | (_, Some(false)) => Some(false),
                (above, below) => Some(above? && below?),
            }
        }
        "like" => {
            let (Plain::Text(text), Plain::Text(pattern)) =
                (value(&args[0], place)?, value(&args[1], place)?)
            else {
                panic!("LIKE of other values than texts")
            };
            let (text, pattern): (Vec<char>, Vec<char>) =
                (text.chars().collect(), pattern.chars().collect());
            Some(like(&text, &pattern))
        }
        _ if op.starts_with("t_") => temporal(op, args, place),
        _ => {
            let order = compare(&value(&args[0], place)?, &value(&args[1], place)?)?;
            Some(match op {
                "=" => order == 0,
                "<>" => order != 0,
                "<" => order < 0,
                "<=" => order <= 0,
                ">" => order > 0,
                ">=" => order >= 0,
                other => panic!("no comparison {other}"),
            })
        }
    }
}

/// Adds the terms of AND, with those of an AND inside it.
fn flatten<'j>(args: &'j [Json], terms: &mut Vec<&'j Json>) {
    for term in args {
        match term.get("op").and_then(Json::as_str) {
            Some("and") => flatten(term["args"].as_array().unwrap(), terms),
            _ => terms.push(term),
        }
    }
}

/// Returns whether a child passes all of these terms.
fn exists(terms: &[&Json], children: &str, place: Place<'_>) -> bool {
    place.row.children(children).into_iter().any(|child| {
        let inside = Place { child: Some((children, child)), ..place };
        terms.iter().all(|term| test(term, inside) == Some(true))
    })
}

/// Returns the children that a term is about: its only names are theirs, or it is one comparison with one of them. Below NOT
/// it is about the row itself.
fn about(term: &Json) -> Option<String> {
    let (op, args) = match term {
        Json::Object(object) if object.contains_key("op") => operator(term),
        Json::Object(object) => {
            if let Some(ends) = object.get("interval") {
                return about(ends);
            }
            let name = object.get("property")?.as_str()?;
            return name
                .split_once('.')
                .map(|(children, _)| children.to_owned());
        }
        Json::Array(items) => return items.iter().find_map(about),
        _ => return None,
    };
    match op {
        "not" => None,
        "and" | "or" => {
            let of = about(args.first()?)?;
            args.iter()
                .all(|term| about(term).as_ref() == Some(&of))
                .then_some(of)
        }
        _ => args.iter().find_map(about),
    }
}

fn operator(node: &Json) -> (&str, &[Json]) {
    (node["op"].as_str().unwrap(), node["args"].as_array().unwrap())
}

fn value(node: &Json, place: Place<'_>) -> Option<Plain> {
    match node {
        Json::Bool(value) => return Some(Plain::Bool(*value)),
        Json::String(text) => return Some(Plain::Text(text.clone())),
        Json::Number(number) => {
            return Some(match number.as_i64() {
                Some(whole) => Plain::Whole(whole),
                None => Plain::Float(number.as_f64().unwrap()),
            });
        }
        _ => {}
    }
    if let Some(name) = node.get("property").and_then(Json::as_str) {
        return match (place.child, name.split_once('.')) {
            (Some((children, child)), Some((of, name))) if of == children => child.value(name),
            _ => place.row.value(name),
        };
    }
    if let Some(day) = node.get("date").and_then(Json::as_str) {
        return Some(Plain::Day(day.parse().unwrap()));
    }
    if let Some(at) = node.get("timestamp").and_then(Json::as_str) {
        return Some(Plain::At(at.parse().unwrap()));
    }
    let (op, args) = operator(node);
    let argument = |place_of: usize| value(&args[place_of], place);
    match op {
        "casei" => match argument(0)? {
            Plain::Text(text) => Some(Plain::Text(
                text.chars()
                    .map(|c| {
                        let mut lower = c.to_lowercase();
                        if lower.len() == 1 { lower.next().unwrap() } else { c }
                    })
                    .collect(),
            )),
            other => panic!("CASEI of {other:?}"),
        },
        "length" => match argument(0)? {
            Plain::Text(text) => Some(Plain::Whole(text.chars().count() as i64)),
            other => panic!("the length of {other:?}"),
        },
        _ => computed(op, argument(0)?, argument(1)?),
    }
}

fn float(value: &Plain) -> f64 {
    match value {
        Plain::Whole(whole) => *whole as f64,
        Plain::Float(float) => *float,
        other => panic!("{other:?} is no number"),
    }
}

fn computed(op: &str, left: Plain, right: Plain) -> Option<Plain> {
    if let (Plain::Whole(left), Plain::Whole(right)) = (&left, &right) {
        let whole = match op {
            "+" => left.checked_add(*right),
            "-" => left.checked_sub(*right),
            "*" => left.checked_mul(*right),
            "div" => return left.checked_div(*right).map(Plain::Whole),
            "%" => return left.checked_rem(*right).map(Plain::Whole),
            _ => None,
        };
        if let Some(whole) = whole {
            return Some(Plain::Whole(whole));
        }
    }
    let (left, right) = (float(&left), float(&right));
    Some(Plain::Float(match op {
        "+" => left + right,
        "-" => left - right,
        "*" => left * right,
        "/" if right == 0.0 => return None,
        "/" => left / right,
        "^" if left < 0.0 && right.fract() != 0.0 || left == 0.0 && right < 0.0 => return None,
        "^" => left.powf(right),
        other => panic!("no operator {other}"),
    }))
}

/// Returns the order of two values, as -1, 0 or 1.
fn compare(left: &Plain, right: &Plain) -> Option<i8> {
    let order = match (left, right) {
        (Plain::Bool(left), Plain::Bool(right)) => left.cmp(right),
        (Plain::Text(left), Plain::Text(right)) => left.cmp(right),
        (Plain::Day(left), Plain::Day(right)) => left.cmp(right),
        (Plain::At(left), Plain::At(right)) => left.cmp(right),
        (Plain::Whole(left), Plain::Whole(right)) => left.cmp(right),
        (left, right) => float(left).partial_cmp(&float(right))?,
    };
    Some(order as i8)
}

fn like(text: &[char], pattern: &[char]) -> bool {
    match pattern {
        [] => text.is_empty(),
        ['%', rest @ ..] => (0..=text.len()).any(|skip| like(&text[skip..], rest)),
        ['_', rest @ ..] => !text.is_empty() && like(&text[1..], rest),
        ['\\', literal, rest @ ..] | [literal, rest @ ..] => {
            text.first() == Some(literal) && like(&text[1..], rest)
        }
    }
}

/// An end of an interval: a value that may be NULL, or before or after all.
#[derive(Debug, Clone, PartialEq)]
enum End {
    Before,
    At(Option<Plain>),
    After,
}

fn ends(node: &Json, place: Place<'_>) -> [End; 2] {
    let Some(interval) = node.get("interval").and_then(Json::as_array) else {
        let at = End::At(value(node, place));
        return [at.clone(), at];
    };
    let end = |node: &Json, open: End| match node {
        Json::String(text) if text == ".." => open,
        Json::String(text) if text.len() == 10 => End::At(Some(Plain::Day(text.parse().unwrap()))),
        Json::String(text) => End::At(Some(Plain::At(text.parse().unwrap()))),
        node => End::At(value(node, place)),
    };
    [end(&interval[0], End::Before), end(&interval[1], End::After)]
}

fn order(left: &End, right: &End) -> Option<i8> {
    match (left, right) {
        (End::At(left), End::At(right)) => compare(left.as_ref()?, right.as_ref()?),
        // A value that is NULL is nowhere.
        (End::At(None), _) | (_, End::At(None)) => None,
        (left, right) if left == right => Some(0),
        (End::Before, _) | (_, End::After) => Some(-1),
        _ => Some(1),
    }
}

fn temporal(op: &str, args: &[Json], place: Place<'_>) -> Option<bool> {
    let ([a, b], [c, d]) = (ends(&args[0], place), ends(&args[1], place));
    let less = |x: &End, y: &End| order(x, y).map(|order| order < 0);
    let equal = |x: &End, y: &End| order(x, y).map(|order| order == 0);
    let all = |truths: &[Option<bool>]| match () {
        () if truths.contains(&Some(false)) => Some(false),
        () if truths.contains(&None) => None,
        () => Some(true),
    };
    match op {
        "t_after" => less(&d, &a),
        "t_before" => less(&b, &c),
        "t_equals" => all(&[equal(&a, &c), equal(&b, &d)]),
        "t_disjoint" => {
            let together = [less(&b, &c), less(&d, &a)].map(|before| before.map(|before| !before));
            all(&together).map(|together| !together)
        }
        "t_intersects" => all(&[less(&b, &c).map(|x| !x), less(&d, &a).map(|x| !x)]),
        "t_contains" => all(&[less(&a, &c), less(&d, &b)]),
        "t_during" => all(&[less(&c, &a), less(&b, &d)]),
        "t_finishedBy" => all(&[less(&a, &c), equal(&b, &d)]),
        "t_finishes" => all(&[less(&c, &a), equal(&b, &d)]),
        "t_meets" => equal(&b, &c),
        "t_metBy" => equal(&a, &d),
        "t_overlaps" => all(&[less(&a, &c), less(&c, &b), less(&b, &d)]),
        "t_overlappedBy" => all(&[less(&c, &a), less(&a, &d), less(&d, &b)]),
        "t_startedBy" => all(&[equal(&a, &c), less(&d, &b)]),
        "t_starts" => all(&[equal(&a, &c), less(&b, &d)]),
        other => panic!("no temporal function {other}"),
    }
}
