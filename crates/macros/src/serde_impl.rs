//! The `Deserialize` impl of structs with columns.

use proc_macro2::{Ident, Span, TokenStream};
use quote::{format_ident, quote};
use syn::Type;
use syn::ext::IdentExt;

/// A field that is deserialized.
pub(crate) struct Field<'a> {
    pub(crate) ident: &'a Ident,
    pub(crate) ty: &'a Type,
    /// The name of its column.
    pub(crate) name: &'a str,
}

/// The value of a field that is not there.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Absent {
    /// `None` of an `Option`, else an error.
    Error,
    /// Each field is an `Option` of its type, which is `None` then.
    None,
}

/// Returns the impl for a struct. Fields have the names of their columns, and unknown ones are errors.
pub(crate) fn deserialize(ident: &Ident, fields: &[Field<'_>], absent: Absent) -> TokenStream {
    let name = ident.unraw().to_string();
    let expected = format!("a `{name}` with the names of its columns");
    let idents: Vec<_> = fields.iter().map(|field| field.ident).collect();
    // Variables of the macro's own, because a field may have the name of another variable.
    let variables: Vec<_> = (0..fields.len())
        .map(|number| format_ident!("field_{number}", span = Span::mixed_site()))
        .collect();
    let types: Vec<_> = fields.iter().map(|field| field.ty).collect();
    let names: Vec<_> = fields.iter().map(|field| field.name).collect();
    let values = variables
        .iter()
        .zip(&names)
        .map(|(variable, name)| match absent {
            Absent::None => quote!(#variable),
            Absent::Error => quote! {
                match #variable {
                    ::core::option::Option::Some(value) => value,
                    ::core::option::Option::None => ::nepheline::internal::missing_field(#name)?,
                }
            },
        });
    quote! {
        impl<'de> ::nepheline::internal::serde::Deserialize<'de> for #ident {
            fn deserialize<D: ::nepheline::internal::serde::Deserializer<'de>>(
                deserializer: D,
            ) -> ::core::result::Result<Self, D::Error> {
                use ::nepheline::internal::serde::de;

                const NAMES: &[&::core::primitive::str] = &[#(#names),*];
                struct OfFields;

                impl<'de> de::Visitor<'de> for OfFields {
                    type Value = #ident;

                    fn expecting(&self, f: &mut ::core::fmt::Formatter<'_>) -> ::core::fmt::Result {
                        f.write_str(#expected)
                    }

                    fn visit_map<A: de::MapAccess<'de>>(
                        self,
                        mut map: A,
                    ) -> ::core::result::Result<#ident, A::Error> {
                        #(let mut #variables: ::core::option::Option<#types> = ::core::option::Option::None;)*
                        while let ::core::option::Option::Some(name) =
                            map.next_key::<::nepheline::internal::string::String>()?
                        {
                            match &*name {
                                #(#names => {
                                    if #variables.is_some() {
                                        return ::core::result::Result::Err(
                                            <A::Error as de::Error>::duplicate_field(#names),
                                        );
                                    }
                                    #variables = ::core::option::Option::Some(map.next_value()?);
                                })*
                                other => {
                                    return ::core::result::Result::Err(
                                        <A::Error as de::Error>::unknown_field(other, NAMES),
                                    );
                                }
                            }
                        }
                        ::core::result::Result::Ok(#ident { #(#idents: #values,)* })
                    }
                }

                deserializer.deserialize_struct(#name, NAMES, OfFields)
            }
        }
    }
}
