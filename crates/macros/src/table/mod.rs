//! `#[derive(Table)]`: parses the struct and checks it. `code` writes the code of the table, `rules` that of
//! its rules.

mod changes;
mod code;

use std::mem::take;

use heck::ToSnakeCase;
use proc_macro2::{Ident, TokenStream};
use quote::{ToTokens, format_ident, quote};
use syn::ext::IdentExt;
use syn::parse::Parse;
use syn::spanned::Spanned;
use syn::{Attribute, Data, DeriveInput, Fields, Path, Token, Type, Visibility};

use changes::{Beside, UniqueSet};

use crate::attr::{self, Mistakes};
use crate::column::{ColumnField, is_option};
use crate::name;
use crate::relation::{self, Bridged, Children, Owner, Reference};
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
    bridged: Vec<Bridged>,
    /// True if serde can write rows, with the names of the columns.
    pub(crate) serialize: bool,
    pub(crate) deserialize: bool,
    /// The functions of its policies.
    pub(crate) policies: Vec<Path>,
    /// The policies that written rows are checked by, if the table says so itself.
    pub(crate) write_checks: Option<Vec<Path>>,
    /// True if it is for every tenant.
    pub(crate) open_to_all: bool,
    /// The carried columns, each with the type of the carried value.
    pub(crate) carried: Vec<(Ident, Type)>,
    /// The soft delete of its rows, if it has one.
    pub(crate) retire: Option<Retire>,
    /// The sets of fields that no two rows have the same values in, besides the key and the unique columns.
    unique: Vec<UniqueSet>,
    /// The beginning of the names of columns that say none themselves.
    columns_begin: String,
    /// The declarations of the struct that an INSERT takes.
    pub(crate) to_insert: Beside,
    /// The declarations of the struct of a partial update, if there is one.
    pub(crate) changes: Option<Beside>,
    /// The attributes of the compiler that the generated items have too.
    pub(crate) forwarded: Vec<&'a Attribute>,
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

        let (ident, visibility) = (&input.ident, &input.vis);
        let name = ident.unraw().to_string().to_snake_case();
        let mut table = TableItem::of_columns(ident, visibility, name, Vec::new());
        table.forwarded = attr::forwarded(&input.attrs);
        let allowed = "`table = \"...\"`, `schema = \"...\"`, `references(..)`, `children(..)`, \
                       `optional_child(..)`, `bridged(..)`, `unique(..)`, `policies(..)`, \
                       `write_checks(..)`, `open_to_all`, `carried(..)`, `retire(..)`, `columns_begin = \"...\"`, `to_insert(..)`, `changes(..)`, \
                       `serialize`, `deserialize` and `crate = path`";
        let (mut several, mut optional) = (Vec::new(), Vec::new());
        let (mut named_at, mut schema_at) = (ident.span(), ident.span());
        attr::each_part(&input.attrs, allowed, mistakes, |part| {
            match part.path.get_ident().map(Ident::to_string).as_deref() {
                Some("table") => {
                    let text = attr::text(part)?;
                    (table.name, named_at) = (text.value(), text.span());
                }
                Some("schema") => {
                    let text = attr::text(part)?;
                    (table.schema, schema_at) = (Some(text.value()), text.span());
                }
                Some("serialize") => attr::flag(part, &mut table.serialize)?,
                Some("deserialize") => attr::flag(part, &mut table.deserialize)?,
                Some("policies") => table.policies.extend(attr::list(part, Path::parse)?),
                Some("write_checks") => {
                    let checks = attr::list(part, Path::parse)?;
                    table.write_checks.get_or_insert_default().extend(checks);
                }
                Some("open_to_all") => attr::flag(part, &mut table.open_to_all)?,
                Some("retire") => table.retire = Some(Retire::parse(part)?),
                Some("unique") => table.unique.push(UniqueSet::parse(part)?),
                Some("columns_begin") => table.columns_begin = attr::text(part)?.value(),
                Some("to_insert") => table.to_insert.parse(part)?,
                Some("changes") => table.changes.get_or_insert_default().parse(part)?,
                Some("carried") => table.carried.extend(attr::list(part, |input| {
                    let column = input.call(name::parse)?;
                    input.parse::<Token![=]>()?;
                    Ok((column, input.parse::<Type>()?))
                })?),
                Some("references") => several.extend(relation::references(part)?),
                Some("children") => table.children.extend(relation::children(part)?),
                Some("optional_child") => optional.extend(relation::optional_child(part)?),
                Some("bridged") => table.bridged.extend(relation::bridged(part)?),
                _ => return attr::is_crate(part),
            }
            Ok(true)
        });
        name::check(&table.name, named_at, mistakes);
        if let Some(schema) = &table.schema {
            name::check(schema, schema_at, mistakes);
        }
        table.columns = fields
            .named
            .iter()
            .filter_map(|field| ColumnField::of_table(field, &table.columns_begin, mistakes))
            .collect();
        let of_fields = table
            .columns
            .iter_mut()
            .filter_map(|column| column.reference.take());
        table.references = of_fields.collect();
        table.references.append(&mut several);
        table.references.append(&mut optional);
        table.check_twins(mistakes);
        table.check_rules(mistakes);
        table.check_relations(mistakes);
        Some(table)
    }

    /// Returns a struct with columns and nothing else.
    pub(crate) fn of_columns(
        ident: &'a Ident,
        visibility: &'a Visibility,
        name: String,
        columns: Vec<ColumnField<'a>>,
    ) -> TableItem<'a> {
        TableItem {
            ident,
            visibility,
            name,
            schema: None,
            columns,
            references: Vec::new(),
            children: Vec::new(),
            bridged: Vec::new(),
            serialize: false,
            deserialize: false,
            policies: Vec::new(),
            write_checks: None,
            open_to_all: false,
            carried: Vec::new(),
            retire: None,
            unique: Vec::new(),
            columns_begin: String::new(),
            to_insert: Beside::default(),
            changes: None,
            forwarded: Vec::new(),
        }
    }

    /// Refuses two names that differ only in case, which engines treat as the same.
    fn check_twins(&self, mistakes: &mut Mistakes) {
        for (i, column) in self.columns.iter().enumerate() {
            let lower = column.name.to_lowercase();
            if self.columns[..i]
                .iter()
                .any(|other| other.name.to_lowercase() == lower)
            {
                let message =
                    format!("another column is named {:?} in different letter case", column.name);
                mistakes.at(column.ident.span(), message);
            }
        }
    }

    /// Checks the fields that the rules of the table name, and the sources of values in new rows.
    fn check_rules(&mut self, mistakes: &mut Mistakes) {
        let mut named: Vec<&Ident> = self.unique.iter().flat_map(|set| &set.fields).collect();
        named.extend(self.carried.iter().map(|(column, _)| column));
        named.extend(self.retire.iter().map(|retire| &retire.mark));
        for name in named {
            if self.column(name).is_none() {
                mistakes.at(name.span(), format!("the table has no column `{name}`"));
            }
        }
        let mut version = self.columns.iter().filter(|column| column.version);
        let mut generated = self.columns.iter().filter(|column| column.generated);
        for (role, second) in [("version", version.nth(1)), ("generated", generated.nth(1))] {
            if let Some(second) = second {
                let message =
                    format!("another column is `{role}` already, and a table has one at most");
                mistakes.at(second.ident.span(), message);
            }
        }
        for (number, policy) in self.policies.iter().enumerate() {
            let mut earlier = self.policies[..number].iter();
            if earlier.any(|other| is_same_path(other, policy)) {
                mistakes.at(policy.span(), "this policy applies already");
            }
        }
        for check in self.write_checks.iter().flatten() {
            if !self
                .policies
                .iter()
                .any(|policy| is_same_path(policy, check))
            {
                let message = "written rows are checked by policies of the table; list it in `policies(..)` too";
                mistakes.at(check.span(), message);
            }
        }
        for (number, (name, _)) in self.carried.iter().enumerate() {
            let earlier = &self.carried[..number];
            if earlier.iter().any(|(other, _)| name::is_same(other, name)) {
                mistakes.at(name.span(), format!("`{name}` is carried already"));
            }
            if self.column(name).is_some_and(|column| !column.is_given()) {
                let message = "a value has one source: this column has its own, and is carried too";
                mistakes.at(name.span(), message);
            }
        }
        if let Some(retire) = &self.retire {
            let column = self.column(&retire.mark);
            if column.is_some_and(|column| !column.is_given() || column.key)
                || self.is_carried(&retire.mark)
            {
                let message = "only a delete sets this column, so that it cannot be a key, generated, \
                               carried, a version or a stamp";
                mistakes.at(retire.mark.span(), message);
            }
            retire.check(self, mistakes);
        }
        // Code for a column that is not there would only repeat the mistake.
        let names: Vec<Ident> = self
            .columns
            .iter()
            .map(|column| column.ident.clone())
            .collect();
        let is_there = |name: &Ident| names.iter().any(|own| name::is_same(own, name));
        self.carried.retain(|(name, _)| is_there(name));
        self.unique.retain(|set| set.fields.iter().all(is_there));
    }

    /// Returns the column of a field.
    fn column(&self, name: &Ident) -> Option<&ColumnField<'a>> {
        self.columns
            .iter()
            .find(|column| name::is_same(column.ident, name))
    }

    /// Returns whether a column takes its value from what the handle carries.
    pub(crate) fn is_carried(&self, name: &Ident) -> bool {
        self.carried
            .iter()
            .any(|(carried, _)| name::is_same(carried, name))
    }

    /// Checks the relations, and removes those with a mistake, so that the code of one does not repeat it.
    fn check_relations(&mut self, mistakes: &mut Mistakes) {
        let mut names: Vec<Ident> = Vec::new();
        let (mut references, mut children) = (take(&mut self.references), take(&mut self.children));
        let mut bridged = take(&mut self.bridged);
        references.retain(|relation| {
            let fits = self.has_fields(&relation.own, &relation.theirs, &relation.name, mistakes);
            self.is_name_free(&relation.name, &mut names, mistakes) && fits
        });
        children.retain(|relation| {
            let fits = self.has_fields(&relation.own, &relation.by, &relation.name, mistakes);
            self.is_name_free(&relation.name, &mut names, mistakes) && fits
        });
        bridged.retain(|relation| self.is_name_free(&relation.name, &mut names, mistakes));
        if references.len() > 200 {
            mistakes.at(self.ident.span(), "a table can have at most 200 references");
            references.truncate(200);
        }
        (self.references, self.children, self.bridged) = (references, children, bridged);
    }

    /// Returns whether a relation can have its name: no column, no other relation and no generated function has
    /// it.
    fn is_name_free(&self, name: &Ident, names: &mut Vec<Ident>, mistakes: &mut Mistakes) -> bool {
        let is_unique = |column: &&ColumnField<'_>| column.unique;
        let unique = self.columns.iter().filter(is_unique);
        let sets = self.unique.iter().filter_map(|set| set.name.as_ref());
        let keys = unique.map(|column| column.ident).chain(sets);
        let mut functions = keys.map(|key| format_ident!("row_by_{}", key.unraw()));
        let generated = ["rows", "row", "insert", "insert_all"]
            .iter()
            .any(|function| name == function)
            || functions.any(|function| function == *name);
        let message = if names.iter().any(|other| name::is_same(other, name)) {
            format!("another relation is named `{name}`")
        } else if self.column(name).is_some() {
            format!(
                "the method `{name}` would have the name of a column; say another one with `called = ...`"
            )
        } else if generated {
            format!(
                "the derive writes a function `{name}` of its own; give the relation another name"
            )
        } else {
            names.push(name.clone());
            return true;
        };
        mistakes.at(name.span(), message);
        false
    }

    /// Returns whether the fields of a relation exist here, and are as many as there. Without fields here it
    /// is by the key, and without fields there by the key there.
    fn has_fields(
        &self,
        own: &[Ident],
        theirs: &[Ident],
        name: &Ident,
        mistakes: &mut Mistakes,
    ) -> bool {
        for field in own {
            if self.column(field).is_none() {
                mistakes.at(field.span(), format!("the table has no column `{field}`"));
                return false;
            }
        }
        let own = self.owner().or_key(own).len();
        if own == 0 {
            let message =
                "this relation is by the key of this table, and it has none; mark a field `key`";
            mistakes.at(name.span(), message);
            return false;
        }
        if !theirs.is_empty() && theirs.len() != own {
            let (there, here) = (counted(theirs.len()), counted(own));
            let at = theirs.first().map_or(name.span(), Ident::span);
            let message = format!(
                "{there} there cannot be equal to {here} here; a relation of several columns stands on the \
                 struct: `references(tray: Tray by (shelf, slot))`"
            );
            mistakes.at(at, message);
            return false;
        }
        true
    }

    /// Returns the sets of fields that no two rows have the same values in: the key, then the others.
    pub(crate) fn unique_sets(&self) -> impl Iterator<Item = Vec<String>> {
        let key = self.columns.iter().filter(|column| column.key);
        let key = key.map(|column| column.ident.unraw().to_string()).collect();
        let columns = self.columns.iter().filter(|column| column.unique);
        let columns = columns.map(|column| vec![column.ident.unraw().to_string()]);
        let sets = self.unique.iter();
        let sets = sets.map(|set| {
            set.fields
                .iter()
                .map(|field| field.unraw().to_string())
                .collect()
        });
        std::iter::once(key).chain(columns).chain(sets)
    }

    /// Returns the unique sets without the key, by the numbers of their columns.
    pub(crate) fn unique_numbers(&self) -> impl Iterator<Item = Vec<u16>> {
        let number = |name: &Ident| {
            let place = self
                .columns
                .iter()
                .position(|column| name::is_same(column.ident, name));
            place.and_then(|place| u16::try_from(place).ok())
        };
        let columns = self.columns.iter().filter(|column| column.unique);
        let columns = columns.filter_map(move |column| Some(vec![number(column.ident)?]));
        let sets = self.unique.iter();
        columns.chain(sets.map(move |set| set.fields.iter().filter_map(number).collect()))
    }

    pub(crate) fn owner(&self) -> Owner<'_> {
        let key = self.columns.iter().filter(|column| column.key);
        Owner {
            ident: self.ident,
            table: &self.name,
            key: key.map(|column| column.ident).collect(),
        }
    }

    /// Returns whether a field of a reference may be NULL, as far as the syntax of its type shows.
    fn is_nullable(&self, reference: &Reference) -> bool {
        let mut fields = reference.own.iter().filter_map(|field| self.column(field));
        fields.any(|column| is_option(column.ty))
    }
}

fn counted(columns: usize) -> String {
    match columns {
        1 => "one column".to_owned(),
        several => format!("{several} columns"),
    }
}

/// Returns whether two paths are written the same way.
pub(crate) fn is_same_path(one: &Path, other: &Path) -> bool {
    one.to_token_stream().to_string() == other.to_token_stream().to_string()
}
