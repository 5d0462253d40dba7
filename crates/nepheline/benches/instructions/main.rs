//! The instructions of reference operations, each as a ratio to a twin written by hand in this binary:
//! `cargo bench -p nepheline --features postgres,mysql --bench instructions`.
//!
//! The bench runs itself under valgrind's callgrind, which counts the same every time where no server
//! is asked. It compares the ratios with the committed table and fails where one has risen by more than
//! [`TOLERANCE`]. Counts themselves change with the compiler and the C library, ratios hardly do.
//! `-- --write` writes the table anew and keeps its reasons.
#![allow(
    missing_docs,
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stdout,
    reason = "a bench"
)]

mod compile;
mod offers;
mod servers;
mod sqlite;
mod table;

use std::hint::black_box;
use std::process::{Command, ExitCode};

use table::{Row, Table};

/// By what part of itself a ratio may rise.
const TOLERANCE: f64 = 0.03;

/// Set for the process that valgrind runs.
const MEASURED: &str = "NEPHELINE_INSTRUCTIONS_MEASURED";

fn main() -> ExitCode {
    if std::env::var_os(MEASURED).is_some() {
        measure();
        return ExitCode::SUCCESS;
    }
    let rows = counted();
    let committed = Table::committed();
    println!("{}", Table::heading());
    let mut risen = Vec::new();
    for row in &rows {
        let before = committed.ratio(&row.name);
        println!("{row}{}", before.map_or(" new".to_owned(), |before| format!(" was {before:.3}")));
        if before.is_none_or(|before| row.ratio() > before * (1.0 + TOLERANCE)) {
            risen.push(row.name.as_str());
        }
    }
    if std::env::args().any(|argument| argument == "--write") {
        committed.replaced_by(rows).write();
        return ExitCode::SUCCESS;
    }
    if risen.is_empty() {
        return ExitCode::SUCCESS;
    }
    println!("risen by more than {TOLERANCE}, or not in the table: {}", risen.join("; "));
    ExitCode::FAILURE
}

/// Runs this binary under callgrind, and reads what it counted of each operation.
fn counted() -> Vec<Row> {
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("counts");
    let run = Command::new("valgrind")
        .args(["--tool=callgrind", "--toggle-collect=*counted_calls*"])
        // Unlike the above, this takes no pattern before the path.
        .arg("--dump-after=instructions::counted_calls")
        .arg(format!("--callgrind-out-file={}", out.display()))
        .arg(std::env::current_exe().unwrap())
        .env(MEASURED, "1")
        .output()
        .unwrap_or_else(|err| panic!("valgrind cannot be run: {err}"));
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    let counts = |number: usize| -> u64 {
        let dump = std::fs::read_to_string(format!("{}.{number}", out.display())).unwrap();
        let totals = dump
            .lines()
            .find_map(|line| line.strip_prefix("totals: "))
            .unwrap();
        totals.trim().parse().unwrap()
    };
    let names = String::from_utf8(run.stdout).unwrap();
    let named = names
        .lines()
        .filter_map(|line| line.strip_prefix("counted "))
        .zip((1..).step_by(2));
    named
        .map(|(line, number)| {
            let (calls, name) = line.split_once(' ').unwrap();
            let calls: u64 = calls.parse().unwrap();
            Row {
                name: name.to_owned(),
                ours: counts(number) / calls,
                by_hand: counts(number + 1) / calls,
                reason: String::new(),
            }
        })
        .collect()
}

fn measure() {
    compile::measure();
    offers::measure();
    sqlite::measure();
    servers::measure();
}

/// Counts so many calls of each twin, after some that fill caches.
fn twins<A, B>(
    name: &str,
    calls: u32,
    mut ours: impl FnMut() -> A,
    mut by_hand: impl FnMut() -> B,
) {
    let mut ours = || drop(black_box(ours()));
    let mut by_hand = || drop(black_box(by_hand()));
    for _ in 0..3 {
        ours();
        by_hand();
    }
    counted_calls(calls, &mut ours);
    counted_calls(calls, &mut by_hand);
    println!("counted {calls} {name}");
}

/// Calls `work` so often. Callgrind collects within this function, and dumps at its end.
#[inline(never)]
fn counted_calls(calls: u32, work: &mut dyn FnMut()) {
    for _ in 0..calls {
        work();
    }
}
