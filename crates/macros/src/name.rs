//! Names: those that reach the database, checked and quoted while the program is compiled, and those of fields
//! and methods.

use proc_macro2::{Ident, Span};
use syn::ext::IdentExt;
use syn::parse::ParseStream;

use crate::attr::Mistakes;

/// PostgreSQL silently cuts longer names, so that two of them could become the same.
const LONGEST: usize = 63;

/// Reports a name that some engine would cut, alter or refuse.
pub(crate) fn check(name: &str, span: Span, mistakes: &mut Mistakes) {
    let fault = if name.is_empty() {
        "is empty"
    } else if name.len() > LONGEST {
        "is longer than 63 bytes, so PostgreSQL would cut it"
    } else if name.contains('\0') {
        "has a NUL character, which no dialect can write"
    } else if name.trim() != name {
        "starts or ends with a space, which MariaDB removes"
    } else if name.chars().any(|character| character > '\u{FFFF}') {
        "has a character above U+FFFF, which MariaDB cannot store"
    } else {
        return;
    };
    mistakes.at(span, format!("the name {name:?} {fault}"));
}

/// Returns the name in quote marks, with those inside doubled: with `"` and with a backtick.
pub(crate) fn quoted(name: &str) -> [String; 2] {
    [('"', "\"\""), ('`', "``")]
        .map(|(mark, doubled)| format!("{mark}{}{mark}", name.replace(mark, doubled)))
}

/// Returns two quoted names with a dot between.
pub(crate) fn qualified(outer: &str, inner: &str) -> [String; 2] {
    let [outer, inner] = [quoted(outer), quoted(inner)];
    [0, 1].map(|mark| format!("{}.{}", outer[mark], inner[mark]))
}

/// Parses the name of a field or a method, which may be a keyword of Rust.
pub(crate) fn parse(input: ParseStream<'_>) -> syn::Result<Ident> {
    let ident = input.call(Ident::parse_any)?;
    Ok(rust(&ident.unraw().to_string(), ident.span()))
}

/// Returns a name as Rust writes it: a keyword with `r#`, or with `_` where Rust does not allow that.
pub(crate) fn rust(name: &str, span: Span) -> Ident {
    match name {
        "self" | "Self" | "super" | "crate" | "_" => Ident::new(&format!("{name}_"), span),
        // The parser does not know this keyword, which came with the edition of 2024.
        "gen" => Ident::new_raw(name, span),
        _ if syn::parse_str::<Ident>(name).is_ok() => Ident::new(name, span),
        _ => Ident::new_raw(name, span),
    }
}

/// Returns whether two names are the same, with `r#` or without.
pub(crate) fn is_same(left: &Ident, right: &Ident) -> bool {
    left.unraw() == right.unraw()
}

#[cfg(test)]
mod tests {
    use super::quoted;

    #[test]
    fn a_quote_mark_cannot_end_a_name() {
        assert_eq!(quoted(r#"a"b`c"#), [r#""a""b`c""#, r#"`a"b``c`"#]);
    }
}
