//! The words and signs of CQL2 Text, with their places.

use winnow::Parser;
use winnow::ascii::digit0;
use winnow::combinator::{alt, opt};
use winnow::error::EmptyError;
use winnow::stream::{LocatingSlice, Location};
use winnow::token::{any, one_of, take_till, take_while};

use crate::model::{Mistake, MistakeKind, Place};

#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Token<'t> {
    pub(super) kind: TokenKind<'t>,
    pub(super) at: Place,
}

#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum TokenKind<'t> {
    Keyword(Keyword),
    /// A name, or a name of a function.
    Word(&'t str),
    /// A name in double quotes.
    Quoted(&'t str),
    /// The inside of a text in single quotes, in which a quote is doubled.
    Text(&'t str),
    /// A number without a sign.
    Number(&'t str),
    Sign(&'static str),
}

/// A word with a meaning of its own. A property with such a name stands in double quotes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Keyword {
    And,
    Or,
    Not,
    Like,
    Between,
    In,
    Is,
    Null,
    True,
    False,
    Div,
}

impl Keyword {
    /// Returns the keyword that a word is, in any case.
    pub(super) fn of(word: &str) -> Option<Keyword> {
        const KEYWORDS: [(&str, Keyword); 11] = [
            ("and", Keyword::And),
            ("or", Keyword::Or),
            ("not", Keyword::Not),
            ("like", Keyword::Like),
            ("between", Keyword::Between),
            ("in", Keyword::In),
            ("is", Keyword::Is),
            ("null", Keyword::Null),
            ("true", Keyword::True),
            ("false", Keyword::False),
            ("div", Keyword::Div),
        ];
        if word.len() > 7 {
            return None;
        }
        let mut keywords = KEYWORDS.iter();
        let found = keywords.find(|(text, _)| text.eq_ignore_ascii_case(word));
        found.map(|(_, keyword)| *keyword)
    }
}

pub(super) fn starts_name(character: char) -> bool {
    character.is_alphabetic() || matches!(character, '_' | ':')
}

pub(super) fn continues_name(character: char) -> bool {
    character.is_alphanumeric() || matches!(character, '_' | ':' | '.')
}

type Input<'t> = LocatingSlice<&'t str>;

/// Returns the tokens of a text.
pub(super) fn tokens(text: &str) -> Result<Vec<Token<'_>>, Mistake> {
    let mut input = LocatingSlice::new(text);
    let mut tokens = Vec::with_capacity(text.len() / 4 + 1);
    loop {
        skip_space(&mut input);
        let start = input.current_token_start();
        if input.is_empty() {
            return Ok(tokens);
        }
        match token(&mut input) {
            Ok(kind) => {
                let length = input.current_token_start() - start;
                tokens.push(Token { kind, at: Place::new(start, length) });
            }
            Err(EmptyError) => return Err(unreadable(text, start)),
        }
    }
}

fn skip_space(input: &mut Input<'_>) {
    let space: Result<&str, EmptyError> =
        take_while(0.., (' ', '\t', '\r', '\n')).parse_next(input);
    debug_assert!(space.is_ok());
}

fn token<'t>(input: &mut Input<'t>) -> Result<TokenKind<'t>, EmptyError> {
    alt((word, number, quoted('\'', TokenKind::Text), quoted('"', TokenKind::Quoted), sign))
        .parse_next(input)
}

fn word<'t>(input: &mut Input<'t>) -> Result<TokenKind<'t>, EmptyError> {
    let word = (one_of(starts_name), take_while(0.., continues_name)).take();
    word.map(|word| Keyword::of(word).map_or(TokenKind::Word(word), TokenKind::Keyword))
        .parse_next(input)
}

fn number<'t>(input: &mut Input<'t>) -> Result<TokenKind<'t>, EmptyError> {
    let digits = || take_while(1.., '0'..='9');
    let exponent = (one_of(['e', 'E']), opt(one_of(['+', '-'])), digits());
    (alt(((digits(), opt(('.', digit0))).void(), ('.', digits()).void())), opt(exponent))
        .take()
        .map(TokenKind::Number)
        .parse_next(input)
}

/// Reads a text between quotes, in which a single quote is doubled.
fn quoted<'t>(
    quote: char,
    kind: fn(&'t str) -> TokenKind<'t>,
) -> impl FnMut(&mut Input<'t>) -> Result<TokenKind<'t>, EmptyError> {
    move |input| {
        let start = *input;
        quote.void().parse_next(input)?;
        loop {
            take_till(0.., quote).void().parse_next(input)?;
            quote.void().parse_next(input)?;
            let doubled: Option<char> = match quote {
                '\'' => opt(quote).parse_next(input)?,
                _ => None,
            };
            if doubled.is_none() {
                let length = input.current_token_start() - start.current_token_start();
                // Without the quotes, which are one byte each.
                return Ok(kind(start.get(1..length - 1).unwrap_or_default()));
            }
        }
    }
}

fn sign<'t>(input: &mut Input<'t>) -> Result<TokenKind<'t>, EmptyError> {
    let sign = match any(input)? {
        '(' => "(",
        ')' => ")",
        ',' => ",",
        '=' => "=",
        '<' => match opt(one_of(['=', '>'])).parse_next(input)? {
            Some('=') => "<=",
            Some(_) => "<>",
            None => "<",
        },
        '>' => match opt('=').parse_next(input)? {
            Some(_) => ">=",
            None => ">",
        },
        '+' => "+",
        '-' => "-",
        '*' => "*",
        '/' => "/",
        '%' => "%",
        '^' => "^",
        _ => return Err(EmptyError),
    };
    Ok(TokenKind::Sign(sign))
}

/// Returns the mistake of a character that begins no token.
#[cold]
fn unreadable(text: &str, start: usize) -> Mistake {
    let rest = text.get(start..).unwrap_or_default();
    let message = match rest.chars().next() {
        Some('\'') => "the text in single quotes has no end".to_owned(),
        Some('"') => "the name in double quotes has no end".to_owned(),
        Some(other) => format!("`{}` has no meaning here", other.escape_debug()),
        None => "nothing is left".to_owned(),
    };
    let length = match rest.chars().next() {
        Some('\'' | '"') => rest.len(),
        Some(other) => other.len_utf8(),
        None => 0,
    };
    Mistake::new(MistakeKind::Syntax, Place::new(start, length), message).within(text)
}
