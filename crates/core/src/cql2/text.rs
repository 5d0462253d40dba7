//! The reader of CQL2 Text: one function for each rule of the grammar, from the weakest operator to the strongest.
//!
//! An expression in brackets may be a condition or a number, and only its inside says which. So brackets hold any
//! expression, no rule is tried twice, and reading takes linear time. Types are checked later, by the offer.

use jiff::Timestamp;
use jiff::civil::Date;
use smol_str::SmolStr;
use winnow::stream::{Stateful, Stream, TokenSlice};

use super::expression::DEEPEST;
use super::lexer::{Keyword, Sign, Token, TokenKind, tokens};
use super::{Arithmetic, Bounds, Cql2, Kind, Number, Relation, TemporalOperator};
use crate::model::{Mistake, MistakeKind, Place};

/// Reads a condition.
pub(crate) fn read(text: &str, bounds: Bounds) -> Result<Cql2, Mistake> {
    check_size(text, bounds)?;
    let tokens = tokens(text)?;
    let state = State { end: Place::new(text.len(), 0), depth: 0, terms: bounds.terms, of: bounds };
    let mut input = Input { input: TokenSlice::new(&tokens), state };
    let read = condition(&mut input).and_then(|read| match input.peek_token() {
        None => Ok(read),
        Some(_) => Err(unexpected(&input, "AND, OR or the end")),
    });
    read.map_err(|mistake| mistake.within(text))
}

/// Refuses a text that is too long, before any of it is read.
pub(super) fn check_size(text: &str, bounds: Bounds) -> Result<(), Mistake> {
    if text.len() <= bounds.bytes {
        return Ok(());
    }
    let message =
        format!("the filter has {} bytes, and at most {} are allowed", text.len(), bounds.bytes);
    Err(Mistake::new(
        MistakeKind::TooLarge,
        Place::new(text.floor_char_boundary(bounds.bytes), 0),
        message,
    ))
}

type Input<'i, 't> = Stateful<TokenSlice<'i, Token<'t>>, State>;

/// The part of the reader that is not the text.
#[derive(Debug, Clone)]
struct State {
    end: Place,
    /// The number of rules that are open.
    depth: u16,
    /// The number of names and values that may follow.
    terms: usize,
    of: Bounds,
}

type Read<T> = Result<T, Mistake>;

/// Returns the mistake that something else than the next token is expected.
#[cold]
fn unexpected(input: &Input<'_, '_>, expected: &str) -> Mistake {
    let (place, found) = match input.peek_token() {
        Some(token) => (token.at, token.shown()),
        None => (input.state.end, "the end of the text".to_owned()),
    };
    let message = format!("expected {expected}, found {found}");
    Mistake::new(MistakeKind::Syntax, place, message)
}

#[cold]
fn mistake(kind: MistakeKind, at: Place, message: impl Into<String>) -> Mistake {
    Mistake::new(kind, at, message.into())
}

impl Token<'_> {
    fn shown(&self) -> String {
        match self.kind {
            TokenKind::Keyword(keyword) => format!("{keyword:?}").to_uppercase(),
            TokenKind::Word(name) | TokenKind::Quoted(name) => format!("the name `{name:.40}`"),
            TokenKind::Text(text) => format!("the text '{text:.40}'"),
            TokenKind::Number(number) => format!("the number {number:.40}"),
            TokenKind::Sign(sign) => format!("`{}`", sign.as_str()),
        }
    }
}

fn next_kind<'t>(input: &Input<'_, 't>) -> Option<TokenKind<'t>> {
    input.peek_token().map(|token| token.kind)
}

/// Returns the place of the next token.
fn here(input: &Input<'_, '_>) -> Place {
    input.peek_token().map_or(input.state.end, |token| token.at)
}

fn is_next(input: &Input<'_, '_>, kind: TokenKind<'static>) -> bool {
    next_kind(input) == Some(kind)
}

/// Takes the next token if it is this one.
fn take(input: &mut Input<'_, '_>, kind: TokenKind<'static>) -> Option<Place> {
    let token = input.peek_token().filter(|token| token.kind == kind)?;
    input.next_token();
    Some(token.at)
}

/// Reads expressions with commas between.
fn items(
    input: &mut Input<'_, '_>,
    item: impl Fn(&mut Input<'_, '_>) -> Read<Cql2>,
) -> Read<Vec<Cql2>> {
    let mut items = vec![item(input)?];
    while take(input, TokenKind::Sign(Sign::Comma)).is_some() {
        items.push(item(input)?);
    }
    Ok(items)
}

fn keyword(input: &mut Input<'_, '_>, keyword: Keyword) -> Option<Place> {
    take(input, TokenKind::Keyword(keyword))
}

fn sign(input: &mut Input<'_, '_>, sign: Sign, expected: &str) -> Read<Place> {
    take(input, TokenKind::Sign(sign)).ok_or_else(|| unexpected(input, expected))
}

/// Makes a node, unless it would be too deep.
fn node(kind: Kind, at: Place) -> Read<Cql2> {
    let made = Cql2::new(kind, at);
    match made.is_too_deep() {
        false => Ok(made),
        true => Err(too_deep(at)),
    }
}

#[cold]
fn too_deep(at: Place) -> Mistake {
    let message = format!("the filter is nested more than {DEEPEST} levels deep");
    mistake(MistakeKind::TooLarge, at, message)
}

/// Makes a node for a name or a value, of which there may only be so many.
fn leaf(input: &mut Input<'_, '_>, kind: Kind, at: Place) -> Read<Cql2> {
    match input.state.terms.checked_sub(1) {
        Some(left) => {
            input.state.terms = left;
            Ok(Cql2::leaf(kind, at))
        }
        None => {
            let message =
                format!("the filter has more than {} names and values", input.state.of.terms);
            Err(mistake(MistakeKind::TooLarge, at, message))
        }
    }
}

/// Runs a rule one level further in.
fn within<T>(input: &mut Input<'_, '_>, rule: impl Fn(&mut Input<'_, '_>) -> Read<T>) -> Read<T> {
    if input.state.depth == DEEPEST {
        return Err(too_deep(here(input)));
    }
    input.state.depth += 1;
    let read = rule(input);
    input.state.depth -= 1;
    read
}

/// `and { "OR" and }`
fn condition(input: &mut Input<'_, '_>) -> Read<Cql2> {
    list(input, Keyword::Or, conjunction, Kind::Or)
}

/// `factor { "AND" factor }`
fn conjunction(input: &mut Input<'_, '_>) -> Read<Cql2> {
    list(input, Keyword::And, factor, Kind::And)
}

fn list(
    input: &mut Input<'_, '_>,
    between: Keyword,
    term: impl Fn(&mut Input<'_, '_>) -> Read<Cql2>,
    kind: impl Fn(Vec<Cql2>) -> Kind,
) -> Read<Cql2> {
    let first = term(input)?;
    if !is_next(input, TokenKind::Keyword(between)) {
        return Ok(first);
    }
    let (start, mut last) = (first.at, first.at);
    let mut terms = Vec::with_capacity(16);
    terms.push(first);
    while keyword(input, between).is_some() {
        let term = term(input)?;
        last = term.at;
        terms.push(term);
    }
    node(kind(terms), start.to(last))
}

/// `[ "NOT" ] primary`
fn factor(input: &mut Input<'_, '_>) -> Read<Cql2> {
    match keyword(input, Keyword::Not) {
        Some(start) => {
            let inner = within(input, factor)?;
            let at = start.to(inner.at);
            node(Kind::Not(Box::new(inner)), at)
        }
        None => predicate(input),
    }
}

/// A value, and what may follow it to make it a condition.
fn predicate(input: &mut Input<'_, '_>) -> Read<Cql2> {
    let left = sum(input)?;
    let start = left.at;
    match next_kind(input) {
        Some(TokenKind::Sign(sign)) => match relation(sign) {
            Some(relation) => {
                input.next_token();
                let right = sum(input)?;
                let at = start.to(right.at);
                node(Kind::Compare(relation, Box::new([left, right])), at)
            }
            None => Ok(left),
        },
        Some(TokenKind::Keyword(Keyword::Is)) => {
            keyword(input, Keyword::Is);
            let negated = keyword(input, Keyword::Not).is_some();
            let Some(end) = keyword(input, Keyword::Null) else {
                return Err(unexpected(input, if negated { "NULL" } else { "NULL or NOT NULL" }));
            };
            let at = start.to(end);
            maybe_negated(Kind::IsNull(Box::new(left)), at, negated)
        }
        Some(TokenKind::Keyword(Keyword::Not | Keyword::Like | Keyword::Between | Keyword::In)) => {
            let negated = keyword(input, Keyword::Not).is_some();
            let (kind, end) = rest_of_predicate(input, left)?;
            maybe_negated(kind, start.to(end), negated)
        }
        _ => Ok(left),
    }
}

fn maybe_negated(kind: Kind, at: Place, negated: bool) -> Read<Cql2> {
    let positive = node(kind, at)?;
    match negated {
        false => Ok(positive),
        true => node(Kind::Not(Box::new(positive)), at),
    }
}

/// LIKE, BETWEEN or IN, after the value and NOT.
fn rest_of_predicate(input: &mut Input<'_, '_>, left: Cql2) -> Read<(Kind, Place)> {
    if keyword(input, Keyword::Like).is_some() {
        let pattern = within(input, value)?;
        let end = pattern.at;
        return Ok((Kind::Like(Box::new([left, pattern])), end));
    }
    if keyword(input, Keyword::Between).is_some() {
        let low = sum(input)?;
        if keyword(input, Keyword::And).is_none() {
            return Err(unexpected(input, "AND, after the low end of BETWEEN"));
        }
        let high = sum(input)?;
        let end = high.at;
        return Ok((Kind::Between(Box::new([left, low, high])), end));
    }
    if keyword(input, Keyword::In).is_some() {
        sign(input, Sign::Open, "`(`, before the values of IN")?;
        let items = items(input, sum)?;
        let end = sign(input, Sign::Close, "`,` or `)`")?;
        return Ok((Kind::In(Box::new(left), items), end));
    }
    Err(unexpected(input, "LIKE, BETWEEN or IN"))
}

fn relation(sign: Sign) -> Option<Relation> {
    Some(match sign {
        Sign::Equal => Relation::Equal,
        Sign::NotEqual => Relation::NotEqual,
        Sign::Less => Relation::Less,
        Sign::LessOrEqual => Relation::LessOrEqual,
        Sign::Greater => Relation::Greater,
        Sign::GreaterOrEqual => Relation::GreaterOrEqual,
        _ => return None,
    })
}

/// The binding strength of an operator of numbers: `term { ("+" | "-") term }`, `power { ("*" | "/" | "%" | "div") power }`,
/// `value [ "^" value ]`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Strength {
    Sum,
    Product,
    Power,
}

/// Returns the operator that comes next, if it is one of numbers.
fn next_operator(input: &Input<'_, '_>) -> Option<(Arithmetic, Strength)> {
    Some(match next_kind(input)? {
        TokenKind::Sign(Sign::Plus) => (Arithmetic::Add, Strength::Sum),
        TokenKind::Sign(Sign::Minus) => (Arithmetic::Subtract, Strength::Sum),
        TokenKind::Sign(Sign::Times) => (Arithmetic::Multiply, Strength::Product),
        TokenKind::Sign(Sign::Over) => (Arithmetic::Divide, Strength::Product),
        TokenKind::Sign(Sign::Percent) => (Arithmetic::Remainder, Strength::Product),
        TokenKind::Keyword(Keyword::Div) => (Arithmetic::DivideWhole, Strength::Product),
        TokenKind::Sign(Sign::Caret) => (Arithmetic::Power, Strength::Power),
        _ => return None,
    })
}

/// A value, or a computation of any strength.
fn sum(input: &mut Input<'_, '_>) -> Read<Cql2> {
    computation(input, Strength::Sum)
}

/// A value, and the operators after it that bind at least as strongly as `least`. Those of one strength are read from the
/// left.
fn computation(input: &mut Input<'_, '_>, least: Strength) -> Read<Cql2> {
    let mut left = signed(input)?;
    // A power is of two values, and has one exponent.
    let mut is_value = true;
    while let Some((operator, strength)) = next_operator(input) {
        if strength < least || strength == Strength::Power && !is_value {
            break;
        }
        input.next_token();
        let right = match strength {
            Strength::Sum => computation(input, Strength::Product)?,
            Strength::Product => computation(input, Strength::Power)?,
            Strength::Power => signed(input)?,
        };
        is_value = false;
        let at = left.at.to(right.at);
        left = node(Kind::Arithmetic(operator, Box::new([left, right])), at)?;
    }
    Ok(left)
}

/// `[ "-" ] value`. The sign of a number is part of it; before anything else it is a product with -1, as in CQL2 JSON.
fn signed(input: &mut Input<'_, '_>) -> Read<Cql2> {
    let Some(start) = take(input, TokenKind::Sign(Sign::Minus)) else { return value(input) };
    if let Some(TokenKind::Number(digits)) = next_kind(input) {
        let end = here(input);
        input.next_token();
        return number(input, &format!("-{digits}"), start.to(end));
    }
    let right = within(input, value)?;
    let minus = leaf(input, Kind::Number(Number::Whole(-1)), start)?;
    let at = start.to(right.at);
    node(Kind::Arithmetic(Arithmetic::Multiply, Box::new([minus, right])), at)
}

/// A name, a value, a function, or any expression in brackets.
fn value(input: &mut Input<'_, '_>) -> Read<Cql2> {
    const EXPECTED: &str = "a name, a value, a function or `(`";
    let Some(token) = input.peek_token().copied() else {
        return Err(unexpected(input, EXPECTED));
    };
    match token.kind {
        TokenKind::Sign(Sign::Open) => {
            input.next_token();
            let inner = within(input, condition)?;
            sign(input, Sign::Close, "an operator or `)`")?;
            Ok(inner)
        }
        TokenKind::Number(digits) => {
            input.next_token();
            number(input, digits, token.at)
        }
        TokenKind::Text(inside) => {
            input.next_token();
            leaf(input, Kind::Text(unquoted(inside)), token.at)
        }
        TokenKind::Quoted(name) => {
            input.next_token();
            leaf(input, Kind::Property(name.into()), token.at)
        }
        TokenKind::Keyword(Keyword::True | Keyword::False) => {
            input.next_token();
            let holds = token.kind == TokenKind::Keyword(Keyword::True);
            leaf(input, Kind::Boolean(holds), token.at)
        }
        TokenKind::Word(name) => {
            input.next_token();
            match is_next(input, TokenKind::Sign(Sign::Open)) {
                true => within(input, |input| function(input, name, token.at)),
                false => leaf(input, Kind::Property(name.into()), token.at),
            }
        }
        TokenKind::Keyword(_) | TokenKind::Sign(_) => Err(unexpected(input, EXPECTED)),
    }
}

fn number(input: &mut Input<'_, '_>, text: &str, at: Place) -> Read<Cql2> {
    let Some(number) = Number::parse(text) else {
        return Err(mistake(
            MistakeKind::InvalidValue,
            at,
            "the number has more than 28 digits, or is out of range",
        ));
    };
    leaf(input, Kind::Number(number), at)
}

/// Returns a text whose quotes are doubled inside.
fn unquoted(inside: &str) -> SmolStr {
    match inside.contains('\'') {
        true => inside.replace("''", "'").into(),
        false => inside.into(),
    }
}

/// A function, after its name: one of CQL2's own, or one that an offer may have.
fn function(input: &mut Input<'_, '_>, name: &str, start: Place) -> Read<Cql2> {
    sign(input, Sign::Open, "`(`")?;
    if name.eq_ignore_ascii_case("date") || name.eq_ignore_ascii_case("timestamp") {
        let (text, at) = text_of(input)?;
        let end = sign(input, Sign::Close, "`)`")?;
        let kind = instant(name, &text)
            .map_err(|message| mistake(MistakeKind::InvalidValue, at, message))?;
        return leaf(input, kind, start.to(end));
    }
    if name.eq_ignore_ascii_case("interval") {
        let from = interval_end(input)?;
        sign(input, Sign::Comma, "`,`, between the ends of the interval")?;
        let to = interval_end(input)?;
        let end = sign(input, Sign::Close, "`)`")?;
        return node(Kind::Interval(Box::new([from, to])), start.to(end));
    }
    if name.eq_ignore_ascii_case("casei") {
        let inner = sum(input)?;
        let end = sign(input, Sign::Close, "`)`")?;
        return node(Kind::CaseI(Box::new(inner)), start.to(end));
    }
    refuse_unsupported(name, start)?;
    let mut arguments: Vec<Cql2> = Vec::new();
    if !is_next(input, TokenKind::Sign(Sign::Close)) {
        arguments = items(input, condition)?;
    }
    let end = sign(input, Sign::Close, "`,` or `)`")?;
    let at = start.to(end);
    match TemporalOperator::named(name) {
        Some(operator) => match <[Cql2; 2]>::try_from(arguments) {
            Ok(sides) => node(Kind::Temporal(operator, Box::new(sides)), at),
            Err(given) => {
                let message = format!("`{name}` takes 2 arguments, found {}", given.len());
                Err(mistake(MistakeKind::Syntax, at, message))
            }
        },
        // An empty list of arguments counts as a term, so that functions are bounded too.
        None if arguments.is_empty() => leaf(input, Kind::Function(name.into(), arguments), at),
        None => node(Kind::Function(name.into(), arguments), at),
    }
}

fn text_of(input: &mut Input<'_, '_>) -> Read<(SmolStr, Place)> {
    match input.peek_token().copied() {
        Some(Token { kind: TokenKind::Text(inside), at }) => {
            input.next_token();
            Ok((unquoted(inside), at))
        }
        _ => Err(unexpected(input, "a text in single quotes")),
    }
}

/// An end of an interval: a text, a name, or `'..'`.
fn interval_end(input: &mut Input<'_, '_>) -> Read<Cql2> {
    if let Some(TokenKind::Text(_)) = next_kind(input) {
        let (text, at) = text_of(input)?;
        let kind = end_of_interval(&text)
            .map_err(|message| mistake(MistakeKind::InvalidValue, at, message))?;
        return leaf(input, kind, at);
    }
    value(input)
}

/// Reads the text of a date or a timestamp (RFC 3339), or the reason why it is none.
pub(super) fn instant(name: &str, text: &str) -> Result<Kind, String> {
    if name.eq_ignore_ascii_case("date") {
        return match text.parse::<Date>() {
            Ok(date) if text.len() == 10 => Ok(Kind::Date(date)),
            _ => Err(format!("'{text}' is no day of the form '2024-06-15'")),
        };
    }
    match text.parse::<Timestamp>() {
        Ok(timestamp) => Ok(Kind::Timestamp(timestamp)),
        Err(_) => Err(format!("'{text}' is no point in time of the form '2024-06-15T08:00:00Z'")),
    }
}

/// Reads the text of an end of an interval.
pub(super) fn end_of_interval(text: &str) -> Result<Kind, String> {
    match text {
        ".." => Ok(Kind::OpenEnd),
        text if text.len() == 10 => instant("date", text),
        text => instant("timestamp", text).map_err(|_| {
            format!("'{text}' is neither a day, nor a point in time, nor '..' for an open end")
        }),
    }
}

/// Refuses the functions of CQL2 that are not supported.
pub(super) fn refuse_unsupported(name: &str, at: Place) -> Result<(), Mistake> {
    let lower = name.to_ascii_lowercase();
    let of = match lower.as_str() {
        "accenti" => "accent",
        "point" | "linestring" | "polygon" | "multipoint" | "multilinestring" | "multipolygon"
        | "geometrycollection" | "bbox" => "spatial",
        name if name.starts_with("s_") => "spatial",
        name if name.starts_with("a_") => "array",
        _ => return Ok(()),
    };
    let message = format!("`{name}` is not offered: {of} operators of CQL2 are not supported");
    Err(Mistake::new(MistakeKind::Unsupported, at, message))
}
