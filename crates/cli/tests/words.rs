//! Names that were given up stay out of the code and the docs, and comments open plainly.

#![allow(clippy::unwrap_used, reason = "tests")]

use std::collections::HashSet;
use std::fs;
use std::path::{Path, PathBuf};

/// Names that do not occur anywhere but in the changelog.
const GIVEN_UP: &[&str] = &[
    "JsonExpression",
    "NamedQuery",
    "NumberExpression",
    "RecordMark",
    "TextExpression",
    "TimeExpression",
    "TimeUnit",
    "TransactionOver",
    "UnfitPage",
    "UnfitParts",
    "all_satisfy",
    "as_boolean",
    "as_integer",
    "as_number",
    "for_update_no_wait",
    "has_rows",
    "if_null",
    "insert_each",
    "keep_books",
    "mirroring",
    "plus_days",
    "plus_hours",
    "plus_minutes",
    "plus_months",
    "plus_seconds",
    "plus_weeks",
    "plus_years",
    "recording_to",
    "truncated_to",
];

/// Names that are words too, so that only code is searched for them.
const GIVEN_UP_IN_CODE: &[&str] = &[
    "AskedOf",
    "AtMostSole",
    "Course",
    "Dangling",
    "Expression",
    "ForeignColumn",
    "Gate",
    "JoinsTo",
    "OfEach",
    "Passing",
    "Ran",
    "Record",
    "Selectable",
    "Sole",
    "Stretch",
    "Trusted",
    "Unsaved",
    "Verdict",
    "WantedBack",
    "linked",
];

/// The first words of sentences that name a thing by what it does instead of by a noun.
const RIDDLES: &[&str] = &["What", "Whether", "How", "That", "Of"];

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// Returns the files of a folder with these endings, and of the folders in it.
fn files(folder: &Path, endings: &[&str]) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            found.append(&mut files(&path, endings));
        } else if endings
            .iter()
            .any(|ending| path.extension().is_some_and(|own| own == *ending))
        {
            found.push(path);
        }
    }
    found.sort();
    found
}

fn words(line: &str) -> impl Iterator<Item = &str> {
    line.split(|character: char| !character.is_alphanumeric() && character != '_')
}

#[test]
fn names_that_were_given_up_stay_out() {
    let everywhere: HashSet<&str> = GIVEN_UP.iter().copied().collect();
    let in_code: HashSet<&str> = GIVEN_UP_IN_CODE.iter().copied().collect();
    let mut found = Vec::new();
    let mut searched = files(&root().join("crates"), &["rs", "md", "stderr"]);
    searched.append(&mut files(&root().join("docs"), &["md"]));
    searched.extend(["README.md", "CONTRIBUTING.md"].map(|name| root().join(name)));
    for path in searched.iter().filter(|path| !path.ends_with("words.rs")) {
        let is_code = path.extension().is_some_and(|ending| ending == "rs");
        for (number, line) in fs::read_to_string(path).unwrap().lines().enumerate() {
            let is_comment = line.trim_start().starts_with("//");
            let mut own = words(line);
            let name = own.find(|word| {
                everywhere.contains(word) || is_code && !is_comment && in_code.contains(word)
            });
            if let Some(name) = name {
                found.push(format!("{}:{}: {name}", path.display(), number + 1));
            }
        }
    }
    assert!(found.is_empty(), "{}", found.join("\n"));
}

#[test]
fn comments_open_plainly() {
    let mut riddles = Vec::new();
    for folder in ["core", "macros", "nepheline", "cli", "coreshed"] {
        for path in files(&root().join("crates").join(folder).join("src"), &["rs"]) {
            let text = fs::read_to_string(&path).unwrap();
            let mut before = "";
            for (number, line) in text.lines().enumerate() {
                let comment = line
                    .trim_start()
                    .trim_start_matches('/')
                    .trim_start_matches('!');
                let is_comment = line.trim_start().starts_with("//");
                let begins =
                    !before.trim_start().starts_with("//") || before.trim_end().ends_with('/');
                let first = words(comment.trim_start()).next().unwrap_or_default();
                if is_comment && begins && RIDDLES.contains(&first) {
                    riddles.push(format!("{}:{}: {}", path.display(), number + 1, comment.trim()));
                }
                before = line;
            }
        }
    }
    assert!(riddles.is_empty(), "{}", riddles.join("\n"));
}

#[test]
fn the_page_of_compile_errors_has_the_messages_of_the_compiler() {
    let page = fs::read_to_string(root().join("docs/compile-errors.md")).unwrap();
    let errors = root().join("crates/nepheline/tests/compile_fail/operators_of_rust.stderr");
    let errors = fs::read_to_string(errors).unwrap();
    let messages: Vec<&str> = page
        .lines()
        .filter(|line| line.starts_with("error["))
        .collect();
    assert!(messages.len() >= 4, "{messages:?}");
    for message in messages {
        assert!(errors.lines().any(|line| line == message), "the compiler does not say {message}");
    }
}
