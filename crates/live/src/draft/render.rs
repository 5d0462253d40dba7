//! The text of structs and enums.

use std::borrow::Borrow;
use std::collections::HashSet;
use std::fmt::Write as _;

use heck::{ToSnakeCase as _, ToUpperCamelCase as _};

use super::names::{is_keyword, unique};

pub(super) struct TableDraft {
    pub(super) ident: String,
    pub(super) name: String,
    pub(super) is_new: bool,
    pub(super) schema: Option<String>,
    pub(super) comment: Option<String>,
    pub(super) fields: Vec<FieldDraft>,
    /// The sets of fields that no two rows share.
    pub(super) unique: Vec<Vec<String>>,
    /// The references by several fields.
    pub(super) references: Vec<ReferenceDraft>,
    pub(super) children: Vec<ChildDraft>,
    pub(super) bridges: Vec<BridgeDraft>,
    /// The names of fields and relations.
    pub(super) taken: HashSet<String>,
}

impl TableDraft {
    pub(super) fn field(&self, column: &str) -> Option<&FieldDraft> {
        self.fields.iter().find(|field| field.column == column)
    }

    /// Returns the fields of the key.
    pub(super) fn key(&self) -> Vec<&str> {
        self.fields
            .iter()
            .filter(|field| field.key)
            .map(|field| field.ident.as_str())
            .collect()
    }
}

pub(super) struct FieldDraft {
    pub(super) ident: String,
    pub(super) column: String,
    /// The type without its `Option`; `None` if no Rust type stores it.
    pub(super) rust: Option<String>,
    pub(super) database_type: String,
    pub(super) nullable: bool,
    pub(super) key: bool,
    pub(super) generated: bool,
    pub(super) unique: bool,
    pub(super) by_code_point: bool,
    pub(super) nondeterministic: bool,
    pub(super) reference: Option<ReferenceDraft>,
    pub(super) comment: Option<String>,
}

pub(super) struct ReferenceDraft {
    pub(super) name: String,
    pub(super) target: String,
    /// The pairs of fields: of this struct, and of the target.
    pub(super) fields: Vec<(String, String)>,
    /// True if the target's fields are its key.
    pub(super) is_key: bool,
}

pub(super) struct ChildDraft {
    pub(super) name: String,
    pub(super) child: String,
    pub(super) by: String,
    /// The field of the parent, if it is not the key.
    pub(super) other: Option<String>,
    pub(super) at_most_one: bool,
}

pub(super) struct BridgeDraft {
    pub(super) name: String,
    pub(super) target: String,
    pub(super) across: String,
}

pub(super) struct EnumDraft {
    pub(super) ident: String,
    pub(super) database_type: String,
    pub(super) values: Vec<String>,
}

/// The docs of a file, and of a folder.
const FILE_DOCS: &str = "//! The tables of a database, drafted by `nepheline draft`, which keeps what is edited here.\n\n";
pub(super) const FOLDER_DOCS: &str = "//! The tables of a database, drafted by `nepheline draft`, which keeps what is edited in these files.\n\n";

/// Returns a type as a file writes it that has these imports, or else all that it needs.
pub(super) fn qualified(rust: &str, imports: Option<&HashSet<String>>) -> String {
    let paths = [
        ("Array", "nepheline"),
        ("RangeOf", "nepheline"),
        ("IpAddr", "std::net"),
        ("Span", "jiff"),
    ];
    paths
        .into_iter()
        .fold(rust.to_owned(), |rust, (name, path)| {
            match imports.is_none_or(|imports| imports.contains(name)) {
                true => rust,
                false => rust.replace(name, &format!("{path}::{name}")),
            }
        })
}

/// Returns whether values of a type have no equality: two spans have none.
pub(super) fn lacks_equality(rust: &str) -> bool {
    rust.contains("Span")
}

/// Returns the imports of a file with these structs.
pub(super) fn imports(tables: &[&TableDraft], first: &str) -> String {
    let mut text = String::new();
    let types: Vec<&str> = tables
        .iter()
        .flat_map(|table| &table.fields)
        .filter_map(|field| field.rust.as_deref())
        .collect();
    let uses = |part: &str| types.iter().any(|rust| rust.contains(part));
    if uses("IpAddr") {
        text.push_str("use std::net::IpAddr;\n\n");
    }
    if uses("Span") {
        text.push_str("use jiff::Span;\n");
    }
    text.push_str("use nepheline::prelude::*;\n");
    match (uses("Array<"), uses("RangeOf<")) {
        (true, true) => text.push_str("use nepheline::{Array, RangeOf};\n"),
        (true, false) => text.push_str("use nepheline::Array;\n"),
        (false, true) => text.push_str("use nepheline::RangeOf;\n"),
        (false, false) => {}
    }
    if !first.is_empty() {
        text.push('\n');
        text.push_str(first);
    }
    text
}

/// Returns the beginning of a file with these structs.
pub(super) fn opening(tables: &[TableDraft]) -> String {
    let tables: Vec<&TableDraft> = tables.iter().collect();
    format!("{FILE_DOCS}{}", imports(&tables, ""))
}

/// Returns a file with new enums and structs at its end; it has these imports, or else all that it needs.
pub(super) fn append(
    mut text: String,
    enums: &[EnumDraft],
    tables: &[impl Borrow<TableDraft>],
    imports: Option<&HashSet<String>>,
) -> String {
    for of in enums {
        text.push('\n');
        text.push_str(&enumeration(of));
    }
    for table in tables {
        text.push('\n');
        text.push_str(&structure(table.borrow(), imports));
    }
    text
}

fn enumeration(of: &EnumDraft) -> String {
    let mut text = String::from("#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Storable)]\n");
    let _ = writeln!(
        text,
        "#[nepheline(database_type = {:?})]\npub enum {} {{",
        of.database_type, of.ident
    );
    let mut taken = HashSet::new();
    for value in &of.values {
        let _ = writeln!(text, "{},", variant(&mut taken, value));
    }
    text.push_str("}\n");
    text
}

/// Returns the lines of a variant without its comma.
pub(super) fn variant(taken: &mut HashSet<String>, value: &str) -> String {
    let mut ident: String = value.to_upper_camel_case();
    ident.retain(|letter| letter.is_alphanumeric());
    if !ident.starts_with(char::is_alphabetic) {
        ident.insert_str(0, "Value");
    }
    if is_keyword(&ident) {
        ident.push('_');
    }
    let ident = unique(taken, ident, |base, number| format!("{base}{number}"));
    match ident.to_snake_case() == value {
        true => format!("    {ident}"),
        false => format!("    #[nepheline(text = {value:?})]\n    {ident}"),
    }
}

fn structure(table: &TableDraft, imports: Option<&HashSet<String>>) -> String {
    let mut text = docs(table.comment.as_deref(), "");
    let rusts = table
        .fields
        .iter()
        .filter_map(|field| field.rust.as_deref());
    let equality = if rusts.into_iter().any(lacks_equality) { "" } else { "PartialEq, " };
    let _ = writeln!(text, "#[derive(Debug, Clone, {equality}Table)]");
    let mut parts = Vec::new();
    if let Some(schema) = &table.schema {
        parts.push(format!("schema = {schema:?}"));
    }
    if table.ident.to_snake_case() != table.name {
        parts.push(format!("table = {:?}", table.name));
    }
    for unique in &table.unique {
        parts.push(format!("unique({})", unique.join(", ")));
    }
    for reference in &table.references {
        let own: Vec<&str> = reference
            .fields
            .iter()
            .map(|(own, _)| own.as_str())
            .collect();
        let theirs: Vec<&str> = reference
            .fields
            .iter()
            .map(|(_, theirs)| theirs.as_str())
            .collect();
        let other =
            if reference.is_key { String::new() } else { format!(" = ({})", theirs.join(", ")) };
        parts.push(format!(
            "references({}: {} by ({}){other})",
            reference.name,
            reference.target,
            own.join(", ")
        ));
    }
    for (at_most_one, attribute) in [(false, "children"), (true, "optional_child")] {
        let of = table
            .children
            .iter()
            .filter(|child| child.at_most_one == at_most_one);
        let of: Vec<String> = of
            .map(|child| {
                let other = child
                    .other
                    .as_ref()
                    .map_or(String::new(), |other| format!(" = {other}"));
                format!("{}: {} by {}{other}", child.name, child.child, child.by)
            })
            .collect();
        if !of.is_empty() {
            parts.push(format!("{attribute}({})", of.join(", ")));
        }
    }
    if !table.bridges.is_empty() {
        let of = table
            .bridges
            .iter()
            .map(|bridge| format!("{}: {} across {}", bridge.name, bridge.target, bridge.across));
        parts.push(format!("bridged({})", of.collect::<Vec<_>>().join(", ")));
    }
    match parts.as_slice() {
        [] => {}
        [one] if one.len() < 80 => {
            let _ = writeln!(text, "#[nepheline({one})]");
        }
        parts => {
            text.push_str("#[nepheline(\n");
            for part in parts {
                let _ = writeln!(text, "    {part},");
            }
            text.push_str(")]\n");
        }
    }
    let _ = writeln!(text, "pub struct {} {{", table.ident);
    for of in &table.fields {
        match &of.rust {
            Some(rust) => text.push_str(&field(of, &qualified(rust, imports))),
            None => {
                let FieldDraft { column, database_type, .. } = of;
                let _ = writeln!(
                    text,
                    "    // The column {column:?} of type {database_type} is left out."
                );
            }
        }
    }
    text.push_str("}\n");
    text
}

/// Returns a field of this type, without its `Option`, with its attributes.
pub(super) fn field(of: &FieldDraft, rust: &str) -> String {
    let mut text = docs(of.comment.as_deref(), "    ");
    let mut parts = Vec::new();
    let flags = [
        (of.key, "key"),
        (of.generated, "generated"),
        (of.unique, "unique"),
        (of.by_code_point, "by_code_point"),
        (of.nondeterministic, "nondeterministic"),
    ];
    parts.extend(
        flags
            .into_iter()
            .filter(|(is_set, _)| *is_set)
            .map(|(_, name)| name.to_owned()),
    );
    if of.ident.trim_start_matches("r#") != of.column {
        parts.push(format!("column = {:?}", of.column));
    }
    if let Some(reference) = &of.reference {
        let by = match (reference.is_key, reference.fields.first()) {
            (false, Some((_, theirs))) => format!(" by {theirs}"),
            _ => String::new(),
        };
        parts.push(format!("references = {}{by}", reference.target));
        if of.ident.strip_suffix("_id") != Some(reference.name.as_str()) {
            parts.push(format!("called = {}", reference.name));
        }
    }
    if !parts.is_empty() {
        let _ = writeln!(text, "    #[nepheline({})]", parts.join(", "));
    }
    let rust = if of.nullable { format!("Option<{rust}>") } else { rust.to_owned() };
    let _ = writeln!(text, "    pub {}: {rust},", of.ident);
    text
}

/// Returns a comment of the database as docs.
fn docs(comment: Option<&str>, indent: &str) -> String {
    let lines = comment.unwrap_or_default().lines();
    lines
        .map(|line| format!("{indent}/// {}\n", line.trim_end()))
        .collect()
}
