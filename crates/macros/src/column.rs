//! A field of a table, and the role of its column.

use proc_macro2::{Ident, TokenStream};
use quote::quote_spanned;
use syn::ext::IdentExt;
use syn::meta::ParseNestedMeta;
use syn::spanned::Spanned;
use syn::{Attribute, Field, Type, Visibility};

use crate::attr::{self, Mistakes, local};
use crate::name;
use crate::relation::{self, Reference};

pub(crate) struct ColumnField<'a> {
    pub(crate) ident: &'a Ident,
    pub(crate) ty: &'a Type,
    pub(crate) visibility: &'a Visibility,
    /// The attributes that generated fields have too: docs and lints.
    pub(crate) attributes: Vec<&'a Attribute>,
    pub(crate) name: String,
    pub(crate) key: bool,
    pub(crate) generated: bool,
    pub(crate) unique: bool,
    pub(crate) by_code_point: bool,
    /// True if the column holds exact numbers, of which the nearest float is read.
    pub(crate) approximate: bool,
    /// True if the database treats different texts as equal.
    pub(crate) nondeterministic: bool,
    /// True if updates increment it.
    pub(crate) version: bool,
    /// The writes that stamp the time: `insert`, or `write`.
    pub(crate) stamp: Option<Ident>,
    /// True if it is a row of its own, with several columns.
    pub(crate) whole_row: bool,
    pub(crate) reference: Option<Reference>,
}

impl<'a> ColumnField<'a> {
    /// Parses a field of a table. The name of its column begins with `begin`, unless the field names it.
    pub(crate) fn of_table(
        field: &'a Field,
        begin: &str,
        mistakes: &mut Mistakes,
    ) -> Option<ColumnField<'a>> {
        let allowed = "`key`, `generated`, `unique`, `by_code_point`, `nondeterministic`, `approximate`, \
                       `version`, `stamp = insert`, `stamp = write`, `column = \"...\"`, \
                       `references = Table` and `called = name`";
        let mut called = None;
        let mut column =
            ColumnField::parse(field, begin, allowed, mistakes, |column, part, name| {
                match name {
                    "key" => attr::flag(part, &mut column.key),
                    "generated" => attr::flag(part, &mut column.generated),
                    "unique" => attr::flag(part, &mut column.unique),
                    "nondeterministic" => attr::flag(part, &mut column.nondeterministic),
                    "version" => attr::flag(part, &mut column.version),
                    "stamp" => {
                        let when = part.value()?.call(name::parse)?;
                        if when != "insert" && when != "write" {
                            let message = "expected `stamp = insert` or `stamp = write`";
                            return Err(syn::Error::new(when.span(), message));
                        }
                        column.stamp = Some(when);
                        Ok(())
                    }
                    "references" => {
                        column.reference = Some(relation::of_field(part, column.ident)?);
                        Ok(())
                    }
                    "called" => {
                        called = Some(part.value()?.call(name::parse)?);
                        Ok(())
                    }
                    "whole_row" => Err(part.error(
                        "`whole_row` belongs to row shapes: a column of a table is one value",
                    )),
                    _ => return Ok(false),
                }
                .map(|()| true)
            })?;
        match (&mut column.reference, called) {
            (Some(reference), Some(called)) => reference.name = called,
            (None, Some(called)) => {
                mistakes.at(called.span(), "`called` names a reference, and this field has none");
            }
            _ => {}
        }
        column.check_role(mistakes);
        Some(column)
    }

    /// Parses a field of a row shape.
    pub(crate) fn of_shape(field: &'a Field, mistakes: &mut Mistakes) -> Option<ColumnField<'a>> {
        let allowed = "`column = \"...\"`, `by_code_point`, `approximate` and `whole_row`; keys, references and \
                       the like belong to tables";
        let column = ColumnField::parse(field, "", allowed, mistakes, |column, part, name| {
            let known = name == "whole_row";
            if known {
                attr::flag(part, &mut column.whole_row)?;
            }
            Ok(known)
        })?;
        if column.whole_row && (column.by_code_point || column.name != plain_name(column.ident)) {
            let message = "a whole row has the names and collations of its own columns";
            mistakes.at(column.ident.span(), message);
        }
        Some(column)
    }

    fn parse(
        field: &'a Field,
        begin: &str,
        allowed: &str,
        mistakes: &mut Mistakes,
        mut special: impl FnMut(&mut ColumnField<'a>, &ParseNestedMeta<'_>, &str) -> syn::Result<bool>,
    ) -> Option<ColumnField<'a>> {
        let ident = field.ident.as_ref()?;
        let docs = field.attrs.iter().filter(|a| a.path().is_ident("doc"));
        let mut column = ColumnField {
            ident,
            ty: &field.ty,
            visibility: &field.vis,
            attributes: docs.chain(attr::forwarded(&field.attrs)).collect(),
            name: format!("{begin}{}", plain_name(ident)),
            key: false,
            generated: false,
            unique: false,
            by_code_point: false,
            approximate: false,
            nondeterministic: false,
            version: false,
            stamp: None,
            whole_row: false,
            reference: None,
        };
        let mut named_at = ident.span();
        attr::each_part(&field.attrs, allowed, mistakes, |part| {
            match part.path.get_ident().map(Ident::to_string).as_deref() {
                Some("column") => {
                    let text = attr::text(part)?;
                    (column.name, named_at) = (text.value(), text.span());
                    Ok(true)
                }
                Some("by_code_point") => attr::flag(part, &mut column.by_code_point).map(|()| true),
                Some("approximate") => attr::flag(part, &mut column.approximate).map(|()| true),
                Some(name) => special(&mut column, part, name),
                None => Ok(false),
            }
        });
        name::check(&column.name, named_at, mistakes);
        Some(column)
    }

    /// Refuses roles that contradict each other.
    fn check_role(&self, mistakes: &mut Mistakes) {
        let makers = [
            (self.generated, "`generated`: the database makes the value"),
            (self.version, "`version`: every write counts it up"),
            (self.stamp.is_some(), "`stamp`: the time of a write"),
        ];
        let mut makers = makers.iter().filter(|(is_set, _)| *is_set);
        if let (Some((_, first)), Some((_, second))) = (makers.next(), makers.next()) {
            let message = format!("a value has one source, and here are two: {first}; {second}");
            mistakes.at(self.ident.span(), message);
        }
        if self.key && (self.version || self.stamp.as_ref().is_some_and(|when| when == "write")) {
            mistakes.at(self.ident.span(), "a key stays the same, and this value changes");
        }
        if self.by_code_point && self.nondeterministic {
            let message = "a column that compares by code point takes no different texts for equal";
            mistakes.at(self.ident.span(), message);
        }
        if self.key && is_option(self.ty) {
            mistakes.at(self.ty.span(), "a key is never NULL; write the type without `Option`");
        }
    }

    /// Returns whether the program gives the value of a new row.
    pub(crate) fn is_given(&self) -> bool {
        !self.generated && !self.version && self.stamp.is_none()
    }

    /// Returns checks that do not compile unless the type fits the role.
    pub(crate) fn role_checks(&self, retires: bool) -> impl Iterator<Item = TokenStream> {
        [
            (
                // An `Option` that the macro sees is reported already.
                self.key && !is_option(self.ty),
                "is_never_null",
                "a key is never NULL, and this type is an `Option` behind another name",
            ),
            (
                self.version,
                "is_whole_number",
                "a version is a whole number that is never NULL, such as `i64`",
            ),
            (
                self.stamp.is_some(),
                "is_time",
                "a stamp is a time: `Timestamp`, `DateTime` or `Date`",
            ),
            (
                retires,
                "is_mark",
                "this column marks retired rows, and is NULL until then: its type is an `Option` of \
                 `Timestamp`, `DateTime`, `Date` or `bool`",
            ),
            (
                self.by_code_point,
                "is_text",
                "`by_code_point` says how text compares, and this type is not stored as text",
            ),
            (
                self.approximate,
                "is_float",
                "`approximate` reads the nearest float of an exact number: the type is `f64` or `f32`",
            ),
            (
                self.nondeterministic,
                "is_text",
                "`nondeterministic` says how text compares, and this type is not stored as text",
            ),
        ]
        .into_iter()
        .filter(|(applies, ..)| *applies)
        .map(|(_, question, message)| self.assertion(question, message))
    }

    /// Returns a check that the compiler sees an `Option` exactly where the macro sees one.
    pub(crate) fn nullness_check(&self) -> TokenStream {
        match is_option(self.ty) {
            true => self.assertion(
                "is_nullable",
                "this `Option` is not the one of Rust; give the type another name",
            ),
            false => self.assertion(
                "is_never_null",
                "this type is an `Option` behind another name; write `Option<..>` itself, so that \
                 the reference returns a `Maybe`",
            ),
        }
    }

    /// Returns a check that the type fits, as a function of core answers it.
    fn assertion(&self, question: &str, message: &str) -> TokenStream {
        let (ty, span) = (self.ty, self.ty.span());
        let question = Ident::new(question, span);
        quote_spanned! {span=>
            const _: () = ::core::assert!(
                ::nepheline::internal::#question(<#ty as ::nepheline::ColumnType>::DECLARED),
                #message
            );
        }
    }

    /// Returns the field without its type. It names the type, so that an unfit type is one error there.
    pub(crate) fn as_field(&self) -> TokenStream {
        let ColumnField { ident, ty, .. } = self;
        let row = local("self", ty.span());
        quote_spanned!(ty.span()=> <#ty as ::nepheline::ColumnType>::as_field(&#row.#ident))
    }

    /// Returns the statement that passes the value of the field to the variable `to`.
    pub(crate) fn passed(&self) -> TokenStream {
        let ColumnField { ident, ty, .. } = self;
        let span = ty.span();
        let (row, to) = (local("self", span), local("to", span));
        quote_spanned!(span=> <#ty as ::nepheline::ColumnType>::pass_to(&#row.#ident, #to);)
    }

    /// Returns the docs and other attributes of a generated field.
    pub(crate) fn documented(&self) -> TokenStream {
        let attributes = &self.attributes;
        quote::quote!(#(#attributes)*)
    }
}

fn plain_name(ident: &Ident) -> String {
    ident.unraw().to_string()
}

/// Returns whether a type is written as an `Option`. A macro sees nothing else of a type.
pub(crate) fn is_option(ty: &Type) -> bool {
    match ty {
        // A type that a `macro_rules` passes is in a group.
        Type::Group(group) => is_option(&group.elem),
        Type::Paren(inner) => is_option(&inner.elem),
        Type::Path(path) => path
            .path
            .segments
            .last()
            .is_some_and(|last| last.ident == "Option"),
        _ => false,
    }
}
