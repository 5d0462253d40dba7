//! The text of a function with places for its arguments, as [`Function`](crate::function::Function) stores
//! it.

/// The form of a function that is its argument.
pub(super) const AS_IT_IS: &str = "{0}";

/// A part of a form.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Part {
    Text(&'static str),
    Argument {
        number: usize,
        /// True if it stands between commas or call brackets, or is the whole form.
        alone: bool,
    },
}

impl Part {
    /// The number that stands for the order of the rows of an aggregate.
    pub(super) const ARGUMENT_ORDERS: usize = usize::MAX - 1;
    /// The number that stands for the filter and the window after a call.
    pub(super) const AROUND: usize = usize::MAX;
    /// The number that stands for the filter after a call that cannot have a window.
    pub(super) const FILTER: usize = usize::MAX - 3;
    /// The number that stands for all arguments.
    pub(super) const EVERY_ARGUMENT: usize = usize::MAX - 2;
}

/// Returns the parts of a form, from left to right.
pub(super) fn parts(form: &'static str) -> impl Iterator<Item = Part> {
    let mut at = 0;
    std::iter::from_fn(move || {
        let rest = form.get(at..).filter(|rest| !rest.is_empty())?;
        let Some(brace) = rest.find(['{', '}']) else {
            at = form.len();
            return Some(Part::Text(rest));
        };
        if brace > 0 {
            at += brace;
            return Some(Part::Text(&rest[..brace]));
        }
        let end = match rest.as_bytes() {
            [b'{', b'{', ..] | [b'}', b'}', ..] => None,
            [b'{', ..] => rest.find('}'),
            _ => None,
        };
        let Some(end) = end else {
            // A doubled brace stands for itself.
            at += if rest[1..].starts_with(&rest[..1]) { 2 } else { 1 };
            return Some(Part::Text(&rest[..1]));
        };
        let (before, after) = (&form[..at], &rest[end + 1..]);
        let opened = before.is_empty() || before.ends_with('(') || before.ends_with(", ");
        let closed = after.is_empty() || after.starts_with([')', ',']);
        at += end + 1;
        let number = match &rest[1..end] {
            "~" => Part::ARGUMENT_ORDERS,
            "*" => Part::AROUND,
            "?" => Part::FILTER,
            "+" => Part::EVERY_ARGUMENT,
            number => number.parse().unwrap_or(Part::AROUND),
        };
        Some(Part::Argument { number, alone: opened && closed })
    })
}

/// Returns whether the text of a form is a single call: a name and one pair of brackets.
pub(super) fn is_closed(form: &str) -> bool {
    let form = form.strip_suffix("{*}").unwrap_or(form);
    let name = form.trim_start_matches(|c: char| c.is_ascii_alphanumeric() || c == '_');
    if let Some(text) = form
        .strip_prefix('\'')
        .and_then(|text| text.strip_suffix('\''))
    {
        return !text.replace("''", "").contains('\'');
    }
    if !name.starts_with('(') {
        // A single word is closed too, and so is a whole CASE expression.
        return name.is_empty() || form.starts_with("CASE ") && form.ends_with(" END");
    }
    let (mut depth, mut quoted) = (0_usize, None);
    for (i, character) in name.char_indices() {
        match (quoted, character) {
            (Some(mark), c) if c == mark => quoted = None,
            (Some(_), _) => {}
            (None, '\'' | '"') => quoted = Some(character),
            (None, '(') => depth += 1,
            (None, ')') => depth -= 1,
            _ => {}
        }
        if depth == 0 {
            return i + 1 == name.len();
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_form_is_text_and_arguments() {
        let argument = |number, alone| Part::Argument { number, alone };
        let seen = |form| parts(form).collect::<Vec<_>>();
        assert_eq!(seen("{0}"), [argument(0, true)]);
        assert_eq!(
            seen("f({0}, {1} || '{{}}')"),
            [
                Part::Text("f("),
                argument(0, true),
                Part::Text(", "),
                argument(1, false),
                Part::Text(" || '"),
                Part::Text("{"),
                Part::Text("}"),
                Part::Text("')"),
            ]
        );
    }

    #[test]
    fn only_one_whole_call_hangs_together() {
        for closed in
            ["f({0})", "f(')', g({0}))", "TRUE", "CASE {0} WHEN 1 THEN 2 END", "'x'", "'x''y'"]
        {
            assert!(is_closed(closed), "{closed}");
        }
        for open in
            ["f({0}) + g({1})", "{0} + {1}", "({0}) || ({1})", "f({0})::int8", "-{0}", "'x' || 'y'"]
        {
            assert!(!is_closed(open), "{open}");
        }
    }
}
