//! The command as a user meets it: what it prints, and with which exit code it ends.

#![allow(clippy::unwrap_used, reason = "tests")]

use std::process::{Command, Stdio};

use insta_cmd::{assert_cmd_snapshot, get_cargo_bin};

fn nepheline(arguments: &[&str]) -> Command {
    let mut command = Command::new(get_cargo_bin("nepheline"));
    command.args(arguments).env("NO_COLOR", "1");
    command
}

#[test]
fn the_whole_tour() {
    assert_cmd_snapshot!(nepheline(&["tour"]));
}

#[test]
fn some_steps_in_every_dialect_with_origins() {
    insta::with_settings!({filters => vec![(r"@ \S+steps\.rs:\d+", "@ steps.rs:N")]}, {
        assert_cmd_snapshot!(nepheline(&[
            "tour", "--steps", "unknown-key,order", "--dialect", "all", "--origins",
        ]));
    });
}

#[test]
fn wrong_arguments_are_answered_with_the_allowed_ones() {
    assert_cmd_snapshot!("unknown dialect", nepheline(&["tour", "--dialect", "latin"]));
    assert_cmd_snapshot!("unknown step", nepheline(&["tour", "--steps", "count,dance"]));
    assert_cmd_snapshot!("no command", nepheline(&[]));
}

#[test]
fn a_closed_pipe_is_no_failure() {
    let mut child = nepheline(&["tour"]).stdout(Stdio::piped()).spawn().unwrap();
    drop(child.stdout.take());
    assert!(child.wait().unwrap().success());
}
