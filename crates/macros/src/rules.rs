//! The rules of a table: its policies, the values of new rows, and soft deletes.

use proc_macro2::{Ident, TokenStream};
use quote::{format_ident, quote, quote_spanned};
use syn::Token;
use syn::ext::IdentExt;
use syn::meta::ParseNestedMeta;
use syn::parse::ParseStream;
use syn::spanned::Spanned;

use crate::attr::{self, Mistakes};
use crate::column::ColumnField;
use crate::name;
use crate::relation::{Children, Reference};
use crate::serde_impl::{self, Absent, Field};
use crate::table::{TableItem, is_same_path};

/// `retire(withdrawn_at)`, or `retire(withdrawn_at, with(assays))`.
pub(crate) struct Retire {
    /// The column that marks rows as retired.
    pub(crate) mark: Ident,
    /// The relations to the children that are retired with a row.
    with: Vec<Ident>,
}

impl Retire {
    pub(crate) fn parse(part: &ParseNestedMeta<'_>) -> syn::Result<Retire> {
        attr::in_brackets(part.input, |content| {
            let mark = content.call(name::parse)?;
            let mut with = Vec::new();
            if content.peek(Token![,]) && !content.peek2(syn::parse::End) {
                content.parse::<Token![,]>()?;
                with = Retire::parse_with(content)?;
            }
            content.parse::<Option<Token![,]>>()?;
            Ok(Retire { mark, with })
        })
    }

    fn parse_with(content: ParseStream<'_>) -> syn::Result<Vec<Ident>> {
        let word = content.call(name::parse)?;
        if word != "with" {
            return Err(syn::Error::new(
                word.span(),
                "expected `with(..)` with names of children, as in `retire(withdrawn_at, with(assays))`",
            ));
        }
        attr::items(content, name::parse)
    }

    pub(crate) fn check(&self, table: &TableItem<'_>, mistakes: &mut Mistakes) {
        for name in &self.with {
            if table
                .children
                .iter()
                .all(|children| !name::is_same(&children.name, name))
            {
                mistakes.at(name.span(), format!("the table declares no children `{name}`"));
            }
        }
    }
}

impl TableItem<'_> {
    /// Returns the children that are retired with a row.
    fn withdrawn_with(&self) -> impl Iterator<Item = &Children> {
        let with = self.retire.iter().flat_map(|retire| &retire.with);
        with.filter_map(|name| {
            self.children
                .iter()
                .find(|children| name::is_same(&children.name, name))
        })
    }

    /// Returns the descriptors of the relations to them.
    pub(crate) fn retired_with(&self) -> impl Iterator<Item = TokenStream> {
        let owner = self.owner();
        self.withdrawn_with().map(move |children| {
            let Children { name, target, by, own } = children.clone();
            let relation = Reference { name, target, own, theirs: by, optional: true };
            relation.descriptor(&owner, true)
        })
    }

    /// Returns the impl that declares that the table retires its rows, and the check that the children do
    /// too.
    pub(crate) fn retires(&self) -> Option<TokenStream> {
        self.retire.as_ref()?;
        let ident = self.ident;
        let checks = self.withdrawn_with().map(|children| {
            let target = &children.target;
            quote_spanned! {target.span()=>
                const _: fn() = || {
                    fn retires<T: ::nepheline::bounds::Retires>() {}
                    retires::<#target>();
                };
            }
        });
        Some(quote! {
            impl ::nepheline::bounds::Retires for #ident {}
            #(#checks)*
        })
    }

    /// Returns whether a delete sets this column instead of deleting the row.
    pub(crate) fn is_retired_by(&self, field: &Ident) -> bool {
        self.retire
            .as_ref()
            .is_some_and(|retire| name::is_same(&retire.mark, field))
    }

    /// Returns checks that the types of carried values are those of their columns.
    pub(crate) fn carried_checks(&self) -> impl Iterator<Item = TokenStream> {
        self.carried.iter().filter_map(|(name, carried)| {
            let column = self
                .columns
                .iter()
                .find(|column| name::is_same(column.ident, name))?;
            let ty = column.ty;
            Some(quote_spanned! {carried.span()=>
                const _: fn() = || {
                    ::nepheline::internal::is_carried_by::<#ty, #carried>();
                };
            })
        })
    }

    /// Returns the source of a column's value in a new row, unless the program gives it.
    pub(crate) fn made(&self, column: &ColumnField<'_>) -> Option<TokenStream> {
        let carried = self
            .carried
            .iter()
            .find(|(carried, _)| name::is_same(carried, column.ident));
        let stamp = column.stamp.as_ref().map(Ident::to_string);
        Some(match (carried, stamp.as_deref()) {
            (Some((_, ty)), _) => quote! {
                ::nepheline::internal::ValueSource::Carried(::nepheline::internal::carried_value::<#ty>)
            },
            (None, Some("insert")) => quote!(::nepheline::internal::ValueSource::StampedOnInsert),
            (None, Some(_)) => quote!(::nepheline::internal::ValueSource::StampedOnWrite),
            (None, None) if column.version => quote!(::nepheline::internal::ValueSource::Version),
            (None, None) => return None,
        })
    }

    /// Returns the struct that an INSERT takes, without generated and carried columns, and its methods.
    pub(crate) fn values_to_insert(&self) -> (TokenStream, TokenStream) {
        let (ident, visibility) = (self.ident, self.visibility);
        let to_insert = format_ident!("{}ToInsert", ident.unraw());
        let doc = format!(
            "A row of the table `{}` before it is stored: what an INSERT supplies.",
            self.name
        );
        let is_given =
            |column: &&ColumnField<'_>| column.is_given() && !self.is_carried(column.ident);
        let given: Vec<_> = self.columns.iter().filter(is_given).collect();
        let fields = given.iter().map(|column| {
            let ColumnField { ident, ty, visibility, .. } = column;
            let documented = column.documented();
            quote! { #documented #visibility #ident: #ty }
        });
        let passed = given.iter().map(|column| column.passed());
        let (forwarded, derives) = (&self.forwarded, self.to_insert.attribute());
        let deserialize = self.to_insert.deserialize.then(|| {
            let fields: Vec<_> = given
                .iter()
                .map(|column| Field { ident: column.ident, ty: column.ty, name: &column.name })
                .collect();
            serde_impl::deserialize(&to_insert, &fields, Absent::Error)
        });
        let item = quote! {
            #[doc = #doc]
            #(#forwarded)*
            #derives
            #[allow(
                dead_code,
                deprecated,
                missing_debug_implementations,
                missing_docs,
                reason = "not every table is inserted into, and not every field has docs or can be shown"
            )]
            #visibility struct #to_insert { #(#fields,)* }
        };
        let implementation = quote! {
            #deserialize

            impl ::nepheline::InsertValues for #to_insert {
                type Table = #ident;
            }

            impl ::nepheline::internal::RowValues for #to_insert {
                fn pass_to<'b>(&'b self, to: &mut impl ::nepheline::internal::TakesValues<'b>) {
                    #(#passed)*
                }
            }

            #[allow(dead_code, reason = "not every table is inserted into")]
            impl #ident {
                /// A new row, to be written by a handle.
                #[track_caller]
                #visibility fn insert(row: #to_insert) -> ::nepheline::Insert<Self> {
                    ::nepheline::Insert::of(::nepheline::internal::vec![row])
                }

                /// New rows, to be written by a handle: all of them, or none.
                #[track_caller]
                #visibility fn insert_all(
                    rows: impl ::core::iter::IntoIterator<Item = #to_insert>,
                ) -> ::nepheline::Insert<Self> {
                    ::nepheline::Insert::of(::core::iter::Iterator::collect(::core::iter::IntoIterator::into_iter(rows)))
                }
            }
        };
        (item, implementation)
    }

    /// Returns checks that the policies are functions themselves, whose types are their identities.
    pub(crate) fn policy_checks(&self) -> impl Iterator<Item = TokenStream> {
        self.policies.iter().map(|policy| {
            quote_spanned! {policy.span()=>
                const _: () = ::core::assert!(
                    ::nepheline::internal::is_function(&#policy),
                    "a policy is a function itself; a pointer to one, such as a `const` of the type `fn(..)`, \
                     cannot be told from another"
                );
            }
        })
    }

    /// Returns the descriptors of the policies: the identity of each, and its condition for a source. They
    /// have the span of their names here, which origins show.
    pub(crate) fn policies(&self) -> impl Iterator<Item = TokenStream> {
        let (ident, columns) = (self.ident, self.columns_ident());
        self.policies.iter().map(move |policy| {
            let last = policy
                .segments
                .last()
                .map(|segment| segment.ident.unraw().to_string());
            let name = last.unwrap_or_default();
            let checks = self.write_checks.as_ref().map(|checks| {
                let is_checked = checks.iter().any(|check| is_same_path(check, policy));
                quote_spanned!(policy.span()=> .checking_writes(#is_checked))
            });
            quote_spanned! {policy.span()=>
                ::nepheline::internal::PolicyInfo::new(
                    #name,
                    || ::nepheline::internal::policy_id(&#policy),
                    &::nepheline::internal::PolicyCondition::new(|source, carried| {
                        let columns = <#ident as ::nepheline::RowStruct>::columns(source);
                        ::nepheline::internal::condition_of::<#columns, _>(#policy, columns, carried)
                    }),
                )#checks
            }
        })
    }
}
