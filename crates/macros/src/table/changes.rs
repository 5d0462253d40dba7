//! The struct of a partial update, and what a table declares for the structs beside it.

use proc_macro2::{Ident, TokenStream};
use quote::{format_ident, quote};
use syn::ext::IdentExt;
use syn::meta::ParseNestedMeta;
use syn::punctuated::Punctuated;
use syn::{Path, Token};

use super::TableItem;
use crate::attr;
use crate::column::ColumnField;
use crate::name;
use crate::serde_impl::{self, Absent, Field};

/// The derives of a struct that is written beside the table: `derive(Debug, Clone)` and `deserialize`.
#[derive(Default)]
pub(crate) struct Beside {
    derives: Vec<Path>,
    pub(crate) deserialize: bool,
}

impl Beside {
    /// Parses `to_insert(derive(..), deserialize)` or `changes(..)`.
    pub(super) fn parse(&mut self, part: &ParseNestedMeta<'_>) -> syn::Result<()> {
        if part.input.is_empty() || part.input.peek(Token![,]) {
            return Ok(());
        }
        attr::in_brackets(part.input, |input| {
            while !input.is_empty() {
                let word: Ident = input.call(Ident::parse_any)?;
                match &*word.to_string() {
                    "deserialize" => self.deserialize = true,
                    "derive" => {
                        let derives = attr::in_brackets(input, |inner| {
                            Punctuated::<Path, Token![,]>::parse_terminated(inner)
                        })?;
                        self.derives.extend(derives);
                    }
                    _ => {
                        let message = "expected `derive(Debug, ..)` or `deserialize`";
                        return Err(syn::Error::new(word.span(), message));
                    }
                }
                if !input.is_empty() {
                    input.parse::<Token![,]>()?;
                }
            }
            Ok(())
        })
    }

    pub(crate) fn attribute(&self) -> Option<TokenStream> {
        let derives = &self.derives;
        (!derives.is_empty()).then(|| quote!(#[derive(#(#derives),*)]))
    }
}

/// A set of fields that no two rows have the same values in.
pub(crate) struct UniqueSet {
    /// The name in `row_by_name(..)`.
    pub(crate) name: Option<Ident>,
    pub(crate) fields: Vec<Ident>,
}

impl UniqueSet {
    /// Parses `unique(site_id, label)` or `unique(site_label: site_id, label)`.
    pub(super) fn parse(part: &ParseNestedMeta<'_>) -> syn::Result<UniqueSet> {
        attr::in_brackets(part.input, |input| {
            let name = match input.peek2(Token![:]) {
                true => {
                    let name = input.call(name::parse)?;
                    input.parse::<Token![:]>()?;
                    Some(name)
                }
                false => None,
            };
            let fields = Punctuated::<_, Token![,]>::parse_terminated_with(input, name::parse)?;
            Ok(UniqueSet { name, fields: fields.into_iter().collect() })
        })
    }
}

impl TableItem<'_> {
    /// Returns the struct of a partial update, and its impls, if the table declares one.
    pub(super) fn changes_struct(&self) -> (TokenStream, TokenStream) {
        let Some(beside) = &self.changes else { return (TokenStream::new(), TokenStream::new()) };
        let (ident, visibility) = (self.ident, self.visibility);
        let changes = format_ident!("{}Changes", ident.unraw());
        let doc = format!(
            "A partial update of rows of the table `{}`: `None` leaves a column as it is.",
            self.name
        );
        let is_settable = |(_, column): &(usize, &ColumnField<'_>)| {
            let is_mark = self
                .retire
                .as_ref()
                .is_some_and(|retire| name::is_same(&retire.mark, column.ident));
            column.is_given() && !column.key && !self.is_carried(column.ident) && !is_mark
        };
        let settable: Vec<_> = self
            .columns
            .iter()
            .enumerate()
            .filter(is_settable)
            .collect();
        let fields = settable.iter().map(|(_, column)| {
            let ColumnField { ident, ty, visibility, .. } = column;
            let documented = column.documented();
            quote! { #documented #visibility #ident: ::core::option::Option<#ty> }
        });
        let idents: Vec<_> = settable.iter().map(|(_, column)| column.ident).collect();
        let numbers = settable.iter().map(|(number, _)| number);
        let (forwarded, derives) = (&self.forwarded, beside.attribute());
        let item = quote! {
            #[doc = #doc]
            #(#forwarded)*
            #derives
            #[allow(
                dead_code,
                deprecated,
                missing_debug_implementations,
                missing_docs,
                reason = "not every column is changed, and not every field has docs or can be shown"
            )]
            #visibility struct #changes { #(#fields,)* }
        };
        let deserialize = beside.deserialize.then(|| {
            let fields: Vec<_> = settable
                .iter()
                .map(|(_, column)| Field { ident: column.ident, ty: column.ty, name: &column.name })
                .collect();
            serde_impl::deserialize(&changes, &fields, Absent::None)
        });
        let implementation = quote! {
            #[automatically_derived]
            impl ::core::default::Default for #changes {
                fn default() -> Self {
                    Self { #(#idents: ::core::option::Option::None,)* }
                }
            }

            impl ::nepheline::bounds::IntoAssignments for #changes {
                fn each(self, take: &mut dyn ::core::ops::FnMut(::nepheline::Assignment)) {
                    #(if let ::core::option::Option::Some(value) = &self.#idents {
                        take(::nepheline::internal::assignment(&__COLUMNS[#numbers], value));
                    })*
                }
            }

            impl ::nepheline::ChangeValues for #changes {
                type Table = #ident;

                fn is_empty(&self) -> ::core::primitive::bool {
                    true #(&& self.#idents.is_none())*
                }
            }

            #deserialize
        };
        (item, implementation)
    }
}
