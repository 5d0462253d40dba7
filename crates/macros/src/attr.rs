//! Reads `#[nepheline(...)]` attributes, and collects every mistake instead of stopping at the first.

use proc_macro2::{Ident, Span, TokenStream, TokenTree};
use quote::ToTokens;
use syn::meta::ParseNestedMeta;
use syn::parse::ParseStream;
use syn::punctuated::Punctuated;
use syn::{Attribute, LitStr, Path, Token, parenthesized, token};

/// The mistakes found so far, all reported in one build.
#[derive(Default)]
pub(crate) struct Mistakes(Option<syn::Error>);

impl Mistakes {
    pub(crate) fn add(&mut self, mistake: syn::Error) {
        match &mut self.0 {
            Some(others) => others.combine(mistake),
            None => self.0 = Some(mistake),
        }
    }

    pub(crate) fn at(&mut self, span: Span, message: impl std::fmt::Display) {
        self.add(syn::Error::new(span, message));
    }

    pub(crate) fn into_error(self) -> Option<syn::Error> {
        self.0
    }
}

/// Passes each part of every `#[nepheline(...)]` to `known`, which returns whether it accepted it; `allowed`
/// lists the accepted parts for the message. After a mistake it goes on with the next part.
pub(crate) fn each_part(
    attributes: &[Attribute],
    allowed: &str,
    mistakes: &mut Mistakes,
    mut known: impl FnMut(&ParseNestedMeta<'_>) -> syn::Result<bool>,
) {
    let mut seen: Vec<String> = Vec::new();
    for attribute in attributes.iter().filter(|attribute| is_ours(attribute)) {
        let parsed = attribute.parse_nested_meta(|part| {
            // A list in brackets may go on in another attribute.
            let is_list = part.input.peek(token::Paren) && !part.path.is_ident("retire");
            let name = part.path.to_token_stream().to_string();
            if seen.contains(&name) && !is_list {
                mistakes.add(part.error(format!("`{name}` is given a second time")));
            }
            seen.push(name);
            match known(&part) {
                Ok(true) => {}
                Ok(false) => {
                    mistakes.add(part.error(format!("unknown attribute; allowed are {allowed}")))
                }
                Err(mistake) => mistakes.add(mistake),
            }
            skip_to_comma(part.input)
        });
        if let Err(mistake) = parsed {
            mistakes.add(mistake);
        }
    }
}

fn is_ours(attribute: &Attribute) -> bool {
    attribute.path().is_ident("nepheline")
}

/// Skips what a mistake has left, so that the parts after it are checked too.
fn skip_to_comma(input: ParseStream<'_>) -> syn::Result<()> {
    while !input.is_empty() && !input.peek(Token![,]) {
        input.parse::<TokenTree>()?;
    }
    Ok(())
}

/// Sets the flag that a part without a value means.
pub(crate) fn flag(part: &ParseNestedMeta<'_>, flag: &mut bool) -> syn::Result<()> {
    *flag = true;
    match part.input.is_empty() || part.input.peek(Token![,]) {
        true => Ok(()),
        false => {
            let name = part.path.to_token_stream();
            Err(part.error(format!("`{name}` has no value; write `{name}` alone")))
        }
    }
}

/// Returns the text in `name = "text"`.
pub(crate) fn text(part: &ParseNestedMeta<'_>) -> syn::Result<LitStr> {
    part.value()?.parse()
}

/// Returns the items of `name(item, item)`.
pub(crate) fn list<T>(
    part: &ParseNestedMeta<'_>,
    each: fn(ParseStream<'_>) -> syn::Result<T>,
) -> syn::Result<Vec<T>> {
    items(part.input, each)
}

/// Returns the items of `(item, item)`.
pub(crate) fn items<T>(
    input: ParseStream<'_>,
    each: fn(ParseStream<'_>) -> syn::Result<T>,
) -> syn::Result<Vec<T>> {
    in_brackets(input, |inner| {
        let items = Punctuated::<T, Token![,]>::parse_terminated_with(inner, each)?;
        Ok(items.into_iter().collect())
    })
}

/// Parses what stands in brackets. After a mistake it skips the rest, which would be a second one.
pub(crate) fn in_brackets<T>(
    input: ParseStream<'_>,
    parse: impl FnOnce(ParseStream<'_>) -> syn::Result<T>,
) -> syn::Result<T> {
    let inner;
    parenthesized!(inner in input);
    let parsed = parse(&inner);
    if parsed.is_err() {
        inner.parse::<TokenStream>()?;
    }
    parsed
}

/// Accepts `crate = path`, which [`crate_path`] has read.
pub(crate) fn is_crate(part: &ParseNestedMeta<'_>) -> syn::Result<bool> {
    let is_crate = part.path.is_ident("crate");
    if is_crate {
        part.value()?.call(Path::parse_mod_style)?;
    }
    Ok(is_crate)
}

/// Returns the path in `crate = path`: where the generated code finds Nepheline.
pub(crate) fn crate_path(attributes: &[Attribute]) -> Option<Path> {
    let mut path = None;
    for attribute in attributes.iter().filter(|attribute| is_ours(attribute)) {
        // Mistakes are reported by `each_part`.
        let _ = attribute.parse_nested_meta(|part| {
            if part.path.is_ident("crate") {
                path = Some(part.value()?.call(Path::parse_mod_style)?);
            }
            skip_to_comma(part.input)
        });
    }
    path
}

/// Returns the attributes of the compiler that apply to generated code too: `allow` and `deprecated`.
pub(crate) fn forwarded(attributes: &[Attribute]) -> Vec<&Attribute> {
    let is_forwarded = |attribute: &&Attribute| {
        attribute.path().is_ident("allow") || attribute.path().is_ident("deprecated")
    };
    attributes.iter().filter(is_forwarded).collect()
}

/// Returns those of the attributes that allow lints.
pub(crate) fn allows<'a>(attributes: &[&'a Attribute]) -> Vec<&'a Attribute> {
    let attributes = attributes.iter().copied();
    attributes
        .filter(|attribute| attribute.path().is_ident("allow"))
        .collect()
}

/// Returns the name of a variable of generated code, at a place in the user's code, where mistakes with it are
/// reported. That place may be in a `macro_rules`, which would not see the variable under a name of its own.
pub(crate) fn local(name: &str, place: Span) -> Ident {
    Ident::new(name, place.resolved_at(Span::call_site()))
}
