//! Reading `#[nepheline(...)]`, collecting every mistake instead of stopping at the first.

use proc_macro2::Span;
use syn::meta::ParseNestedMeta;
use syn::{Attribute, Expr, LitStr, Token};

/// Mistakes found so far, all reported in one build.
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

/// Gives each part of every `#[nepheline(...)]` to `known`, which says whether it took it;
/// `allowed` names what may stand there.
pub(crate) fn each_part(
    attributes: &[Attribute],
    allowed: &str,
    mistakes: &mut Mistakes,
    mut known: impl FnMut(&ParseNestedMeta<'_>) -> syn::Result<bool>,
) {
    for attribute in attributes
        .iter()
        .filter(|attribute| attribute.path().is_ident("nepheline"))
    {
        let parsed = attribute.parse_nested_meta(|part| {
            if !known(&part)? {
                mistakes.add(part.error(format!("not known here; allowed are {allowed}")));
                skip_value(&part)?;
            }
            Ok(())
        });
        if let Err(mistake) = parsed {
            mistakes.add(mistake);
        }
    }
}

/// Steps over what follows an unknown part, so that the parts after it are checked too.
fn skip_value(part: &ParseNestedMeta<'_>) -> syn::Result<()> {
    if part.input.peek(Token![=]) {
        part.value()?.parse::<Expr>()?;
    }
    Ok(())
}

/// The text in `name = "text"`.
pub(crate) fn text(part: &ParseNestedMeta<'_>) -> syn::Result<LitStr> {
    part.value()?.parse()
}
