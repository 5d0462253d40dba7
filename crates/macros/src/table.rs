//! `#[derive(Table)]`: parse the struct, check it, write its descriptors, columns and row reading.

use proc_macro2::{Ident, TokenStream};
use quote::{format_ident, quote};
use syn::ext::IdentExt;
use syn::punctuated::Punctuated;
use syn::spanned::Spanned;
use syn::{Data, DeriveInput, Fields, Path, Token, Type, Visibility};

use crate::attr::{self, Mistakes};
use crate::column::{ColumnField, is_option};
use crate::name;
use crate::relation::{self, Children, Linked, Owner, Reference};
use crate::rules::Retire;

pub(crate) fn derive(input: DeriveInput) -> TokenStream {
    let mut mistakes = Mistakes::default();
    let table = TableItem::parse(&input, &mut mistakes);
    // The code is written even for a table with mistakes, so that one mistake is one error.
    let code = table.map(|table| table.expand()).unwrap_or_default();
    let errors = mistakes.into_error().map(|error| error.to_compile_error());
    quote! { #errors #code }
}

pub(crate) struct TableItem<'a> {
    pub(crate) ident: &'a Ident,
    pub(crate) visibility: &'a Visibility,
    pub(crate) name: String,
    schema: Option<String>,
    pub(crate) columns: Vec<ColumnField<'a>>,
    references: Vec<Reference>,
    pub(crate) children: Vec<Children>,
    linked: Vec<Linked>,
    /// Whether rows can be written out by serde, under the names of the columns.
    serialize: bool,
    /// The functions that are its policies.
    pub(crate) policies: Vec<Path>,
    /// The columns that are filled from what a handle carries, and with which type.
    pub(crate) fills: Vec<(Ident, Type)>,
    /// How its rows are withdrawn instead of deleted.
    pub(crate) retire: Option<Retire>,
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
            references: Vec::new(),
            children: Vec::new(),
            linked: Vec::new(),
            serialize: false,
            policies: Vec::new(),
            fills: Vec::new(),
            retire: None,
        };
        let allowed = "`table = \"...\"`, `schema = \"...\"`, `references(..)`, `children(..)`, \
                       `child(..)`, `linked(..)`, `policies(..)`, `fill(..)`, `retire(..)` and \
                       `serialize`";
        let (mut several, mut child) = (Vec::new(), Vec::new());
        attr::each_part(&input.attrs, allowed, mistakes, |part| {
            if part.path.is_ident("table") {
                table.name = attr::text(part)?.value();
            } else if part.path.is_ident("schema") {
                table.schema = Some(attr::text(part)?.value());
            } else if part.path.is_ident("serialize") {
                table.serialize = true;
            } else if part.path.is_ident("policies") {
                let content;
                syn::parenthesized!(content in part.input);
                let paths = Punctuated::<Path, Token![,]>::parse_terminated(&content)?;
                table.policies.extend(paths);
            } else if part.path.is_ident("retire") {
                table.retire = Some(Retire::parse(part)?);
            } else if part.path.is_ident("fill") {
                let content;
                syn::parenthesized!(content in part.input);
                let fills = content.parse_terminated(
                    |input| {
                        let column = input.call(Ident::parse_any)?;
                        input.parse::<Token![=]>()?;
                        Ok((column, input.parse::<Type>()?))
                    },
                    Token![,],
                )?;
                table.fills.extend(fills);
            } else if part.path.is_ident("references") {
                several.extend(relation::references(part)?);
            } else if part.path.is_ident("children") {
                table.children.extend(relation::children(part)?);
            } else if part.path.is_ident("child") {
                child.extend(relation::child(part)?);
            } else if part.path.is_ident("linked") {
                table.linked.extend(relation::linked(part)?);
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
        let of_fields = table
            .columns
            .iter_mut()
            .filter_map(|column| column.reference.take());
        table.references = of_fields.collect();
        table.references.append(&mut several);
        table.references.append(&mut child);
        for column in table.columns.iter().filter(|column| column.nested) {
            mistakes.at(column.ident.span(), "a column of a table is one value");
        }
        for column in table
            .fills
            .iter()
            .map(|(column, _)| column)
            .chain(table.retire.as_ref().map(|retire| &retire.mark))
        {
            if table.columns.iter().all(|own| own.ident != column) {
                mistakes.at(column.span(), format!("the table has no column `{column}`"));
            }
        }
        if let Some(retire) = &table.retire {
            retire.check(&table, mistakes);
        }
        table.check_twins(mistakes);
        table.check_relations(mistakes);
        Some(table)
    }

    /// A struct that has columns and nothing else.
    pub(crate) fn of_columns(
        ident: &'a Ident,
        visibility: &'a Visibility,
        name: String,
        columns: Vec<ColumnField<'a>>,
        serialize: bool,
    ) -> TableItem<'a> {
        TableItem {
            ident,
            visibility,
            name,
            schema: None,
            columns,
            references: Vec::new(),
            children: Vec::new(),
            linked: Vec::new(),
            serialize,
            policies: Vec::new(),
            fills: Vec::new(),
            retire: None,
        }
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

    /// The methods that relations are: each needs a name of its own, that no column has, and fields
    /// that there are.
    fn check_relations(&self, mistakes: &mut Mistakes) {
        let references = self.references.iter().map(|relation| &relation.name);
        let children = self.children.iter().map(|relation| &relation.name);
        let linked = self.linked.iter().map(|relation| &relation.name);
        let mut names: Vec<&Ident> = Vec::new();
        for name in references.chain(children).chain(linked) {
            if names.contains(&name) {
                mistakes.at(name.span(), "another relation has this name already");
            }
            if self.columns.iter().any(|column| column.ident == name) {
                let message = format!(
                    "the method `{name}` would have the name of a column; say another one with \
                     `called = ...`"
                );
                mistakes.at(name.span(), message);
            }
            names.push(name);
        }
        let keyless = self.columns.iter().all(|column| !column.key);
        let mut by_key = self
            .children
            .iter()
            .filter(|relation| relation.own.is_empty());
        if let Some(relation) = by_key.find(|_| keyless) {
            mistakes.at(relation.name.span(), "a table without a key has nothing to refer to");
        }
        let key = self.columns.iter().filter(|column| column.key).count();
        for relation in &self.children {
            let own = if relation.own.is_empty() { key } else { relation.own.len() };
            if !keyless && relation.by.len() != own {
                let message =
                    format!("{} columns there cannot be equal to {own} here", relation.by.len());
                mistakes.at(relation.name.span(), message);
            }
        }
        if self.references.len() > 200 {
            mistakes.at(self.ident.span(), "a table has 200 references at most");
        }
    }

    pub(crate) fn owner(&self) -> Owner<'_> {
        let key = self.columns.iter().filter(|column| column.key);
        Owner {
            ident: self.ident,
            table: &self.name,
            key: key.map(|column| column.ident).collect(),
        }
    }

    /// Whether a field that a reference is made of may be NULL, as far as its type says so.
    fn is_nullable(&self, reference: &Reference) -> bool {
        let fields = self
            .columns
            .iter()
            .filter(|column| reference.own.contains(column.ident));
        fields.into_iter().any(|column| is_option(column.ty))
    }

    fn expand(&self) -> TokenStream {
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
                    impl ::nepheline::RefersTo<#target> for #ident {
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

            impl ::nepheline::RowColumns for #columns {
                type Row = #ident;

                fn probe(&self) -> ::nepheline::internal::RawColumn {
                    ::nepheline::Column::raw(self.#probe)
                }
            }

            impl ::nepheline::Selectable for #columns {
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
