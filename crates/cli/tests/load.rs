//! `load` as a user meets it, on each engine.

#![allow(clippy::unwrap_used, reason = "tests")]

mod support;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Output;

use insta_cmd::assert_cmd_snapshot;
use nepheline_live::blocking::LiveDatabase as _;
use support::{Cleared, nepheline, urls};

const READINGS: &str =
    "\u{feff}Reading No,Borehole,Taken on,Depth (m),Temp °C,Valid,Remark,Code,Seen at
1,KB-01,2026-03-14,80.5,11.25,true,\"first, of the day\",007,2026-03-14T09:30:00Z
2,KB-01,2026-03-15,120.0,12.5,true,,008,2026-03-15T09:30:00Z
3,KB-02,2026-03-15,45,9.75,false,\"two
lines\",009,2026-03-15T10:00:00+01:00
4,KB-02,2026-03-16,n/a,10,true,ok,010,2026-03-16T09:30:00Z
";

fn written(folder: &Path, name: &str, text: &str) -> PathBuf {
    let file = folder.join(name);
    fs::write(&file, text).unwrap();
    file
}

/// Runs the command on a database, and returns what it printed, with the folder left out.
fn ran(url: &str, folder: &Path, arguments: &[&str]) -> (bool, String) {
    let mut command = nepheline(arguments);
    let Output { status, stdout, stderr } = command
        .env("NEPHELINE_DATABASE", url)
        .current_dir(folder)
        .output()
        .unwrap();
    (status.success(), String::from_utf8([stdout, stderr].concat()).unwrap())
}

#[test]
fn types_are_guessed_from_the_whole_file_and_shown() {
    let folder = tempfile::tempdir().unwrap();
    let name = "readings.csv";
    written(folder.path(), name, READINGS);
    let with = |more: &[&str]| {
        let mut command = nepheline(&[&["load", name, "--create"], more].concat());
        command.current_dir(folder.path());
        command
    };
    assert_cmd_snapshot!("guessed types", with(&["--sql", "postgres", "--key", "id"]));
    let asked = [
        "--null",
        "n/a",
        "--type",
        "Code=integer?",
        "--type",
        "depth_m=double",
        "--key",
        "reading_no",
    ];
    assert_cmd_snapshot!("asked types", with(&[&asked[..], &["--sql", "mariadb"]].concat()));
    assert_cmd_snapshot!("no database", with(&[]));
    assert_cmd_snapshot!("unknown column", with(&["--sql", "--type", "depth=decimal"]));
    assert_cmd_snapshot!("unknown type", with(&["--sql", "--type", "depth_m=metres"]));
    written(folder.path(), name, "a;b\n1;2\n");
    assert_cmd_snapshot!("another separator", with(&["--sql"]));
    written(folder.path(), name, "a,A\n1,2\n");
    assert_cmd_snapshot!("two columns of one name", with(&["--sql"]));
    written(folder.path(), name, "a,b\n1,\"2\n2\"\n\n3\n");
    assert_cmd_snapshot!("a row that is too short", with(&["--sql"]));
    fs::write(folder.path().join(name), b"a,b\n1,\xff\n").unwrap();
    assert_cmd_snapshot!("not UTF-8", with(&["--sql"]));
}

#[test]
fn a_file_becomes_a_table_that_answers_questions() {
    let folder = tempfile::tempdir().unwrap();
    let folder = folder.path();
    written(folder, "readings.csv", READINGS);
    let more = "taken_on;depth_m;borehole;seen_at;valid;temp_c;code;reading_no\n\
                17.03.2026;99.5;KB-03;2026-03-17T01:30:00+02:00;no;-1;x;5\n";
    written(folder, "more.csv", more);
    for url in urls(folder) {
        let _cleared = Cleared::open(&url, &["TABLE readings"]);
        let create = ["load", "readings.csv", "--create", "--null", "n/a", "--key", "reading_no"];
        let (succeeds, told) = ran(&url, folder, &create);
        assert!(succeeds && told.ends_with("4 rows loaded into `readings`\n"), "{told}");
        let again = ran(&url, folder, &create).1;
        assert!(again.contains("the table `readings` is there already"), "{again}");

        // Other columns in another order, another separator, and dates in another form.
        let add = ["load", "more.csv", "--table", "readings", "--separator", ";"];
        let (succeeds, told) =
            ran(&url, folder, &[&add[..], &["--type", "taken_on=date:%d.%m.%Y"]].concat());
        assert!(succeeds && told == "1 row loaded into `readings`\n", "{told}");

        let asked = ["query", "readings", "--order", "reading_no", "--as", "csv", "--show"];
        let (_, rows) =
            ran(&url, folder, &[&asked[..], &["reading_no,taken_on,valid,remark,code"]].concat());
        assert_eq!(
            rows,
            "reading_no,taken_on,valid,remark,code\n\
             1,2026-03-14,true,\"first, of the day\",007\n\
             2,2026-03-15,true,,008\n\
             3,2026-03-15,false,\"two\nlines\",009\n\
             4,2026-03-16,true,ok,010\n\
             5,2026-03-17,false,,x\n",
            "{url}"
        );
        // Times of any zone are kept in UTC; decimals are added exactly.
        let (_, times) = ran(
            &url,
            folder,
            &[&asked[..], &["seen_at", "--where", "reading_no IN (3, 5)"]].concat(),
        );
        let times: Vec<&str> = times
            .lines()
            .map(|line| line.get(..16).unwrap_or(line))
            .collect();
        assert_eq!(times, ["seen_at", "2026-03-15T09:00", "2026-03-16T23:30"], "{url}");
        let total = [
            "query",
            "readings",
            "--total",
            "sum(depth_m) as metres, sum(temp_c) as degrees",
            "--as",
            "csv",
        ];
        let (_, sums) = ran(&url, folder, &total);
        let sums: Vec<f64> = sums
            .lines()
            .nth(1)
            .unwrap()
            .split(',')
            .map(|sum| sum.parse().unwrap())
            .collect();
        assert_eq!(sums, [345.0, 42.5], "{url}");
    }
}

#[test]
fn a_bad_row_is_named_and_nothing_of_the_file_is_kept() {
    let folder = tempfile::tempdir().unwrap();
    let folder = folder.path();
    // More rows than are written together come before the bad ones.
    let mut many: String = (1..=12_000).map(|id| format!("{id},{id}.5\n")).collect();
    many.insert_str(0, "id,depth_m\n");
    written(folder, "depths.csv", &(many.clone() + "7,3.5\n"));
    written(folder, "words.csv", &(many.clone() + "12001,deep\n"));
    written(folder, "good.csv", &many);
    for url in urls(folder) {
        let cleared = Cleared::open(&url, &["TABLE depths", "TABLE words"]);
        let tables = || {
            cleared
                .db
                .catalog()
                .unwrap()
                .tables
                .into_iter()
                .map(|table| table.name)
        };
        let (_, told) = ran(&url, folder, &["load", "depths.csv", "--create", "--key", "id"]);
        assert!(told.contains("depths.csv, line 12002"), "{told}");
        assert!(!tables().any(|name| name == "depths"), "{url} kept the table");

        // Without --create, the rows of the table stay, and only they.
        let (succeeds, told) = ran(
            &url,
            folder,
            &["load", "good.csv", "--create", "--table", "depths", "--key", "id"],
        );
        assert!(succeeds, "{told}");
        let others: String = (20_001..=32_000).map(|id| format!("{id},1\n")).collect();
        written(folder, "again.csv", &format!("id,depth_m\n{others}32001,none\n"));
        let (_, told) = ran(&url, folder, &["load", "again.csv", "--table", "depths"]);
        assert!(
            told.starts_with(
                "nepheline: again.csv, line 12002, column `depth_m`: `none`: expected a number"
            ),
            "{told}"
        );
        written(folder, "null.csv", "id,depth_m\n99999,\n");
        let (_, told) = ran(&url, folder, &["load", "null.csv", "--table", "depths"]);
        assert!(told.contains("null.csv, line 2 (depth_m = )"), "{told}");
        let rows = ran(&url, folder, &["query", "depths", "--total", "count", "--as", "csv"]).1;
        assert_eq!(rows, "count\n12000\n", "{url}");

        let (_, told) =
            ran(&url, folder, &["load", "words.csv", "--create", "--type", "depth_m=decimal"]);
        assert!(told.contains("words.csv, line 12002, column `depth_m`: `deep`"), "{told}");
        assert!(!tables().any(|name| name == "words"), "{url} kept the table");
        let (_, told) = ran(&url, folder, &["load", "good.csv"]);
        assert!(told.contains("there is no table `good`; --create makes it"), "{told}");
        let (_, told) = ran(&url, folder, &["load", "good.csv", "--table", "depth"]);
        assert!(told.contains("unknown table `depth`; did you mean `depths`?"), "{told}");
    }
}
