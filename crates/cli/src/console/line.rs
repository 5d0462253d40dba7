//! The language of the console: a question on a line, or a command about the answers.

use std::path::PathBuf;

use anyhow::{Result, anyhow, bail};
use clap::ValueEnum as _;

use crate::answer::Form;
use crate::question::Question;

/// A line that was read.
#[derive(Debug)]
pub(super) enum Line {
    Question { table: String, question: Question },
    Plan { table: String, question: Question },
    Tables,
    Names { table: String, path: String },
    Sql { shown: Option<bool> },
    As { form: Form },
    Export { file: PathBuf },
    Help,
    Leave,
    Nothing,
}

/// The words that begin a command, with what follows them.
pub(super) const COMMANDS: [(&str, &str, &str); 9] = [
    ("tables", "", "the tables and views"),
    (
        "names",
        "TABLE [RELATION]",
        "the columns and relations of a table: names specimen borehole.site",
    ),
    ("plan", "QUESTION", "the plan of the database for a question"),
    ("sql", "[on|off]", "show the SQL before each answer, or not"),
    ("as", "table|json|csv|markdown|chart", "the form of the answers"),
    ("export", "FILE", "write the last answer into a .csv, .json, .md or .svg file"),
    ("help", "", "this page"),
    ("leave", "", "end the console, as Ctrl-D does"),
    ("quit", "", "the same"),
];

/// The words that begin the clauses of a question, with what follows them.
pub(super) const CLAUSES: [(Clause, &str, &str); 8] = [
    (Clause::Where, "where", "CONDITION"),
    (Clause::Show, "show", "NAMES"),
    (Clause::Per, "per", "NAMES"),
    (Clause::Total, "total", "TOTALS"),
    (Clause::Having, "having", "CONDITION"),
    (Clause::Order, "order", "NAMES"),
    (Clause::Limit, "limit", "ROWS"),
    (Clause::Page, "page", "NUMBER"),
];

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Clause {
    Where,
    Show,
    Per,
    Total,
    Having,
    Order,
    Limit,
    Page,
}

impl Clause {
    fn of(word: &str) -> Option<Clause> {
        let found = CLAUSES
            .iter()
            .find(|(_, name, _)| word.eq_ignore_ascii_case(name));
        found.map(|(clause, ..)| *clause)
    }
}

/// A piece of a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Token<'l> {
    text: &'l str,
    start: usize,
    /// The number of parentheses around it.
    depth: usize,
    kind: TokenKind,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum TokenKind {
    /// Letters, digits, and the dots of paths.
    Word,
    /// A text or a name in quotes; `closed` if its end is there.
    Quoted { closed: bool },
    /// Anything else.
    Sign,
}

/// Returns the pieces of a line.
fn tokens(line: &str) -> Vec<Token<'_>> {
    let (mut found, mut depth, mut rest) = (Vec::new(), 0_usize, line);
    while let Some(first) = rest.chars().next() {
        let start = line.len() - rest.len();
        let is_word = |c: char| c.is_alphanumeric() || c == '_' || c == '.';
        let (length, kind) = match first {
            c if c.is_whitespace() => {
                rest = rest.trim_start();
                continue;
            }
            '\'' | '"' => quoted(rest, first),
            c if is_word(c) => (rest.find(|c| !is_word(c)).unwrap_or(rest.len()), TokenKind::Word),
            c => (c.len_utf8(), TokenKind::Sign),
        };
        if first == ')' {
            depth = depth.saturating_sub(1);
        }
        let (text, after) = rest.split_at(length);
        found.push(Token { text, start, depth, kind });
        if first == '(' {
            depth += 1;
        }
        rest = after;
    }
    found
}

/// Returns the length of a text in quotes at the beginning of `rest`. A quote in it is doubled.
fn quoted(rest: &str, quote: char) -> (usize, TokenKind) {
    let mut ends = rest
        .char_indices()
        .skip(1)
        .filter(|(_, c)| *c == quote)
        .peekable();
    while let Some((place, _)) = ends.next() {
        match ends.peek() {
            Some((next, _)) if *next == place + 1 => {
                ends.next();
            }
            _ => return (place + 1, TokenKind::Quoted { closed: true }),
        }
    }
    (rest.len(), TokenKind::Quoted { closed: false })
}

/// Returns whether an operand has to follow a piece, so that no clause begins there and no line ends.
fn wants_more(token: &Token<'_>) -> bool {
    let is_operator = |word: &str| {
        let operators = ["and", "or", "not", "like", "between", "in", "is", "as", "div"];
        operators
            .iter()
            .any(|operator| word.eq_ignore_ascii_case(operator))
    };
    match token.kind {
        TokenKind::Word => is_operator(token.text),
        TokenKind::Quoted { closed } => !closed,
        TokenKind::Sign => token.text != ")",
    }
}

/// Returns the clauses of a question: their tokens, by the number of the first.
fn clauses(tokens: &[Token<'_>]) -> Vec<(Clause, usize)> {
    let mut found = Vec::new();
    let mut before: Option<&Token<'_>> = None;
    let mut begun = false;
    for (number, token) in tokens.iter().enumerate() {
        let may_begin = token.kind == TokenKind::Word && token.depth == 0 && !begun;
        let follows = before.is_some_and(|before| !wants_more(before));
        match Clause::of(token.text).filter(|_| may_begin && follows) {
            Some(clause) => {
                found.push((clause, number));
                // The next piece belongs to the clause, also a column with the name of one.
                begun = true;
            }
            None => begun = false,
        }
        before = Some(token);
    }
    found
}

/// Returns whether a line can end here: nothing is open, and no operand is missing.
pub(super) fn is_complete(text: &str) -> bool {
    let tokens = tokens(text);
    let Some(last) = tokens.last() else { return true };
    let is_open = last.depth > 0 || last.text == "(";
    let begins_clause = clauses(&tokens)
        .last()
        .is_some_and(|(_, first)| first + 1 == tokens.len());
    !(is_open || wants_more(last) || begins_clause)
}

/// The place of the cursor in a line, for completion.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Cursor {
    /// The first word: a table or a command.
    First,
    /// The words after a command.
    AfterCommand(String),
    /// A word of a question to a table, in a clause; `None` right after the table.
    InQuestion { table: String, clause: Option<Clause> },
    /// A text in quotes, which is compared with a name.
    InText { table: String, name: String },
}

/// Returns where a line ends, whose last word is being written.
pub(super) fn cursor(text: &str) -> Cursor {
    let all = tokens(text);
    // The word that is being written does not count.
    let is_written = |token: &&Token<'_>| {
        token.start + token.text.len() == text.len()
            && (token.kind == TokenKind::Word || token.kind == TokenKind::Quoted { closed: false })
    };
    let written = all.last().filter(is_written);
    let before = &all[..all.len() - usize::from(written.is_some())];
    let Some(first) = before.first() else { return Cursor::First };
    let mut question = before;
    if let Some((command, ..)) = COMMANDS
        .iter()
        .find(|(name, ..)| first.text.eq_ignore_ascii_case(name))
    {
        match (*command, before.get(1..)) {
            ("plan", Some([])) => return Cursor::First,
            ("plan", Some(rest)) => question = rest,
            _ => return Cursor::AfterCommand((*command).to_owned()),
        }
    }
    let Some(table) = question.first().map(|token| unquoted(token.text)) else {
        return Cursor::First;
    };
    if written.is_some_and(|token| token.text.starts_with('\'')) {
        // `rock = 'gr`, and `rock IN ('granite', 'gr`.
        let words = question.iter().rev().filter(|token| {
            token.kind == TokenKind::Word
                && !wants_more(token)
                && !token.text.starts_with(|c: char| c.is_ascii_digit())
        });
        if let Some(name) = words.map(|token| token.text.to_owned()).next() {
            return Cursor::InText { table, name };
        }
    }
    let clause = clauses(question).last().map(|(clause, _)| *clause);
    Cursor::InQuestion { table, clause }
}

fn unquoted(text: &str) -> String {
    match text
        .strip_prefix('"')
        .and_then(|rest| rest.strip_suffix('"'))
    {
        Some(inside) => inside.replace("\"\"", "\""),
        None => text.to_owned(),
    }
}

impl Line {
    /// Reads what a line asks for.
    pub(super) fn of(text: &str) -> Result<Line> {
        let text = text.trim().trim_end_matches(';');
        let tokens = tokens(text);
        let Some(first) = tokens.first() else { return Ok(Line::Nothing) };
        let rest = text
            .get(first.start + first.text.len()..)
            .unwrap_or_default()
            .trim();
        Ok(match first.text.to_ascii_lowercase().as_str() {
            "tables" => Line::Tables,
            "names" => match tokens.as_slice() {
                [_, table] => Line::Names { table: unquoted(table.text), path: String::new() },
                [_, table, path] => {
                    Line::Names { table: unquoted(table.text), path: path.text.to_owned() }
                }
                _ => bail!("expected `names TABLE`, or `names TABLE RELATION`"),
            },
            "plan" => {
                let (table, question) = question(rest)?;
                Line::Plan { table, question }
            }
            "sql" => Line::Sql {
                shown: match rest {
                    "" => None,
                    "on" => Some(true),
                    "off" => Some(false),
                    _ => bail!("expected `sql`, `sql on` or `sql off`"),
                },
            },
            "as" => Line::As {
                form: Form::from_str(rest, true).map_err(|_| {
                    anyhow!("expected `as table`, `as json`, `as csv`, `as markdown` or `as chart`")
                })?,
            },
            "export" if rest.is_empty() => bail!("expected `export FILE`"),
            "export" => Line::Export { file: PathBuf::from(rest.trim_matches(['\'', '"'])) },
            "help" => Line::Help,
            "leave" | "quit" | "exit" => Line::Leave,
            _ => {
                let (table, question) = question(text)?;
                Line::Question { table, question }
            }
        })
    }
}

/// Reads a question: a table, and its clauses in any order.
fn question(text: &str) -> Result<(String, Question)> {
    let tokens = tokens(text);
    let Some(table) = tokens.first() else { bail!("expected a question after `plan`") };
    let clauses = clauses(&tokens);
    let first = clauses.first().map_or(tokens.len(), |(_, first)| *first);
    if let Some(stray) = tokens.get(1..first).and_then(<[_]>::first) {
        let names: Vec<&str> = CLAUSES.iter().map(|(_, name, _)| *name).collect();
        bail!(
            "`{}` cannot follow the table; a clause begins with one of: {}",
            stray.text,
            names.join(", ")
        );
    }
    let mut question = Question::without_clauses();
    let mut seen: Vec<Clause> = Vec::new();
    for (number, (clause, first)) in clauses.iter().enumerate() {
        let name = CLAUSES
            .iter()
            .find(|(known, ..)| known == clause)
            .map_or("", |(_, name, _)| name);
        if seen.contains(clause) {
            bail!("`{name}` stands twice");
        }
        seen.push(*clause);
        let start = tokens
            .get(first + 1)
            .map_or(text.len(), |token| token.start);
        let next = clauses
            .get(number + 1)
            .and_then(|(_, next)| tokens.get(*next));
        let end = next.map_or(text.len(), |token| token.start);
        let inside = text.get(start..end).unwrap_or_default().trim();
        if inside.is_empty() {
            bail!("nothing follows `{name}`");
        }
        let number = || {
            let number = inside.parse::<u64>();
            number.map_err(|_| anyhow!("`{name} {inside}`: expected a number"))
        };
        match clause {
            Clause::Where => question.filter = Some(inside.to_owned()),
            Clause::Show => question.show = Some(inside.to_owned()),
            Clause::Per => question.per = Some(inside.to_owned()),
            Clause::Total => question.total = Some(inside.to_owned()),
            Clause::Having => question.having = Some(inside.to_owned()),
            Clause::Order => question.order = Some(inside.to_owned()),
            Clause::Limit => question.limit = number()?,
            Clause::Page => question.page = number()?,
        }
    }
    Ok((unquoted(table.text), question))
}

#[cfg(test)]
mod tests {
    use super::{Clause, Cursor, Line, cursor, is_complete};
    use crate::question::Question;

    fn question(text: &str) -> (String, Question) {
        match Line::of(text).unwrap() {
            Line::Question { table, question } => (table, question),
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn the_words_of_clauses_may_be_names_of_columns() {
        let (table, asked) = question(
            "invoice where total > 3 and page = 'limit 3' per region, total total count, sum(total) as order order -total limit 5 page 2",
        );
        assert_eq!(table, "invoice");
        assert_eq!(asked.filter.as_deref(), Some("total > 3 and page = 'limit 3'"));
        assert_eq!(asked.per.as_deref(), Some("region, total"));
        assert_eq!(asked.total.as_deref(), Some("count, sum(total) as order"));
        assert_eq!(asked.order.as_deref(), Some("-total"));
        assert_eq!((asked.limit, asked.page), (5, 2));
        assert_eq!(question("\"order\" where where > 1").0, "order");
        assert_eq!(question("lab WHERE name = 'O''Shea';").1.filter.unwrap(), "name = 'O''Shea'");
        for (wrong, message) in [
            ("lab name", "`name` cannot follow the table"),
            ("lab where", "nothing follows `where`"),
            ("lab show id show name", "`show` stands twice"),
            ("lab limit many", "`limit many`: expected a number"),
            ("sql maybe", "expected `sql`"),
            ("plan", "expected a question"),
        ] {
            let err = Line::of(wrong).unwrap_err().to_string();
            assert!(err.starts_with(message), "{wrong}: {err}");
        }
    }

    #[test]
    fn a_line_goes_on_while_something_is_open() {
        for complete in
            ["", "lab", "lab where id = 3", "lab where a like 'x%'", "lab per total", "sql on"]
        {
            assert!(is_complete(complete), "{complete}");
        }
        for open in [
            "lab where",
            "lab where name = 'a",
            "lab where (id = 3",
            "lab show id,",
            "lab where id = 3 and",
            "lab total sum(",
            "lab where id >",
        ] {
            assert!(!is_complete(open), "{open}");
        }
    }

    #[test]
    fn the_cursor_knows_what_is_being_written() {
        let table = "specimen".to_owned();
        let in_clause = |clause| Cursor::InQuestion { table: table.clone(), clause };
        assert_eq!(cursor("spec"), Cursor::First);
        assert_eq!(cursor("plan spec"), Cursor::First);
        assert_eq!(cursor("names "), Cursor::AfterCommand("names".to_owned()));
        assert_eq!(cursor("specimen "), in_clause(None));
        assert_eq!(cursor("specimen where borehole.si"), in_clause(Some(Clause::Where)));
        assert_eq!(cursor("plan specimen per ro"), in_clause(Some(Clause::Per)));
        let in_text = |name: &str| Cursor::InText { table: table.clone(), name: name.to_owned() };
        assert_eq!(cursor("specimen where rock = 'gr"), in_text("rock"));
        assert_eq!(cursor("specimen where id = 3 and a.rock in ('granite', '"), in_text("a.rock"));
    }
}
