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

/// `SplitSpecimen` as `split_specimen`.
pub(crate) fn snake_case(name: &str) -> String {
    let mut snake = String::with_capacity(name.len() + 4);
    let characters: Vec<char> = name.chars().collect();
    for (i, &character) in characters.iter().enumerate() {
        let after_small = i > 0 && !characters[i - 1].is_uppercase() && characters[i - 1] != '_';
        let before_small = characters
            .get(i + 1)
            .is_some_and(|next| next.is_lowercase());
        if character.is_uppercase()
            && i > 0
            && (after_small || before_small)
            && !snake.ends_with('_')
        {
            snake.push('_');
        }
        snake.extend(character.to_lowercase());
    }
    snake
}

#[cfg(test)]
mod tests {
    use super::{quoted, snake_case};

    #[test]
    fn words_are_told_apart_by_capitals() {
        let names = ["Specimen", "SplitSpecimen", "XRayScan", "LabV2", "ÉtageId", "raw_core"];
        let snakes = ["specimen", "split_specimen", "x_ray_scan", "lab_v2", "étage_id", "raw_core"];
        assert_eq!(names.map(snake_case), snakes);
    }

    #[test]
    fn a_quote_mark_cannot_end_a_name() {
        assert_eq!(quoted(r#"a"b`c"#), [r#""a""b`c""#, r#"`a"b``c`"#]);
    }
}
