//! `#[derive(BindParameters)]`: a struct of values becomes a struct of bind parameters.

use proc_macro2::TokenStream;
use quote::{format_ident, quote};
use syn::ext::IdentExt;
use syn::spanned::Spanned;
use syn::{Data, DeriveInput, Fields, GenericArgument, PathArguments, Type};

use crate::attr::{self, Mistakes};

pub(crate) fn derive(input: DeriveInput) -> TokenStream {
    let mut mistakes = Mistakes::default();
    attr::each_part(&input.attrs, "`crate = path`", &mut mistakes, attr::is_crate);
    if !input.generics.params.is_empty() {
        let message = "a struct of bind parameters has no generic parameters";
        mistakes.at(input.generics.span(), message);
    }
    let fields = match &input.data {
        Data::Struct(data) => match &data.fields {
            Fields::Named(fields) => Some(&fields.named),
            _ => None,
        },
        _ => None,
    };
    if fields.is_none_or(|fields| fields.is_empty()) {
        let message = "bind parameters are a struct with named fields; a tuple needs no derive";
        mistakes.at(input.ident.span(), message);
    }
    if let Some(error) = mistakes.into_error() {
        return error.into_compile_error();
    }
    let (ident, vis) = (&input.ident, &input.vis);
    let parameters = format_ident!("{ident}Parameters");
    let fields = || fields.into_iter().flatten();
    let declared = fields().map(|field| {
        let (name, vis, ty) = (&field.ident, &field.vis, &field.ty);
        quote!(#vis #name: ::nepheline::Parameter<#ty>)
    });
    let made = (0_u16..).zip(fields()).map(|(number, field)| {
        let (name, ty) = (&field.ident, &field.ty);
        let text = name.as_ref().map(|name| name.unraw().to_string());
        match is_list(ty) {
            true => quote!(#name: ::nepheline::internal::list_parameter(#number, #text)),
            false => quote! {
                #name: <#ty as ::nepheline::internal::ParameterField>::parameter(#number, #text)
            },
        }
    });
    let values = fields().map(|field| {
        let (name, ty) = (&field.ident, &field.ty);
        match is_list(ty) {
            true => quote!(::nepheline::internal::list_value(&self.#name)),
            false => quote!(::nepheline::internal::ParameterField::value(self.#name)),
        }
    });
    let doc = format!(
        "The bind parameters of [`{ident}`], which the closure of a prepared query receives."
    );
    quote! {
        #[doc = #doc]
        #[derive(Debug, Clone, Copy)]
        #vis struct #parameters {
            #(#declared,)*
        }

        impl ::nepheline::BindParameters for #ident {
            type Parameters = #parameters;

            fn parameters() -> #parameters {
                #parameters { #(#made,)* }
            }

            fn into_values(self) -> ::nepheline::internal::ParameterValues {
                ::core::iter::IntoIterator::into_iter([#(#values,)*]).collect()
            }
        }
    }
}

/// Returns whether a type is a list of values: a `Vec`, but not of bytes, which are one value.
fn is_list(ty: &Type) -> bool {
    let Type::Path(path) = ty else { return false };
    let Some(last) = path.path.segments.last() else { return false };
    let PathArguments::AngleBracketed(arguments) = &last.arguments else { return false };
    let Some(GenericArgument::Type(Type::Path(item))) = arguments.args.first() else {
        return false;
    };
    last.ident == "Vec" && !item.path.is_ident("u8")
}
