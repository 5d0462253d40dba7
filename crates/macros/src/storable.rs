//! `#[derive(Storable)]`: a struct with one field is stored as that field, an enum as text or as integers.

use heck::ToSnakeCase;
use proc_macro2::{Ident, TokenStream};
use quote::quote;
use syn::ext::IdentExt;
use syn::spanned::Spanned;
use syn::{Data, DataEnum, DataStruct, DeriveInput, Fields, LitStr, Member, Variant};

use crate::attr::{self, Mistakes};
use crate::name;

/// The choices of a type.
#[derive(Default)]
struct Choices {
    serialize: bool,
    deserialize: bool,
    integer: bool,
    text: bool,
    /// The enum type of the database.
    database_type: Option<LitStr>,
}

pub(crate) fn derive(input: DeriveInput) -> TokenStream {
    let mut mistakes = Mistakes::default();
    let choices = choices(&input, &mut mistakes);
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
        Data::Enum(data) if choices.integer => integers(&input, data, &mut mistakes),
        Data::Enum(data) => {
            words(&input.ident, data, choices.database_type.as_ref(), &mut mistakes)
        }
        Data::Union(_) => {
            mistakes.at(input.ident.span(), "a union cannot be stored in a column");
            None
        }
    };
    let ident = &input.ident;
    let code = body.map(|body| quote!(impl ::nepheline::Storable for #ident { #body }));
    let serialize = choices.serialize.then(|| serialize(&input));
    let deserialize = choices.deserialize.then(|| deserialize(&input));
    let errors = mistakes.into_error().map(|error| error.to_compile_error());
    quote! {
        #errors

        // The type itself may be deprecated.
        #[allow(deprecated)]
        const _: () = {
            #code
            #serialize
            #deserialize
        };
    }
}

fn choices(input: &DeriveInput, mistakes: &mut Mistakes) -> Choices {
    let mut choices = Choices::default();
    let allowed = "`integer`, `text`, `database_type = \"...\"`, `serialize`, `deserialize` and `crate = path`";
    attr::each_part(&input.attrs, allowed, mistakes, |part| {
        let chosen = match part.path.get_ident().map(ToString::to_string).as_deref() {
            Some("serialize") => &mut choices.serialize,
            Some("deserialize") => &mut choices.deserialize,
            Some("integer") => &mut choices.integer,
            Some("text") => &mut choices.text,
            Some("database_type") => {
                choices.database_type = Some(attr::text(part)?);
                return Ok(true);
            }
            _ => return attr::is_crate(part),
        };
        attr::flag(part, chosen).map(|()| true)
    });
    let is_enum = matches!(input.data, Data::Enum(_));
    let span = input.ident.span();
    if let Some(name) = &choices.database_type {
        name::check(&name.value(), name.span(), mistakes);
        if choices.integer || choices.text || !is_enum {
            mistakes.at(name.span(), "`database_type` is for enums, and says how they are stored, as `integer` and `text` do");
        }
    }
    let is_said = choices.integer || choices.text || choices.database_type.is_some();
    match (choices.integer, choices.text) {
        (true, true) => {
            mistakes.at(span, "an enum is stored as `integer` or as `text`, not as both")
        }
        (false, false) => {}
        _ if !is_enum => {
            mistakes.at(span, "`integer` and `text` are for enums; a struct is stored as its field")
        }
        _ => {}
    }
    if let (Some(repr), false) = (repr(input), is_said) {
        let message = format!(
            "an enum of numbers (`repr({repr})`) is stored as text unless you say otherwise: choose \
             `#[nepheline(integer)]` or `#[nepheline(text)]`"
        );
        mistakes.at(span, message);
    }
    choices
}

/// Returns the integer type of `#[repr(..)]`, if the enum has one.
fn repr(input: &DeriveInput) -> Option<Ident> {
    const INTEGERS: [&str; 12] =
        ["i8", "i16", "i32", "i64", "i128", "isize", "u8", "u16", "u32", "u64", "u128", "usize"];
    let mut repr = None;
    for attribute in input
        .attrs
        .iter()
        .filter(|attribute| attribute.path().is_ident("repr"))
    {
        // rustc reports mistakes in it.
        let _ = attribute.parse_nested_meta(|part| {
            let named = part
                .path
                .get_ident()
                .filter(|name| INTEGERS.iter().any(|known| name == known));
            repr = repr.take().or(named.cloned());
            Ok(())
        });
    }
    repr.filter(|_| matches!(input.data, Data::Enum(_)))
}

fn serialize(input: &DeriveInput) -> TokenStream {
    let ident = &input.ident;
    let body = match &input.data {
        Data::Struct(DataStruct { fields, .. }) => {
            let members = fields.members();
            quote!(#(::nepheline::internal::serde::Serialize::serialize(&self.#members, serializer))*)
        }
        _ => quote! {
            match ::nepheline::Storable::to_bind(self).sent() {
                ::nepheline::internal::Sent::Text(text) => serializer.serialize_str(text),
                ::nepheline::internal::Sent::Int(number) => serializer.serialize_i64(number),
                _ => serializer.serialize_unit(),
            }
        },
    };
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
}

fn deserialize(input: &DeriveInput) -> TokenStream {
    let ident = &input.ident;
    let body = match &input.data {
        Data::Struct(DataStruct { fields, .. }) => {
            let members = fields.members();
            let types = fields.iter().map(|field| &field.ty);
            quote! {
                ::core::result::Result::Ok(Self {
                    #(#members: <#types as ::nepheline::internal::serde::Deserialize>::deserialize(deserializer)?,)*
                })
            }
        }
        _ => quote!(::nepheline::internal::deserialize_stored(deserializer)),
    };
    quote! {
        impl<'de> ::nepheline::internal::serde::Deserialize<'de> for #ident {
            fn deserialize<D: ::nepheline::internal::serde::Deserializer<'de>>(
                deserializer: D,
            ) -> ::core::result::Result<Self, D::Error> {
                #body
            }
        }
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
        const ACCEPTED: ::nepheline::internal::Accepted = <#ty as ::nepheline::Storable>::ACCEPTED;

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

fn words(
    ident: &Ident,
    data: &DataEnum,
    database_type: Option<&LitStr>,
    mistakes: &mut Mistakes,
) -> Option<TokenStream> {
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
    for (variant, word) in words.iter().filter(|_| database_type.is_some()) {
        name::check(word, variant.span(), mistakes);
        if word.contains('\\') {
            let fault =
                format!("the value {word:?} has a backslash, which MariaDB may read as an escape");
            mistakes.at(variant.span(), fault);
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
    let stored = match database_type {
        Some(name) => {
            let numbers = 0..u16::try_from(texts.len()).unwrap_or(u16::MAX);
            quote! {
                const SQL_TYPE: ::nepheline::SqlType = {
                    static KIND: ::nepheline::EnumType = ::nepheline::EnumType::new(#name, &[#(#texts),*]);
                    ::nepheline::SqlType::Enum(&KIND)
                };

                fn to_bind(&self) -> ::nepheline::BindValue {
                    let number = match self { #(Self::#variants { .. } => #numbers,)* };
                    match <Self as ::nepheline::Storable>::SQL_TYPE {
                        ::nepheline::SqlType::Enum(kind) => ::nepheline::BindValue::Enum(kind, number),
                        other => ::nepheline::BindValue::Null(other),
                    }
                }
            }
        }
        None => quote! {
            const SQL_TYPE: ::nepheline::SqlType = ::nepheline::SqlType::Text;

            fn to_bind(&self) -> ::nepheline::BindValue {
                let text = match self { #(Self::#variants { .. } => #texts,)* };
                ::nepheline::BindValue::Text(::core::convert::Into::into(text))
            }

            #[inline]
            fn lend(&self) -> ::nepheline::internal::LentBind<'_> {
                ::nepheline::internal::LentBind::Text(match self { #(Self::#variants { .. } => #texts,)* })
            }
        },
    };
    Some(quote! {
        #stored

        const ACCEPTED: ::nepheline::internal::Accepted =
            ::nepheline::internal::Accepted::Texts(&[#(#texts),*]);

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

/// Stores an enum as its discriminants.
fn integers(input: &DeriveInput, data: &DataEnum, mistakes: &mut Mistakes) -> Option<TokenStream> {
    let ident = &input.ident;
    if data.variants.is_empty() {
        mistakes.at(ident.span(), "an enum without variants has no value to store");
        return None;
    }
    for variant in &data.variants {
        if !matches!(variant.fields, Fields::Unit) {
            let message = "a variant with fields cannot be stored as an integer; implement `Storable` by hand";
            mistakes.at(variant.ident.span(), message);
            return None;
        }
        attr::each_part(
            &variant.attrs,
            "none on the variants of an enum of integers",
            mistakes,
            |_| Ok(false),
        );
    }
    let repr = repr(input);
    let sql_type = match repr.as_ref().map(ToString::to_string).as_deref() {
        Some("i8" | "i16" | "u8") => quote!(SmallInt),
        Some("i32" | "u16") => quote!(Integer),
        None | Some("i64" | "u32" | "isize") => quote!(BigInt),
        Some(wide) => {
            mistakes.at(
                ident.span(),
                format!("no engine stores every `{wide}`; use `repr(i64)` or a narrower one"),
            );
            return None;
        }
    };
    let variants: Vec<&Ident> = data.variants.iter().map(|variant| &variant.ident).collect();
    let numbers: Vec<Ident> = (0..variants.len())
        .map(|number| quote::format_ident!("__{number}"))
        .collect();
    let names = variants
        .iter()
        .map(ToString::to_string)
        .collect::<Vec<_>>()
        .join(", ");
    let expected = format!("the number of a `{ident}` ({names})");
    let number = quote! {
        match self { #(Self::#variants => Self::#variants as ::core::primitive::i64,)* }
    };
    Some(quote! {
        const SQL_TYPE: ::nepheline::SqlType = ::nepheline::SqlType::#sql_type;

        fn to_bind(&self) -> ::nepheline::BindValue {
            ::nepheline::BindValue::Int(#number)
        }

        #[inline]
        fn lend(&self) -> ::nepheline::internal::LentBind<'_> {
            ::nepheline::internal::LentBind::Int(#number)
        }

        fn from_cell(
            cell: ::nepheline::Cell<'_>,
        ) -> ::core::result::Result<Self, ::nepheline::Mismatch> {
            #(const #numbers: ::core::primitive::i64 = #ident::#variants as ::core::primitive::i64;)*
            match cell {
                #(::nepheline::Cell::Int(#numbers) => ::core::result::Result::Ok(Self::#variants),)*
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
