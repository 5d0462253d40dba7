//! Names that reach the database: checked and quoted while the program is compiled.

use crate::attr::Mistakes;
use proc_macro2::Span;

/// PostgreSQL cuts longer names in silence, so that two of them could meet.
const LONGEST: usize = 63;

/// Reports a name that some engine would cut, alter or refuse.
pub(crate) fn check(name: &str, span: Span, mistakes: &mut Mistakes) {
    let fault = if name.is_empty() {
        "is empty"
    } else if name.len() > LONGEST {
        "is longer than 63 bytes, where PostgreSQL would cut it"
    } else if name.contains('\0') {
        "has a NUL character, which no dialect can write"
    } else if name.trim() != name {
        "begins or ends with a space, which MariaDB does not keep"
    } else if name.chars().any(|character| character > '\u{FFFF}') {
        "has a letter above U+FFFF, which MariaDB does not keep"
    } else {
        return;
    };
    mistakes.at(span, format!("the name {name:?} {fault}"));
}

/// The name between quote marks, those inside doubled: with `"` and with a backtick.
pub(crate) fn quoted(name: &str) -> [String; 2] {
    [('"', "\"\""), ('`', "``")]
        .map(|(mark, doubled)| format!("{mark}{}{mark}", name.replace(mark, doubled)))
}

/// Two names with a dot between, each quoted.
pub(crate) fn qualified(outer: &str, inner: &str) -> [String; 2] {
    let [outer, inner] = [quoted(outer), quoted(inner)];
    [0, 1].map(|mark| format!("{}.{}", outer[mark], inner[mark]))
}

#[cfg(test)]
mod tests {
    use super::quoted;

    #[test]
    fn a_quote_mark_cannot_end_a_name() {
        assert_eq!(quoted(r#"a"b`c"#), [r#""a""b`c""#, r#"`a"b``c`"#]);
    }
}
