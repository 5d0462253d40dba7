//! `#[derive(RowShape)]` and `shape!`: a struct that rows are selected into.

use heck::ToSnakeCase;
use proc_macro2::{Ident, TokenStream};
use quote::{format_ident, quote, quote_spanned};
use syn::ext::IdentExt;
use syn::parse::{Parse, ParseStream};
use syn::punctuated::Punctuated;
use syn::spanned::Spanned;
use syn::{Data, DeriveInput, Expr, Fields, Member, Path, Token, Visibility};

use crate::attr::{self, Mistakes};
use crate::column::ColumnField;
use crate::table::TableItem;

pub(crate) fn derive(input: DeriveInput) -> TokenStream {
    let mut mistakes = Mistakes::default();
    let shape = ShapeItem::parse(&input, &mut mistakes);
    // The code is written even for a struct with mistakes, so that one mistake is one error.
    let code = shape.map(|shape| shape.expand()).unwrap_or_default();
    let errors = mistakes.into_error().map(|error| error.to_compile_error());
    quote! { #errors #code }
}

struct ShapeItem<'a> {
    ident: &'a Ident,
    visibility: &'a Visibility,
    fields: Vec<ColumnField<'a>>,
    shaped_from: Vec<Path>,
    serialize: bool,
}

impl<'a> ShapeItem<'a> {
    fn parse(input: &'a DeriveInput, mistakes: &mut Mistakes) -> Option<ShapeItem<'a>> {
        let fields = match &input.data {
            Data::Struct(data) => &data.fields,
            _ => {
                mistakes
                    .at(input.ident.span(), "rows are selected into a struct with named fields");
                return None;
            }
        };
        let Fields::Named(fields) = fields else {
            mistakes.at(input.ident.span(), "rows are selected into a struct with named fields");
            return None;
        };
        if !input.generics.params.is_empty() || fields.named.is_empty() {
            let message = "such a struct has a field at least, and no generic parameters";
            mistakes.at(input.ident.span(), message);
            return None;
        }
        let (mut shaped_from, mut serialize) = (Vec::new(), false);
        let allowed = "`shaped_from(Table, ..)` and `serialize`";
        attr::each_part(&input.attrs, allowed, mistakes, |part| {
            if part.path.is_ident("serialize") {
                serialize = true;
                return Ok(true);
            }
            if !part.path.is_ident("shaped_from") {
                return Ok(false);
            }
            let content;
            syn::parenthesized!(content in part.input);
            shaped_from.extend(Punctuated::<Path, Token![,]>::parse_terminated(&content)?);
            Ok(true)
        });
        let fields: Vec<_> = fields
            .named
            .iter()
            .filter_map(|field| ColumnField::parse(field, mistakes))
            .collect();
        for field in &fields {
            if field.key || field.generated || field.unique || field.reference.is_some() {
                let message = "only tables have keys, generated and unique columns, and references";
                mistakes.at(field.ident.span(), message);
            }
        }
        let (ident, visibility) = (&input.ident, &input.vis);
        Some(ShapeItem { ident, visibility, fields, shaped_from, serialize })
    }

    fn expand(self) -> TokenStream {
        let nested = self.fields.iter().any(|field| field.nested);
        let builder = self.builder(nested);
        let shaped_from = self.shaped_from.iter().map(|table| self.shaped_from(table));
        let shaped_from: Vec<_> = shaped_from.collect();
        let (ident, visibility) = (self.ident, self.visibility);
        let name = ident.unraw().to_string().to_snake_case();
        let item = TableItem::of_columns(ident, visibility, name, self.fields, self.serialize);
        let statics = item.statics();
        let row_shape = item.row_shape();
        let serialize = item.serialize();
        // Where rows stand in a row, there are no columns that could be asked for by name.
        let (columns, row_struct) = match nested {
            true => (None, None),
            false => (Some(item.columns_struct()), Some(item.row_struct())),
        };
        quote! {
            #columns
            #builder

            const _: () = {
                #statics
                #row_shape
                #row_struct
                #serialize
                #(#shaped_from)*
            };
        }
    }

    /// What `shape!` puts the values into, a field after the other, each under its own name.
    fn builder(&self, nested: bool) -> TokenStream {
        let (ident, visibility) = (self.ident, self.visibility);
        let builder = format_ident!("{}Shape", ident.unraw());
        let holes: Vec<Ident> = (0..self.fields.len())
            .map(|i| format_ident!("V{i}"))
            .collect();
        let names: Vec<&Ident> = self.fields.iter().map(|field| field.ident).collect();
        let types: Vec<_> = self.fields.iter().map(|field| field.ty).collect();
        let empty = holes.iter().map(|_| quote!(()));
        let values = holes.iter().map(|_| quote!(()));
        let setters = names.iter().zip(&types).enumerate().map(|(i, (name, ty))| {
            let others = holes.iter().enumerate().filter(|(other, _)| *other != i);
            let others: Vec<_> = others.map(|(_, hole)| hole).collect();
            let with = |what: TokenStream| {
                let each = holes.iter().enumerate();
                let each = each.map(|(j, hole)| if i == j { what.clone() } else { quote!(#hole) });
                quote!(#builder<#(#each),*>)
            };
            let (unset, set) = (with(quote!(())), with(quote!(V)));
            let moved = names.iter().enumerate().map(|(j, other)| match i == j {
                true => quote!(#other: value),
                false => quote!(#other: self.#other),
            });
            quote! {
                impl<#(#others),*> #unset {
                    #[doc(hidden)]
                    #visibility fn #name<V: ::nepheline::internal::Gives<#ty>>(self, value: V) -> #set {
                        #builder { #(#moved,)* }
                    }
                }
            }
        });
        let first = &holes[0];
        let bounds = holes
            .iter()
            .zip(&types)
            .enumerate()
            .map(|(i, (hole, ty))| match i {
                0 => quote!(#hole: ::nepheline::internal::Gives<#ty>),
                _ => quote!(#hole: ::nepheline::internal::Gives<
                #ty,
                Level: ::nepheline::bounds::StandsBeside<<#first as ::nepheline::bounds::Selectable>::Level>,
            >),
            });
        let fields = match nested {
            true => quote!(::core::option::Option::None),
            false => quote! {
                ::core::option::Option::Some(<#ident as ::nepheline::RowStruct>::INFO)
            },
        };
        quote! {
            #[doc(hidden)]
            #visibility struct #builder<#(#holes),*> { #(#names: #holes,)* }

            #[doc(hidden)]
            #[allow(dead_code, reason = "not every struct is selected into with `shape!`")]
            impl #ident {
                #visibility fn nepheline_shape() -> #builder<#(#empty),*> {
                    #builder { #(#names: #values,)* }
                }
            }

            #(#[allow(dead_code, reason = "not every struct is selected into with `shape!`")] #setters)*

            impl<#(#holes),*> ::nepheline::bounds::Selectable for #builder<#(#holes),*>
            where
                #(#bounds,)*
            {
                type Row = #ident;
                type Level = <#first as ::nepheline::bounds::Selectable>::Level;
                const FIELDS: ::core::option::Option<&'static ::nepheline::TableInfo> = #fields;

                fn select_into(self, selection: &mut ::nepheline::internal::Selection) {
                    #(::nepheline::bounds::Selectable::select_into(self.#names, selection);)*
                }
            }
        }
    }

    /// The columns of the same names of a table.
    fn shaped_from(&self, table: &Path) -> TokenStream {
        let ident = self.ident;
        let fields = self.fields.iter().map(|field| {
            let (name, ty, span) = (field.ident, field.ty, field.ident.span());
            quote_spanned! {span=>
                let column: ::nepheline::Column<#ty> = columns.#name;
                selection.push_column(::nepheline::Column::raw(column));
            }
        });
        let span = table.span();
        quote_spanned! {span=>
            impl ::nepheline::bounds::ShapedFrom<#table> for #ident {
                fn select_into(
                    columns: <#table as ::nepheline::RowStruct>::Columns,
                    selection: &mut ::nepheline::internal::Selection,
                ) {
                    #(#fields)*
                }
            }
        }
    }
}

/// `shape!(RegionTotal { region: per(s.region), specimens })`.
pub(crate) struct Literal {
    path: Path,
    fields: Vec<(Ident, Expr)>,
}

impl Parse for Literal {
    fn parse(input: ParseStream<'_>) -> syn::Result<Literal> {
        // Parsed as what it looks like, so that all that Rust allows there is allowed.
        let literal: syn::ExprStruct = input.parse()?;
        if let Some(rest) = &literal.rest {
            return Err(syn::Error::new(
                rest.span(),
                "every field is named: there is no row to take the others from",
            ));
        }
        let fields = literal.fields.into_iter().map(|field| match field.member {
            Member::Named(ident) => Ok((ident, field.expr)),
            Member::Unnamed(index) => Err(syn::Error::new(index.span(), "a field has a name here")),
        });
        Ok(Literal { path: literal.path, fields: fields.collect::<syn::Result<_>>()? })
    }
}

/// The literal itself, which is never run, lets the compiler say in its own words which field is
/// wrong or missing; then each value is given to the field of its name.
pub(crate) fn expand(literal: Literal) -> TokenStream {
    let Literal { path, fields } = literal;
    let names: Vec<_> = fields.iter().map(|(name, _)| name).collect();
    let setters = fields.iter().map(|(name, value)| {
        let span = value.span();
        quote_spanned!(span=> .#name(#value))
    });
    quote! {{
        #[allow(unreachable_code, clippy::all, reason = "only its names are looked at")]
        let _ = || #path { #(#names: loop {},)* };
        #path::nepheline_shape()#(#setters)*
    }}
}
