//! The text of a CREATE TABLE of SQLite, for what no pragma tells: collations and checks.

/// A part of the text: a word, a quoted name or text, or a single sign.
#[derive(Debug, Clone, Copy)]
struct Token<'t> {
    text: &'t str,
    /// Where it begins.
    at: usize,
    /// The number of parentheses that are open around it.
    depth: usize,
}

impl Token<'_> {
    fn is(&self, word: &str) -> bool {
        self.text.eq_ignore_ascii_case(word)
    }

    /// Returns a name without its quotes.
    fn name(&self) -> String {
        let inner = |close: char| {
            let inner = self
                .text
                .get(1..self.text.len().saturating_sub(1))
                .unwrap_or_default();
            inner.replace(&format!("{close}{close}"), &close.to_string())
        };
        match self.text.chars().next() {
            Some('[') => inner(']'),
            Some(quote @ ('"' | '`' | '\'')) => inner(quote),
            _ => self.text.to_owned(),
        }
    }
}

/// The collations and checks that a CREATE TABLE declares.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct Declaration {
    /// The columns with a collation, and its name.
    pub(crate) collations: Vec<(String, String)>,
    /// The conditions of the checks, each with its name if it has one.
    pub(crate) checks: Vec<(Option<String>, String)>,
}

impl Declaration {
    /// Reads the text as SQLite keeps it. A text that is no CREATE TABLE with columns declares nothing.
    pub(crate) fn of(text: &str) -> Declaration {
        let tokens = tokens(text);
        let inside = tokens.into_iter().filter(|token| token.depth > 0);
        // The first is the parenthesis itself.
        let inside: Vec<Token<'_>> = inside.skip(1).collect();
        let mut declaration = Declaration::default();
        for part in inside.split(|token| token.depth == 1 && token.is(",")) {
            declaration.take(text, part);
        }
        declaration
    }

    /// Takes a column or a constraint.
    fn take(&mut self, text: &str, part: &[Token<'_>]) {
        let Some(first) = part.first() else { return };
        let constraints = ["CONSTRAINT", "PRIMARY", "UNIQUE", "CHECK", "FOREIGN"];
        let is_column = !constraints.iter().any(|word| first.is(word));
        let own: Vec<(usize, &Token<'_>)> = part
            .iter()
            .enumerate()
            .filter(|(_, token)| token.depth == 1)
            .collect();
        for (place, &(number, token)) in own.iter().enumerate() {
            let before = |steps: usize| place.checked_sub(steps).and_then(|place| own.get(place));
            if token.is("COLLATE")
                && is_column
                && let Some((_, collation)) = own.get(place + 1)
            {
                self.collations.push((first.name(), collation.name()));
            }
            if token.is("CHECK") && place + usize::from(!is_column) > 0 {
                let condition = part.get(number + 1..).unwrap_or_default();
                let close = condition.iter().find(|token| token.depth == 1);
                let (Some(open), Some(close)) = (condition.first(), close) else { continue };
                let is_named = before(2).is_some_and(|(_, token)| token.is("CONSTRAINT"));
                let name = before(1)
                    .filter(|_| is_named)
                    .map(|(_, token)| token.name());
                let condition = text.get(open.at + 1..close.at).unwrap_or_default();
                self.checks.push((name, condition.trim().to_owned()));
            }
        }
    }
}

/// Splits a text. An opening parenthesis stands within itself, and a closing one does not.
fn tokens(text: &str) -> Vec<Token<'_>> {
    let (mut tokens, mut depth, mut at) = (Vec::new(), 0_usize, 0);
    while let Some(rest) = text.get(at..).filter(|rest| !rest.is_empty()) {
        let length = length(rest);
        let token = rest.get(..length).unwrap_or(rest);
        let is_blank =
            token.starts_with("--") || token.starts_with("/*") || token.trim().is_empty();
        match token {
            "(" => depth += 1,
            ")" => depth = depth.saturating_sub(1),
            _ => {}
        }
        if !is_blank {
            tokens.push(Token { text: token, at, depth });
        }
        at += token.len();
    }
    tokens
}

/// Returns the length of the first part: blanks and comments are parts too.
fn length(rest: &str) -> usize {
    let up_to = |end: &str, after: usize| {
        let inside = rest.get(after..).unwrap_or_default();
        inside
            .find(end)
            .map_or(rest.len(), |place| after + place + end.len())
    };
    let while_it_is = |is: fn(char) -> bool| rest.find(|letter| !is(letter)).unwrap_or(rest.len());
    let is_word = |letter: char| letter.is_alphanumeric() || letter == '_' || letter == '$';
    match rest.chars().next() {
        Some(_) if rest.starts_with("--") => up_to("\n", 2),
        Some(_) if rest.starts_with("/*") => up_to("*/", 2),
        Some('[') => up_to("]", 1),
        Some(quote @ ('\'' | '"' | '`')) => {
            let quote = quote.to_string();
            let mut end = up_to(&quote, 1);
            // A doubled quote stands for itself.
            while rest.get(end..).is_some_and(|rest| rest.starts_with(&quote)) {
                end = up_to(&quote, end + 1);
            }
            end
        }
        Some(letter) if letter.is_whitespace() => while_it_is(char::is_whitespace),
        Some(letter) if is_word(letter) => while_it_is(is_word),
        Some(letter) => letter.len_utf8(),
        None => 0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn collations_and_checks_are_read_from_the_text() {
        let text = "CREATE TABLE \"odd (name)\" (id TEXT COLLATE RTRIM PRIMARY KEY, -- CHECK (no)\n \
                    \"a \"\"b\"\", c\" VARCHAR(9, 2) COLLATE nocase CHECK (\"a \"\"b\"\", c\" <> ')' /* ) */),\n \
                    [check] TEXT CONSTRAINT long_enough CHECK (length([check]) > (1 + 2)) COLLATE \"RTRIM\" DEFAULT (1),\n \
                    collate_it TEXT, CONSTRAINT \"my check\" CHECK (id > 0), CHECK(id<9), FOREIGN KEY (id) REFERENCES x (y)) STRICT";
        let pair = |name: &str, of: &str| (name.to_owned(), of.to_owned());
        let check = |name: Option<&str>, of: &str| (name.map(str::to_owned), of.to_owned());
        assert_eq!(
            Declaration::of(text),
            Declaration {
                collations: vec![
                    pair("id", "RTRIM"),
                    pair("a \"b\", c", "nocase"),
                    pair("check", "RTRIM")
                ],
                checks: vec![
                    check(None, "\"a \"\"b\"\", c\" <> ')' /* ) */"),
                    check(Some("long_enough"), "length([check]) > (1 + 2)"),
                    check(Some("my check"), "id > 0"),
                    check(None, "id<9"),
                ],
            },
        );
        assert_eq!(Declaration::of("CREATE VIEW v AS SELECT 'it''s"), Declaration::default());
    }
}
