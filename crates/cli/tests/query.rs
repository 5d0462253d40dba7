//! `query` as a user meets it.

#![allow(clippy::unwrap_used, reason = "tests")]

use std::process::Command;

use insta_cmd::{assert_cmd_snapshot, get_cargo_bin};

fn nepheline(arguments: &[&str]) -> Command {
    let mut command = Command::new(get_cargo_bin("nepheline"));
    command
        .args(arguments)
        .env("NO_COLOR", "1")
        .env_remove("NEPHELINE_DATABASE");
    command
}

#[test]
fn a_table_is_filtered_followed_and_sorted() {
    let filter = "top_m > 700 AND borehole.site.region LIKE 'Upper%' AND assays.ppm > 400";
    let show = "label,borehole.site.region,top_m";
    let question =
        ["query", "specimen", "--where", filter, "--show", show, "--order=-top_m", "--limit", "3"];
    assert_cmd_snapshot!("rows", nepheline(&question));
    let with = |more: &[&'static str]| nepheline(&[&question[..], more].concat());
    assert_cmd_snapshot!("second page", with(&["--page", "2"]));
    assert_cmd_snapshot!("json", with(&["--as", "json"]));
    assert_cmd_snapshot!("sql of PostgreSQL", with(&["--sql", "postgres"]));
    assert_cmd_snapshot!("plan", nepheline(&["query", "specimen", "--where", "id = 3", "--plan"]));
    assert_cmd_snapshot!(
        "all columns",
        nepheline(&["query", "lab", "--order", "id", "--as", "csv"])
    );
}

#[test]
fn groups_have_totals_and_a_chart() {
    let totals = ["query", "specimen", "--per", "rock", "--total", "count, max(top_m) as deepest"];
    let with = |more: &[&'static str]| nepheline(&[&totals[..], more].concat());
    assert_cmd_snapshot!("totals", with(&["--having", "count > 80", "--order=-deepest"]));
    assert_cmd_snapshot!("markdown", with(&["--order", "rock", "--as", "markdown"]));
    assert_cmd_snapshot!("chart", with(&["--order=-deepest", "--as", "chart"]));
    assert_cmd_snapshot!(
        "one group",
        nepheline(&["query", "specimen", "--total", "count, min(taken_on)"])
    );
}

#[test]
fn mistakes_name_the_place_and_the_nearest_name() {
    assert_cmd_snapshot!("unknown table", nepheline(&["query", "specimn"]));
    let filtered = |filter| nepheline(&["query", "specimen", "--where", filter]);
    assert_cmd_snapshot!("unknown column", filtered("id > 3 AND rok = 'basalt'"));
    assert_cmd_snapshot!("unknown column of a parent", filtered("borehole.site.regoin = 'x'"));
    assert_cmd_snapshot!("another type", filtered("top_m > 'deep'"));
    assert_cmd_snapshot!(
        "having without groups",
        nepheline(&["query", "lab", "--having", "count > 3"])
    );
    assert_cmd_snapshot!(
        "no number",
        nepheline(&["query", "lab", "--show", "id,name", "--as", "chart"])
    );
}
