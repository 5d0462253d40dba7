//! Writes the code of a table: its descriptor, its columns, the reading of rows, and its relations.

use proc_macro2::{Ident, Span, TokenStream};
use quote::{format_ident, quote, quote_spanned};
use syn::ext::IdentExt;
use syn::spanned::Spanned;

use super::TableItem;
use super::changes::UniqueSet;
use crate::attr::{self, local};
use crate::column::ColumnField;
use crate::name;
use crate::serde_impl::{self, Absent, Field};

impl<'a> TableItem<'a> {
    pub(super) fn expand(&self) -> TokenStream {
        let columns_struct = self.columns_struct();
        let statics = self.statics();
        let row_shape = self.row_shape();
        let table = self.table();
        let starts = self.starts();
        let relations = self.relations();
        let (serialize, deserialize) = (self.serialize(), self.deserialize());
        let (to_insert, insert) = self.values_to_insert();
        let (changes, changing) = self.changes_struct();
        let retires = self.retires();
        let role_checks = self.role_checks();
        let allows = attr::allows(&self.forwarded);
        quote! {
            #columns_struct
            #to_insert
            #changes

            // The struct itself may be deprecated.
            #[allow(deprecated)]
            #(#allows)*
            const _: () = {
                #statics
                #role_checks
                #row_shape
                #table
                #starts
                #relations
                #serialize
                #deserialize
                #insert
                #changing
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
        let name = ident.to_string();
        let forwarded = &self.forwarded;
        let fields = self.columns.iter().map(|column| {
            let ColumnField { ident, ty, visibility, .. } = column;
            let documented = column.documented();
            quote! { #documented #visibility #ident: ::nepheline::Column<#ty> }
        });
        // Not derived, because the code of a derive grows with the number of fields.
        quote! {
            #[doc = #doc]
            #(#forwarded)*
            #[allow(dead_code, missing_docs, reason = "not every column is asked about, nor has docs")]
            #visibility struct #ident { #(#fields,)* }

            #[allow(deprecated)]
            const _: () = {
                #[automatically_derived]
                impl ::core::marker::Copy for #ident {}

                #[automatically_derived]
                impl ::core::clone::Clone for #ident {
                    #[inline]
                    fn clone(&self) -> Self {
                        *self
                    }
                }

                #[automatically_derived]
                impl ::core::fmt::Debug for #ident {
                    fn fmt(&self, f: &mut ::core::fmt::Formatter<'_>) -> ::core::fmt::Result {
                        f.write_str(#name)
                    }
                }
            };
        }
    }

    pub(crate) fn statics(&self) -> TokenStream {
        let table = &self.name;
        let columns = self.columns.iter().map(|column| self.column_info(column));
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
        let references = self
            .references
            .iter()
            .map(|reference| reference.descriptor(&owner, self.is_nullable(reference)));
        let lists = [
            list("__REFERENCES", "referring", quote!(Reference), references.collect()),
            list("__POLICIES", "under", quote!(PolicyInfo), self.policies().collect()),
            list("__RETIRED_WITH", "retiring", quote!(Reference), self.retired_with().collect()),
        ];
        let (lists, uses): (Vec<_>, Vec<_>) = lists.into_iter().flatten().unzip();
        let open_to_all = self.open_to_all.then(|| quote!(.open_to_all()));
        let (slot, keeping) = match self.columns.iter().any(|column| column.key) {
            true => {
                let slot = quote!(::nepheline::internal::TableSlot);
                let slot = quote!(static __SLOT: #slot = #slot::new(););
                (Some(slot), Some(quote!(.keeping(&__SLOT))))
            }
            false => (None, None),
        };
        quote! {
            #slot
            static __COLUMNS: [::nepheline::ColumnInfo; #count] = [#(#columns),*];
            static __INFO: ::nepheline::TableInfo = ::nepheline::TableInfo::new(
                #schema,
                #table,
                [#from_double, #from_backtick],
                [#list_double, #list_backtick],
                &__COLUMNS,
            ) #(#uses)* #open_to_all #keeping;
            #(#lists)*
        }
    }

    fn column_info(&self, column: &ColumnField<'_>) -> TokenStream {
        let ColumnField {
            ident,
            ty,
            name,
            key,
            generated,
            unique,
            by_code_point,
            approximate,
            nondeterministic,
            ..
        } = column;
        let table = &self.name;
        let [double, backtick] = name::qualified(table, name);
        // A whole row inside a row has no descriptor of its own here.
        let declared = match column.whole_row {
            true => quote!((::nepheline::SqlType::Boolean, true)),
            false => {
                let span = ty.span();
                quote_spanned!(span=> <#ty as ::nepheline::ColumnType>::DECLARED)
            }
        };
        let retires = self.is_retired_by(ident);
        let made = self.made(column);
        let is_plain = !(*key
            || *generated
            || *unique
            || *by_code_point
            || *approximate
            || *nondeterministic
            || retires)
            && made.is_none();
        let role = (!is_plain).then(|| {
            let flags = [
                ("key", *key),
                ("generated", *generated),
                ("unique", *unique),
                ("by_code_point", *by_code_point),
                ("approximate", *approximate),
                ("nondeterministic", *nondeterministic),
                ("retires", retires),
            ];
            let flags = flags.into_iter().filter(|(_, is_set)| *is_set);
            let flags = flags.map(|(flag, _)| Ident::new(flag, Span::call_site()));
            let made = made.map(|made| quote!(made: #made,));
            quote! {
                .with_role(::nepheline::internal::ColumnRole {
                    #(#flags: true,)*
                    #made
                    ..::nepheline::internal::ColumnRole::PLAIN
                })
            }
        });
        quote! {
            ::nepheline::ColumnInfo::new(#table, #name, [#double, #backtick], #declared) #role
        }
    }

    /// Returns the checks that types fit the roles of their columns.
    pub(crate) fn role_checks(&self) -> TokenStream {
        let roles = self
            .columns
            .iter()
            .flat_map(|column| column.role_checks(self.is_retired_by(column.ident)));
        let is_of_reference = |column: &&ColumnField<'_>| {
            let mut own = self.references.iter().flat_map(|reference| &reference.own);
            own.any(|field| name::is_same(field, column.ident))
        };
        let references = self.columns.iter().filter(is_of_reference);
        let references = references.map(ColumnField::nullness_check);
        let (carried, policies) = (self.carried_checks(), self.policy_checks());
        quote!(#(#roles)* #(#references)* #(#carried)* #(#policies)*)
    }

    /// Returns a column that is NULL only where the row is missing: a key column, or the first column.
    fn probe(&self) -> &'a Ident {
        let key = self.columns.iter().find(|column| column.key);
        key.unwrap_or(&self.columns[0]).ident
    }

    /// Returns the relation methods of the columns and of a row, and the impls that other tables' relations
    /// need.
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
        let bridged = self
            .bridged
            .iter()
            .map(|bridged| bridged.method(&owner, probe, visibility));
        let of_rows = [
            self.references
                .iter()
                .map(|r| r.row_method(&owner, visibility))
                .collect::<Vec<_>>(),
            self.children
                .iter()
                .map(|c| c.row_method(&owner, visibility))
                .collect(),
            self.bridged
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
            .map(|(reference, number)| reference.refers_to(ident, number));
        let keyed = self.keyed();
        let impl_of = |ident: &Ident, methods: TokenStream| {
            (!methods.is_empty()).then(|| {
                quote! {
                    #[allow(dead_code, reason = "not every relation is followed")]
                    impl #ident { #methods }
                }
            })
        };
        let of_columns = impl_of(&columns, quote!(#(#to_one)* #(#to_many)* #(#bridged)*));
        let of_rows = impl_of(ident, quote!(#(#of_rows)*));
        quote! {
            #of_columns
            #of_rows

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
            impl ::nepheline::bounds::Keyed<#ty> for #ident {
                fn key(columns: Self::Columns) -> #ty {
                    #value
                }
            }
        })
    }

    /// Returns the `Serialize` impl, with the names of the columns.
    pub(crate) fn serialize(&self) -> Option<TokenStream> {
        if !self.serialize {
            return None;
        }
        let (ident, count) = (self.ident, self.columns.len());
        let name = ident.unraw().to_string();
        let names = self.columns.iter().map(|column| &column.name);
        let fields = self.columns.iter().map(|column| {
            let (field, span) = (column.ident, column.ty.span());
            let row = local("self", span);
            quote_spanned!(span=> &#row.#field)
        });
        Some(quote! {
            impl ::nepheline::internal::serde::Serialize for #ident {
                fn serialize<S: ::nepheline::internal::serde::Serializer>(
                    &self,
                    serializer: S,
                ) -> ::core::result::Result<S::Ok, S::Error> {
                    use ::nepheline::internal::serde::ser::SerializeStruct as _;
                    let mut row = serializer.serialize_struct(#name, #count)?;
                    #(row.serialize_field(#names, #fields)?;)*
                    row.end()
                }
            }
        })
    }

    /// Returns the `Deserialize` impl, with the names of the columns.
    pub(crate) fn deserialize(&self) -> Option<TokenStream> {
        if !self.deserialize {
            return None;
        }
        let columns = self.columns.iter();
        let fields: Vec<_> = columns
            .map(|column| Field { ident: column.ident, ty: column.ty, name: &column.name })
            .collect();
        Some(serde_impl::deserialize(self.ident, &fields, Absent::Error))
    }

    pub(crate) fn row_shape(&self) -> TokenStream {
        let ident = self.ident;
        let whole_row = self.columns.iter().filter(|column| column.whole_row);
        let whole_row = whole_row.map(|column| column.ty);
        let width = self
            .columns
            .iter()
            .filter(|column| !column.whole_row)
            .count();
        let width = quote!(#width #(+ <#whole_row as ::nepheline::RowShape>::WIDTH)*);
        let infos = self.info_idents();
        let fields = self.columns.iter().zip(&infos).map(|(column, info)| {
            let (field, ty) = (column.ident, column.ty);
            let span = ty.span();
            let cells = local("cells", span);
            match column.whole_row {
                true => {
                    quote_spanned!(span=> #field: <#ty as ::nepheline::RowShape>::read(#cells)?)
                }
                false => {
                    quote_spanned! {span=>
                        #field: match <#ty as ::nepheline::ColumnType>::read_next(#cells, #info) {
                            ::core::result::Result::Ok(value) => value,
                            ::core::result::Result::Err(error) => {
                                return ::core::result::Result::Err(error);
                            }
                        }
                    }
                }
            }
        });
        let infos = self
            .columns
            .iter()
            .zip(&infos)
            .map(|(column, info)| match column.whole_row {
                true => quote!(_),
                false => quote!(#info),
            });
        let (wanted, types) = (self.wanted(), self.cell_types());
        quote! {
            impl ::nepheline::RowShape for #ident {
                const WIDTH: ::core::primitive::usize = #width;

                #[inline]
                fn read<C: ::nepheline::Cells>(
                    cells: &mut C,
                ) -> ::core::result::Result<Self, ::nepheline::Error> {
                    let [#(#infos),*] = &__COLUMNS;
                    ::core::result::Result::Ok(Self { #(#fields,)* })
                }

                fn wanted(
                    names: &mut ::nepheline::internal::vec::Vec<
                        ::core::option::Option<&'static ::core::primitive::str>,
                    >,
                ) {
                    #wanted
                }

                fn cell_types(
                    types: &mut ::nepheline::internal::vec::Vec<(
                        ::nepheline::SqlType,
                        ::core::primitive::bool,
                    )>,
                ) {
                    #types
                }
            }
        }
    }

    /// Returns the statements that add the names of its columns.
    fn wanted(&self) -> TokenStream {
        if !self.columns.iter().any(|column| column.whole_row) {
            return quote!(::nepheline::internal::name_columns(&__COLUMNS, names););
        }
        let each = self.columns.iter().enumerate().map(|(number, column)| {
            let ty = column.ty;
            match column.whole_row {
                true => quote!(<#ty as ::nepheline::RowShape>::wanted(names);),
                false => quote! {
                    ::nepheline::internal::name_columns(&__COLUMNS[#number..=#number], names);
                },
            }
        });
        quote!(#(#each)*)
    }

    /// Returns the statements that add the types of its columns.
    fn cell_types(&self) -> TokenStream {
        if !self.columns.iter().any(|column| column.whole_row) {
            return quote!(::nepheline::internal::type_columns(&__COLUMNS, types););
        }
        let each = self.columns.iter().enumerate().map(|(number, column)| {
            let ty = column.ty;
            match column.whole_row {
                true => quote!(<#ty as ::nepheline::RowShape>::cell_types(types);),
                false => quote! {
                    ::nepheline::internal::type_columns(&__COLUMNS[#number..=#number], types);
                },
            }
        });
        quote!(#(#each)*)
    }

    /// Returns the names of the descriptors of the columns, as variables.
    fn info_idents(&self) -> Vec<Ident> {
        let numbers = 0..self.columns.len();
        numbers
            .map(|number| format_ident!("info_{number}", span = Span::mixed_site()))
            .collect()
    }

    /// Returns the impls for the columns of a source and for selecting all of them.
    pub(crate) fn row_struct(&self) -> TokenStream {
        let (ident, columns, probe) = (self.ident, self.columns_ident(), self.probe());
        let idents: Vec<_> = self.columns.iter().map(|column| column.ident).collect();
        let infos = self.info_idents();
        quote! {
            impl ::nepheline::RowStruct for #ident {
                type Columns = #columns;
                const INFO: &'static ::nepheline::TableInfo = &__INFO;

                #[inline]
                fn columns(source: ::nepheline::internal::Source) -> #columns {
                    let [#(#infos),*] = &__COLUMNS;
                    #columns { #(#idents: ::nepheline::Column::new(source, #infos),)* }
                }
            }

            impl ::nepheline::bounds::RowColumns for #columns {
                type Row = #ident;

                fn probe(&self) -> ::nepheline::internal::RawColumn {
                    ::nepheline::Column::raw(self.#probe)
                }
            }

            impl ::nepheline::bounds::IntoSelection for #columns {
                type Row = #ident;
                type Level = ::nepheline::PerRow;

                fn select_into(self, selection: &mut ::nepheline::internal::Selection) {
                    #(::nepheline::Column::push_into(self.#idents, selection);)*
                }
            }
        }
    }

    fn table(&self) -> TokenStream {
        let (ident, columns) = (self.ident, self.columns_ident());
        let row_struct = self.row_struct();
        let values = self.columns.iter().map(ColumnField::as_field);
        let unique = self.unique_sets().map(|set| quote!(&[#(#set),*]));
        let numbers = self.unique_numbers().map(|set| quote!(&[#(#set),*]));
        quote! {
            #row_struct

            impl ::nepheline::bounds::Target for #ident {
                type Row = #ident;
                type Columns = #columns;
            }

            impl ::nepheline::Table for #ident {
                const UNIQUE: &'static [&'static [&'static ::core::primitive::str]] =
                    &[#(#unique),*];
                const UNIQUE_COLUMNS: &'static [&'static [::core::primitive::u16]] =
                    &[#(#numbers),*];

                fn value(&self, column: &'static ::nepheline::ColumnInfo) -> ::nepheline::BindValue {
                    ::nepheline::internal::value_of(&__COLUMNS, &[#(#values),*], column)
                }
            }
        }
    }

    /// Returns `rows()`, `row(key)` and `row_by_..(value)`.
    fn starts(&self) -> TokenStream {
        let (ident, visibility) = (self.ident, self.visibility);
        let by_key = self.row_by_key();
        let by_unique = self
            .columns
            .iter()
            .filter(|column| column.unique)
            .map(|c| self.row_by(c));
        let by_set = self.unique.iter().filter_map(|set| self.row_by_set(set));
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
                #(#by_set)*
            }
        }
    }

    fn row_by_key(&self) -> Option<TokenStream> {
        let key: Vec<_> = self.columns.iter().filter(|column| column.key).collect();
        let idents: Vec<_> = key.iter().map(|column| column.ident).collect();
        let types = key.iter().map(|column| column.ty);
        let operands = quote! {
            #(impl ::nepheline::bounds::Operand<<#types as ::nepheline::ColumnType>::Base>),*
        };
        let (pattern, operands) = match idents.as_slice() {
            [] => return None,
            [one] => (quote!(#one), operands),
            several => (quote!((#(#several),*)), quote!((#operands))),
        };
        let name = format_ident!("row");
        let doc = "The query for the row with this primary key: one at most.";
        Some(self.row_where(doc, &name, quote!(#pattern: #operands), &key))
    }

    fn row_by(&self, column: &ColumnField<'_>) -> TokenStream {
        let ColumnField { ident, ty, name, .. } = column;
        let function = format_ident!("row_by_{}", ident.unraw());
        let doc = format!(
            "The query for the row with this value of the unique column `{name}`: one at most."
        );
        let parameter = quote! {
            #ident: impl ::nepheline::bounds::Operand<<#ty as ::nepheline::ColumnType>::Base>
        };
        self.row_where(&doc, &function, parameter, &[column])
    }

    /// Returns the function for the row with values of several fields, if the set has a name.
    fn row_by_set(&self, set: &UniqueSet) -> Option<TokenStream> {
        let function = format_ident!("row_by_{}", set.name.as_ref()?.unraw());
        let fields: Vec<_> = set
            .fields
            .iter()
            .filter_map(|field| self.column(field))
            .collect();
        let names = fields
            .iter()
            .map(|column| column.name.as_str())
            .collect::<Vec<_>>();
        let doc = format!(
            "The query for the row with these values of the unique columns `{}`: one at most.",
            names.join("`, `")
        );
        let parameters = fields.iter().map(|ColumnField { ident, ty, .. }| {
            quote! {
                #ident: impl ::nepheline::bounds::Operand<<#ty as ::nepheline::ColumnType>::Base>
            }
        });
        Some(self.row_where(&doc, &function, quote!(#(#parameters),*), &fields))
    }

    /// Returns a function for the row whose fields equal its parameters, which have the names of the fields.
    fn row_where(
        &self,
        doc: &str,
        name: &Ident,
        parameter: TokenStream,
        fields: &[&ColumnField<'_>],
    ) -> TokenStream {
        let (visibility, columns) = (self.visibility, self.columns_ident());
        let allows = fields
            .iter()
            .flat_map(|column| attr::allows(&column.attributes));
        let fields = fields.iter().map(|column| column.ident);
        let (fields, operands) = (fields.clone(), fields);
        // A variable of the macro's own, because a field may have its name.
        let theirs = Ident::new("columns", Span::mixed_site());
        quote! {
            #[doc = #doc]
            #[track_caller]
            // A private type may be the key of a public table.
            #[allow(private_bounds, private_interfaces)]
            #(#allows)*
            #visibility fn #name(#parameter) -> ::nepheline::Query<Self> {
                ::nepheline::Query::over_row(|#theirs: #columns| {
                    #(::nepheline::ExprExt::eq(#theirs.#fields, #operands))&*
                })
            }
        }
    }
}

/// Returns a static list of a table's descriptors, and the call that adds it; nothing for an empty list.
fn list(
    name: &str,
    method: &str,
    item: TokenStream,
    items: Vec<TokenStream>,
) -> Option<(TokenStream, TokenStream)> {
    if items.is_empty() {
        return None;
    }
    let count = items.len();
    let (name, method) = (format_ident!("{name}"), format_ident!("{method}"));
    Some((
        quote!(static #name: [::nepheline::internal::#item; #count] = [#(#items),*];),
        quote!(.#method(&#name)),
    ))
}
