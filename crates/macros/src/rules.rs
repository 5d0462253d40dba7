//! The rules of a table: its policies, how its rows are made and how they are withdrawn.

use proc_macro2::{Ident, TokenStream};
use quote::{format_ident, quote, quote_spanned};
use syn::ext::IdentExt;
use syn::meta::ParseNestedMeta;
use syn::parse::ParseStream;
use syn::punctuated::Punctuated;
use syn::spanned::Spanned;
use syn::{Token, parenthesized};

use crate::attr::Mistakes;
use crate::column::ColumnField;
use crate::relation::{Children, Reference};
use crate::table::TableItem;

/// `retire(withdrawn_at)`, or `retire(withdrawn_at, with(assays))`.
pub(crate) struct Retire {
    /// The column that marks rows as withdrawn.
    pub(crate) mark: Ident,
    /// The relations to the children that are withdrawn with a row.
    with: Vec<Ident>,
}

impl Retire {
    pub(crate) fn parse(part: &ParseNestedMeta<'_>) -> syn::Result<Retire> {
        let content;
        parenthesized!(content in part.input);
        let mark = content.call(Ident::parse_any)?;
        let mut with = Vec::new();
        if content.peek(Token![,]) && !content.peek2(syn::parse::End) {
            content.parse::<Token![,]>()?;
            with = Retire::parse_with(&content)?;
        }
        content.parse::<Option<Token![,]>>()?;
        Ok(Retire { mark, with })
    }

    fn parse_with(content: ParseStream<'_>) -> syn::Result<Vec<Ident>> {
        let word = content.call(Ident::parse_any)?;
        if word != "with" {
            return Err(syn::Error::new(
                word.span(),
                "expected `with(..)` and the children in it, as in `retire(withdrawn_at, with(assays))`",
            ));
        }
        let names;
        parenthesized!(names in content);
        let names =
            Punctuated::<Ident, Token![,]>::parse_terminated_with(&names, Ident::parse_any)?;
        Ok(names.into_iter().collect())
    }

    pub(crate) fn check(&self, table: &TableItem<'_>, mistakes: &mut Mistakes) {
        for name in &self.with {
            if table.children.iter().all(|children| children.name != *name) {
                mistakes.at(name.span(), format!("the table declares no children `{name}`"));
            }
        }
    }
}

impl TableItem<'_> {
    /// The children that are withdrawn with a row.
    fn withdrawn_with(&self) -> impl Iterator<Item = &Children> {
        let with = self.retire.iter().flat_map(|retire| &retire.with);
        with.filter_map(|name| self.children.iter().find(|children| children.name == *name))
    }

    /// The relations to them.
    pub(crate) fn retired_with(&self) -> impl Iterator<Item = TokenStream> {
        let owner = self.owner();
        self.withdrawn_with().map(move |children| {
            let Children { name, target, by, own } = children.clone();
            let relation = Reference { name, target, own, theirs: by, optional: true };
            relation.descriptor(&owner, true)
        })
    }

    /// That its rows are withdrawn, and that those of the children are too.
    pub(crate) fn retires(&self) -> Option<TokenStream> {
        self.retire.as_ref()?;
        let ident = self.ident;
        let checks = self.withdrawn_with().map(|children| {
            let target = &children.target;
            quote_spanned! {target.span()=>
                const _: fn() = || {
                    fn retires<T: ::nepheline::bounds::Retires>() {}
                    retires::<#target>();
                };
            }
        });
        Some(quote! {
            impl ::nepheline::bounds::Retires for #ident {}
            #(#checks)*
        })
    }

    /// Where the value of a column comes from in a new row.
    pub(crate) fn made(&self, column: &ColumnField<'_>) -> TokenStream {
        let filled = self.fills.iter().find(|(filled, _)| filled == column.ident);
        let stamp = column.stamp.as_ref().map(Ident::to_string);
        match (filled, stamp.as_deref()) {
            (Some((_, ty)), _) => quote! {
                ::nepheline::internal::Made::Filled(::nepheline::internal::fill_of::<#ty>)
            },
            (None, Some("insert")) => quote!(::nepheline::internal::Made::StampedOnInsert),
            (None, Some(_)) => quote!(::nepheline::internal::Made::StampedOnWrite),
            (None, None) if column.version => quote!(::nepheline::internal::Made::Version),
            (None, None) => quote!(::nepheline::internal::Made::Given),
        }
    }

    /// The struct of a row before it is stored, without what the database or the handle supplies.
    pub(crate) fn unsaved(&self) -> (TokenStream, TokenStream) {
        let (ident, visibility) = (self.ident, self.visibility);
        let unsaved = format_ident!("Unsaved{}", ident.unraw());
        let doc = format!(
            "A row of the table `{}` before it is stored: what an INSERT supplies.",
            self.name
        );
        let is_given = |column: &&ColumnField<'_>| {
            let filled = self.fills.iter().any(|(filled, _)| filled == column.ident);
            !column.generated && !column.version && column.stamp.is_none() && !filled
        };
        let given: Vec<_> = self.columns.iter().filter(is_given).collect();
        let fields = given.iter().map(|column| {
            let ColumnField { ident, ty, visibility, docs, .. } = column;
            let default = docs.is_empty().then(|| {
                let doc = format!("The column `{}`.", column.name);
                quote!(#[doc = #doc])
            });
            quote! { #default #(#docs)* #visibility #ident: #ty }
        });
        let idents: Vec<_> = given.iter().map(|column| column.ident).collect();
        let item = quote! {
            #[doc = #doc]
            #[allow(
                dead_code,
                missing_debug_implementations,
                reason = "not every table is inserted into, and not every type can be shown"
            )]
            #visibility struct #unsaved { #(#fields,)* }
        };
        let implementation = quote! {
            impl ::nepheline::Unsaved for #unsaved {
                type Table = #ident;

                fn lend<'b>(
                    &'b self,
                    take: &mut dyn ::core::ops::FnMut(::nepheline::internal::LentBind<'b>),
                ) {
                    #(take(::nepheline::ColumnType::lend_or_null(&self.#idents));)*
                }

                fn bytes(&self) -> usize {
                    0 #(+ ::nepheline::ColumnType::lend_or_null(&self.#idents).size())*
                }

                fn is_ordinary(&self) -> bool {
                    true #(&& ::nepheline::ColumnType::lend_or_null(&self.#idents).is_ordinary())*
                }
            }

            #[allow(dead_code, reason = "not every table is inserted into")]
            impl #ident {
                /// A new row, to be written by a handle.
                #[track_caller]
                #visibility fn insert(row: #unsaved) -> ::nepheline::Insert<Self> {
                    ::nepheline::Insert::of([row])
                }

                /// New rows, to be written by a handle: all of them, or none.
                #[track_caller]
                #visibility fn insert_all(
                    rows: impl ::core::iter::IntoIterator<Item = #unsaved>,
                ) -> ::nepheline::Insert<Self> {
                    ::nepheline::Insert::of(rows)
                }
            }
        };
        (item, implementation)
    }

    /// What tells each policy apart, and how its condition is had where the table stands. They carry the
    /// place where they are named here, which origins show.
    pub(crate) fn policies(&self) -> impl Iterator<Item = TokenStream> {
        let (ident, columns) = (self.ident, self.columns_ident());
        self.policies.iter().map(move |policy| {
            let last = policy
                .segments
                .last()
                .map(|segment| segment.ident.unraw().to_string());
            let name = last.unwrap_or_default();
            quote_spanned! {policy.span()=>
                ::nepheline::internal::PolicyInfo::new(
                    #name,
                    || ::nepheline::internal::policy_id(&#policy),
                    &::nepheline::internal::PolicyCondition::new(|source, carried| {
                        let columns = <#ident as ::nepheline::RowStruct>::columns(source);
                        ::nepheline::internal::condition_of::<#columns, _>(#policy, columns, carried)
                    }),
                )
            }
        })
    }
}
