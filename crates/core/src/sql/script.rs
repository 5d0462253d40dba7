//! Scripts: several statements in one text, split where the engine would end each.

use crate::dialect::ScriptForm;

/// A statement of a script.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ScriptPart<'s> {
    pub text: &'s str,
    /// The line of the script where it begins, counted from 1.
    pub line: usize,
}

/// Splits a script at the semicolons that end statements: not those in quotes, comments and bodies of functions,
/// procedures and triggers. Empty statements are left out.
#[doc(hidden)]
pub fn split(script: &str, form: ScriptForm) -> Vec<ScriptPart<'_>> {
    let mut splitter = Splitter { script, form, at: 0 };
    let mut parts = Vec::new();
    while let Some(part) = splitter.next_part() {
        parts.push(part);
    }
    parts
}

struct Splitter<'s> {
    script: &'s str,
    form: ScriptForm,
    at: usize,
}

/// The blocks that are open in a statement.
#[derive(Default)]
struct Blocks {
    /// True for a statement that may have a body with semicolons.
    has_body: bool,
    open: usize,
    words: usize,
    ended: bool,
}

impl<'s> Splitter<'s> {
    fn next_part(&mut self) -> Option<ScriptPart<'s>> {
        let (mut begin, mut blocks) = (None, Blocks::default());
        loop {
            let rest = &self.script[self.at..];
            let Some(character) = rest.chars().next() else { break };
            let length = self.token(rest, character);
            let token = &rest[..length];
            let here = self.at;
            self.at += length;
            let is_space = character.is_whitespace() || self.is_comment(token);
            if begin.is_none() && (is_space || token == ";") {
                continue;
            }
            let first = *begin.get_or_insert(here);
            if token == ";" && blocks.open == 0 {
                return Some(self.part(first, here));
            }
            if character.is_alphabetic() || character == '_' {
                blocks.take(token, self.script[self.at..].trim_start());
            }
        }
        begin.map(|first| self.part(first, self.script.len()))
    }

    fn part(&self, first: usize, end: usize) -> ScriptPart<'s> {
        let line = self.script[..first].matches('\n').count() + 1;
        ScriptPart { text: self.script[first..end].trim_end(), line }
    }

    fn is_comment(&self, token: &str) -> bool {
        token.starts_with("--")
            || token.starts_with("/*")
            || self.form.hash_comments && token.starts_with('#')
    }

    /// Returns the length of the token at the begin of the text.
    fn token(&self, rest: &str, character: char) -> usize {
        let until = |mark: &str, after: usize| {
            rest[after..]
                .find(mark)
                .map_or(rest.len(), |at| after + at + mark.len())
        };
        match character {
            '-' if rest.starts_with("--") => until("\n", 2),
            '#' if self.form.hash_comments => until("\n", 1),
            '/' if rest.starts_with("/*") => self.block_comment(rest),
            // A doubled mark ends one text and begins the next, which has the same effect here. A backslash is a
            // character like others in the sessions of this library.
            '\'' | '"' | '`' => rest[1..].find(character).map_or(rest.len(), |end| end + 2),
            '[' if self.form.bracket_names => until("]", 1),
            '$' if self.form.dollar_quotes => match dollar_tag(rest) {
                Some(tag) => until(tag, tag.len()),
                None => 1,
            },
            character if character.is_alphanumeric() || character == '_' => rest
                .find(|next: char| !(next.is_alphanumeric() || next == '_' || next == '$'))
                .unwrap_or(rest.len()),
            character => character.len_utf8(),
        }
    }

    /// Returns the length of a block comment. PostgreSQL's may stand inside each other.
    fn block_comment(&self, rest: &str) -> usize {
        let (mut at, mut open) = (2, 1);
        while open > 0 {
            let Some(next) = rest[at..].find(['*', '/']) else { return rest.len() };
            at += next;
            match &rest[at..] {
                text if text.starts_with("*/") => (at, open) = (at + 2, open - 1),
                text if text.starts_with("/*") && self.form.nested_comments => {
                    (at, open) = (at + 2, open + 1);
                }
                _ => at += 1,
            }
        }
        at
    }
}

/// Returns the tag of a dollar-quoted text: `$$`, `$body$`.
fn dollar_tag(rest: &str) -> Option<&str> {
    let end = rest[1..].find('$')? + 1;
    let name = &rest[1..end];
    let is_name = name
        .chars()
        .all(|character| character.is_alphanumeric() || character == '_');
    (is_name && !name.starts_with(|first: char| first.is_ascii_digit())).then(|| &rest[..=end])
}

impl Blocks {
    /// Takes the next word of a statement, with the text that follows.
    fn take(&mut self, word: &str, rest: &str) {
        const BODIES: [&str; 5] = ["TRIGGER", "PROCEDURE", "FUNCTION", "EVENT", "PACKAGE"];
        let is = |other: &str| word.eq_ignore_ascii_case(other);
        self.words += 1;
        let begins = std::mem::take(&mut self.ended);
        match self.words {
            1 => {
                self.has_body = is("CREATE");
                return;
            }
            // CREATE OR REPLACE DEFINER = .. TEMPORARY TRIGGER: the kind comes early.
            2..=12 if self.has_body && self.open == 0 && BODIES.iter().any(|kind| is(kind)) => {
                self.words = 100;
                return;
            }
            _ => {}
        }
        if !self.has_body || self.words < 100 {
            return;
        }
        if is("END") {
            self.open = self.open.saturating_sub(1);
            self.ended = true;
            return;
        }
        // The word after END names the block that it ends, and with a bracket it is a function.
        let is_block = !begins && !rest.starts_with('(') && self.open > 0;
        let opens = is("BEGIN")
            || is("CASE") && !begins && self.open > 0
            || is_block && ["LOOP", "WHILE", "REPEAT"].iter().any(|kind| is(kind))
            || is_block && is("IF") && !asks_existence(rest);
        self.open += usize::from(opens);
    }
}

/// Returns whether IF belongs to `IF EXISTS` or `IF NOT EXISTS`, instead of beginning a block.
fn asks_existence(rest: &str) -> bool {
    let mut words = rest
        .split(|character: char| !character.is_alphabetic())
        .filter(|word| !word.is_empty());
    let first = words.next().unwrap_or_default();
    let second = words.next().unwrap_or_default();
    first.eq_ignore_ascii_case("EXISTS")
        || first.eq_ignore_ascii_case("NOT") && second.eq_ignore_ascii_case("EXISTS")
}

#[cfg(test)]
mod tests {
    use super::split;
    use crate::dialect::Dialect;

    fn texts(script: &str, dialect: Dialect) -> Vec<&str> {
        split(script, dialect.grammar().script())
            .into_iter()
            .map(|part| part.text)
            .collect()
    }

    #[test]
    fn semicolons_inside_of_texts_names_and_comments_end_nothing() {
        let script = "\n-- first; comment\nCREATE TABLE a (b text DEFAULT ';' /* ; */);;\n  INSERT INTO \"a;b\" VALUES ('it''s; x');";
        let expected = [
            "CREATE TABLE a (b text DEFAULT ';' /* ; */)",
            "INSERT INTO \"a;b\" VALUES ('it''s; x')",
        ];
        for dialect in Dialect::ALL {
            assert_eq!(texts(script, dialect), expected, "{dialect}");
        }
        let lines: Vec<usize> = split(script, Dialect::Sqlite.grammar().script())
            .iter()
            .map(|part| part.line)
            .collect();
        assert_eq!(lines, [3, 4]);
        assert_eq!(texts("  -- nothing\n;; /* at all */", Dialect::Postgres), Vec::<&str>::new());
        assert_eq!(texts("SELECT 1", Dialect::Sqlite), ["SELECT 1"]);
    }

    #[test]
    fn each_dialect_has_quotes_and_comments_of_its_own() {
        assert_eq!(texts(r"SELECT 'a\'; SELECT 2", Dialect::MariaDb), [r"SELECT 'a\'", "SELECT 2"]);
        assert_eq!(
            texts("SELECT 1 # ; x\n; SELECT 2", Dialect::MySql),
            ["SELECT 1 # ; x", "SELECT 2"]
        );
        let nested = "SELECT /* a /* b; */ ; */ 1; SELECT 2";
        assert_eq!(texts(nested, Dialect::Postgres), ["SELECT /* a /* b; */ ; */ 1", "SELECT 2"]);
        assert_eq!(texts(nested, Dialect::Sqlite).len(), 3);
        let body = "CREATE FUNCTION f() RETURNS int AS $body$ BEGIN; RETURN $1; END $body$ LANGUAGE plpgsql; SELECT $$;$$";
        assert_eq!(texts(body, Dialect::Postgres).len(), 2);
    }

    #[test]
    fn bodies_of_triggers_and_procedures_are_one_statement() {
        let trigger = "CREATE TRIGGER t AFTER INSERT ON a BEGIN UPDATE b SET x = CASE WHEN 1 THEN 2 END; DELETE FROM c; END; SELECT 1";
        assert_eq!(texts(trigger, Dialect::Sqlite).len(), 2);
        let procedure = "CREATE OR REPLACE PROCEDURE p(n INT) BEGIN IF n > 1 THEN SELECT IF(n, 1, 2); ELSE DROP TABLE IF EXISTS x; END IF; \
            WHILE n > 0 DO SET n = n - 1; END WHILE; END; CREATE TABLE IF NOT EXISTS y (z INT); BEGIN NOT ATOMIC";
        let parts = texts(procedure, Dialect::MariaDb);
        assert_eq!(parts[1..], ["CREATE TABLE IF NOT EXISTS y (z INT)", "BEGIN NOT ATOMIC"]);
        let atomic =
            "CREATE FUNCTION f() RETURNS int BEGIN ATOMIC SELECT 1; SELECT 2; END; SELECT 3";
        assert_eq!(texts(atomic, Dialect::Postgres).len(), 2);
    }
}
