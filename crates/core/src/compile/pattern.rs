//! Patterns of LIKE, for the dialect whose LIKE ignores letter case.

/// A pattern of LIKE, in which `!` escapes, as a pattern of SQLite's GLOB, in which brackets do.
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
