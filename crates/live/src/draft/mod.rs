//! Rust for the tables of a database: new structs, and careful changes to those that somebody has edited.
//!
//! A struct that is there already keeps everything that somebody wrote: its order, docs, attributes, methods, types of the program,
//! comments and formatting. New columns become fields at its end, the types of changed columns are changed, and fields without a
//! column are reported.

mod file;
mod names;
mod render;

use std::collections::{HashMap, HashSet};
use std::ops::Range;

use nepheline::Dialect;

use crate::catalog::{Catalog, CatalogColumn, CatalogTable, Generated};
use crate::kind::{Fit, Kind};
use crate::plural::plural;
use crate::verify::{Differences, compare, is_by_code_point};
use file::{DatabaseEnum, RustFiles, TableField, TableStruct, sql_type_of};
use render::{BridgeDraft, ChildDraft, EnumDraft, FieldDraft, ReferenceDraft, TableDraft};

/// Rust that was drafted from a catalog.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct Draft {
    /// The text of the whole file.
    pub text: String,
    /// The changes and additions, a sentence for each.
    pub changes: Vec<String>,
    /// The fields without a column, which stay unless they are to be removed.
    pub gone: Vec<String>,
}

/// Rust that was drafted into the files of a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct FolderDraft {
    /// The names and the texts of the files that are new or changed.
    pub files: Vec<(String, String)>,
    /// The changes and additions, a sentence for each.
    pub changes: Vec<String>,
    /// The fields without a column, which stay unless they are to be removed.
    pub gone: Vec<String>,
}

/// Choices of a draft.
#[derive(Debug, Clone, Default)]
pub struct DraftOptions {
    /// True to take out fields whose column is gone.
    pub remove_fields: bool,
    /// The schema that new structs name; `None` for tables of the session's schema.
    pub schema: Option<String>,
}

/// The reason why a Rust file cannot be used.
#[derive(Debug)]
pub struct UnreadableRust(syn::Error);

impl std::fmt::Display for UnreadableRust {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let start = self.0.span().start();
        write!(f, "line {}, column {}: {}", start.line, start.column + 1, self.0)
    }
}

impl std::error::Error for UnreadableRust {}

/// Drafts Rust for tables of a [`Catalog`], as a new file or as changes to `existing`.
///
/// # Errors
///
/// If `existing` is no Rust.
pub fn draft(
    dialect: Dialect,
    tables: &[&CatalogTable],
    existing: Option<&str>,
    options: &DraftOptions,
) -> Result<Draft, UnreadableRust> {
    let text = existing.unwrap_or_default();
    let found = Found::of(dialect, tables, &[text], options).map_err(|(_, err)| err)?;
    let Found { texts, imports, enums, new, changes, gone } = found;
    let imports = existing.and(imports.first());
    let edited = texts.into_iter().next().unwrap_or_default();
    let opened = if existing.is_some() { edited } else { render::opening(&new) };
    let text = render::append(opened, &enums, &new, imports);
    Ok(Draft { text, changes, gone })
}

/// Drafts Rust for tables into the files of a folder: a file for each new table, one for new enums, and `mod.rs`, which declares them.
/// `existing` has the names and the texts of the files that are there.
///
/// # Errors
///
/// If a file is no Rust, with its name.
pub fn draft_folder(
    dialect: Dialect,
    tables: &[&CatalogTable],
    existing: &[(String, String)],
    options: &DraftOptions,
) -> Result<FolderDraft, (String, UnreadableRust)> {
    let texts: Vec<&str> = existing.iter().map(|(_, text)| text.as_str()).collect();
    let name = |number: usize| {
        existing
            .get(number)
            .map_or(String::new(), |(name, _)| name.clone())
    };
    let found = Found::of(dialect, tables, &texts, options);
    let found = found.map_err(|(number, err)| (name(number), err))?;
    let Found { texts, enums, new, changes, gone, .. } = found;
    let mut files: Vec<(String, String)> = existing
        .iter()
        .zip(texts)
        .map(|((name, _), text)| (name.clone(), text))
        .collect();
    let mut modules = Vec::new();
    if !enums.is_empty() {
        modules.push("enums".to_owned());
        put(
            &mut files,
            "enums.rs",
            |text| render::append(text, &enums, &[] as &[TableDraft], None),
            "use nepheline::prelude::*;\n",
        );
    }
    let mut taken: HashSet<String> = HashSet::new();
    for table in &new {
        let module = names::of_module(&mut taken, &table.name);
        let imports = render::imports(&[table], "use super::*;\n");
        put(
            &mut files,
            &format!("{module}.rs"),
            |text| render::append(text, &[], &[table], None),
            &imports,
        );
        modules.push(module);
    }
    if !modules.is_empty() {
        let declared = |text: String| {
            modules.iter().fold(text, |text, module| {
                match text.contains(&format!("mod {module};")) {
                    true => text,
                    false => format!("{text}mod {module};\npub use {module}::*;\n"),
                }
            })
        };
        put(&mut files, "mod.rs", declared, render::FOLDER_DOCS);
    }
    let is_changed = |(name, text): &(String, String)| {
        existing
            .iter()
            .all(|(other, before)| other != name || before != text)
    };
    Ok(FolderDraft { files: files.into_iter().filter(is_changed).collect(), changes, gone })
}

/// Changes a file, or makes one that begins with `opening`.
fn put(
    files: &mut Vec<(String, String)>,
    name: &str,
    change: impl FnOnce(String) -> String,
    opening: &str,
) {
    match files.iter_mut().find(|(other, _)| other == name) {
        Some((_, text)) => *text = change(std::mem::take(text)),
        None => files.push((name.to_owned(), change(opening.to_owned()))),
    }
}

/// The edits and additions that a draft found.
struct Found {
    /// The texts of the files with the edits of structs that are there already.
    texts: Vec<String>,
    /// The names that each of them imports.
    imports: Vec<HashSet<String>>,
    enums: Vec<EnumDraft>,
    new: Vec<TableDraft>,
    changes: Vec<String>,
    gone: Vec<String>,
}

impl Found {
    fn of(
        dialect: Dialect,
        tables: &[&CatalogTable],
        texts: &[&str],
        options: &DraftOptions,
    ) -> Result<Found, (usize, UnreadableRust)> {
        let file =
            RustFiles::parse(texts).map_err(|(number, err)| (number, UnreadableRust(err)))?;
        let mut drafting = Drafting::new(dialect, tables, &file, options);
        let drafts = drafting.tables();
        let mut edits = Edits { by_file: vec![Vec::new(); texts.len()], ..Edits::default() };
        for (table, draft) in tables.iter().zip(&drafts) {
            if let Some(own) = file
                .structs
                .iter()
                .find(|own| own.declared.name == table.name)
            {
                let text = texts.get(own.file).copied().unwrap_or_default();
                drafting.edit(table, draft, own, text, &mut edits);
            }
        }
        for of in &file.enums {
            let text = texts.get(of.file).copied().unwrap_or_default();
            drafting.edit_enum(of, text, &mut edits);
        }
        let edited = texts.iter().zip(&mut edits.by_file).map(|(text, edits)| {
            edits.sort_by_key(|(at, _)| std::cmp::Reverse(at.start));
            let mut edited = (*text).to_owned();
            for (at, replacement) in edits {
                edited.replace_range(at.clone(), replacement);
            }
            edited
        });
        let texts = edited.collect();
        let new: Vec<TableDraft> = drafts.into_iter().filter(|draft| draft.is_new).collect();
        let Edits { mut changes, gone, .. } = edits;
        changes.extend(
            drafting
                .enums
                .iter()
                .map(|of| format!("added the enum `{}`", of.ident)),
        );
        changes.extend(
            new.iter()
                .map(|draft| format!("added the struct `{}` for `{}`", draft.ident, draft.name)),
        );
        let enums = drafting.enums;
        Ok(Found { texts, imports: file.imports, enums, new, changes, gone })
    }
}

/// The edits of files, and what they are.
#[derive(Default)]
struct Edits {
    by_file: Vec<Vec<(Range<usize>, String)>>,
    changes: Vec<String>,
    gone: Vec<String>,
}

impl Edits {
    fn put(&mut self, file: usize, at: Range<usize>, text: String) {
        if let Some(edits) = self.by_file.get_mut(file) {
            edits.push((at, text));
        }
    }
}

/// Compares the structs of Rust files with a catalog, without compiling them. A type of the program is not compared, only whether it
/// is an `Option`.
///
/// # Errors
///
/// If a file is no Rust, with its number.
pub fn compare_files(
    dialect: Dialect,
    catalog: &Catalog,
    files: &[&str],
) -> Result<Differences, (usize, UnreadableRust)> {
    let parsed = RustFiles::parse(files).map_err(|(number, err)| (number, UnreadableRust(err)))?;
    let mut found = Differences::default();
    for of in &parsed.structs {
        compare(&of.declared, dialect, catalog, &mut found);
    }
    Ok(found)
}

/// A draft in progress.
struct Drafting<'c> {
    dialect: Dialect,
    tables: &'c [&'c CatalogTable],
    file: &'c RustFiles,
    /// The name of the struct of each table.
    structs: HashMap<&'c str, String>,
    enums: Vec<EnumDraft>,
    taken: HashSet<String>,
    options: &'c DraftOptions,
}

impl<'c> Drafting<'c> {
    fn new(
        dialect: Dialect,
        tables: &'c [&'c CatalogTable],
        file: &'c RustFiles,
        options: &'c DraftOptions,
    ) -> Drafting<'c> {
        let mut taken: HashSet<String> = file.names.iter().cloned().collect();
        let mut structs = HashMap::new();
        for table in tables {
            let own = file
                .structs
                .iter()
                .find(|own| own.declared.name == table.name);
            let ident = match own {
                Some(own) => own.ident.clone(),
                None => names::of_type(&mut taken, &table.name),
            };
            structs.insert(table.name.as_str(), ident);
        }
        Drafting { dialect, tables, file, structs, enums: Vec::new(), taken, options }
    }

    fn tables(&mut self) -> Vec<TableDraft> {
        let tables = self.tables;
        let mut drafts: Vec<TableDraft> = tables.iter().map(|table| self.table(table)).collect();
        for place in 0..drafts.len() {
            self.references(place, &mut drafts);
        }
        self.children(&mut drafts);
        self.bridges(&mut drafts);
        drafts
    }

    /// Drafts the fields of a table.
    fn table(&mut self, table: &'c CatalogTable) -> TableDraft {
        let own = self
            .file
            .structs
            .iter()
            .find(|own| own.declared.name == table.name);
        let mut taken: HashSet<String> = HashSet::new();
        let own_field = |column: &str| own?.fields.iter().find(|field| field.column == column);
        taken.extend(
            own.iter()
                .flat_map(|own| own.fields.iter().map(|field| field.ident.clone())),
        );
        let mut has_generated = false;
        let mut fields = Vec::new();
        for column in &table.columns {
            let ident = match own_field(&column.name) {
                Some(field) => field.ident.clone(),
                None => names::of_field(&mut taken, &column.name),
            };
            let rust = self.rust_type(table, column);
            // The key of SQLite's rows is one, also where it is that of another table.
            let refers = table
                .references
                .iter()
                .any(|reference| reference.columns.contains(&column.name));
            let is_identity = column.generated == Generated::Identity && !refers;
            let generated = is_identity && !has_generated;
            has_generated |= generated;
            let is_alone = |name: &str| {
                let mut sets = table.unique.iter();
                sets.any(|unique| {
                    unique.condition.is_none() && *unique.columns == [name.to_owned()]
                })
            };
            fields.push(FieldDraft {
                ident,
                column: column.name.clone(),
                // The database computes it, and a table has at most one such field.
                rust: rust.filter(|_| column.generated != Generated::Computed),
                database_type: column.database_type.clone(),
                nullable: column.nullable && !table.key.contains(&column.name),
                key: table.key.contains(&column.name),
                generated,
                unique: is_alone(&column.name) && *table.key != [column.name.clone()],
                // Texts of SQLite do so anyway.
                by_code_point: self.dialect != Dialect::Sqlite
                    && is_by_code_point(self.dialect, column)
                    && Kind::of(self.dialect, column) == Kind::Text,
                nondeterministic: column.is_nondeterministic,
                reference: None,
                comment: column.comment.clone(),
            });
        }
        let idents = |columns: &[String]| -> Option<Vec<String>> {
            let ident = |name: &String| {
                let field = fields.iter().find(|field| field.column == *name);
                field
                    .filter(|field| field.rust.is_some())
                    .map(|field| field.ident.clone())
            };
            columns.iter().map(ident).collect()
        };
        let sets = table
            .unique
            .iter()
            .filter(|unique| unique.condition.is_none() && unique.columns.len() > 1);
        TableDraft {
            ident: self
                .structs
                .get(table.name.as_str())
                .cloned()
                .unwrap_or_default(),
            name: table.name.clone(),
            is_new: own.is_none(),
            schema: self.options.schema.clone(),
            comment: table.comment.clone(),
            unique: sets.filter_map(|unique| idents(&unique.columns)).collect(),
            fields,
            references: Vec::new(),
            children: Vec::new(),
            bridges: Vec::new(),
            taken,
        }
    }

    /// Returns the Rust type of a column without its `Option`; an enum gets a type of its own.
    fn rust_type(&mut self, table: &CatalogTable, column: &CatalogColumn) -> Option<String> {
        if column.enum_values.is_empty() {
            return column.rust_type.clone();
        }
        let database_type = enum_name(table, column);
        let written = self
            .file
            .enums
            .iter()
            .find(|of| of.database_type == database_type);
        if let Some(written) = written {
            return Some(written.ident.clone());
        }
        if let Some(drafted) = self
            .enums
            .iter()
            .find(|of| of.database_type == database_type)
        {
            return Some(drafted.ident.clone());
        }
        let ident = names::of_type(&mut self.taken, &database_type);
        self.enums.push(EnumDraft {
            ident: ident.clone(),
            database_type,
            values: column.enum_values.clone(),
        });
        Some(ident)
    }

    /// Drafts the references of a table to others that are drafted too, and whose columns have the same types.
    fn references(&self, place: usize, drafts: &mut [TableDraft]) {
        let Some(table) = self.tables.get(place) else { return };
        for reference in &table.references {
            let Some(target_place) = self
                .tables
                .iter()
                .position(|other| other.name == reference.target)
            else {
                continue;
            };
            let (Some(draft), Some(target)) = (drafts.get(place), drafts.get(target_place)) else {
                continue;
            };
            let pairs = reference.columns.iter().zip(&reference.target_columns);
            let fields: Option<Vec<(String, String)>> = pairs
                .map(|(own, theirs)| {
                    let (own, theirs) = (draft.field(own)?, target.field(theirs)?);
                    let same = own.rust.is_some() && own.rust == theirs.rust;
                    same.then(|| (own.ident.clone(), theirs.ident.clone()))
                })
                .collect();
            let Some(fields) = fields else { continue };
            let is_key = target.key()
                == fields
                    .iter()
                    .map(|(_, theirs)| theirs.as_str())
                    .collect::<Vec<_>>();
            let base = names_of_target(&fields, &reference.target);
            let target = target.ident.clone();
            let Some(draft) = drafts.get_mut(place) else { continue };
            let name = names::of_relation(&mut draft.taken, &base);
            let drafted = ReferenceDraft { name, target, fields, is_key };
            match drafted.fields.as_slice() {
                [(own, _)] => {
                    let own = own.clone();
                    if let Some(field) = draft.fields.iter_mut().find(|field| field.ident == own) {
                        field.reference.get_or_insert(drafted);
                    }
                }
                _ => draft.references.push(drafted),
            }
        }
    }

    /// Drafts the children of tables, by the references of one column that were drafted.
    fn children(&self, drafts: &mut [TableDraft]) {
        let mut all: Vec<(String, ChildDraft, Vec<String>)> = Vec::new();
        for draft in drafts.iter() {
            for field in &draft.fields {
                let Some(reference) = &field.reference else { continue };
                let at_most_one = field.unique || draft.key() == [field.ident.as_str()];
                let name = draft.name.clone();
                let word = heck::ToSnakeCase::to_snake_case(name.as_str());
                let plural = if at_most_one { word } else { plural(&word) };
                let by = format!("{plural}_by_{}", field.ident.trim_start_matches("r#"));
                let other = (!reference.is_key)
                    .then(|| reference.fields.first().map(|(_, theirs)| theirs.clone()))
                    .flatten();
                let child = ChildDraft {
                    name: String::new(),
                    child: draft.ident.clone(),
                    by: field.ident.clone(),
                    other,
                    at_most_one,
                };
                all.push((reference.target.clone(), child, vec![plural, by]));
            }
        }
        for (target, mut child, names) in all {
            if let Some(draft) = drafts.iter_mut().find(|draft| draft.ident == target) {
                child.name = names::of_relation(&mut draft.taken, &names);
                draft.children.push(child);
            }
        }
    }

    /// Drafts the relations across bridges: tables whose key is two references.
    fn bridges(&self, drafts: &mut [TableDraft]) {
        let mut all: Vec<(String, BridgeDraft, Vec<String>)> = Vec::new();
        for draft in drafts.iter() {
            let key = draft.fields.iter().filter(|field| field.key);
            let ends: Option<Vec<&ReferenceDraft>> =
                key.map(|field| field.reference.as_ref()).collect();
            let others = draft
                .fields
                .iter()
                .filter(|field| !field.key && field.reference.is_some())
                .count();
            let Some([left, right]) = ends
                .as_deref()
                .filter(|_| others == 0 && draft.references.is_empty())
            else {
                continue;
            };
            if left.target == right.target || !left.is_key || !right.is_key {
                continue;
            }
            for (own, other) in [(left, right), (right, left)] {
                let word = plural(&heck::ToSnakeCase::to_snake_case(other.target.as_str()));
                let across = format!(
                    "{word}_across_{}",
                    heck::ToSnakeCase::to_snake_case(draft.ident.as_str())
                );
                let bridge = BridgeDraft {
                    name: String::new(),
                    target: other.target.clone(),
                    across: draft.ident.clone(),
                };
                all.push((own.target.clone(), bridge, vec![word, across]));
            }
        }
        for (own, mut bridge, names) in all {
            if let Some(draft) = drafts.iter_mut().find(|draft| draft.ident == own) {
                bridge.name = names::of_relation(&mut draft.taken, &names);
                draft.bridges.push(bridge);
            }
        }
    }

    /// Adds the edits of a struct that is there already.
    fn edit(
        &self,
        table: &CatalogTable,
        draft: &TableDraft,
        own: &TableStruct,
        text: &str,
        edits: &mut Edits,
    ) {
        let name = |ident: &str| format!("`{}.{ident}`", own.ident);
        let imports = self.file.imports.get(own.file);
        let mut lacks_equality = false;
        for field in &own.fields {
            let Some(column) = table.column(&field.column) else {
                match self.options.remove_fields {
                    true => {
                        edits.put(own.file, line_of(text, &field.at), String::new());
                        edits
                            .changes
                            .push(format!("removed {}, which has no column", name(&field.ident)));
                    }
                    false => edits.gone.push(format!(
                        "{} has no column `{}`",
                        name(&field.ident),
                        field.column
                    )),
                }
                continue;
            };
            if let Some(rust) = self.changed_type(draft, field, column, table.is_view) {
                let before = text.get(field.type_at.clone()).unwrap_or_default();
                edits
                    .changes
                    .push(format!("changed {} from `{before}` to `{rust}`", name(&field.ident)));
                lacks_equality |= render::lacks_equality(&rust);
                edits.put(own.file, field.type_at.clone(), render::qualified(&rust, imports));
            }
        }
        let is_written = |field: &&FieldDraft| {
            own.fields
                .iter()
                .any(|written| written.column == field.column)
        };
        let new: Vec<&FieldDraft> = draft
            .fields
            .iter()
            .filter(|field| !is_written(field))
            .collect();
        let mut rendered = String::new();
        for field in &new {
            let Some(rust) = &field.rust else { continue };
            lacks_equality |= render::lacks_equality(rust);
            rendered.push_str(&render::field(field, &render::qualified(rust, imports)));
        }
        if lacks_equality && !own.without_equality.is_empty() {
            let told = "which an interval does not have";
            edits
                .changes
                .push(format!("removed the equality of `{}`, {told}", own.ident));
            for (at, derives) in &own.without_equality {
                edits.put(own.file, at.clone(), derives.clone());
            }
        }
        if rendered.is_empty() {
            return;
        }
        for field in new.iter().filter(|field| field.rust.is_some()) {
            edits.changes.push(format!(
                "added {} for the column `{}`",
                name(&field.ident),
                field.column
            ));
        }
        let (at, text) = insertion(text, own, &rendered);
        edits.put(own.file, at, text);
    }

    /// Adds the variants that an enum lacks, each behind that of the value before it.
    fn edit_enum(&self, of: &DatabaseEnum, text: &str, edits: &mut Edits) {
        let mut columns = self
            .tables
            .iter()
            .flat_map(|table| table.columns.iter().map(move |column| (table, column)));
        let Some((_, column)) = columns.find(|(table, column)| {
            !column.enum_values.is_empty() && enum_name(table, column) == of.database_type
        }) else {
            return;
        };
        for (ident, value, _) in &of.variants {
            if !column.enum_values.contains(value) {
                edits
                    .gone
                    .push(format!("`{}::{ident}` has no value `{value}`", of.ident));
            }
        }
        let mut taken: HashSet<String> = of
            .variants
            .iter()
            .map(|(ident, ..)| ident.clone())
            .collect();
        let place = |value: &String| of.variants.iter().find(|(_, text, _)| text == value);
        for run in column.enum_values.chunk_by(|_, next| place(next).is_none()) {
            let known = run.first().and_then(place).map(|(_, _, at)| at);
            let (new, last) = match known {
                Some(at) => (run.get(1..).unwrap_or_default(), Some(at)),
                None => (run, None),
            };
            if new.is_empty() {
                continue;
            }
            let told = new
                .iter()
                .map(|value| format!("added `{}` to the enum `{}`", value, of.ident));
            edits.changes.extend(told);
            let lines = new.iter().map(|value| render::variant(&mut taken, value));
            let lines = lines.collect::<Vec<_>>().join(",\n");
            match (last, of.variants.first()) {
                (Some(at), _) => match end_of_line(text, at.end) {
                    Some(end) => edits.put(of.file, end..end, format!("{lines},\n")),
                    None => edits.put(of.file, at.end..at.end, format!(",\n{lines}")),
                },
                (None, Some((_, _, at))) => {
                    let begin = line_of(text, at).start;
                    edits.put(of.file, begin..begin, format!("{lines},\n"));
                }
                (None, None) => {}
            }
        }
    }

    /// Returns the type that a field gets, unless it still fits its column.
    fn changed_type(
        &self,
        draft: &TableDraft,
        field: &TableField,
        column: &CatalogColumn,
        is_view: bool,
    ) -> Option<String> {
        let drafted = draft.field(&column.name)?;
        let wanted = drafted.rust.as_ref()?;
        let fits = match sql_type_of(&field.base) {
            // A type of the program is its own decision.
            None => true,
            Some(sql_type) => {
                let kind = Kind::of(self.dialect, column);
                !matches!(kind.fit(self.dialect, sql_type, true), Fit::No | Fit::Wider)
            }
        };
        // Nobody tells whether a column of a view may be NULL.
        let nullable = if is_view { field.optional } else { drafted.nullable };
        if fits && nullable == field.optional {
            return None;
        }
        let base = if fits { &field.base } else { wanted };
        Some(if nullable { format!("Option<{base}>") } else { base.clone() })
    }
}

/// Returns the name of a column's enum type. PostgreSQL's has one; that of MariaDB belongs to its column.
fn enum_name(table: &CatalogTable, column: &CatalogColumn) -> String {
    match column.database_type.starts_with("enum(") {
        true => format!("{}_{}", table.name, column.name),
        false => column.database_type.trim_matches('"').to_owned(),
    }
}

/// Returns names for a reference: that of its field without `_id`, that of the target, and both.
fn names_of_target(fields: &[(String, String)], target: &str) -> Vec<String> {
    let snake = heck::ToSnakeCase::to_snake_case(target);
    match fields {
        [(own, _)] => match own.strip_suffix("_id").filter(|base| !base.is_empty()) {
            Some(base) => vec![base.to_owned(), format!("{base}_{snake}"), snake],
            None => vec![snake.clone(), format!("{}_{snake}", own.trim_start_matches("r#"))],
        },
        _ => vec![snake],
    }
}

/// Returns the place of a field with the whole of its lines, and its comma.
fn line_of(text: &str, at: &Range<usize>) -> Range<usize> {
    let rest = text.get(at.end..).unwrap_or_default();
    let comma = rest.trim_start().starts_with(',');
    let end = at.end + if comma { rest.find(',').map_or(0, |comma| comma + 1) } else { 0 };
    let before = text.get(..at.start).unwrap_or_default();
    let start = match before.rfind('\n') {
        Some(line)
            if before
                .get(line + 1..)
                .is_some_and(|indent| indent.trim().is_empty()) =>
        {
            line + 1
        }
        _ => at.start,
    };
    let after = text.get(end..).unwrap_or_default();
    let line_end = after.find('\n').filter(|line| {
        after
            .get(..*line)
            .is_some_and(|rest| rest.trim().is_empty())
    });
    start..line_end.map_or(end, |line| end + line + 1)
}

/// Returns the end of the line if only a comma, blanks and a comment stand between, so that the comment stays where it is.
fn end_of_line(text: &str, at: usize) -> Option<usize> {
    let line = text.get(at..)?.split_inclusive('\n').next()?;
    let rest = line.strip_prefix(',')?.trim();
    let ends = line.ends_with('\n') && (rest.is_empty() || rest.starts_with("//"));
    ends.then_some(at + line.len())
}

/// Returns the edit that puts fields before the closing brace of a struct.
fn insertion(text: &str, own: &TableStruct, fields: &str) -> (Range<usize>, String) {
    let before = text.get(..own.end).unwrap_or_default();
    let last = own.fields.last().map(|field| field.at.end);
    let has_comma = last
        .and_then(|last| text.get(last..own.end))
        .is_none_or(|between| between.contains(','));
    let line_begin = before.rfind('\n').map_or(0, |line| line + 1);
    let is_on_its_own_line = before
        .get(line_begin..)
        .is_some_and(|indent| indent.trim().is_empty());
    match (last, has_comma) {
        // The comma stands directly behind the last field.
        (Some(last), false) => {
            let between = text.get(last..own.end).unwrap_or_default().to_owned();
            let between = if between.contains('\n') { between } else { "\n".to_owned() };
            let kept = between
                .rfind('\n')
                .map_or("", |line| between.get(..=line).unwrap_or_default());
            (last..own.end, format!(",{kept}{fields}"))
        }
        _ if is_on_its_own_line => (line_begin..line_begin, fields.to_owned()),
        _ => (own.end..own.end, format!("\n{fields}")),
    }
}
