//! Plurals of English words, for the names of relations.

/// Returns the plural of an English word, as far as a simple rule goes.
pub(crate) fn plural(word: &str) -> String {
    let ends = |ends: &[&str]| ends.iter().any(|end| word.ends_with(end));
    match word.strip_suffix('y') {
        Some(stem) if !stem.ends_with(['a', 'e', 'i', 'o', 'u']) => format!("{stem}ies"),
        _ if ends(&["ss", "x", "z", "ch", "sh"]) => format!("{word}es"),
        _ if ends(&["s"]) => word.to_owned(),
        _ => format!("{word}s"),
    }
}
