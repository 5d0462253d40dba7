//! `#[derive(RowShape)]` and `shape!`: a struct that rows are selected into.

use heck::ToSnakeCase;
use proc_macro2::{Ident, Span, TokenStream};
use quote::{quote, quote_spanned};
use syn::ext::IdentExt;
use syn::parse::{Parse, ParseStream};
use syn::spanned::Spanned;
use syn::{Attribute, Data, DeriveInput, Expr, Fields, Member, Path, Visibility};

use crate::attr::{self, Mistakes, local};
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
    deserialize: bool,
    /// The attributes of the compiler that the generated items have too.
    forwarded: Vec<&'a Attribute>,
}

impl<'a> ShapeItem<'a> {
    fn parse(input: &'a DeriveInput, mistakes: &mut Mistakes) -> Option<ShapeItem<'a>> {
        let fields = match &input.data {
            Data::Struct(data) => &data.fields,
            _ => {
                mistakes.at(input.ident.span(), "a row shape is a struct with named fields");
                return None;
            }
        };
        let Fields::Named(fields) = fields else {
            mistakes.at(input.ident.span(), "a row shape is a struct with named fields");
            return None;
        };
        if !input.generics.params.is_empty() || fields.named.is_empty() {
            let message =
                "a row shape needs at least one field, and cannot have generic parameters";
            mistakes.at(input.ident.span(), message);
            return None;
        }
        let (mut shaped_from, mut serialize, mut deserialize) = (Vec::new(), false, false);
        let allowed = "`shaped_from(Table, ..)`, `serialize`, `deserialize` and `crate = path`";
        attr::each_part(&input.attrs, allowed, mistakes, |part| {
            if part.path.is_ident("deserialize") {
                attr::flag(part, &mut deserialize)?;
            } else if part.path.is_ident("serialize") {
                attr::flag(part, &mut serialize)?;
            } else if part.path.is_ident("shaped_from") {
                shaped_from.extend(attr::list(part, Path::parse)?);
            } else {
                return attr::is_crate(part);
            }
            Ok(true)
        });
        let fields = fields
            .named
            .iter()
            .filter_map(|field| ColumnField::of_shape(field, mistakes))
            .collect();
        let (ident, visibility) = (&input.ident, &input.vis);
        let forwarded = attr::forwarded(&input.attrs);
        Some(ShapeItem {
            ident,
            visibility,
            fields,
            shaped_from,
            serialize,
            deserialize,
            forwarded,
        })
    }

    fn expand(self) -> TokenStream {
        let whole_row = self.fields.iter().any(|field| field.whole_row);
        let shape = self.shape(whole_row);
        let shaped_from = self.shaped_from.iter().map(|table| self.shaped_from(table));
        let shaped_from: Vec<_> = shaped_from.collect();
        let (ident, visibility) = (self.ident, self.visibility);
        let name = ident.unraw().to_string().to_snake_case();
        let read: Vec<_> = self.fields.iter().map(|field| field.ident).collect();
        // Fields may serve inside SQL only, through the columns struct, which the compiler does not see as a use.
        let read = quote! {
            const _: fn(&#ident) = |row| {
                let #ident { #(#read),* } = row;
                let _ = (#(#read,)*);
            };
        };
        let mut item = TableItem::of_columns(ident, visibility, name, self.fields);
        (item.serialize, item.deserialize) = (self.serialize, self.deserialize);
        item.forwarded = self.forwarded;
        let allows = attr::allows(&item.forwarded);
        let statics = item.statics();
        let role_checks = item.role_checks();
        let row_shape = item.row_shape();
        let (serialize, deserialize) = (item.serialize(), item.deserialize());
        // A struct with whole rows has no columns by name.
        let (columns, row_struct) = match whole_row {
            true => (None, None),
            false => (Some(item.columns_struct()), Some(item.row_struct())),
        };
        quote! {
            #columns

            #[allow(deprecated)]
            #(#allows)*
            const _: () = {
                #statics
                #role_checks
                #read
                #row_shape
                #row_struct
                #shape
                #serialize
                #deserialize
                #(#shaped_from)*
            };
        }
    }

    /// Returns the impl by which `shape!` selects into the struct.
    fn shape(&self, whole_row: bool) -> TokenStream {
        let ident = self.ident;
        let names = self
            .fields
            .iter()
            .map(|field| field.ident.unraw().to_string());
        let fields = match whole_row {
            true => quote!(::core::option::Option::None),
            false => quote! {
                ::core::option::Option::Some(<#ident as ::nepheline::RowStruct>::INFO)
            },
        };
        quote! {
            impl ::nepheline::internal::Shape for #ident {
                const NAMES: &'static [&'static ::core::primitive::str] = &[#(#names),*];
                const FIELDS: ::core::option::Option<&'static ::nepheline::TableInfo> = #fields;
                type Shaping = ::nepheline::internal::Shaping<Self, ::nepheline::internal::NoLevel>;

                fn shaping() -> Self::Shaping {
                    ::core::default::Default::default()
                }
            }
        }
    }

    /// Returns the selection of the columns with the same names in a table.
    fn shaped_from(&self, table: &Path) -> TokenStream {
        let ident = self.ident;
        let fields = self.fields.iter().map(|field| {
            let (name, ty, span) = (field.ident, field.ty, field.ident.span());
            let (columns, selection) = (local("columns", span), local("selection", span));
            quote_spanned! {span=>
                let column: ::nepheline::Column<#ty> = #columns.#name;
                #selection.push_column(::nepheline::Column::raw(column));
            }
        });
        let (columns, selection) =
            (local("columns", table.span()), local("selection", table.span()));
        quote_spanned! {table.span()=>
            impl ::nepheline::bounds::ShapedFrom<#table> for #ident {
                fn select_into(
                    #columns: <#table as ::nepheline::RowStruct>::Columns,
                    #selection: &mut ::nepheline::internal::Selection,
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
    fields: Vec<LiteralField>,
    /// The row behind `..`, whose columns are the fields that are not given.
    rest: Option<Expr>,
}

struct LiteralField {
    /// Such as `cfg`.
    attributes: Vec<Attribute>,
    name: Ident,
    value: Expr,
}

impl Parse for Literal {
    fn parse(input: ParseStream<'_>) -> syn::Result<Literal> {
        // Parsed as a struct expression, so that everything that Rust allows there is allowed.
        let literal: syn::ExprStruct = input.parse()?;
        if let (Some(rest), Some(field)) =
            (&literal.rest, literal.fields.iter().find(|field| !field.attrs.is_empty()))
        {
            let message = "a field with an attribute cannot stand beside `..`";
            return Err(syn::Error::new(
                field.member.span().join(rest.span()).unwrap_or(rest.span()),
                message,
            ));
        }
        let fields = literal.fields.into_iter().map(|field| match field.member {
            Member::Named(name) => {
                Ok(LiteralField { attributes: field.attrs, name, value: field.expr })
            }
            Member::Unnamed(index) => Err(syn::Error::new(index.span(), "expected a field name")),
        });
        let fields = fields.collect::<syn::Result<_>>()?;
        Ok(Literal { path: literal.path, fields, rest: literal.rest.map(|rest| *rest) })
    }
}

/// Writes the literal itself, which never runs, so that the compiler reports wrong or missing fields and types
/// in its own words; and selects each value under the name of its field.
pub(crate) fn expand(literal: Literal) -> TokenStream {
    let Literal { path, fields, rest } = literal;
    let own = |name: &str| Ident::new(name, Span::mixed_site());
    let (shaping, never) = (own("shaping"), own("never"));
    let (mut variables, mut checked, mut selected) = (Vec::new(), Vec::new(), Vec::new());
    for (number, LiteralField { attributes, name, value }) in fields.iter().enumerate() {
        // One place for all of it, because the compiler reports a mistake at the place that the parts share.
        let span = value.span().resolved_at(Span::mixed_site());
        let variable = Ident::new(&format!("value_{number}"), span);
        let text = name.unraw().to_string();
        variables.push(quote_spanned! {span=>
            #(#attributes)* let #variable = ::nepheline::internal::shape_value(#value);
        });
        checked.push(quote_spanned! {span=>
            #(#attributes)* #name: #variable.as_field(#never),
        });
        let shaping = Ident::new("shaping", span);
        selected.push(quote_spanned! {span=>
            #(#attributes)* let #shaping = #shaping.with(#text, #variable);
        });
    }
    let shape = quote_spanned!(path.span()=> <#path as ::nepheline::internal::Shape>::shaping());
    if let Some(rest) = &rest {
        let span = rest.span().resolved_at(Span::mixed_site());
        let (others, shaping) = (Ident::new("others", span), Ident::new("shaping", span));
        let given = fields.iter().map(|field| field.name.unraw().to_string());
        variables.push(quote_spanned! {span=>
            let #others = {
                struct NephelineGivenFields;
                impl ::nepheline::internal::GivenFields for NephelineGivenFields {
                    const NAMES: &'static [&'static ::core::primitive::str] = &[#(#given),*];
                }
                ::nepheline::internal::shape_rest::<#path, _, _>(#rest, NephelineGivenFields)
            };
        });
        checked.push(quote_spanned!(span=> ..#others.as_fields(#never)));
        selected.push(quote_spanned!(span=> let #shaping = #shaping.with_rest(#others);));
    }
    quote! {{
        #(#variables)*
        #[allow(clippy::no_effect_underscore_binding, reason = "the compiler checks it, and it never runs")]
        let _checked = |#never: ::core::convert::Infallible| #path { #(#checked)* };
        let #shaping = #shape;
        #(#selected)*
        #shaping
    }}
}
