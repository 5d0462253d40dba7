//! Where generated code finds Nepheline: at `::nepheline`, or where the program says.

use proc_macro2::{Group, TokenStream, TokenTree};
use quote::ToTokens;
use syn::parse::{Parse, ParseStream};
use syn::{DeriveInput, Ident, Token};

use crate::attr;

/// Returns the code of a derive, with the path that `#[nepheline(crate = path)]` gives.
pub(crate) fn derived(
    input: DeriveInput,
    derive: fn(DeriveInput) -> TokenStream,
) -> proc_macro::TokenStream {
    let path = attr::crate_path(&input.attrs);
    let code = derive(input);
    match path {
        Some(path) => at(&path.to_token_stream(), code).into(),
        None => code.into(),
    }
}

/// The input of a macro that `nepheline` passes on: its own path `$crate`, a comma, and what the program wrote.
pub(crate) struct PassedOn<T> {
    path: TokenTree,
    input: T,
}

impl<T: Parse> Parse for PassedOn<T> {
    fn parse(input: ParseStream<'_>) -> syn::Result<PassedOn<T>> {
        let path = input.parse()?;
        input.parse::<Token![,]>()?;
        Ok(PassedOn { path, input: input.parse()? })
    }
}

impl<T> PassedOn<T> {
    pub(crate) fn expand(self, expand: fn(T) -> TokenStream) -> proc_macro::TokenStream {
        at(&self.path.into_token_stream(), expand(self.input)).into()
    }
}

/// Returns code with `path` in place of each `::nepheline` that begins a path. Mistakes are reported at the same
/// place as without.
fn at(path: &TokenStream, code: TokenStream) -> TokenStream {
    let tokens: Vec<TokenTree> = code.into_iter().collect();
    let mut replaced = TokenStream::new();
    let mut rest = tokens.as_slice();
    let (mut follows_name, mut follows_dash) = (false, false);
    while let [first, behind @ ..] = rest {
        match rest {
            [TokenTree::Punct(a), TokenTree::Punct(b), TokenTree::Ident(name), behind @ ..]
                if a.as_char() == ':'
                    && b.as_char() == ':'
                    && name == "nepheline"
                    && !follows_name =>
            {
                let located = path.clone().into_iter().map(|mut token| {
                    token.set_span(token.span().located_at(name.span()));
                    token
                });
                replaced.extend(located);
                rest = behind;
                continue;
            }
            _ => {}
        }
        // The end of `->` is no end of a path.
        follows_name = is_name(first) && !follows_dash;
        follows_dash = matches!(first, TokenTree::Punct(punct) if punct.as_char() == '-');
        match first {
            TokenTree::Group(group) => {
                let mut inner = Group::new(group.delimiter(), at(path, group.stream()));
                inner.set_span(group.span());
                replaced.extend([TokenTree::Group(inner)]);
            }
            token => replaced.extend([token.clone()]),
        }
        rest = behind;
    }
    replaced
}

/// Returns whether a path can go on after this token: after a name, but not after a keyword such as `as`.
fn is_name(token: &TokenTree) -> bool {
    match token {
        TokenTree::Ident(name) => {
            syn::parse2::<Ident>(name.to_token_stream()).is_ok()
                || name == "crate"
                || name == "super"
        }
        TokenTree::Punct(punct) => punct.as_char() == '>',
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use quote::quote;

    use super::at;
    use crate::{shape, storable, table};

    fn renamed(derive: fn(syn::DeriveInput) -> proc_macro2::TokenStream, item: &str) -> String {
        let item = syn::parse_str(item).expect("an item");
        at(&quote!(stones), derive(item)).to_string()
    }

    #[test]
    fn no_path_begins_at_the_usual_name() {
        let table = renamed(
            table::derive,
            r#"#[nepheline(crate = stones, serialize, policies(own), retire(end), carried(agency = Agency),
                children(kids: Site by parent_id), bridged(tags: Tag across SiteTag),
                optional_child(first: Site by code = code), references(pair: Pair by (a, code)))]
            struct Site {
                #[nepheline(key, generated)] id: i64,
                #[nepheline(unique, by_code_point)] code: String,
                #[nepheline(version)] a: i64,
                #[nepheline(stamp = write)] at: Timestamp,
                #[nepheline(references = Site)] parent_id: Option<i64>,
                agency: Agency,
                end: Option<Timestamp>,
            }"#,
        );
        let shape = renamed(
            shape::derive,
            "#[nepheline(crate = stones, shaped_from(Site), serialize)] struct Code { code: String }",
        );
        let whole_rows = renamed(
            shape::derive,
            "#[nepheline(crate = stones)] struct Pair { #[nepheline(whole_row)] site: Site, count: i64 }",
        );
        let storable = renamed(
            storable::derive,
            "#[nepheline(crate = stones, serialize)] enum Rock { Basalt }",
        );
        for code in [table, shape, whole_rows, storable] {
            assert!(code.contains("stones :: "), "{code}");
            assert!(!code.contains("nepheline"), "{code}");
        }
    }

    #[test]
    fn a_path_that_goes_on_is_left_alone() {
        let code = at(
            &quote!(stones),
            quote!(
                fn f() -> ::nepheline::A {
                    own::nepheline::B
                }
            ),
        );
        assert_eq!(
            code.to_string(),
            quote!(
                fn f() -> stones::A {
                    own::nepheline::B
                }
            )
            .to_string()
        );
    }
}
