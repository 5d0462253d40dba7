//! The words and signs of CQL2 Text, with their places.

use winnow::error::EmptyError;
use winnow::stream::{LocatingSlice, Location as _, Stream as _};

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
    Sign(Sign),
}

/// A sign of CQL2 Text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Sign {
    Open,
    Close,
    Comma,
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
    Plus,
    Minus,
    Times,
    Over,
    Percent,
    Caret,
}

impl Sign {
    pub(super) fn as_str(self) -> &'static str {
        match self {
            Sign::Open => "(",
            Sign::Close => ")",
            Sign::Comma => ",",
            Sign::Equal => "=",
            Sign::NotEqual => "<>",
            Sign::Less => "<",
            Sign::LessOrEqual => "<=",
            Sign::Greater => ">",
            Sign::GreaterOrEqual => ">=",
            Sign::Plus => "+",
            Sign::Minus => "-",
            Sign::Times => "*",
            Sign::Over => "/",
            Sign::Percent => "%",
            Sign::Caret => "^",
        }
    }
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
        // Most words are names, so the comparison is one of numbers, by length. The bit makes letters lower case, and no
        // other character of a word into one of these letters.
        let lower = |byte: &u8| byte | 0x20;
        Some(match word.as_bytes() {
            [a, b] => match [a, b].map(lower) {
                [b'o', b'r'] => Keyword::Or,
                [b'i', b'n'] => Keyword::In,
                [b'i', b's'] => Keyword::Is,
                _ => return None,
            },
            [a, b, c] => match [a, b, c].map(lower) {
                [b'a', b'n', b'd'] => Keyword::And,
                [b'n', b'o', b't'] => Keyword::Not,
                [b'd', b'i', b'v'] => Keyword::Div,
                _ => return None,
            },
            [a, b, c, d] => match [a, b, c, d].map(lower) {
                [b'l', b'i', b'k', b'e'] => Keyword::Like,
                [b'n', b'u', b'l', b'l'] => Keyword::Null,
                [b't', b'r', b'u', b'e'] => Keyword::True,
                _ => return None,
            },
            five if five.len() == 5 && word.eq_ignore_ascii_case("false") => Keyword::False,
            seven if seven.len() == 7 && word.eq_ignore_ascii_case("between") => Keyword::Between,
            _ => return None,
        })
    }
}

pub(super) fn starts_name(character: char) -> bool {
    character.is_alphabetic() || matches!(character, '_' | ':')
}

pub(super) fn continues_name(character: char) -> bool {
    character.is_alphanumeric() || matches!(character, '_' | ':' | '.')
}

/// The bytes that are left. Each token begins and ends between two characters.
type Input<'t> = LocatingSlice<&'t [u8]>;

/// Returns the tokens of a text.
pub(super) fn tokens(text: &str) -> Result<Vec<Token<'_>>, Mistake> {
    let mut input = LocatingSlice::new(text.as_bytes());
    let mut tokens = Vec::with_capacity(text.len() / 4 + 1);
    loop {
        take_bytes(&mut input, |byte| matches!(byte, b' ' | b'\t' | b'\r' | b'\n'));
        let start = input.current_token_start();
        let Some(first) = input.first() else { return Ok(tokens) };
        match token(text, &mut input, start, *first) {
            Ok(kind) => {
                let length = input.current_token_start() - start;
                tokens.push(Token { kind, at: Place::new(start, length) });
            }
            Err(EmptyError) => return Err(unreadable(text, start)),
        }
    }
}

/// Takes the bytes for which `holds`, and returns their number.
#[inline]
fn take_bytes(input: &mut Input<'_>, mut holds: impl FnMut(u8) -> bool) -> usize {
    let mut taken = 0;
    for byte in input.iter() {
        if !holds(*byte) {
            break;
        }
        taken += 1;
    }
    input.next_slice(taken);
    taken
}

fn token<'t>(
    text: &'t str,
    input: &mut Input<'_>,
    start: usize,
    first: u8,
) -> Result<TokenKind<'t>, EmptyError> {
    let from = |start: usize, length: usize| text.get(start..start + length).ok_or(EmptyError);
    match first {
        b'a'..=b'z' | b'A'..=b'Z' | b'_' | b':' | 0x80.. => {
            let mut bits = 0;
            let length = take_bytes(input, |byte| {
                let is_in = IN_WORD[usize::from(byte)];
                bits |= if is_in { byte } else { 0 };
                is_in
            });
            let word = from(start, length)?;
            match bits.is_ascii() {
                true => Ok(Keyword::of(word).map_or(TokenKind::Word(word), TokenKind::Keyword)),
                // Beyond ASCII, only letters and digits belong to a word.
                false if word.starts_with(starts_name) && word.chars().all(continues_name) => {
                    Ok(TokenKind::Word(word))
                }
                false => Err(EmptyError),
            }
        }
        b'0'..=b'9' | b'.' => {
            let length = number(input)?;
            from(start, length).map(TokenKind::Number)
        }
        b'\'' => {
            let length = quoted(input, b'\'', true)?;
            from(start + 1, length).map(TokenKind::Text)
        }
        b'"' => {
            let length = quoted(input, b'"', false)?;
            from(start + 1, length).map(TokenKind::Quoted)
        }
        _ => sign(input).map(TokenKind::Sign),
    }
}

/// True for each byte that may be in a word: those of ASCII, and all of other characters.
static IN_WORD: [bool; 256] = {
    let mut in_word = [false; 256];
    let mut byte = 0;
    while byte < 256 {
        in_word[byte] = byte >= 0x80
            || (byte as u8).is_ascii_alphanumeric()
            || matches!(byte as u8, b'_' | b':' | b'.');
        byte += 1;
    }
    in_word
};

/// Takes a number without a sign, and returns its length.
fn number(input: &mut Input<'_>) -> Result<usize, EmptyError> {
    let is_digit = |byte: u8| byte.is_ascii_digit();
    let mut length = take_bytes(input, is_digit);
    let mut digits = length;
    if input.first() == Some(&b'.') {
        input.next_token();
        let fraction = take_bytes(input, is_digit);
        length += 1 + fraction;
        digits += fraction;
    }
    if digits == 0 {
        return Err(EmptyError);
    }
    if let Some(b'e' | b'E') = input.first() {
        let before = input.checkpoint();
        input.next_token();
        let sign = usize::from(matches!(input.first(), Some(b'+' | b'-')));
        input.next_slice(sign);
        match take_bytes(input, is_digit) {
            // A name follows the number.
            0 => input.reset(&before),
            exponent => length += 1 + sign + exponent,
        }
    }
    Ok(length)
}

/// Takes what stands between quotes, and returns its length without them. A doubled quote may be part of it.
fn quoted(input: &mut Input<'_>, quote: u8, doubled: bool) -> Result<usize, EmptyError> {
    input.next_token();
    let mut length = 0;
    loop {
        length += take_bytes(input, |byte| byte != quote);
        input.next_token().ok_or(EmptyError)?;
        if !doubled || input.first() != Some(&quote) {
            return Ok(length);
        }
        input.next_token();
        length += 2;
    }
}

fn sign(input: &mut Input<'_>) -> Result<Sign, EmptyError> {
    let first = input.next_token().ok_or(EmptyError)?;
    let long = match (first, input.first()) {
        (b'<', Some(b'=')) => Some(Sign::LessOrEqual),
        (b'<', Some(b'>')) => Some(Sign::NotEqual),
        (b'>', Some(b'=')) => Some(Sign::GreaterOrEqual),
        _ => None,
    };
    if let Some(long) = long {
        input.next_token();
        return Ok(long);
    }
    Ok(match first {
        b'<' => Sign::Less,
        b'>' => Sign::Greater,
        b'=' => Sign::Equal,
        b'(' => Sign::Open,
        b')' => Sign::Close,
        b',' => Sign::Comma,
        b'+' => Sign::Plus,
        b'-' => Sign::Minus,
        b'*' => Sign::Times,
        b'/' => Sign::Over,
        b'%' => Sign::Percent,
        b'^' => Sign::Caret,
        _ => return Err(EmptyError),
    })
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
