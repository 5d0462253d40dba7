//! `query` as a user meets it.

#![allow(clippy::unwrap_used, reason = "tests")]

mod support;

use insta_cmd::assert_cmd_snapshot;
use support::nepheline;

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
fn a_chart_is_drawn_into_a_file() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("rocks.svg");
    let path = file.to_str().unwrap();
    let drawn = |more: &[&str]| {
        let _ = std::fs::remove_file(&file);
        let output = nepheline(&[&["query", "specimen"], more, &["--svg", path]].concat())
            .output()
            .unwrap();
        (output.status.success(), std::fs::read_to_string(&file).unwrap_or_default())
    };
    let (succeeds, svg) = drawn(&["--per", "rock", "--total", "count", "--order=-count"]);
    assert!(succeeds && svg.starts_with("<svg"));
    // A bar for each rock, under its name.
    assert!(
        ["granite", "nepheline syenite"]
            .iter()
            .all(|rock| svg.contains(rock))
    );
    assert_eq!(svg.matches("#396A7A").count(), 7);
    // One row, numbers below zero, NULL, and no rows at all.
    assert!(drawn(&["--total", "count"]).0);
    assert!(drawn(&["--where", "id < 5", "--show", "label,parent_id"]).0);
    assert!(!drawn(&["--where", "FALSE", "--show", "label,top_m"]).0);
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
