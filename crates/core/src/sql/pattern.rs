//! LIKE patterns for SQLite, whose LIKE ignores letter case.

/// Converts a LIKE pattern, in which `!` escapes, to a pattern of SQLite's GLOB, in which brackets do.
pub(super) fn glob_of(pattern: &str) -> String {
    let mut glob = String::with_capacity(pattern.len());
    let mut characters = pattern.chars();
    while let Some(character) = characters.next() {
        let literal = match character {
            '%' => {
                glob.push('*');
                continue;
            }
            '_' => {
                glob.push('?');
                continue;
            }
            '!' => characters.next().unwrap_or('!'),
            other => other,
        };
        match literal {
            '*' | '?' | '[' => {
                glob.push('[');
                glob.push(literal);
                glob.push(']');
            }
            other => glob.push(other),
        }
    }
    glob
}

#[cfg(test)]
mod tests {
    use super::glob_of;

    #[test]
    fn wildcards_change_and_what_is_escaped_or_a_wildcard_of_glob_is_itself() {
        for (like, glob) in [
            ("", ""),
            ("gneiss", "gneiss"),
            ("%eis_", "*eis?"),
            ("100!%", "100%"),
            ("a!_b!!c", "a_b!c"),
            ("[a]*b?", "[[]a][*]b[?]"),
            ("!*!?![", "[*][?][[]"),
            ("Öst%", "Öst*"),
        ] {
            assert_eq!(glob_of(like), glob, "of {like}");
        }
    }
}
