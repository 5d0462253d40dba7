//! `console` as a user meets it: through a pipe, and on a terminal.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::io::{Read as _, Write};
use std::path::Path;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use insta_cmd::{assert_cmd_snapshot, get_cargo_bin};
use nepheline::Dialect;
use portable_pty::{Child, CommandBuilder, MasterPty, PtySize, native_pty_system};
use support::{Cleared, nepheline, urls};

/// A console on a terminal.
struct Terminal {
    screen: Arc<Mutex<vt100::Parser>>,
    keys: Arc<Mutex<Box<dyn Write + Send>>>,
    master: Box<dyn MasterPty + Send>,
    child: Box<dyn Child + Send + Sync>,
}

const SIZE: PtySize = PtySize { rows: 40, cols: 120, pixel_width: 0, pixel_height: 0 };

/// The time after which a test gives up.
const LONGEST_WAIT: Duration = Duration::from_secs(20);

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = self.child.kill();
    }
}

impl Terminal {
    fn open(url: Option<&str>, state: &Path) -> Terminal {
        let pair = native_pty_system().openpty(SIZE).unwrap();
        let mut command = CommandBuilder::new(get_cargo_bin("nepheline"));
        command.arg("console");
        command.env("NO_COLOR", "1");
        command.env("TERM", "xterm-256color");
        command.env("XDG_STATE_HOME", state);
        command.env_remove("NEPHELINE_DATABASE");
        if let Some(url) = url {
            command.env("NEPHELINE_DATABASE", url);
        }
        let child = pair.slave.spawn_command(command).unwrap();
        drop(pair.slave);
        let screen = Arc::new(Mutex::new(vt100::Parser::new(SIZE.rows, SIZE.cols, 1000)));
        let (mut output, shown) = (pair.master.try_clone_reader().unwrap(), screen.clone());
        let keys = Arc::new(Mutex::new(pair.master.take_writer().unwrap()));
        let answers = keys.clone();
        std::thread::spawn(move || {
            let mut buffer = [0; 4096];
            while let Ok(length @ 1..) = output.read(&mut buffer) {
                let mut screen = shown.lock().unwrap();
                screen.process(&buffer[..length]);
                // The question where the cursor is, which every terminal answers.
                if buffer[..length].windows(4).any(|bytes| bytes == b"\x1b[6n") {
                    let (row, column) = screen.screen().cursor_position();
                    write!(answers.lock().unwrap(), "\x1b[{};{}R", row + 1, column + 1).unwrap();
                }
            }
        });
        let mut terminal = Terminal { screen, keys, master: pair.master, child };
        terminal.wait_for("nepheline> ");
        terminal
    }

    fn press(&mut self, keys: &str) {
        let mut writer = self.keys.lock().unwrap();
        writer.write_all(keys.as_bytes()).unwrap();
        writer.flush().unwrap();
    }

    fn contents(&self) -> String {
        self.screen.lock().unwrap().screen().contents()
    }

    /// Waits until the screen has this text, and returns the screen.
    fn wait_for(&mut self, text: &str) -> String {
        let begun = Instant::now();
        loop {
            let contents = self.contents();
            if contents.contains(text) {
                return contents;
            }
            assert!(begun.elapsed() < LONGEST_WAIT, "no `{text}` on the screen:\n{contents}");
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Writes a line until it is there: a terminal whose size has just changed may lose keys.
    fn write(&mut self, line: &str) {
        for _ in 0..10 {
            self.press(&format!("\u{15}{line}"));
            let begun = Instant::now();
            while begun.elapsed() < LONGEST_WAIT / 10 {
                if self.contents().contains(line) {
                    return;
                }
                std::thread::sleep(Duration::from_millis(20));
            }
        }
        panic!("no `{line}` on the screen:\n{}", self.contents());
    }

    /// Clears the screen, so that what is waited for is new.
    fn clear(&mut self) {
        self.press("\u{c}");
        let begun = Instant::now();
        while self
            .contents()
            .lines()
            .filter(|line| !line.trim().is_empty())
            .count()
            > 1
        {
            assert!(begun.elapsed() < LONGEST_WAIT, "{}", self.contents());
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Empties the line and leaves.
    fn leave(mut self) {
        self.press("\u{15}\u{4}");
        let begun = Instant::now();
        loop {
            if let Some(status) = self.child.try_wait().unwrap() {
                return assert!(status.success(), "{}", self.contents());
            }
            assert!(begun.elapsed() < LONGEST_WAIT, "it does not end:\n{}", self.contents());
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

#[test]
fn lines_of_a_pipe_are_answered_until_one_fails() {
    let folder = tempfile::tempdir().unwrap();
    let console = || {
        let mut command = nepheline(&["console"]);
        command.current_dir(folder.path());
        command
    };
    let questions = "\
sql on
specimen where top_m > 700
    and borehole.site.region LIKE 'Upper%'
  show label, top_m order -top_m limit 3
sql
as csv
specimen per rock total count having count > 90 order -count
export rocks.md
as chart

specimen per rock total count having count > 90 order
  -count
names borehole
plan specimen where id = 3
lab where nam = 'x'
lab
";
    assert_cmd_snapshot!("lines of a pipe", console().pass_stdin(questions));
    let exported = std::fs::read_to_string(folder.path().join("rocks.md")).unwrap();
    assert!(exported.starts_with("| rock | count |\n|---|---|\n| granite | 152 |\n"), "{exported}");
    assert_cmd_snapshot!("help", console().pass_stdin("help\nleave\nnonsense"));
    assert_cmd_snapshot!("nothing to export", console().pass_stdin("export x.csv"));
}

#[test]
fn tab_completes_tables_columns_relations_and_clauses() {
    let state = tempfile::tempdir().unwrap();
    let mut terminal = Terminal::open(None, state.path());
    terminal.press("bor\t");
    terminal.wait_for("nepheline> borehole");
    terminal.press("wh\tsite.re\t = 'Upper Tarn' sh\tna\t, site.re\t ord\t-dep\t lim\t2");
    terminal.wait_for(
        "borehole where site.region = 'Upper Tarn' show name, site.region order -depth_m limit 2",
    );
    terminal.press("\u{15}assay per ele\t tot\tcou\t");
    // Two names begin so: both are listed.
    terminal.press("\t\t");
    terminal.wait_for("count(");
    terminal.leave();
}

#[test]
fn lines_go_on_are_kept_and_come_back() {
    let state = tempfile::tempdir().unwrap();
    let mut terminal = Terminal::open(None, state.path());
    terminal.press("lab where\r");
    terminal.press("id = 1 show id, country\r");
    terminal.wait_for("1 row");
    terminal.press("sql\r");
    terminal.wait_for("the SQL is shown before each answer");
    terminal.press("site where id = 3 show id\r");
    let shown = terminal.wait_for("WHERE \"site\".\"id\" = ?");
    assert!(shown.contains("1: 3"), "{shown}");
    terminal.press("sitee\r");
    terminal.wait_for("unknown table `sitee`; did you mean `site`?");
    terminal.leave();

    // Another console has the lines of the one before.
    let mut terminal = Terminal::open(None, state.path());
    terminal.press("\u{1b}[A\u{1b}[A");
    terminal.wait_for("nepheline> site where id = 3 show id");
    terminal.clear();
    // A narrower terminal gets a narrower table.
    let narrow = PtySize { cols: 50, ..SIZE };
    terminal
        .screen
        .lock()
        .unwrap()
        .screen_mut()
        .set_size(narrow.rows, narrow.cols);
    terminal.master.resize(narrow).unwrap();
    terminal.write("specimen show label,borehole.site.region,borehole.rig,analyst.name limit 2");
    terminal.press("\r");
    let narrow = terminal.wait_for("2 of 600 rows");
    let table = narrow.lines().skip_while(|line| !line.starts_with("label"));
    assert!(table.into_iter().all(|line| line.chars().count() <= 50), "{narrow}");
    terminal.leave();
}

#[test]
fn control_c_stops_the_statement_and_nothing_else() {
    let folder = tempfile::tempdir().unwrap();
    for url in urls(folder.path()) {
        let cleared = Cleared::open(&url, &["VIEW endless_count"]);
        let endless = match cleared.db.dialect() {
            Dialect::Sqlite => {
                "WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n WHERE x < 900000000000) SELECT count(*) AS x FROM n"
            }
            Dialect::Postgres => "SELECT count(*) AS x FROM generate_series(1, 900000000000) AS n",
            _ => "SELECT BENCHMARK(900000000000, MD5('core')) AS x",
        };
        cleared.run(&format!("CREATE VIEW endless_count AS {endless}"));
        let mut terminal = Terminal::open(Some(&url), folder.path());
        terminal.press("endless_count\r");
        std::thread::sleep(Duration::from_millis(300));
        terminal.press("\u{3}");
        // The terminal itself throws away keys that are pressed before the prompt is there.
        terminal.wait_for("stopped\nnepheline> ");
        // At the prompt it empties the line.
        terminal.write("half a li");
        terminal.press("\u{3}");
        terminal.wait_for("half a li\nnepheline> ");
        terminal.press("names endless_count\r");
        terminal.wait_for("allows");
        terminal.leave();
    }
}

#[test]
fn the_values_of_enums_are_completed() {
    let folder = tempfile::tempdir().unwrap();
    for url in urls(folder.path()) {
        let cleared = Cleared::open(&url, &["TABLE drill_core"]);
        let (before, column) = match cleared.db.dialect() {
            Dialect::Sqlite => continue,
            Dialect::Postgres => (
                "DROP TYPE IF EXISTS core_state; CREATE TYPE core_state AS ENUM ('whole', 'cut in half');",
                "core_state",
            ),
            _ => ("", "ENUM('whole', 'cut in half')"),
        };
        cleared.run(&format!(
            "{before} CREATE TABLE drill_core (id INT PRIMARY KEY, state {column} NOT NULL)"
        ));
        let mut terminal = Terminal::open(Some(&url), folder.path());
        terminal.press("drill_core where state = 'cu\t' and sta\t in ('wh\t')");
        terminal.wait_for("drill_core where state = 'cut in half' and state in ('whole')");
        terminal.leave();
        cleared.run("DROP TABLE drill_core");
        if cleared.db.dialect() == Dialect::Postgres {
            cleared.run("DROP TYPE core_state");
        }
    }
}
