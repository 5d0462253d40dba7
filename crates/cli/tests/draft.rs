//! `draft` and `compare` as a user meets them.

#![allow(clippy::unwrap_used, reason = "tests")]

use std::fs;
use std::process::Command;

use insta_cmd::{assert_cmd_snapshot, get_cargo_bin};

#[test]
fn a_draft_is_written_edited_and_brought_up_to_date() {
    let folder = tempfile::tempdir().unwrap();
    let nepheline = |arguments: &[&str]| {
        let mut command = Command::new(get_cargo_bin("nepheline"));
        command
            .args(arguments)
            .current_dir(folder.path())
            .env("NO_COLOR", "1")
            .env_remove("NEPHELINE_DATABASE");
        command
    };
    assert_cmd_snapshot!("to the screen", nepheline(&["draft", "site", "borehole", "collar"]));
    assert_cmd_snapshot!(
        "into a file",
        nepheline(&["draft", "site", "borehole", "--into", "tables.rs"])
    );
    assert_cmd_snapshot!("agrees", nepheline(&["compare", "tables.rs"]));

    let file = folder.path().join("tables.rs");
    let drafted = fs::read_to_string(&file).unwrap();
    let edited = drafted
        .replace("    pub rig: String,\n", "    pub crew: Option<String>,\n")
        .replace("pub depth_m: f64", "pub depth_m: Option<i64>");
    fs::write(&file, &edited).unwrap();
    assert_cmd_snapshot!("differs", nepheline(&["compare", "tables.rs"]));
    let check = ["draft", "site", "borehole", "--into", "tables.rs", "--check"];
    assert_cmd_snapshot!("would change", nepheline(&check));
    assert_eq!(fs::read_to_string(&file).unwrap(), edited);
    assert_cmd_snapshot!(
        "changes",
        nepheline(&["draft", "site", "borehole", "--into", "tables.rs", "--remove-fields"])
    );
    assert_cmd_snapshot!("up to date", nepheline(&check));

    fs::write(&file, "struct {").unwrap();
    assert_cmd_snapshot!("no Rust", nepheline(&["compare", "tables.rs"]));
}
