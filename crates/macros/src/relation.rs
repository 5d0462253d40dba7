//! Relations of a table: the references of its fields, and the tables that lead back to it.

use proc_macro2::{Ident, Span, TokenStream};
use quote::{ToTokens, format_ident, quote, quote_spanned};
use syn::ext::IdentExt;
use syn::meta::ParseNestedMeta;
use syn::parse::{Parse, ParseStream};
use syn::punctuated::Punctuated;
use syn::{Path, Token, Visibility, parenthesized, token};

/// From a row to at most one of another table: columns here that are equal to columns there.
pub(crate) struct Reference {
    pub(crate) name: Ident,
    pub(crate) target: Path,
    /// The fields here; for the other side of a one-to-one relation empty, which means the key.
    pub(crate) own: Vec<Ident>,
    /// The fields there; empty means the key.
    pub(crate) theirs: Vec<Ident>,
    /// True if there may be no such row although no field here is NULL.
    pub(crate) optional: bool,
}

/// From a row to those of another table that refer to it.
#[derive(Clone)]
pub(crate) struct Children {
    pub(crate) name: Ident,
    pub(crate) target: Path,
    /// The fields there.
    pub(crate) by: Vec<Ident>,
    /// The fields here that they are equal to; empty means the key.
    pub(crate) own: Vec<Ident>,
}

/// From a row to those of another table, through a table between.
pub(crate) struct Linked {
    pub(crate) name: Ident,
    pub(crate) target: Path,
    pub(crate) via: Path,
}

/// One field, or several in brackets.
struct Fields(Vec<Ident>);

impl Parse for Fields {
    fn parse(input: ParseStream<'_>) -> syn::Result<Fields> {
        if !input.peek(token::Paren) {
            return Ok(Fields(vec![input.call(Ident::parse_any)?]));
        }
        let inner;
        parenthesized!(inner in input);
        let fields =
            Punctuated::<Ident, Token![,]>::parse_terminated_with(&inner, Ident::parse_any)?;
        Ok(Fields(fields.into_iter().collect()))
    }
}

/// A word of ours between names.
fn word(input: ParseStream<'_>, wanted: &str) -> syn::Result<bool> {
    let is_next = input
        .cursor()
        .ident()
        .is_some_and(|(ident, _)| ident == wanted);
    if is_next {
        input.call(Ident::parse_any)?;
    }
    Ok(is_next)
}

fn needed_word(input: ParseStream<'_>, wanted: &str, example: &str) -> syn::Result<()> {
    match word(input, wanted)? {
        true => Ok(()),
        false => Err(input.error(format!("expected `{wanted}`, as in `{example}`"))),
    }
}

/// `name: Target`
fn named_target(input: ParseStream<'_>) -> syn::Result<(Ident, Path)> {
    let name = input.call(Ident::parse_any)?;
    input.parse::<Token![:]>()?;
    Ok((name, input.parse()?))
}

/// `= Target`, or `= Target by column`, of the field `field`.
pub(crate) fn of_field(part: &ParseNestedMeta<'_>, field: &Ident) -> syn::Result<Reference> {
    let value = part.value()?;
    let target: Path = value.parse()?;
    let theirs = if word(value, "by")? { value.parse::<Fields>()?.0 } else { Vec::new() };
    let name = field.unraw().to_string();
    let name = name.strip_suffix("_id").unwrap_or(&name);
    let name = format_ident!("{name}", span = field.span());
    Ok(Reference { name, target, own: vec![field.clone()], theirs, optional: false })
}

fn list<T>(
    part: &ParseNestedMeta<'_>,
    each: fn(ParseStream<'_>) -> syn::Result<T>,
) -> syn::Result<Vec<T>> {
    let inner;
    parenthesized!(inner in part.input);
    let items = Punctuated::<T, Token![,]>::parse_terminated_with(&inner, each)?;
    Ok(items.into_iter().collect())
}

/// `references(name: Target by (a, b))`: of several fields, which are equal to the key there.
pub(crate) fn references(part: &ParseNestedMeta<'_>) -> syn::Result<Vec<Reference>> {
    list(part, |input| {
        let (name, target) = named_target(input)?;
        needed_word(input, "by", "tray: Tray by (shelf, slot)")?;
        let own = input.parse::<Fields>()?.0;
        Ok(Reference { name, target, own, theirs: Vec::new(), optional: false })
    })
}

/// `children(name: Child by column)`, also `by column = field` where that is not the key.
pub(crate) fn children(part: &ParseNestedMeta<'_>) -> syn::Result<Vec<Children>> {
    list(part, |input| {
        let (name, target) = named_target(input)?;
        needed_word(input, "by", "assays: Assay by specimen_id")?;
        let by = input.parse::<Fields>()?.0;
        let own = own_fields(input)?;
        Ok(Children { name, target, by, own })
    })
}

/// `child(name: Child by column)`: the other side of a reference that is unique.
pub(crate) fn child(part: &ParseNestedMeta<'_>) -> syn::Result<Vec<Reference>> {
    list(part, |input| {
        let (name, target) = named_target(input)?;
        needed_word(input, "by", "collar: Collar by borehole_id")?;
        let theirs = input.parse::<Fields>()?.0;
        let own = own_fields(input)?;
        Ok(Reference { name, target, own, theirs, optional: true })
    })
}

fn own_fields(input: ParseStream<'_>) -> syn::Result<Vec<Ident>> {
    match input.peek(Token![=]) {
        true => {
            input.parse::<Token![=]>()?;
            Ok(input.parse::<Fields>()?.0)
        }
        false => Ok(Vec::new()),
    }
}

/// `linked(name: Other via Link)`
pub(crate) fn linked(part: &ParseNestedMeta<'_>) -> syn::Result<Vec<Linked>> {
    list(part, |input| {
        let (name, target) = named_target(input)?;
        needed_word(input, "via", "hazards: Hazard via SpecimenHazard")?;
        Ok(Linked { name, target, via: input.parse()? })
    })
}

/// What relations need to know of the table that they are of.
pub(crate) struct Owner<'a> {
    pub(crate) ident: &'a Ident,
    pub(crate) table: &'a str,
    pub(crate) key: Vec<&'a Ident>,
}

impl Owner<'_> {
    /// The fields here that are meant: those named, or the key.
    fn or_key(&self, named: &[Ident]) -> Vec<Ident> {
        match named {
            [] => self.key.iter().map(|ident| (*ident).clone()).collect(),
            named => named.to_vec(),
        }
    }
}

/// The columns of a target, each as an expression over `theirs`, the struct of its columns.
fn target_columns(target: &Path, theirs: &[Ident], count: usize) -> Vec<TokenStream> {
    let span = span_of(target);
    match (theirs, count) {
        ([], 1) => vec![quote_spanned!(span=> <#target as ::nepheline::Keyed>::key(theirs))],
        ([], count) => (0..count)
            .map(syn::Index::from)
            .map(|part| quote_spanned!(span=> <#target as ::nepheline::Keyed>::key(theirs).#part))
            .collect(),
        (named, _) => named.iter().map(|field| quote!(theirs.#field)).collect(),
    }
}

fn span_of(path: &Path) -> Span {
    path.segments
        .last()
        .map_or_else(Span::call_site, |segment| segment.ident.span())
}

impl Reference {
    /// The table that it leads to, as it is written.
    pub(crate) fn target_name(&self) -> String {
        self.target.to_token_stream().to_string()
    }

    /// The static descriptor.
    pub(crate) fn descriptor(&self, owner: &Owner<'_>, nullable: bool) -> TokenStream {
        let (ident, target, name) = (owner.ident, &self.target, self.name.unraw().to_string());
        let own = owner.or_key(&self.own);
        let theirs = target_columns(target, &self.theirs, own.len());
        let optional = self.optional || nullable;
        quote! {
            ::nepheline::internal::Reference::new(
                #name,
                || <#target as ::nepheline::RowStruct>::INFO,
                &[#([
                    || ::nepheline::Column::info(
                        <#ident as ::nepheline::RowStruct>::columns(
                            ::nepheline::internal::Source::NOWHERE,
                        ).#own,
                    ),
                    || {
                        let theirs = <#target as ::nepheline::RowStruct>::columns(
                            ::nepheline::internal::Source::NOWHERE,
                        );
                        ::nepheline::Column::info(#theirs)
                    },
                ]),*],
                #optional,
            )
        }
    }

    /// A use of both sides, which compiles only where their types fit.
    pub(crate) fn check(&self, owner: &Owner<'_>) -> TokenStream {
        let (ident, target) = (owner.ident, &self.target);
        let own = owner.or_key(&self.own);
        let theirs = target_columns(target, &self.theirs, own.len());
        let compared = own.iter().zip(theirs).map(|(own, theirs)| {
            let span = own.span();
            quote_spanned!(span=> let _ = ::nepheline::Expression::eq(own.#own, #theirs);)
        });
        quote! {
            const _: fn(
                <#ident as ::nepheline::RowStruct>::Columns,
                <#target as ::nepheline::RowStruct>::Columns,
            ) = |own, theirs| { #(#compared)* };
        }
    }

    /// The method of the columns.
    pub(crate) fn method(
        &self,
        number: u8,
        probe: &Ident,
        nullable: bool,
        visibility: &Visibility,
    ) -> TokenStream {
        let Reference { name, target, .. } = self;
        let followed = quote! {
            <#target as ::nepheline::RowStruct>::columns(
                ::nepheline::Column::source(&self.#probe).followed(#number),
            )
        };
        let shown = target.to_token_stream().to_string();
        match self.optional || nullable {
            true => {
                let doc = format!(
                    "The columns of the row of `{shown}` that this leads to, if there is one."
                );
                quote! {
                    #[doc = #doc]
                    #visibility fn #name(self) -> ::nepheline::Maybe<<#target as ::nepheline::RowStruct>::Columns> {
                        ::nepheline::Maybe::new(#followed)
                    }
                }
            }
            false => {
                let doc = format!("The columns of the row of `{shown}` that this leads to.");
                quote! {
                    #[doc = #doc]
                    #visibility fn #name(self) -> <#target as ::nepheline::RowStruct>::Columns {
                        #followed
                    }
                }
            }
        }
    }

    /// The method of a row in hand.
    pub(crate) fn row_method(&self, owner: &Owner<'_>, visibility: &Visibility) -> TokenStream {
        let own = owner.or_key(&self.own);
        let theirs = target_columns(&self.target, &self.theirs, own.len());
        let shown = self.target.to_token_stream();
        let doc =
            format!("The query for the row of `{shown}` that this one leads to: one at most.");
        Beginning::new(doc, owner, &self.name, &self.target)
            .of_row(visibility, with_values(&self.target, &theirs, &own))
    }
}

impl Children {
    fn beginning<'a>(&'a self, owner: &Owner<'a>) -> Beginning<'a> {
        let shown = self.target.to_token_stream();
        let doc = format!("The rows of `{shown}` that refer to this one.");
        Beginning::new(doc, owner, &self.name, &self.target)
    }

    pub(crate) fn method(&self, owner: &Owner<'_>, visibility: &Visibility) -> TokenStream {
        let target = &self.target;
        let own = owner.or_key(&self.own);
        let equal = self.by.iter().zip(&own).map(|(by, own)| {
            let span = by.span();
            quote_spanned!(span=> ::nepheline::Expression::eq(theirs.#by, self.#own))
        });
        let body = quote! {
            ::nepheline::Query::related(
                |theirs: <#target as ::nepheline::RowStruct>::Columns| #(#equal)&*,
            )
        };
        self.beginning(owner).of_columns(visibility, body)
    }

    pub(crate) fn row_method(&self, owner: &Owner<'_>, visibility: &Visibility) -> TokenStream {
        let own = owner.or_key(&self.own);
        let theirs: Vec<_> = self.by.iter().map(|by| quote!(theirs.#by)).collect();
        self.beginning(owner)
            .of_row(visibility, with_values(&self.target, &theirs, &own))
    }
}

impl Linked {
    fn beginning<'a>(&'a self, owner: &Owner<'a>) -> Beginning<'a> {
        let (shown, via) = (self.target.to_token_stream(), self.via.to_token_stream());
        let doc = format!("The rows of `{shown}` that `{via}` links to this one.");
        Beginning::new(doc, owner, &self.name, &self.target)
    }

    pub(crate) fn method(
        &self,
        owner: &Owner<'_>,
        probe: &Ident,
        visibility: &Visibility,
    ) -> TokenStream {
        let (Linked { target, via, .. }, ident) = (self, owner.ident);
        let body = quote! {
            ::nepheline::internal::linked::<#target, #via, #ident>(
                ::nepheline::Column::source(&self.#probe),
            )
        };
        self.beginning(owner).of_columns(visibility, body)
    }

    pub(crate) fn row_method(&self, owner: &Owner<'_>, visibility: &Visibility) -> TokenStream {
        let (Linked { target, via, .. }, ident) = (self, owner.ident);
        let body = quote!(::nepheline::internal::linked_to_row::<#target, #via, #ident>(self));
        self.beginning(owner).of_row(visibility, body)
    }
}

/// A method that begins a query at a relation.
struct Beginning<'a> {
    doc: String,
    name: &'a Ident,
    target: &'a Path,
    /// The name of the table that it is of.
    table: &'a str,
}

impl<'a> Beginning<'a> {
    fn new(doc: String, owner: &Owner<'a>, name: &'a Ident, target: &'a Path) -> Beginning<'a> {
        Beginning { doc, name, target, table: owner.table }
    }

    /// Of the columns of a row that stands in a query.
    fn of_columns(&self, visibility: &Visibility, body: TokenStream) -> TokenStream {
        self.method(quote!(self), visibility, body)
    }

    /// Of a row in hand.
    fn of_row(&self, visibility: &Visibility, body: TokenStream) -> TokenStream {
        self.method(quote!(&self), visibility, body)
    }

    fn method(
        &self,
        receiver: TokenStream,
        visibility: &Visibility,
        body: TokenStream,
    ) -> TokenStream {
        let Beginning { doc, name, target, table } = self;
        let relation = name.unraw().to_string();
        quote! {
            #[doc = #doc]
            #[track_caller]
            #visibility fn #name(#receiver) -> ::nepheline::Query<#target> {
                #body.of_relation(#table, #relation)
            }
        }
    }
}

/// The query for the rows of `target` whose columns have the values of fields of a row in hand.
fn with_values(target: &Path, theirs: &[TokenStream], own: &[Ident]) -> TokenStream {
    quote! {
        ::nepheline::Query::with_values(
            |theirs: <#target as ::nepheline::RowStruct>::Columns| {
                [#(::nepheline::Column::raw(#theirs)),*]
            },
            [#(::nepheline::ColumnType::to_bind_or_null(&self.#own)),*],
        )
    }
}
