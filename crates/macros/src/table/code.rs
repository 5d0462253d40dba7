//! The code that is written for a table: its descriptor, its columns, how its rows are read, and its relations.

use proc_macro2::{Ident, TokenStream};
use quote::{format_ident, quote};
use syn::ext::IdentExt;

use super::TableItem;
use crate::column::ColumnField;
use crate::name;

impl<'a> TableItem<'a> {
    pub(super) fn expand(&self) -> TokenStream {
        let columns_struct = self.columns_struct();
        let statics = self.statics();
        let row_shape = self.row_shape();
        let table = self.table();
        let starts = self.starts();
        let relations = self.relations();
        let serialize = self.serialize();
        let (unsaved, insert) = self.unsaved();
        let retires = self.retires();
        quote! {
            #columns_struct
            #unsaved

            const _: () = {
                #statics
                #row_shape
                #table
                #starts
                #relations
                #serialize
                #insert
                #retires
            };
        }
    }

    pub(crate) fn columns_ident(&self) -> Ident {
        format_ident!("{}Columns", self.ident.unraw())
    }

    pub(crate) fn columns_struct(&self) -> TokenStream {
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

    pub(crate) fn statics(&self) -> TokenStream {
        let table = &self.name;
        let columns = self.columns.iter().map(|column| {
            let ColumnField { ty, name, key, generated, unique, by_code_point, .. } = column;
            let [double, backtick] = name::qualified(table, name);
            // Of a row in the row nothing is asked by these descriptors.
            let declared = match column.nested {
                true => quote!((::nepheline::SqlType::Boolean, true)),
                false => quote!(<#ty as ::nepheline::ColumnType>::DECLARED),
            };
            let retires = self
                .retire
                .as_ref()
                .is_some_and(|retire| &retire.mark == column.ident);
            let made = self.made(column);
            quote! {
                ::nepheline::ColumnInfo::new(
                    #table,
                    #name,
                    [#double, #backtick],
                    #declared,
                    ::nepheline::internal::ColumnRole {
                        key: #key,
                        generated: #generated,
                        unique: #unique,
                        by_code_point: #by_code_point,
                        retires: #retires,
                        made: #made,
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
        let owner = self.owner();
        let reference_count = self.references.len();
        let references = self
            .references
            .iter()
            .map(|reference| reference.descriptor(&owner, self.is_nullable(reference)));
        let policies = self.policies();
        let policy_count = self.policies.len();
        let retired: Vec<_> = self.retired_with().collect();
        let retired_count = retired.len();
        quote! {
            static COLUMNS: [::nepheline::ColumnInfo; #count] = [#(#columns),*];
            static INFO: ::nepheline::TableInfo = ::nepheline::TableInfo::new(
                #schema,
                #table,
                [#from_double, #from_backtick],
                [#list_double, #list_backtick],
                &COLUMNS,
                &REFERENCES,
            )
            .under(&POLICIES)
            .retiring(&RETIRED_WITH);
            static RETIRED_WITH: [::nepheline::internal::Reference; #retired_count] =
                [#(#retired),*];
            static POLICIES: [::nepheline::internal::PolicyInfo; #policy_count] = [#(#policies),*];
            static REFERENCES: [::nepheline::internal::Reference; #reference_count] =
                [#(#references),*];
        }
    }

    /// A column that is NULL only where there is no row: of the key, or whichever is first.
    fn probe(&self) -> &'a Ident {
        let key = self.columns.iter().find(|column| column.key);
        key.unwrap_or(&self.columns[0]).ident
    }

    /// The methods of the columns and of a row in hand, and what other tables' relations need.
    fn relations(&self) -> TokenStream {
        let (ident, columns, visibility) = (self.ident, self.columns_ident(), self.visibility);
        let (owner, probe) = (self.owner(), self.probe());
        let numbered = || self.references.iter().zip(0_u8..);
        let to_one = numbered().map(|(reference, number)| {
            reference.method(number, probe, self.is_nullable(reference), visibility)
        });
        let to_many = self
            .children
            .iter()
            .map(|children| children.method(&owner, visibility));
        let linked = self
            .linked
            .iter()
            .map(|linked| linked.method(&owner, probe, visibility));
        let of_rows = [
            self.references
                .iter()
                .map(|r| r.row_method(&owner, visibility))
                .collect::<Vec<_>>(),
            self.children
                .iter()
                .map(|c| c.row_method(&owner, visibility))
                .collect(),
            self.linked
                .iter()
                .map(|l| l.row_method(&owner, visibility))
                .collect(),
        ];
        let of_rows = of_rows.into_iter().flatten();
        let checks = self
            .references
            .iter()
            .map(|reference| reference.check(&owner));
        let refers_to = numbered()
            .filter(|(reference, _)| {
                let same = self
                    .references
                    .iter()
                    .filter(|other| other.target_name() == reference.target_name());
                same.count() == 1
            })
            .map(|(reference, number)| {
                let target = &reference.target;
                quote! {
                    impl ::nepheline::bounds::RefersTo<#target> for #ident {
                        const REFERENCE: u8 = #number;
                    }
                }
            });
        let keyed = self.keyed();
        quote! {
            #[allow(dead_code, reason = "not every relation is followed")]
            impl #columns {
                #(#to_one)*
                #(#to_many)*
                #(#linked)*
            }

            #[allow(dead_code, reason = "not every relation is followed")]
            impl #ident {
                #(#of_rows)*
            }

            #keyed
            #(#refers_to)*
            #(#checks)*
        }
    }

    fn keyed(&self) -> Option<TokenStream> {
        let ident = self.ident;
        let key: Vec<_> = self.columns.iter().filter(|column| column.key).collect();
        let idents = key.iter().map(|column| column.ident);
        let types = key.iter().map(|column| column.ty);
        let (ty, value) = match key.as_slice() {
            [] => return None,
            [_] => (quote!(#(::nepheline::Column<#types>)*), quote!(#(columns.#idents)*)),
            _ => (quote!((#(::nepheline::Column<#types>),*)), quote!((#(columns.#idents),*))),
        };
        Some(quote! {
            impl ::nepheline::Keyed for #ident {
                type Key = #ty;

                fn key(columns: Self::Columns) -> Self::Key {
                    #value
                }
            }
        })
    }

    /// Writing a row out under the names of its columns.
    pub(crate) fn serialize(&self) -> Option<TokenStream> {
        if !self.serialize {
            return None;
        }
        let (ident, count) = (self.ident, self.columns.len());
        let name = ident.unraw().to_string();
        let names = self.columns.iter().map(|column| &column.name);
        let fields = self.columns.iter().map(|column| column.ident);
        Some(quote! {
            impl ::nepheline::internal::serde::Serialize for #ident {
                fn serialize<S: ::nepheline::internal::serde::Serializer>(
                    &self,
                    serializer: S,
                ) -> ::core::result::Result<S::Ok, S::Error> {
                    use ::nepheline::internal::serde::ser::SerializeStruct as _;
                    let mut row = serializer.serialize_struct(#name, #count)?;
                    #(row.serialize_field(#names, &self.#fields)?;)*
                    row.end()
                }
            }
        })
    }

    pub(crate) fn row_shape(&self) -> TokenStream {
        let ident = self.ident;
        let nested = self.columns.iter().filter(|column| column.nested);
        let nested = nested.map(|column| column.ty);
        let width = self.columns.iter().filter(|column| !column.nested).count();
        let width = quote!(#width #(+ <#nested as ::nepheline::RowShape>::WIDTH)*);
        let fields = self.columns.iter().enumerate().map(|(i, column)| {
            let field = column.ident;
            match column.nested {
                true => quote!(#field: ::nepheline::RowShape::read(cells)?),
                false => quote!(#field: ::nepheline::Cells::column(cells, &COLUMNS[#i])?),
            }
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

    /// The columns where the rows stand in a query, and all of them as what is selected.
    pub(crate) fn row_struct(&self) -> TokenStream {
        let (ident, columns, probe) = (self.ident, self.columns_ident(), self.probe());
        let idents: Vec<_> = self.columns.iter().map(|column| column.ident).collect();
        let fields = idents
            .iter()
            .enumerate()
            .map(|(i, field)| quote!(#field: ::nepheline::Column::new(source, &COLUMNS[#i])));
        quote! {
            impl ::nepheline::RowStruct for #ident {
                type Columns = #columns;
                const INFO: &'static ::nepheline::TableInfo = &INFO;

                #[inline]
                fn columns(source: ::nepheline::internal::Source) -> #columns {
                    #columns { #(#fields,)* }
                }
            }

            impl ::nepheline::bounds::RowColumns for #columns {
                type Row = #ident;

                fn probe(&self) -> ::nepheline::internal::RawColumn {
                    ::nepheline::Column::raw(self.#probe)
                }
            }

            impl ::nepheline::bounds::Selectable for #columns {
                type Row = #ident;
                type Level = ::nepheline::PerRow;

                fn select_into(self, selection: &mut ::nepheline::internal::Selection) {
                    #(selection.push_column(::nepheline::Column::raw(self.#idents));)*
                }
            }
        }
    }

    fn table(&self) -> TokenStream {
        let ident = self.ident;
        let row_struct = self.row_struct();
        let indices = 0..self.columns.len();
        let idents = self.columns.iter().map(|column| column.ident);
        quote! {
            #row_struct

            impl ::nepheline::Table for #ident {
                fn value(&self, column: &'static ::nepheline::ColumnInfo) -> ::nepheline::BindValue {
                    match COLUMNS.iter().position(|own| ::core::ptr::eq(own, column)) {
                        #(::core::option::Option::Some(#indices) => {
                            ::nepheline::ColumnType::to_bind_or_null(&self.#idents)
                        })*
                        _ => ::nepheline::BindValue::Null(column.sql_type()),
                    }
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
        let operands = quote!(#(impl ::nepheline::bounds::Operand<#types>),*);
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
                #ident: impl ::nepheline::bounds::Operand<<#ty as ::nepheline::ColumnType>::Base>,
            ) -> ::nepheline::Query<Self> {
                ::nepheline::Query::over_row(|columns: #columns| {
                    ::nepheline::Expression::eq(columns.#ident, #ident)
                })
            }
        }
    }
}
