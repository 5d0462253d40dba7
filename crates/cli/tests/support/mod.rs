//! The command under test.

use std::process::Command;

use insta_cmd::get_cargo_bin;

/// Returns the command with these arguments, on the demo data and without colours.
pub(crate) fn nepheline(arguments: &[&str]) -> Command {
    let mut command = Command::new(get_cargo_bin("nepheline"));
    command
        .args(arguments)
        .env("NO_COLOR", "1")
        .env_remove("NEPHELINE_DATABASE");
    command
}
