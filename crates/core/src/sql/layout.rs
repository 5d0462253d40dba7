//! Lays SQL out for people: clauses on lines of their own, and what does not fit a line broken at its brackets,
//! commas and ANDs. Only white space changes.
//!
//! It reads the finished text. Identifiers are quoted there, so that an upper-case word is a keyword, apart from
//! those of hand-written SQL, where a line break in another place does no harm.

use std::ops::Range;

/// The width that lines keep to, if their parts are not longer themselves.
const WIDTH: usize = 100;

/// A line of the layout.
#[derive(Debug, Clone, Copy)]
pub(super) struct Line<'t> {
    /// The place of its first character in the text.
    pub(super) at: usize,
    pub(super) indent: usize,
    pub(super) text: &'t str,
}

/// Returns the lines of a text. A line begins at each of `forced`, and nothing is broken if all fits one line.
pub(super) fn lines<'t>(text: &'t str, forced: &[usize]) -> Vec<Line<'t>> {
    let tokens = tokens(text);
    let skip_space = |at: &usize| {
        at + text
            .get(*at..)
            .map_or(0, |rest| rest.len() - rest.trim_start().len())
    };
    let forced = forced.iter().map(skip_space).collect();
    let mut layout = Layout { text, tokens, forced, breaks: vec![(0, 0)] };
    let all = 0..layout.tokens.len();
    if !layout.fits(all.clone(), 0) {
        layout.query(all, 0);
    }
    let mut breaks = layout.breaks;
    breaks.sort_unstable_by_key(|(at, _)| *at);
    breaks.dedup_by_key(|(at, _)| *at);
    let ends = breaks.iter().skip(1).map(|(at, _)| *at).chain([text.len()]);
    let spans = breaks.iter().zip(ends);
    let lines = spans.map(|((at, indent), end)| Line {
        at: *at,
        indent: *indent,
        text: text.get(*at..end).unwrap_or_default().trim(),
    });
    lines.filter(|line| !line.text.is_empty()).collect()
}

/// A word, a quoted name or text, a bracket or a comma.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Token {
    span: Range<usize>,
    /// The number of brackets around it, without a bracket that it is itself.
    depth: usize,
}

fn tokens(text: &str) -> Vec<Token> {
    let mut tokens = Vec::new();
    let mut depth = 0_usize;
    let mut rest = text.char_indices().peekable();
    while let Some((start, first)) = rest.next() {
        let mut end = start + first.len_utf8();
        let outer = depth;
        match first {
            space if space.is_whitespace() => continue,
            '(' => depth += 1,
            ')' => depth = depth.saturating_sub(1),
            ',' => {}
            '\'' | '"' | '`' => {
                for (at, character) in rest.by_ref() {
                    end = at + character.len_utf8();
                    if character == first {
                        break;
                    }
                }
            }
            _ => {
                while let Some((at, character)) = rest.next_if(|(_, next)| {
                    !next.is_whitespace() && !matches!(next, '(' | ')' | ',' | '\'' | '"' | '`')
                }) {
                    end = at + character.len_utf8();
                }
            }
        }
        tokens.push(Token { span: start..end, depth: outer.min(depth) });
    }
    tokens
}

struct Layout<'t> {
    text: &'t str,
    tokens: Vec<Token>,
    forced: Vec<usize>,
    /// The places where lines begin, with their indents.
    breaks: Vec<(usize, usize)>,
}

impl<'t> Layout<'t> {
    fn word(&self, token: usize) -> &'t str {
        let span = self.tokens.get(token).map(|token| token.span.clone());
        span.and_then(|span| self.text.get(span))
            .unwrap_or_default()
    }

    fn start(&self, token: usize) -> usize {
        self.tokens
            .get(token)
            .map_or(self.text.len(), |token| token.span.start)
    }

    fn depth(&self, token: usize) -> usize {
        self.tokens.get(token).map_or(0, |token| token.depth)
    }

    fn is_forced(&self, token: usize) -> bool {
        self.forced.contains(&self.start(token))
    }

    /// Returns the number of characters of tokens on one line.
    fn width(&self, range: Range<usize>) -> usize {
        let end = range
            .end
            .checked_sub(1)
            .and_then(|last| self.tokens.get(last));
        let end = end.map_or(0, |last| last.span.end);
        let text = self.text.get(self.start(range.start)..end);
        text.map_or(0, |text| text.chars().count())
    }

    /// Returns whether tokens fit a line, none of which has to begin one.
    fn fits(&self, range: Range<usize>, indent: usize) -> bool {
        indent + self.width(range.clone()) <= WIDTH
            && !range.skip(1).any(|token| self.is_forced(token))
    }

    /// Returns whether a query, or a clause that has to begin a line, stands inside brackets.
    fn holds_query(&self, brackets: Range<usize>) -> bool {
        brackets
            .skip(1)
            .any(|token| self.begins_query(token) || self.is_forced(token))
    }

    fn break_at(&mut self, token: usize, indent: usize) {
        self.breaks.push((self.start(token), indent));
    }

    /// Returns whether a query begins at a token.
    fn begins_query(&self, token: usize) -> bool {
        matches!(self.word(token), "SELECT" | "WITH" | "VALUES" | "INSERT" | "UPDATE" | "DELETE")
    }

    /// Returns whether a clause of a query begins at a token.
    fn begins_clause(&self, token: usize) -> bool {
        let before = token.checked_sub(1).map_or("", |before| self.word(before));
        match self.word(token) {
            "SELECT" | "WHERE" | "HAVING" | "LIMIT" | "UNION" | "INTERSECT" | "EXCEPT"
            | "RETURNING" => true,
            "FROM" => !matches!(before, "DISTINCT" | "DELETE"),
            "JOIN" => !matches!(before, "INNER" | "LEFT" | "RIGHT" | "FULL" | "CROSS"),
            "INNER" | "LEFT" | "RIGHT" | "FULL" | "CROSS" => self.word(token + 1) == "JOIN",
            "GROUP" | "ORDER" => self.word(token + 1) == "BY",
            "OFFSET" | "FETCH" => before != "LIMIT",
            "SET" => before != "UPDATE",
            "VALUES" => self.word(token + 1) == "(",
            "FOR" => matches!(self.word(token + 1), "UPDATE" | "SHARE"),
            "ON" => matches!(self.word(token + 1), "CONFLICT" | "DUPLICATE"),
            _ => false,
        }
    }

    /// Returns whether a branch of CASE begins at a token, except the first.
    fn begins_branch(&self, token: usize) -> bool {
        match self.word(token) {
            "WHEN" => token
                .checked_sub(1)
                .is_some_and(|before| self.word(before) != "CASE"),
            word => word == "ELSE",
        }
    }

    /// Lays out a query whose first line has begun: each clause on a line.
    fn query(&mut self, range: Range<usize>, indent: usize) {
        let depth = self.depth(range.start);
        let mut starts = vec![(range.start, indent)];
        for token in range.clone().skip(1) {
            if self.depth(token) != depth {
                continue;
            }
            if self.begins_clause(token) {
                starts.push((token, indent));
            } else if self.is_forced(token) {
                starts.push((token, indent + 2));
            }
        }
        let ends = starts
            .iter()
            .skip(1)
            .map(|(token, _)| *token)
            .chain([range.end]);
        for ((start, indent), end) in starts.clone().into_iter().zip(ends.collect::<Vec<_>>()) {
            if start != range.start {
                self.break_at(start, indent);
            }
            self.list(start..end, indent);
        }
    }

    /// Lays out a clause, or what stands in brackets: broken at commas or ANDs if it does not fit the line.
    fn list(&mut self, range: Range<usize>, indent: usize) {
        if self.fits(range.clone(), indent) {
            return;
        }
        let depth = self.depth(range.start);
        let conditions = matches!(
            self.word(range.start),
            "WHERE" | "HAVING" | "AND" | "ON" | "JOIN" | "LEFT" | "RIGHT" | "FULL" | "INNER"
        );
        // Each common table expression has a line of its own.
        let fills = self.word(range.start) != "WITH";
        let mut between = false;
        let mut parts = vec![range.start];
        for token in range
            .clone()
            .skip(1)
            .filter(|token| self.depth(*token) == depth)
        {
            match self.word(token) {
                "BETWEEN" => between = true,
                "AND" if between => between = false,
                "AND" if conditions => parts.push(token),
                "," if !conditions && token + 1 < range.end => parts.push(token + 1),
                _ => {}
            }
        }
        let ends = parts
            .iter()
            .skip(1)
            .copied()
            .chain([range.end])
            .collect::<Vec<_>>();
        let (mut line, mut line_indent) = (range.start, indent);
        for (part, end) in parts.into_iter().zip(ends) {
            if part != range.start && (conditions || !fills || !self.fits(line..end, line_indent)) {
                // The first AND of a line that is one itself stands beside it.
                let further = if self.word(range.start) == "AND" { 0 } else { 2 };
                (line, line_indent) = (part, indent + further);
                self.break_at(part, line_indent);
            }
            self.part(line, part..end, line_indent);
        }
    }

    /// Lays out a part of a list on the line that begins with the token `line`: brackets that do not fit it are broken.
    fn part(&mut self, line: usize, range: Range<usize>, indent: usize) {
        if self.fits(line..range.end, indent) {
            return;
        }
        let depth = self.depth(range.start);
        let (mut line, mut token) = (line, range.start);
        while token < range.end {
            let opens = self.word(token) == "(" && self.depth(token) == depth;
            let close = (token + 1..range.end)
                .find(|close| self.word(*close) == ")" && self.depth(*close) == depth);
            let (true, Some(close)) = (opens, close) else {
                if self.depth(token) == depth && self.begins_branch(token) {
                    self.break_at(token, indent + 2);
                    line = token;
                }
                token += 1;
                continue;
            };
            let next = (close + 1..range.end).find(|next| self.word(next - 1) == "(");
            let tail = next.map_or(range.end, |next| next - 1);
            let is_worth_it =
                self.holds_query(token..close) || self.width(token..close) > WIDTH / 2;
            if is_worth_it && !self.fits(line..tail.max(close + 1), indent) {
                self.break_at(token + 1, indent + 2);
                match self.begins_query(token + 1) {
                    true => self.query(token + 1..close, indent + 2),
                    false => self.list(token + 1..close, indent + 2),
                }
                self.break_at(close, indent);
                line = close;
            }
            token = close + 1;
        }
    }
}
