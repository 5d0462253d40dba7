//! The committed table of ratios.

use std::fmt;
use std::path::PathBuf;

/// The counts of one operation.
pub(crate) struct Row {
    pub(crate) name: String,
    pub(crate) ours: u64,
    pub(crate) by_hand: u64,
    /// Why the ratio rose when it last did.
    pub(crate) reason: String,
}

impl Row {
    pub(crate) fn ratio(&self) -> f64 {
        self.ours as f64 / self.by_hand as f64
    }
}

impl fmt::Display for Row {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Row { name, ours, by_hand, reason } = self;
        write!(f, "| {name} | {ours} | {by_hand} | {:.3} | {reason} |", self.ratio())
    }
}

pub(crate) struct Table {
    rows: Vec<Row>,
}

const OPENING: &str = "\
# Instructions

How many instructions each call takes, ours and a twin written by hand with the same driver, and the ratio of
the two. `cargo bench -p nepheline --features postgres,mysql --bench instructions` counts them with valgrind's callgrind
and fails where a ratio is more than 3 % above this table; CI runs it. `-- --write` writes the table anew. A
ratio that rises is committed with its reason.
";

impl Table {
    fn path() -> PathBuf {
        PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/instructions.md")
    }

    pub(crate) fn heading() -> &'static str {
        "| what | ours | by hand | ratio | why it rose |\n|---|---|---|---|---|"
    }

    pub(crate) fn committed() -> Table {
        let text = std::fs::read_to_string(Table::path()).unwrap_or_default();
        let rows = text.lines().filter_map(|line| {
            let cells: Vec<&str> = line.split('|').map(str::trim).collect();
            let [_, name, ours, by_hand, _, reason, _] = cells.as_slice() else { return None };
            Some(Row {
                name: (*name).to_owned(),
                ours: ours.parse().ok()?,
                by_hand: by_hand.parse().ok()?,
                reason: (*reason).to_owned(),
            })
        });
        Table { rows: rows.collect() }
    }

    pub(crate) fn ratio(&self, name: &str) -> Option<f64> {
        self.rows
            .iter()
            .find(|row| row.name == name)
            .map(Row::ratio)
    }

    /// The new counts with the old reasons.
    pub(crate) fn replaced_by(self, mut rows: Vec<Row>) -> Table {
        for row in &mut rows {
            if let Some(before) = self.rows.iter().find(|before| before.name == row.name) {
                row.reason.clone_from(&before.reason);
            }
        }
        Table { rows }
    }

    pub(crate) fn write(&self) {
        let rows: Vec<String> = self.rows.iter().map(ToString::to_string).collect();
        let text = format!("{OPENING}\n{}\n{}\n", Table::heading(), rows.join("\n"));
        std::fs::write(Table::path(), text).unwrap();
    }
}
