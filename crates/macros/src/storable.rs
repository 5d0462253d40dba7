//! `#[derive(Storable)]`: a struct with one field is stored as that field, an enum as text.

use heck::ToSnakeCase;
use proc_macro2::{Ident, TokenStream};
use quote::quote;
use syn::ext::IdentExt;
use syn::spanned::Spanned;
use syn::{Data, DataEnum, DataStruct, DeriveInput, Fields, LitStr, Member, Variant};

use crate::attr::{self, Mistakes};

pub(crate) fn derive(input: DeriveInput) -> TokenStream {
    let mut mistakes = Mistakes::default();
    let mut serialize = false;
    attr::each_part(&input.attrs, "`serialize` and `crate = path`", &mut mistakes, |part| {
        if !part.path.is_ident("serialize") {
            return attr::is_crate(part);
        }
        attr::flag(part, &mut serialize).map(|()| true)
    });
    if !input.generics.params.is_empty() {
        let message = "a storable type of the derive has no generic parameters; implement `Storable` \
                       by hand for a generic one";
        mistakes.at(input.generics.span(), message);
        return mistakes
            .into_error()
            .map_or_else(TokenStream::new, syn::Error::into_compile_error);
    }
    let body = match &input.data {
        Data::Struct(data) => newtype(&input, data, &mut mistakes),
        Data::Enum(data) => words(&input.ident, data, &mut mistakes),
        Data::Union(_) => {
            mistakes.at(input.ident.span(), "a union cannot be stored in a column");
            None
        }
    };
    let ident = &input.ident;
    let code = body.map(|body| quote!(impl ::nepheline::Storable for #ident { #body }));
    let serialize = serialize.then(|| match &input.data {
        Data::Struct(DataStruct { fields, .. }) => {
            let members = fields.members();
            quote!(#(::nepheline::internal::serde::Serialize::serialize(&self.#members, serializer))*)
        }
        _ => quote! {
            match ::nepheline::Storable::to_bind(self) {
                ::nepheline::BindValue::Text(text) => serializer.serialize_str(&text),
                _ => serializer.serialize_unit(),
            }
        },
    });
    let serialize = serialize.map(|body| {
        quote! {
            impl ::nepheline::internal::serde::Serialize for #ident {
                fn serialize<S: ::nepheline::internal::serde::Serializer>(
                    &self,
                    serializer: S,
                ) -> ::core::result::Result<S::Ok, S::Error> {
                    #body
                }
            }
        }
    });
    let errors = mistakes.into_error().map(|error| error.to_compile_error());
    quote! {
        #errors

        // The type itself may be deprecated.
        #[allow(deprecated)]
        const _: () = {
            #code
            #serialize
        };
    }
}

fn newtype(input: &DeriveInput, data: &DataStruct, mistakes: &mut Mistakes) -> Option<TokenStream> {
    let mut fields = data.fields.iter();
    let (Some(field), None) = (fields.next(), fields.next()) else {
        let message = "a struct is stored as its one field, and this one has not exactly one; \
                       implement `Storable` by hand to say what it is stored as";
        mistakes.at(input.ident.span(), message);
        return None;
    };
    let member = match &field.ident {
        Some(ident) => Member::Named(ident.clone()),
        None => Member::from(0),
    };
    let ty = &field.ty;
    Some(quote! {
        const SQL_TYPE: ::nepheline::SqlType = <#ty as ::nepheline::Storable>::SQL_TYPE;

        #[inline]
        fn to_bind(&self) -> ::nepheline::BindValue {
            <#ty as ::nepheline::Storable>::to_bind(&self.#member)
        }

        #[inline]
        fn lend(&self) -> ::nepheline::internal::LentBind<'_> {
            <#ty as ::nepheline::Storable>::lend(&self.#member)
        }

        #[inline]
        fn from_cell(
            cell: ::nepheline::Cell<'_>,
        ) -> ::core::result::Result<Self, ::nepheline::Mismatch> {
            let field = <#ty as ::nepheline::Storable>::from_cell(cell)?;
            ::core::result::Result::Ok(Self { #member: field })
        }
    })
}

fn words(ident: &Ident, data: &DataEnum, mistakes: &mut Mistakes) -> Option<TokenStream> {
    if data.variants.is_empty() {
        mistakes.at(ident.span(), "an enum without variants has no value to store");
        return None;
    }
    let words: Vec<(&Ident, String)> = data
        .variants
        .iter()
        .map(|variant| (&variant.ident, word(variant, mistakes)))
        .collect();
    for (i, (variant, word)) in words.iter().enumerate() {
        if words[..i].iter().any(|(_, other)| other == word) {
            mistakes.at(variant.span(), format!("another variant is already stored as {word:?}"));
        }
    }
    let variants: Vec<_> = words.iter().map(|(variant, _)| variant).collect();
    let texts: Vec<_> = words.iter().map(|(_, word)| word).collect();
    // A variant with fields was reported already, and cannot be constructed here.
    let is_unit = |variant: &&Variant| matches!(variant.fields, Fields::Unit);
    let read = data
        .variants
        .iter()
        .zip(&texts)
        .filter(|(variant, _)| is_unit(variant));
    let read = read.map(|(Variant { ident, .. }, text)| {
        quote!(::nepheline::Cell::Text(#text) => ::core::result::Result::Ok(Self::#ident),)
    });
    let listed = texts
        .iter()
        .map(|text| format!("'{text}'"))
        .collect::<Vec<_>>()
        .join(", ");
    let expected = format!("text for a `{ident}` (one of {listed})");
    Some(quote! {
        const SQL_TYPE: ::nepheline::SqlType = ::nepheline::SqlType::Text;

        fn to_bind(&self) -> ::nepheline::BindValue {
            let text = match self { #(Self::#variants { .. } => #texts,)* };
            ::nepheline::BindValue::Text(::core::convert::Into::into(text))
        }

        #[inline]
        fn lend(&self) -> ::nepheline::internal::LentBind<'_> {
            ::nepheline::internal::LentBind::Text(match self { #(Self::#variants { .. } => #texts,)* })
        }

        fn from_cell(
            cell: ::nepheline::Cell<'_>,
        ) -> ::core::result::Result<Self, ::nepheline::Mismatch> {
            match cell {
                #(#read)*
                _ => ::core::result::Result::Err(::nepheline::Mismatch::expected(#expected)),
            }
        }
    })
}

/// Returns the text that a variant is stored as.
fn word(variant: &Variant, mistakes: &mut Mistakes) -> String {
    if !matches!(variant.fields, Fields::Unit) {
        let message =
            "a variant with fields cannot be stored as text; implement `Storable` by hand";
        mistakes.at(variant.ident.span(), message);
    }
    let mut text: Option<LitStr> = None;
    attr::each_part(&variant.attrs, "`text = \"...\"`", mistakes, |part| {
        let known = part.path.is_ident("text");
        if known {
            text = Some(attr::text(part)?);
        }
        Ok(known)
    });
    match text {
        Some(text) => text.value(),
        None => variant.ident.unraw().to_string().to_snake_case(),
    }
}
