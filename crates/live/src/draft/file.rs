//! Rust files: the structs and enums that declare tables, and where their parts stand.

use std::collections::HashSet;
use std::ops::Range;

use heck::ToSnakeCase as _;
use nepheline::{NativeType, SqlType};
use proc_macro2::{Delimiter, TokenStream, TokenTree};
use quote::ToTokens as _;
use syn::spanned::Spanned as _;
use syn::{Attribute, Fields, GenericArgument, Item, PathArguments, Type, UseTree};

use crate::declared::{DeclaredColumn, DeclaredReference, DeclaredTable};

/// Rust files that were parsed.
pub(crate) struct RustFiles {
    pub(crate) structs: Vec<TableStruct>,
    pub(crate) enums: Vec<DatabaseEnum>,
    /// The names of all structs, enums and other items, which new ones must not have.
    pub(crate) names: Vec<String>,
    /// The names that each file imports one by one.
    pub(crate) imports: Vec<HashSet<String>>,
}

/// A struct with `#[derive(Table)]`.
pub(crate) struct TableStruct {
    /// The number of its file.
    pub(crate) file: usize,
    pub(crate) ident: String,
    pub(crate) declared: DeclaredTable,
    pub(crate) fields: Vec<TableField>,
    /// The place of the brace that closes the fields.
    pub(crate) end: usize,
    /// The edits of its derives that take out what needs the equality of each field.
    pub(crate) without_equality: Vec<(Range<usize>, String)>,
    /// The targets of references, by the names of their structs.
    targets: Vec<String>,
}

/// A field of such a struct.
pub(crate) struct TableField {
    pub(crate) ident: String,
    pub(crate) column: String,
    /// The type without its `Option`, as it is written.
    pub(crate) base: String,
    pub(crate) optional: bool,
    /// The place of the type.
    pub(crate) type_at: Range<usize>,
    /// The place of the whole field with its attributes.
    pub(crate) at: Range<usize>,
}

/// An enum with `#[nepheline(database_type = "..")]`.
pub(crate) struct DatabaseEnum {
    pub(crate) ident: String,
    pub(crate) database_type: String,
    /// The number of its file.
    pub(crate) file: usize,
    /// The names of its variants, their texts, and their places, in their order.
    pub(crate) variants: Vec<(String, String, Range<usize>)>,
}

impl DatabaseEnum {
    fn values(&self) -> Vec<String> {
        self.variants
            .iter()
            .map(|(_, text, _)| text.clone())
            .collect()
    }
}

/// The names of a struct, its table, and its fields with their columns.
struct StructNames {
    ident: String,
    table: String,
    fields: Vec<(String, String)>,
}

impl StructNames {
    fn of(of: &TableStruct) -> StructNames {
        let fields = of.fields.iter();
        StructNames {
            ident: of.ident.clone(),
            table: of.declared.name.clone(),
            fields: fields
                .map(|field| (field.ident.clone(), field.column.clone()))
                .collect(),
        }
    }
}

impl TableStruct {
    /// Returns the declaration of each field, and its type as it is written.
    fn declared_fields(&mut self) -> impl Iterator<Item = (&mut DeclaredColumn, &str)> {
        let written = self.fields.iter().map(|field| field.base.as_str());
        self.declared.columns.iter_mut().zip(written)
    }
}

impl RustFiles {
    /// Parses files; an error has the number of its file.
    pub(crate) fn parse(texts: &[&str]) -> Result<RustFiles, (usize, syn::Error)> {
        let mut file = RustFiles {
            structs: Vec::new(),
            enums: Vec::new(),
            names: Vec::new(),
            imports: vec![HashSet::new(); texts.len()],
        };
        for (number, text) in texts.iter().enumerate() {
            let parsed = syn::parse_file(text).map_err(|err| (number, err))?;
            file.take(number, &parsed.items);
        }
        // A reference names a struct and its fields, and not a table and its columns.
        let named: Vec<StructNames> = file.structs.iter().map(StructNames::of).collect();
        for of in &mut file.structs {
            for (reference, target) in of.declared.references.iter_mut().zip(&of.targets) {
                let Some(target) = named.iter().find(|names| names.ident == *target) else {
                    continue;
                };
                reference.target.clone_from(&target.table);
                for (_, theirs) in &mut reference.pairs {
                    let mut fields = target.fields.iter();
                    if let Some(field) = theirs
                        && let Some((_, column)) = fields.find(|(ident, _)| ident == field)
                    {
                        field.clone_from(column);
                    }
                }
            }
        }
        for field in file
            .structs
            .iter_mut()
            .flat_map(TableStruct::declared_fields)
        {
            let (declared, base) = field;
            let ident = base.rsplit("::").next().unwrap_or(base);
            if let Some(of) = file.enums.iter().find(|of| of.ident == ident) {
                declared.enum_values = of.values();
            }
        }
        Ok(file)
    }

    fn take(&mut self, file: usize, items: &[Item]) {
        for item in items {
            match item {
                Item::Struct(of) => {
                    self.names.push(of.ident.to_string());
                    if derives_table(&of.attrs) {
                        self.structs.extend(table_struct(file, of));
                    }
                }
                Item::Enum(of) => {
                    self.names.push(of.ident.to_string());
                    let parts = parts(&of.attrs);
                    if let Some(name) = parts.iter().find_map(|part| part.text("database_type")) {
                        self.enums.push(DatabaseEnum {
                            ident: of.ident.to_string(),
                            database_type: name,
                            file,
                            variants: of.variants.iter().map(variant).collect(),
                        });
                    }
                }
                Item::Type(of) => self.names.push(of.ident.to_string()),
                Item::Use(of) => {
                    if let Some(imports) = self.imports.get_mut(file) {
                        imported(&of.tree, imports);
                    }
                }
                Item::Mod(of) => {
                    if let Some((_, items)) = &of.content {
                        self.take(file, items);
                    }
                }
                _ => {}
            }
        }
    }
}

/// Adds the names that a `use` imports one by one.
fn imported(tree: &UseTree, names: &mut HashSet<String>) {
    match tree {
        UseTree::Path(path) => imported(&path.tree, names),
        UseTree::Name(name) => {
            names.insert(name.ident.to_string());
        }
        UseTree::Group(group) => group.items.iter().for_each(|item| imported(item, names)),
        UseTree::Rename(_) | UseTree::Glob(_) => {}
    }
}

/// Returns the name of a variant, its text, and its place.
fn variant(of: &syn::Variant) -> (String, String, Range<usize>) {
    let text = parts(&of.attrs).iter().find_map(|part| part.text("text"));
    let text = text.unwrap_or_else(|| of.ident.to_string().to_snake_case());
    (of.ident.to_string(), text, of.span().byte_range())
}

fn derives_table(attributes: &[Attribute]) -> bool {
    let derives = attributes
        .iter()
        .filter(|attribute| attribute.path().is_ident("derive"));
    derives
        .filter_map(|attribute| attribute.meta.require_list().ok())
        .any(|list| {
            list.tokens
                .clone()
                .into_iter()
                .any(|token| token.to_string() == "Table")
        })
}

/// Returns the edits of derives that take out what needs the equality of each field.
fn without_equality(attributes: &[Attribute]) -> Vec<(Range<usize>, String)> {
    let derives = attributes
        .iter()
        .filter(|attribute| attribute.path().is_ident("derive"));
    let mut edits = Vec::new();
    for list in derives.filter_map(|derive| derive.meta.require_list().ok()) {
        let tokens: Vec<TokenTree> = list.tokens.clone().into_iter().collect();
        let is_comma =
            |token: &TokenTree| matches!(token, TokenTree::Punct(of) if of.as_char() == ',');
        let names = tokens
            .split(is_comma)
            .map(|tokens| tokens.iter().map(ToString::to_string).collect::<String>());
        let needs = ["PartialEq", "Eq", "Hash", "PartialOrd", "Ord"];
        let (needing, others): (Vec<String>, Vec<String>) =
            names.partition(|name| needs.contains(&name.as_str()));
        if let (Some(first), Some(last), false) =
            (tokens.first(), tokens.last(), needing.is_empty())
        {
            let at = first.span().byte_range().start..last.span().byte_range().end;
            edits.push((at, others.join(", ")));
        }
    }
    edits
}

fn table_struct(file: usize, of: &syn::ItemStruct) -> Option<TableStruct> {
    let Fields::Named(named) = &of.fields else { return None };
    let own = parts(&of.attrs);
    let ident = of.ident.to_string();
    let begin = own
        .iter()
        .find_map(|part| part.text("columns_begin"))
        .unwrap_or_default();
    let name = own.iter().find_map(|part| part.text("table"));
    let mut declared = DeclaredTable {
        name: name.unwrap_or_else(|| ident.to_snake_case()),
        ..DeclaredTable::default()
    };
    let (mut fields, mut targets) = (Vec::new(), Vec::new());
    for field in &named.named {
        let ident = field.ident.as_ref()?.to_string();
        let plain = ident.strip_prefix("r#").unwrap_or(&ident);
        let parts = parts(&field.attrs);
        let has = |name: &str| parts.iter().any(|part| part.name == name);
        let column = parts.iter().find_map(|part| part.text("column"));
        let column = column.unwrap_or_else(|| format!("{begin}{plain}"));
        let (base, optional) = without_option(&field.ty);
        declared.columns.push(DeclaredColumn {
            name: column.clone(),
            sql_type: sql_type_of(&base),
            nullable: optional,
            key: has("key"),
            generated: has("generated"),
            by_code_point: has("by_code_point"),
            nondeterministic: has("nondeterministic"),
            approximate: has("approximate"),
            enum_values: Vec::new(),
        });
        if has("unique") {
            declared.unique.push(vec![column.clone()]);
        }
        if let Some(part) = parts.iter().find(|part| part.name == "references") {
            let words: Vec<String> = part.tokens.iter().map(ToString::to_string).collect();
            let by = words
                .iter()
                .position(|word| word == "by")
                .and_then(|at| words.get(at + 1))
                .cloned();
            if let Some(target) = words.get(1) {
                targets.push(target.clone());
                declared.references.push(DeclaredReference {
                    target: target.to_snake_case(),
                    pairs: vec![(column.clone(), by)],
                });
            }
        }
        fields.push(TableField {
            ident,
            column,
            base,
            optional,
            type_at: field.ty.span().byte_range(),
            at: field.span().byte_range(),
        });
    }
    for part in own.iter().filter(|part| part.name == "unique") {
        declared.unique.push(part.fields_of(&fields));
    }
    for part in own.iter().filter(|part| part.name == "references") {
        if let Some((target, own, theirs)) = part.reference() {
            let column = |ident: &String| {
                let field = fields.iter().find(|field| field.ident == *ident);
                field.map(|field| field.column.clone())
            };
            let theirs = theirs.into_iter().map(Some).chain(std::iter::repeat(None));
            let pairs: Option<Vec<(String, Option<String>)>> = own
                .iter()
                .zip(theirs)
                .map(|(own, theirs)| Some((column(own)?, theirs)))
                .collect();
            if let Some(pairs) = pairs {
                let target_table = target.to_snake_case();
                targets.push(target);
                declared
                    .references
                    .push(DeclaredReference { target: target_table, pairs });
            }
        }
    }
    Some(TableStruct {
        file,
        ident,
        declared,
        fields,
        end: named.brace_token.span.close().byte_range().start,
        without_equality: without_equality(&of.attrs),
        targets,
    })
}

/// A part of `#[nepheline(..)]`: its name, and what follows it.
struct Part {
    name: String,
    tokens: Vec<TokenTree>,
}

impl Part {
    /// Returns the text of `name = ".."`.
    fn text(&self, name: &str) -> Option<String> {
        if self.name != name {
            return None;
        }
        let TokenTree::Literal(literal) = self.tokens.get(1)? else { return None };
        let literal: syn::LitStr = syn::parse2(TokenTree::Literal(literal.clone()).into()).ok()?;
        Some(literal.value())
    }

    /// Returns the target and the fields of `references(name: Target by (a, b) = (c, d))`; without the last, they are the key.
    fn reference(&self) -> Option<(String, Vec<String>, Vec<String>)> {
        let TokenTree::Group(group) = self.tokens.first()? else { return None };
        let tokens: Vec<TokenTree> = group.stream().into_iter().collect();
        let after = |word: &str| {
            let at = tokens.iter().position(|token| token.to_string() == word)?;
            tokens.get(at + 1)
        };
        Some((after(":")?.to_string(), words_of(after("by")), words_of(after("="))))
    }

    /// Returns the columns of the fields in `unique(a, b)` or `unique(name: a, b)`.
    fn fields_of(&self, fields: &[TableField]) -> Vec<String> {
        let Some(TokenTree::Group(group)) = self.tokens.first() else { return Vec::new() };
        let words: Vec<String> = group
            .stream()
            .into_iter()
            .map(|token| token.to_string())
            .collect();
        let begin = words
            .iter()
            .position(|word| word == ":")
            .map_or(0, |at| at + 1);
        let idents = words.iter().skip(begin).filter(|word| *word != ",");
        idents
            .filter_map(|ident| fields.iter().find(|field| field.ident == *ident))
            .map(|field| field.column.clone())
            .collect()
    }
}

/// Returns the words of a group in parentheses, without commas.
fn words_of(token: Option<&TokenTree>) -> Vec<String> {
    let Some(TokenTree::Group(group)) = token else { return Vec::new() };
    let words = group.stream().into_iter().map(|token| token.to_string());
    words.filter(|word| word != ",").collect()
}

/// Returns the parts of all `#[nepheline(..)]`.
fn parts(attributes: &[Attribute]) -> Vec<Part> {
    let lists = attributes
        .iter()
        .filter(|attribute| attribute.path().is_ident("nepheline"))
        .filter_map(|attribute| attribute.meta.require_list().ok());
    lists.flat_map(|list| split(list.tokens.clone())).collect()
}

fn split(tokens: TokenStream) -> Vec<Part> {
    let mut all = Vec::new();
    let mut current: Option<Part> = None;
    for token in tokens {
        match (&mut current, &token) {
            (_, TokenTree::Punct(punct)) if punct.as_char() == ',' => all.extend(current.take()),
            (None, token) => current = Some(Part { name: token.to_string(), tokens: Vec::new() }),
            (Some(part), TokenTree::Group(group)) if group.delimiter() == Delimiter::None => {
                part.tokens.extend(group.stream());
            }
            (Some(part), token) => part.tokens.push(token.clone()),
        }
    }
    all.extend(current);
    all
}

/// Returns a type without its `Option`, as it is written, and whether it had one.
fn without_option(ty: &Type) -> (String, bool) {
    if let Type::Path(path) = ty
        && let Some(last) = path.path.segments.last()
        && last.ident == "Option"
        && let PathArguments::AngleBracketed(arguments) = &last.arguments
        && let Some(GenericArgument::Type(inner)) = arguments.args.first()
    {
        return (written(inner), true);
    }
    (written(ty), false)
}

/// Returns a type without the spaces that its tokens have between them.
fn written(ty: &Type) -> String {
    ty.to_token_stream().to_string().replace(' ', "")
}

/// Returns the SQL type of a Rust type that the library stores; `None` for one of the program.
pub(crate) fn sql_type_of(rust: &str) -> Option<SqlType> {
    let last = rust
        .rsplit_once("::")
        .map_or(rust, |(path, last)| if path.contains('<') { rust } else { last });
    Some(match last {
        "bool" => SqlType::Boolean,
        "i8" | "i16" | "u8" => SqlType::SmallInt,
        "i32" | "u16" => SqlType::Integer,
        "i64" | "u32" => SqlType::BigInt,
        "f32" => SqlType::Real,
        "f64" => SqlType::Double,
        "Decimal" => SqlType::Decimal,
        "String" => SqlType::Text,
        "Vec<u8>" => SqlType::Bytes,
        "Uuid" => SqlType::Uuid,
        "Date" => SqlType::Date,
        "Time" => SqlType::Time,
        "DateTime" => SqlType::DateTime,
        "Timestamp" => SqlType::Timestamp,
        "Json" | "Value" => SqlType::Json,
        "IpAddr" => SqlType::Native(&NativeType::Inet),
        "Span" => SqlType::Native(&NativeType::Interval),
        other if other.starts_with("JsonDocument<") => SqlType::Json,
        _ => return None,
    })
}
