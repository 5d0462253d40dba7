//! The folders of this crate use each other in one direction only. A path upward, in an import or in the code, or an item
//! taken through the root of the crate, fails.

#![expect(clippy::unwrap_used, reason = "a test may panic")]

use std::fs;
use std::path::Path;

use syn::visit::Visit;
use syn::{Macro, UseTree};

/// Each folder, and those below it that it may use.
const FOLDERS: [(&str, &[&str]); 8] = [
    ("model", &[]),
    ("tree", &["model"]),
    ("dialect", &["model", "tree"]),
    ("plan", &["model", "tree", "dialect"]),
    ("sql", &["model", "tree", "dialect", "plan"]),
    ("cql2", &["model"]),
    ("build", &["model", "tree", "dialect", "plan", "sql"]),
    ("offer", &["model", "tree", "dialect", "plan", "sql", "cql2", "build"]),
];

/// The paths of one file.
struct Paths {
    /// The module of the file, from the root of the crate.
    module: Vec<String>,
    /// The inline modules that are being read.
    inline: Vec<String>,
    found: Vec<Vec<String>>,
}

impl Paths {
    fn of(module: Vec<String>, source: &str) -> Vec<Vec<String>> {
        let file = syn::parse_file(source).unwrap();
        let mut paths = Paths { module, inline: Vec::new(), found: Vec::new() };
        paths.visit_file(&file);
        paths.found
    }

    /// Notes a path that begins at the root of the crate, or at a module above.
    fn note(&mut self, segments: &[String]) {
        // `pub(crate)` is a path too.
        let is_keyword = |segment: &String| matches!(segment.as_str(), "crate" | "super" | "self");
        if segments.iter().all(is_keyword) {
            return;
        }
        let mut at: Vec<String> = self.module.iter().chain(&self.inline).cloned().collect();
        let mut segments = segments.iter().peekable();
        match segments.peek().map(|first| first.as_str()) {
            Some("crate") => at.clear(),
            Some("super" | "self") => {}
            _ => return,
        }
        for segment in segments {
            match segment.as_str() {
                "crate" | "self" => {}
                "super" => drop(at.pop()),
                name => at.push(name.to_owned()),
            }
        }
        self.found.push(at);
    }

    fn note_use(&mut self, tree: &UseTree, before: &mut Vec<String>) {
        match tree {
            UseTree::Path(path) => {
                before.push(path.ident.to_string());
                self.note_use(&path.tree, before);
                before.pop();
            }
            UseTree::Name(name) => self.note_with(before, name.ident.to_string()),
            UseTree::Rename(rename) => self.note_with(before, rename.ident.to_string()),
            UseTree::Glob(_) => self.note_with(before, "*".to_owned()),
            UseTree::Group(group) => {
                group
                    .items
                    .iter()
                    .for_each(|item| self.note_use(item, before));
            }
        }
    }

    fn note_with(&mut self, before: &[String], last: String) {
        let path: Vec<String> = before.iter().cloned().chain([last]).collect();
        self.note(&path);
    }
}

impl<'ast> Visit<'ast> for Paths {
    fn visit_item_use(&mut self, item: &'ast syn::ItemUse) {
        self.note_use(&item.tree, &mut Vec::new());
    }

    fn visit_item_mod(&mut self, item: &'ast syn::ItemMod) {
        self.inline.push(item.ident.to_string());
        syn::visit::visit_item_mod(self, item);
        self.inline.pop();
    }

    fn visit_path(&mut self, path: &'ast syn::Path) {
        let segments: Vec<String> = path.segments.iter().map(|s| s.ident.to_string()).collect();
        self.note(&segments);
        syn::visit::visit_path(self, path);
    }

    // The arguments of a macro are read as text.
    fn visit_macro(&mut self, of: &'ast Macro) {
        let text = of.tokens.to_string().replace(' ', "");
        for (at, _) in text.match_indices("crate::") {
            let path = text[at..].split(|c: char| !(c.is_alphanumeric() || c == '_' || c == ':'));
            let segments = path.take(1).flat_map(|path| path.split("::"));
            let segments: Vec<String> = segments.map(str::to_owned).collect();
            self.note(&segments);
        }
        syn::visit::visit_macro(self, of);
    }
}

/// The arrows of a folder that lead upward, as `file: path`.
fn upward(folder: &str, below: &[&str], dir: &Path, module: &[String], found: &mut Vec<String>) {
    for entry in fs::read_dir(dir).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_stem().unwrap().to_str().unwrap().to_owned();
        let mut inner = module.to_vec();
        if name != "mod" {
            inner.push(name);
        }
        if path.is_dir() {
            upward(folder, below, &path, &inner, found);
            continue;
        }
        for used in Paths::of(inner, &fs::read_to_string(&path).unwrap()) {
            let to = used.first().map_or("the root of the crate", String::as_str);
            if to != folder && !below.contains(&to) {
                found.push(format!("{}: {}", path.display(), used.join("::")));
            }
        }
    }
}

#[test]
fn folders_use_only_those_below_them() {
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut found = Vec::new();
    for (folder, below) in FOLDERS {
        upward(folder, below, &source.join(folder), &[folder.to_owned()], &mut found);
    }
    assert!(found.is_empty(), "arrows that lead upward:\n{}", found.join("\n"));
    // No folder is left out.
    for entry in fs::read_dir(&source).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap().to_str().unwrap().to_owned();
        let known = FOLDERS.iter().any(|(folder, _)| *folder == name);
        assert_eq!(path.is_dir(), known, "{name} is no folder that this test knows");
    }
}

#[test]
fn a_path_upward_is_found() {
    let found = |source: &str| {
        let module = vec!["tree".to_owned(), "select".to_owned()];
        Paths::of(module, source)
            .into_iter()
            .map(|path| path.join("::"))
            .collect::<Vec<_>>()
    };
    for source in [
        "use crate::build::query::Query;",
        "use crate::{build::query::Query};",
        "use super::super::build::query::Query;",
        "fn f(q: &crate::build::query::Query) {}",
        "fn f() { vec![crate::build::query::Query]; }",
        "mod tests { use super::super::super::build::query::Query; }",
    ] {
        assert_eq!(found(source), ["build::query::Query"], "{source}");
    }
    assert_eq!(found("use crate::Query;"), ["Query"]);
    assert_eq!(found("use super::walk::Inner;"), ["tree::walk::Inner"]);
}
