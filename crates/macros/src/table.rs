//! `#[derive(Table)]`: parse the struct, check it, write its descriptors, columns and row reading.

use proc_macro2::{Ident, TokenStream};
use quote::{format_ident, quote};
use syn::ext::IdentExt;
use syn::spanned::Spanned;
use syn::{Attribute, Data, DeriveInput, Field, Fields, Type, Visibility};

use crate::attr::{self, Mistakes};
use crate::name;

pub(crate) fn derive(input: DeriveInput) -> TokenStream {
    let mut mistakes = Mistakes::default();
    let table = TableItem::parse(&input, &mut mistakes);
    // The code is written even for a table with mistakes, so that one mistake is one error.
    let code = table.map(|table| table.expand()).unwrap_or_default();
    let errors = mistakes.into_error().map(|error| error.to_compile_error());
    quote! { #errors #code }
}

struct TableItem<'a> {
    ident: &'a Ident,
    visibility: &'a Visibility,
    name: String,
    schema: Option<String>,
    columns: Vec<ColumnField<'a>>,
}

struct ColumnField<'a> {
    ident: &'a Ident,
    ty: &'a Type,
    visibility: &'a Visibility,
    docs: Vec<&'a Attribute>,
    name: String,
    key: bool,
    generated: bool,
    unique: bool,
    by_code_point: bool,
}

impl<'a> TableItem<'a> {
    fn parse(input: &'a DeriveInput, mistakes: &mut Mistakes) -> Option<TableItem<'a>> {
        let Data::Struct(data) = &input.data else {
            mistakes.at(
                input.ident.span(),
                "a table is a struct with named fields, one for each column",
            );
            return None;
        };
        let Fields::Named(fields) = &data.fields else {
            mistakes.at(input.ident.span(), "a table needs named fields, one for each column");
            return None;
        };
        if !input.generics.params.is_empty() {
            mistakes.at(input.generics.span(), "a table cannot have generic parameters");
            return None;
        }
        if fields.named.is_empty() {
            mistakes.at(input.ident.span(), "a table needs at least one column");
            return None;
        }

        let mut table = TableItem {
            ident: &input.ident,
            visibility: &input.vis,
            name: name::snake_case(&input.ident.unraw().to_string()),
            schema: None,
            columns: Vec::new(),
        };
        let allowed = "`table = \"...\"` and `schema = \"...\"`";
        attr::each_part(&input.attrs, allowed, mistakes, |part| {
            if part.path.is_ident("table") {
                table.name = attr::text(part)?.value();
            } else if part.path.is_ident("schema") {
                table.schema = Some(attr::text(part)?.value());
            } else {
                return Ok(false);
            }
            Ok(true)
        });
        name::check(&table.name, input.ident.span(), mistakes);
        if let Some(schema) = &table.schema {
            name::check(schema, input.ident.span(), mistakes);
        }
        table.columns = fields
            .named
            .iter()
            .filter_map(|f| ColumnField::parse(f, mistakes))
            .collect();
        table.check_twins(mistakes);
        Some(table)
    }

    /// Engines take names that differ only in case for one and the same.
    fn check_twins(&self, mistakes: &mut Mistakes) {
        for (i, column) in self.columns.iter().enumerate() {
            let lower = column.name.to_lowercase();
            if self.columns[..i]
                .iter()
                .any(|other| other.name.to_lowercase() == lower)
            {
                let message = format!(
                    "another column is already named {:?}, but for letter case",
                    column.name
                );
                mistakes.at(column.ident.span(), message);
            }
        }
    }

    fn expand(&self) -> TokenStream {
        let columns_struct = self.columns_struct();
        let statics = self.statics();
        let row_shape = self.row_shape();
        let table = self.table();
        let starts = self.starts();
        quote! {
            #columns_struct

            const _: () = {
                #statics
                #row_shape
                #table
                #starts
            };
        }
    }

    fn columns_ident(&self) -> Ident {
        format_ident!("{}Columns", self.ident.unraw())
    }

    fn columns_struct(&self) -> TokenStream {
        let (ident, visibility) = (self.columns_ident(), self.visibility);
        let doc = format!(
            "The columns of the table `{}`, as closures over it are given them.",
            self.name
        );
        let fields = self.columns.iter().map(|column| {
            let ColumnField { ident, ty, visibility, docs, .. } = column;
            let default = docs.is_empty().then(|| {
                let doc = format!("The column `{}`.", column.name);
                quote!(#[doc = #doc])
            });
            quote! { #default #(#docs)* #visibility #ident: ::nepheline::Column<#ty> }
        });
        quote! {
            #[doc = #doc]
            #[derive(Clone, Copy, Debug)]
            #[allow(dead_code, reason = "not every column is asked about")]
            #visibility struct #ident { #(#fields,)* }
        }
    }

    fn statics(&self) -> TokenStream {
        let table = &self.name;
        let columns = self.columns.iter().map(|column| {
            let ColumnField { ty, name, key, generated, unique, by_code_point, .. } = column;
            let [double, backtick] = name::qualified(table, name);
            quote! {
                ::nepheline::ColumnInfo::new(
                    #table,
                    #name,
                    [#double, #backtick],
                    <#ty as ::nepheline::ColumnType>::DECLARED,
                    ::nepheline::internal::ColumnRole {
                        key: #key,
                        generated: #generated,
                        unique: #unique,
                        by_code_point: #by_code_point,
                    },
                )
            }
        });
        let [from_double, from_backtick] = match &self.schema {
            Some(schema) => name::qualified(schema, table),
            None => name::quoted(table),
        };
        let [list_double, list_backtick] = [0, 1].map(|mark| {
            let names = self
                .columns
                .iter()
                .map(|c| name::qualified(table, &c.name)[mark].clone());
            names.collect::<Vec<_>>().join(", ")
        });
        let schema = match &self.schema {
            Some(schema) => quote!(::core::option::Option::Some(#schema)),
            None => quote!(::core::option::Option::None),
        };
        let count = self.columns.len();
        quote! {
            static COLUMNS: [::nepheline::ColumnInfo; #count] = [#(#columns),*];
            static INFO: ::nepheline::TableInfo = ::nepheline::TableInfo::new(
                #schema,
                #table,
                [#from_double, #from_backtick],
                [#list_double, #list_backtick],
                &COLUMNS,
            );
        }
    }

    fn row_shape(&self) -> TokenStream {
        let ident = self.ident;
        let width = self.columns.len();
        let fields = self.columns.iter().enumerate().map(|(i, column)| {
            let field = column.ident;
            quote!(#field: ::nepheline::Cells::column(cells, &COLUMNS[#i])?)
        });
        quote! {
            impl ::nepheline::RowShape for #ident {
                const WIDTH: usize = #width;

                #[inline]
                fn read<C: ::nepheline::Cells>(
                    cells: &mut C,
                ) -> ::core::result::Result<Self, ::nepheline::Error> {
                    ::core::result::Result::Ok(Self { #(#fields,)* })
                }
            }
        }
    }

    fn table(&self) -> TokenStream {
        let (ident, columns) = (self.ident, self.columns_ident());
        let fields = self.columns.iter().enumerate().map(|(i, column)| {
            let field = column.ident;
            quote!(#field: ::nepheline::Column::new(source, &COLUMNS[#i]))
        });
        quote! {
            impl ::nepheline::Table for #ident {
                type Columns = #columns;
                const INFO: &'static ::nepheline::TableInfo = &INFO;

                #[inline]
                fn columns(source: ::nepheline::internal::SourceId) -> #columns {
                    #columns { #(#fields,)* }
                }
            }
        }
    }

    /// `rows()`, `row(key)` and `row_by_..(value)`.
    fn starts(&self) -> TokenStream {
        let (ident, visibility) = (self.ident, self.visibility);
        let by_key = self.row_by_key();
        let by_unique = self
            .columns
            .iter()
            .filter(|column| column.unique)
            .map(|c| self.row_by(c));
        quote! {
            #[allow(dead_code, reason = "not every table is read in every way")]
            impl #ident {
                /// The query for all rows of the table.
                #[track_caller]
                #visibility fn rows() -> ::nepheline::Query<Self> {
                    ::nepheline::Query::over_table()
                }

                #by_key
                #(#by_unique)*
            }
        }
    }

    fn row_by_key(&self) -> Option<TokenStream> {
        let (visibility, columns) = (self.visibility, self.columns_ident());
        let key: Vec<_> = self.columns.iter().filter(|column| column.key).collect();
        let idents: Vec<_> = key.iter().map(|column| column.ident).collect();
        let types = key.iter().map(|column| column.ty);
        let operands = quote!(#(impl ::nepheline::Operand<#types>),*);
        let (pattern, operands) = match idents.as_slice() {
            [] => return None,
            [one] => (quote!(#one), operands),
            several => (quote!((#(#several),*)), quote!((#operands))),
        };
        Some(quote! {
            /// The query for the row with this primary key: one at most.
            #[track_caller]
            #visibility fn row(#pattern: #operands) -> ::nepheline::Query<Self> {
                ::nepheline::Query::over_row(|columns: #columns| {
                    #(::nepheline::Expression::eq(columns.#idents, #idents))&*
                })
            }
        })
    }

    fn row_by(&self, column: &ColumnField<'_>) -> TokenStream {
        let (visibility, columns) = (self.visibility, self.columns_ident());
        let ColumnField { ident, ty, name, .. } = column;
        let function = format_ident!("row_by_{}", ident.unraw());
        let doc = format!(
            "The query for the row with this value of the unique column `{name}`: one at most."
        );
        quote! {
            #[doc = #doc]
            #[track_caller]
            #visibility fn #function(
                #ident: impl ::nepheline::Operand<<#ty as ::nepheline::ColumnType>::Base>,
            ) -> ::nepheline::Query<Self> {
                ::nepheline::Query::over_row(|columns: #columns| {
                    ::nepheline::Expression::eq(columns.#ident, #ident)
                })
            }
        }
    }
}

impl<'a> ColumnField<'a> {
    fn parse(field: &'a Field, mistakes: &mut Mistakes) -> Option<ColumnField<'a>> {
        let ident = field.ident.as_ref()?;
        let mut column = ColumnField {
            ident,
            ty: &field.ty,
            visibility: &field.vis,
            docs: field
                .attrs
                .iter()
                .filter(|attribute| attribute.path().is_ident("doc"))
                .collect(),
            name: ident.unraw().to_string(),
            key: false,
            generated: false,
            unique: false,
            by_code_point: false,
        };
        let allowed = "`key`, `generated`, `unique`, `by_code_point` and `column = \"...\"`";
        attr::each_part(&field.attrs, allowed, mistakes, |part| {
            let flag = match part.path.get_ident().map(Ident::to_string).as_deref() {
                Some("key") => &mut column.key,
                Some("generated") => &mut column.generated,
                Some("unique") => &mut column.unique,
                Some("by_code_point") => &mut column.by_code_point,
                Some("column") => {
                    column.name = attr::text(part)?.value();
                    return Ok(true);
                }
                _ => return Ok(false),
            };
            *flag = true;
            Ok(true)
        });
        name::check(&column.name, ident.span(), mistakes);
        Some(column)
    }
}
