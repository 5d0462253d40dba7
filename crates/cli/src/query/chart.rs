//! Bars for a terminal.

use anyhow::{Result, bail};
use nepheline::NamedValues;
use serde_json::Value as Json;
use textwrap::core::display_width;

use super::{NULL, cells};

/// The width of the bars where there is no terminal.
const USUAL_WIDTH: usize = 100;

/// The widest bars, which the eye still compares with their labels.
const MOST_WIDTH: usize = 60;

/// The narrowest bars that say anything.
const LEAST_WIDTH: usize = 10;

/// The parts of a cell, from an eighth to seven.
const PARTS: [char; 7] = ['▏', '▎', '▍', '▌', '▋', '▊', '▉'];

/// Returns a bar for the last number of each row, under the texts before it.
pub(super) fn of(rows: &[NamedValues], width: Option<usize>) -> Result<String> {
    let mut bars: Vec<(String, Option<f64>, String)> = Vec::new();
    for row in rows {
        let last = row.iter().map(|(name, _)| name).last();
        let number = match last.and_then(|name| row.json(name)) {
            Some(Json::Number(number)) => number.as_f64(),
            // A decimal is written as text.
            Some(Json::String(text)) => match text.parse() {
                Ok(number) => Some(number),
                Err(_) => bail!(
                    "a chart needs a number as the last value of each row, and found '{text}'"
                ),
            },
            None | Some(Json::Null) => None,
            Some(other) => {
                bail!("a chart needs a number as the last value of each row, and found {other}")
            }
        };
        let mut texts = cells(row, NULL);
        let shown = texts.pop().unwrap_or_default();
        bars.push((texts.join(", "), number, shown));
    }
    let widest = |of: fn(&(String, Option<f64>, String)) -> &str| {
        bars.iter()
            .map(|bar| display_width(of(bar)))
            .max()
            .unwrap_or(0)
    };
    let (label_width, number_width) = (widest(|bar| &bar.0), widest(|bar| &bar.2));
    let greatest = bars
        .iter()
        .filter_map(|(_, number, _)| *number)
        .fold(0.0, f64::max);
    let room = width
        .unwrap_or(USUAL_WIDTH)
        .saturating_sub(label_width + number_width + 4);
    let room = room.clamp(LEAST_WIDTH, MOST_WIDTH);
    let lines = bars.iter().map(|(label, number, shown)| {
        let gap = " ".repeat(label_width - display_width(label));
        let before = " ".repeat(number_width - display_width(shown));
        format!("{label}{gap}  {before}{shown}  {}", bar(*number, greatest, room))
            .trim_end()
            .to_owned()
    });
    Ok(lines.collect::<Vec<_>>().join("\n"))
}

/// Returns a bar for a number; none for NULL and for numbers below zero.
fn bar(number: Option<f64>, greatest: f64, room: usize) -> String {
    let share = number
        .filter(|number| *number > 0.0)
        .map_or(0.0, |number| number / greatest);
    let eighths = (share * room as f64 * 8.0).round() as usize;
    let mut bar = "█".repeat(eighths / 8);
    if let Some(part) = (eighths % 8)
        .checked_sub(1)
        .and_then(|part| PARTS.get(part))
    {
        bar.push(*part);
    }
    bar
}
