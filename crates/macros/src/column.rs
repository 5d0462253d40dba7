//! A field of a table, and what its attributes say about its column.

use proc_macro2::Ident;
use syn::ext::IdentExt;
use syn::{Attribute, Field, Type, Visibility};

use crate::attr::{self, Mistakes};
use crate::name;
use crate::relation::{self, Reference};

pub(crate) struct ColumnField<'a> {
    pub(crate) ident: &'a Ident,
    pub(crate) ty: &'a Type,
    pub(crate) visibility: &'a Visibility,
    pub(crate) docs: Vec<&'a Attribute>,
    pub(crate) name: String,
    pub(crate) key: bool,
    pub(crate) generated: bool,
    pub(crate) unique: bool,
    pub(crate) by_code_point: bool,
    /// True if updates count in it.
    pub(crate) version: bool,
    /// When the time is put into it: `insert`, or `write`.
    pub(crate) stamp: Option<Ident>,
    /// True if it is a row of its own, of several columns.
    pub(crate) nested: bool,
    pub(crate) reference: Option<Reference>,
}

impl<'a> ColumnField<'a> {
    pub(crate) fn parse(field: &'a Field, mistakes: &mut Mistakes) -> Option<ColumnField<'a>> {
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
            version: false,
            stamp: None,
            nested: false,
            reference: None,
        };
        let mut called = None;
        let allowed = "`key`, `generated`, `unique`, `by_code_point`, `version`, \
                       `stamp = insert`, `stamp = write`, `column = \"...\"`, \
                       `references = Table` and `called = name`";
        attr::each_part(&field.attrs, allowed, mistakes, |part| {
            let flag = match part.path.get_ident().map(Ident::to_string).as_deref() {
                Some("key") => &mut column.key,
                Some("generated") => &mut column.generated,
                Some("unique") => &mut column.unique,
                Some("by_code_point") => &mut column.by_code_point,
                Some("nested") => &mut column.nested,
                Some("version") => &mut column.version,
                Some("stamp") => {
                    let when = part.value()?.call(Ident::parse_any)?;
                    if when != "insert" && when != "write" {
                        let message = "expected `stamp = insert` or `stamp = write`";
                        return Err(syn::Error::new(when.span(), message));
                    }
                    column.stamp = Some(when);
                    return Ok(true);
                }
                Some("column") => {
                    column.name = attr::text(part)?.value();
                    return Ok(true);
                }
                Some("references") => {
                    column.reference = Some(relation::of_field(part, ident)?);
                    return Ok(true);
                }
                Some("called") => {
                    called = Some(part.value()?.call(Ident::parse_any)?);
                    return Ok(true);
                }
                _ => return Ok(false),
            };
            *flag = true;
            Ok(true)
        });
        match (&mut column.reference, called) {
            (Some(reference), Some(called)) => reference.name = called,
            (None, Some(called)) => {
                mistakes.at(called.span(), "there is no reference here that could be called so");
            }
            _ => {}
        }
        name::check(&column.name, ident.span(), mistakes);
        Some(column)
    }
}

/// Returns whether a type is written as an `Option`, which is all that can be seen here.
pub(crate) fn is_option(ty: &Type) -> bool {
    match ty {
        Type::Path(path) => path
            .path
            .segments
            .last()
            .is_some_and(|last| last.ident == "Option"),
        _ => false,
    }
}
