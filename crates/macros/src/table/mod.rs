//! `#[derive(Table)]`: parses the struct and checks it; `code` writes what a table is given, `rules` what its rows are under.

mod code;

use heck::ToSnakeCase;
use proc_macro2::{Ident, TokenStream};
use quote::quote;
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
    /// True if rows can be written out by serde, under the names of the columns.
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
            name: input.ident.unraw().to_string().to_snake_case(),
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

    /// Returns whether a field that a reference is made of may be NULL, as far as its type says so.
    fn is_nullable(&self, reference: &Reference) -> bool {
        let fields = self
            .columns
            .iter()
            .filter(|column| reference.own.contains(column.ident));
        fields.into_iter().any(|column| is_option(column.ty))
    }
}
