//! A chart of the answer: a bar for each row, in the terminal or as SVG.

use anyhow::{Result, anyhow, bail};
use nepheline::NamedValues;
use plotters::prelude::*;
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

/// The bar of a row.
struct Bar {
    /// The values before the last.
    label: String,
    /// The last value; `None` for NULL.
    number: Option<f64>,
    /// The last value as text.
    shown: String,
}

impl Bar {
    fn of(row: &NamedValues) -> Result<Bar> {
        let needed = |found: &str| {
            anyhow!("a chart needs a number as the last value of each row, and found {found}")
        };
        let last = row.iter().map(|(name, _)| name).last();
        let number = match last.and_then(|name| row.json(name)) {
            Some(Json::Number(number)) => number.as_f64(),
            // A decimal is written as text.
            Some(Json::String(text)) => {
                Some(text.parse().map_err(|_| needed(&format!("'{text}'")))?)
            }
            None | Some(Json::Null) => None,
            Some(other) => return Err(needed(&other.to_string())),
        };
        let mut texts = cells(row, NULL);
        let shown = texts.pop().unwrap_or_default();
        Ok(Bar { label: texts.join(", "), number, shown })
    }
}

/// Returns a line for each row: the values before the last, the last, and a bar for it.
pub(super) fn of(rows: &[NamedValues], width: Option<usize>) -> Result<String> {
    let bars: Vec<Bar> = rows.iter().map(Bar::of).collect::<Result<_>>()?;
    let widest = |text: fn(&Bar) -> &str| {
        bars.iter()
            .map(|bar| display_width(text(bar)))
            .max()
            .unwrap_or(0)
    };
    let (label_width, number_width) = (widest(|bar| &bar.label), widest(|bar| &bar.shown));
    let greatest = bars.iter().filter_map(|bar| bar.number).fold(0.0, f64::max);
    let room = width
        .unwrap_or(USUAL_WIDTH)
        .saturating_sub(label_width + number_width + 4);
    let room = room.clamp(LEAST_WIDTH, MOST_WIDTH);
    let lines = bars.iter().map(|Bar { label, number, shown }| {
        let gap = " ".repeat(label_width - display_width(label));
        let before = " ".repeat(number_width - display_width(shown));
        let line = format!("{label}{gap}  {before}{shown}  {}", blocks(*number, greatest, room));
        line.trim_end().to_owned()
    });
    Ok(lines.collect::<Vec<_>>().join("\n"))
}

/// Returns a bar for a number; none for NULL and for numbers below zero.
fn blocks(number: Option<f64>, greatest: f64, room: usize) -> String {
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

const INK: RGBColor = RGBColor(38, 50, 56);
const BARS: RGBColor = RGBColor(57, 106, 122);

/// The most rows that an SVG shows.
const MOST_BARS: usize = 100;

/// Returns the chart as SVG, under the names of its values.
pub(super) fn svg(names: &[&str], rows: &[NamedValues]) -> Result<String> {
    let bars: Vec<Bar> = rows.iter().map(Bar::of).collect::<Result<_>>()?;
    if bars.is_empty() {
        bail!("there are no rows to draw");
    }
    if bars.len() > MOST_BARS {
        bail!(
            "a chart shows at most {MOST_BARS} rows, and there are {}; give a --limit",
            bars.len()
        );
    }
    let numbers = || bars.iter().filter_map(|bar| bar.number);
    let (least, greatest) = (numbers().fold(0.0, f64::min), numbers().fold(0.0, f64::max));
    // Some room, so that the longest bar does not touch the edge, and for a chart of zeros.
    let room = ((greatest - least) * 0.05)
        .max(f64::MIN_POSITIVE)
        .max(if greatest > least { 0.0 } else { 1.0 });
    let (from, to) = (if least < 0.0 { least - room } else { 0.0 }, greatest + room);
    let (keys, total) = names.split_at(names.len().saturating_sub(1));
    let longest = bars
        .iter()
        .map(|bar| display_width(&bar.label))
        .max()
        .unwrap_or(0);
    let count = i32::try_from(bars.len())?;
    let height = 90 + 26 * u32::try_from(count)?;
    let mut svg = String::new();
    {
        let area = SVGBackend::with_string(&mut svg, (1000, height)).into_drawing_area();
        area.fill(&WHITE)?;
        let title = ("sans-serif", 20).into_font().color(&INK);
        let caption = match keys {
            [] => total.join(", "),
            keys => format!("{} by {}", total.join(", "), keys.join(", ")),
        };
        let mut chart = ChartBuilder::on(&area)
            .caption(caption, title)
            .margin(16)
            .x_label_area_size(30)
            .y_label_area_size(u32::try_from(longest * 8 + 16)?.min(480))
            .build_cartesian_2d(from..to, (0..count - 1).into_segmented())?;
        let label_of = |row: &SegmentValue<i32>| match row {
            // The first row is at the top.
            SegmentValue::CenterOf(row) => usize::try_from(count - 1 - row)
                .ok()
                .and_then(|row| bars.get(row))
                .map_or_else(String::new, |bar| bar.label.clone()),
            SegmentValue::Exact(_) | SegmentValue::Last => String::new(),
        };
        chart
            .configure_mesh()
            .disable_y_mesh()
            .light_line_style(WHITE)
            .axis_style(INK)
            .label_style(("sans-serif", 14).into_font().color(&INK))
            .x_label_formatter(&|number| ((number * 1e6).round() / 1e6).to_string())
            .y_labels(bars.len() + 1)
            .y_label_formatter(&label_of)
            .draw()?;
        chart.draw_series((0..count).zip(bars.iter().rev()).map(|(row, bar)| {
            let ends = [
                (0.0, SegmentValue::Exact(row)),
                (bar.number.unwrap_or(0.0), SegmentValue::Exact(row + 1)),
            ];
            let mut bar = Rectangle::new(ends, BARS.filled());
            bar.set_margin(3, 3, 0, 0);
            bar
        }))?;
        area.present()?;
    }
    Ok(svg)
}
