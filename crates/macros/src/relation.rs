//! The relations of a table: its references, and the tables that refer to it.

use proc_macro2::{Ident, Span, TokenStream};
use quote::{ToTokens, quote, quote_spanned};
use syn::ext::IdentExt;
use syn::meta::ParseNestedMeta;
use syn::parse::ParseStream;
use syn::{LitStr, Path, Token, Visibility, token};

use crate::attr::{self, local};
use crate::name;

/// A reference to at most one row of another table: columns here that equal columns there.
pub(crate) struct Reference {
    pub(crate) name: Ident,
    pub(crate) target: Path,
    /// The fields here. Empty, for the other side of a one-to-one relation, means the key.
    pub(crate) own: Vec<Ident>,
    /// The fields there; empty means the key.
    pub(crate) theirs: Vec<Ident>,
    /// True if the row may be missing although no field here is NULL.
    pub(crate) optional: bool,
}

/// The rows of another table that refer to this one.
#[derive(Clone)]
pub(crate) struct Children {
    pub(crate) name: Ident,
    pub(crate) target: Path,
    /// The fields there.
    pub(crate) by: Vec<Ident>,
    /// The fields here that they equal; empty means the key.
    pub(crate) own: Vec<Ident>,
}

/// The rows of another table over a bridge table.
pub(crate) struct Bridged {
    pub(crate) name: Ident,
    pub(crate) target: Path,
    pub(crate) via: Path,
}

/// One field, or several in brackets.
fn fields(input: ParseStream<'_>) -> syn::Result<Vec<Ident>> {
    if !input.peek(token::Paren) {
        return Ok(vec![input.call(name::parse)?]);
    }
    attr::items(input, name::parse)
}

/// Parses a keyword between names.
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

/// Parses a keyword that has to be there.
fn needed_word(input: ParseStream<'_>, wanted: &str, example: &str) -> syn::Result<()> {
    match word(input, wanted)? {
        true => Ok(()),
        false => Err(input.error(format!("expected `{wanted}`, as in `{example}`"))),
    }
}

/// `name: Target`
fn named_target(input: ParseStream<'_>, example: &str) -> syn::Result<(Ident, Path)> {
    let name = input.call(name::parse)?;
    if !input.peek(Token![:]) || input.peek(Token![::]) {
        let message = format!("expected a name and a table, as in `{example}`");
        return Err(syn::Error::new(name.span(), message));
    }
    input.parse::<Token![:]>()?;
    Ok((name, target(input)?))
}

/// A table, which is named by its struct.
fn target(input: ParseStream<'_>) -> syn::Result<Path> {
    if input.peek(LitStr) {
        let text: LitStr = input.parse()?;
        let message = "a table is named by its struct, without quotes: `references = Site`";
        return Err(syn::Error::new(text.span(), message));
    }
    input.parse()
}

/// `= fields`, if it is there.
fn equal_fields(input: ParseStream<'_>) -> syn::Result<Vec<Ident>> {
    match input.parse::<Option<Token![=]>>()? {
        Some(_) => fields(input),
        None => Ok(Vec::new()),
    }
}

/// `= Target`, or `= Target by column`, of the field `field`.
pub(crate) fn of_field(part: &ParseNestedMeta<'_>, field: &Ident) -> syn::Result<Reference> {
    if part.input.peek(token::Paren) {
        return Err(part.error(
            "a field refers to a table with `references = Site`; with brackets, \
             `references(tray: Tray by (shelf, slot))` stands on the struct and is of several fields",
        ));
    }
    let value = part.value()?;
    let target = target(value)?;
    let theirs = if word(value, "by")? { fields(value)? } else { Vec::new() };
    let name = field.unraw().to_string();
    let name = name::rust(name.strip_suffix("_id").unwrap_or(&name), field.span());
    Ok(Reference { name, target, own: vec![field.clone()], theirs, optional: false })
}

/// `references(name: Target by (a, b))`: of several fields, which are equal to the key there; also
/// `by (a, b) = (c, d)` where that is not the key.
pub(crate) fn references(part: &ParseNestedMeta<'_>) -> syn::Result<Vec<Reference>> {
    attr::list(part, |input| {
        let example = "tray: Tray by (shelf, slot)";
        let (name, target) = named_target(input, example)?;
        needed_word(input, "by", example)?;
        let (own, theirs) = (fields(input)?, equal_fields(input)?);
        Ok(Reference { name, target, own, theirs, optional: false })
    })
}

/// `children(name: Child by column)`, also `by column = field` where that is not the key.
pub(crate) fn children(part: &ParseNestedMeta<'_>) -> syn::Result<Vec<Children>> {
    attr::list(part, |input| {
        let example = "assays: Assay by specimen_id";
        let (name, target) = named_target(input, example)?;
        needed_word(input, "by", example)?;
        let (by, own) = (fields(input)?, equal_fields(input)?);
        Ok(Children { name, target, by, own })
    })
}

/// `optional_child(name: Child by column)`: the other side of a reference that is unique.
pub(crate) fn optional_child(part: &ParseNestedMeta<'_>) -> syn::Result<Vec<Reference>> {
    attr::list(part, |input| {
        let example = "collar: Collar by borehole_id";
        let (name, target) = named_target(input, example)?;
        needed_word(input, "by", example)?;
        let (theirs, own) = (fields(input)?, equal_fields(input)?);
        Ok(Reference { name, target, own, theirs, optional: true })
    })
}

/// `bridged(name: Other across Link)`
pub(crate) fn bridged(part: &ParseNestedMeta<'_>) -> syn::Result<Vec<Bridged>> {
    attr::list(part, |input| {
        let example = "hazards: Hazard across SpecimenHazard";
        let (name, target) = named_target(input, example)?;
        needed_word(input, "across", example)?;
        Ok(Bridged { name, target, via: input.parse()? })
    })
}

/// The table of a relation.
pub(crate) struct Owner<'a> {
    pub(crate) ident: &'a Ident,
    pub(crate) table: &'a str,
    pub(crate) key: Vec<&'a Ident>,
}

impl Owner<'_> {
    /// Returns the named fields, or the key.
    pub(crate) fn or_key(&self, named: &[Ident]) -> Vec<Ident> {
        match named {
            [] => self.key.iter().map(|ident| (*ident).clone()).collect(),
            named => named.to_vec(),
        }
    }
}

/// Returns the columns of a target, each as an expression over `theirs`, the struct of its columns.
fn target_columns(target: &Path, theirs: &[Ident], count: usize) -> Vec<TokenStream> {
    let (span, target) = (span_of(target), row_of(target));
    let row = local("theirs", span);
    match (theirs, count) {
        ([], 1) => vec![quote_spanned! {span=>
            <#target as ::nepheline::bounds::Keyed<::nepheline::Column<_>>>::key(#row)
        }],
        ([], count) => {
            let parts = (0..count).map(|_| quote_spanned!(span=> ::nepheline::Column<_>));
            let key = quote_spanned! {span=>
                <#target as ::nepheline::bounds::Keyed<(#(#parts),*)>>::key(#row)
            };
            let numbers = (0..count).map(syn::Index::from);
            numbers
                .map(|part| quote_spanned!(span=> #key.#part))
                .collect()
        }
        (named, _) => named
            .iter()
            .map(|field| {
                let span = field.span();
                let row = local("theirs", span);
                quote_spanned!(span=> #row.#field)
            })
            .collect(),
    }
}

/// Returns the place of a table's name.
fn span_of(path: &Path) -> Span {
    let last = path.segments.last().map(|segment| segment.ident.span());
    last.unwrap_or_else(Span::call_site)
}

/// Returns the struct of a target's columns.
fn columns_of(target: &Path) -> TokenStream {
    quote_spanned!(span_of(target)=> <#target as ::nepheline::bounds::Target>::Columns)
}

/// Returns the target itself, in a form that the compiler follows only if it is a table. Where it is none, that is
/// the one error.
fn row_of(target: &Path) -> TokenStream {
    quote_spanned!(span_of(target)=> <#target as ::nepheline::bounds::Target>::Row)
}

impl Reference {
    /// Returns the target table, as it is written.
    pub(crate) fn target_name(&self) -> String {
        self.target.to_token_stream().to_string()
    }

    /// Returns the static descriptor.
    pub(crate) fn descriptor(&self, owner: &Owner<'_>, nullable: bool) -> TokenStream {
        let (ident, name, span) =
            (owner.ident, self.name.unraw().to_string(), span_of(&self.target));
        let own = owner.or_key(&self.own);
        let theirs = target_columns(&self.target, &self.theirs, own.len());
        let optional = self.optional || nullable;
        let of_child = self.optional.then(|| quote_spanned!(span=> .of_child()));
        let (target, row) = (row_of(&self.target), local("theirs", span));
        quote_spanned! {span=>
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
                        let #row = <#target as ::nepheline::RowStruct>::columns(
                            ::nepheline::internal::Source::NOWHERE,
                        );
                        ::nepheline::Column::info(#theirs)
                    },
                ]),*],
                #optional,
            )#of_child
        }
    }

    /// Returns a use of both sides that compiles only if their types fit, and if at most one row there has the
    /// values.
    pub(crate) fn check(&self, owner: &Owner<'_>) -> TokenStream {
        let (ident, target, span) = (owner.ident, &self.target, span_of(&self.target));
        let own = owner.or_key(&self.own);
        let theirs = target_columns(target, &self.theirs, own.len());
        let compared = own.iter().zip(theirs).map(|(own, theirs)| {
            let span = own.span();
            let row = local("own", span);
            quote_spanned!(span=> ::core::mem::drop(::nepheline::ExprExt::eq(#row.#own, #theirs));)
        });
        let columns = columns_of(target);
        let (row, their_row) = (local("own", span), local("theirs", span));
        // The key of a target is unique, and `Keyed` says how many columns it has.
        let unique = (!self.theirs.is_empty()).then(|| {
            let fields = self.theirs.iter().map(|field| field.unraw().to_string());
            let listed = self.theirs.iter().map(|field| format!("`{}`", field.unraw()));
            let listed = listed.collect::<Vec<_>>().join(", ");
            let (shown, their_table) = (self.target_name(), row_of(target));
            let advice = match self.theirs.as_slice() {
                [one] => format!("mark `{}` there as `unique`, if it is", one.unraw()),
                several => format!(
                    "declare `#[nepheline(unique({}))]` there, if it is so",
                    several.iter().map(|f| f.unraw().to_string()).collect::<Vec<_>>().join(", "),
                ),
            };
            let message = format!(
                "several rows of `{shown}` may have the same {listed}, so that this leads to more than one; \
                 refer by its whole key, or {advice}",
            );
            quote_spanned! {span=>
                ::core::assert!(
                    ::nepheline::internal::is_unique(<#their_table as ::nepheline::Table>::UNIQUE, &[#(#fields),*]),
                    #message
                );
            }
        });
        // In one constant, because the compiler evaluates it only if the columns are found and their types fit.
        quote_spanned! {span=>
            const _: () = {
                let _: fn(<#ident as ::nepheline::RowStruct>::Columns, #columns) = |#row, #their_row| {
                    #(#compared)*
                };
                #unique
            };
        }
    }

    /// Returns the impl by which a bridge table's reference is found.
    pub(crate) fn refers_to(&self, ident: &Ident, number: u8) -> TokenStream {
        let target = &self.target;
        quote_spanned! {span_of(target)=>
            impl ::nepheline::bounds::RefersTo<#target, ::nepheline::internal::Numbered<#number>> for #ident {
                const REFERENCE: ::core::primitive::u8 = #number;
            }
        }
    }

    /// Returns the method of the columns.
    pub(crate) fn method(
        &self,
        number: u8,
        probe: &Ident,
        nullable: bool,
        visibility: &Visibility,
    ) -> TokenStream {
        let Reference { name, target, .. } = self;
        let (columns, row, span) = (columns_of(target), row_of(target), span_of(target));
        let here = local("self", span);
        let followed = quote_spanned! {span=>
            <#row as ::nepheline::RowStruct>::columns(
                ::nepheline::Column::source(&#here.#probe).followed(#number),
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
                    #visibility fn #name(self) -> ::nepheline::Maybe<#columns> {
                        ::nepheline::Maybe::new(#followed)
                    }
                }
            }
            false => {
                let doc = format!("The columns of the row of `{shown}` that this leads to.");
                quote! {
                    #[doc = #doc]
                    #visibility fn #name(self) -> #columns {
                        #followed
                    }
                }
            }
        }
    }

    /// Returns the method of a row.
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
            // One place for all of it, because the compiler reports a mistake at the place that the parts share.
            let span = by.span().resolved_at(Span::call_site());
            let (row, here) = (local("theirs", span), local("self", span));
            let mut own = own.clone();
            own.set_span(span);
            quote_spanned!(span=> ::nepheline::ExprExt::eq(#row.#by, #here.#own))
        });
        let (columns, row) = (columns_of(target), local("theirs", span_of(target)));
        let body = quote_spanned! {span_of(target)=>
            <#target as ::nepheline::bounds::Target>::related(|#row: #columns| #(#equal)&*)
        };
        self.beginning(owner).of_columns(visibility, body)
    }

    pub(crate) fn row_method(&self, owner: &Owner<'_>, visibility: &Visibility) -> TokenStream {
        let own = owner.or_key(&self.own);
        let theirs = target_columns(&self.target, &self.by, own.len());
        self.beginning(owner)
            .of_row(visibility, with_values(&self.target, &theirs, &own))
    }
}

impl Bridged {
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
        let here = local("self", span_of(&self.via));
        let bridge = self.bridge(owner);
        let body = quote_spanned! {span_of(&self.via)=>
            #bridge.from_columns(::nepheline::Column::source(&#here.#probe))
        };
        self.beginning(owner).of_columns(visibility, body)
    }

    pub(crate) fn row_method(&self, owner: &Owner<'_>, visibility: &Visibility) -> TokenStream {
        let here = local("self", span_of(&self.via));
        let bridge = self.bridge(owner);
        let body = quote_spanned!(span_of(&self.via)=> #bridge.from_row(#here));
        self.beginning(owner).of_row(visibility, body)
    }

    /// Returns the way over the bridge table.
    fn bridge(&self, owner: &Owner<'_>) -> TokenStream {
        let (ident, target, via) = (owner.ident, row_of(&self.target), row_of(&self.via));
        quote_spanned! {span_of(&self.via)=>
            ::nepheline::internal::Bridge::<#target, #via, #ident>::over_references::<_, _>()
        }
    }
}

/// The method that begins a query at a relation.
struct Beginning<'a> {
    doc: String,
    name: &'a Ident,
    target: &'a Path,
    /// The name of the table that declares it.
    table: &'a str,
}

impl<'a> Beginning<'a> {
    fn new(doc: String, owner: &Owner<'a>, name: &'a Ident, target: &'a Path) -> Beginning<'a> {
        Beginning { doc, name, target, table: owner.table }
    }

    /// Returns the method of a table's columns.
    fn of_columns(&self, visibility: &Visibility, body: TokenStream) -> TokenStream {
        self.method(quote!(self), visibility, body)
    }

    /// Returns the method of a row.
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

/// Returns the query for the rows of `target` whose columns have the values of a row's fields.
fn with_values(target: &Path, theirs: &[TokenStream], own: &[Ident]) -> TokenStream {
    let (columns, span) = (columns_of(target), span_of(target));
    let (row, here) = (local("theirs", span), local("self", span));
    quote_spanned! {span_of(target)=>
        <#target as ::nepheline::bounds::Target>::with_values(
            |#row: #columns| [#(::nepheline::Column::raw(#theirs)),*],
            [#(::nepheline::ColumnType::to_bind_or_null(&#here.#own)),*],
        )
    }
}
