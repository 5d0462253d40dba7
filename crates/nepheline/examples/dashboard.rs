//! The handler behind a dashboard: a list with filters, each of which may be absent, a page of it,
//! facets, totals, and a chart.
//!
//! `cargo run -p nepheline --example dashboard` asks some requests; with a query string of your own
//! behind it, `cargo run -p nepheline --example dashboard -- 'rock=basalt&sort=label'`, that one. The
//! chart of the last request is written to `nepheline-dashboard.svg` in the folder for temporary files.
#![allow(clippy::print_stdout, reason = "an example")]

use anyhow::{Context, Result, bail};
use nepheline::blocking::Database;
use nepheline::prelude::*;
use nepheline::{Cell, Page, Paging, StatementLog, TruncUnit};
use nepheline_coreshed::scopes::{
    deepest_first, labelled, length_m, not_withdrawn, of_rocks, with_at_least,
};
use nepheline_coreshed::{Rock, Specimen, SpecimenColumns};

/// The parameters of a request, checked before any query is built.
#[derive(Debug, Default)]
struct Request {
    /// `rock=basalt&rock=granite`: one of several.
    rocks: Vec<Rock>,
    /// `q=kp 02`: words that the label has, in upper or lower case.
    words: Vec<String>,
    /// `from=100` and `to=200`: metres, either of them alone too.
    from_m: Option<f64>,
    to_m: Option<f64>,
    /// `year=2024`: when it was taken.
    year: Option<i32>,
    /// `analyst=3&analyst=none`: one of several, nobody being one of them.
    analysts: Vec<Option<i64>>,
    /// `element=Au&ppm=400`: measured to have this much of it, or any.
    element: Option<String>,
    ppm: Option<f64>,
    /// `longer=0.5`: metres.
    longer_m: Option<f64>,
    /// `withdrawn`: show those as well.
    withdrawn: bool,
    /// `sort=label`: by label, and not the deepest first.
    by_label: bool,
    /// `page=2`: of five rows.
    page: Option<u64>,
}

/// The result of the handler: everything is computed from the same filtered rows.
struct Answer {
    page: Page<Specimen>,
    totals: Totals,
    /// The number of rows for each rock, the most frequent first.
    rocks: Vec<(Rock, i64)>,
    months: Vec<Month>,
}

#[derive(RowShape)]
struct Totals {
    unassigned: i64,
    boreholes: i64,
    metres: Option<f64>,
}

#[derive(RowShape)]
struct Month {
    first_day: Date,
    metres: Option<f64>,
}

/// Five statements, whatever the filters are: a count and a page, totals, facets and the chart's months.
fn answer(db: &Database, request: Request) -> Result<Answer, Error> {
    let paging = Paging::page_size(5).page(request.page.unwrap_or(1));
    let by_label = request.by_label;
    let filtered = specimens(request);
    // Rows are ordered, and groups in their own way, so the order comes after the filters are shared.
    let ordered = match by_label {
        true => filtered.clone().order_by(|s| s.label.any_case().asc()),
        false => filtered.clone().apply(deepest_first),
    };
    let totals = filtered.clone().select(|s| {
        shape!(Totals {
            unassigned: count().filter(s.analyst_id.is_null()),
            boreholes: count_distinct(s.borehole_id),
            metres: sum(length_m(s)),
        })
    });
    let rocks = filtered
        .clone()
        .select(|s| (per(s.rock), count()))
        .order_by(|s| (count().desc(), per(s.rock).asc()));
    let month = |s: SpecimenColumns| s.taken_on.date_trunc(TruncUnit::Month);
    let months = filtered
        .select(|s| shape!(Month { first_day: per(month(s)), metres: sum(length_m(s)) }))
        .order_by(|s| per(month(s)).asc());
    Ok(Answer {
        page: db.read_page(&ordered, paging)?,
        totals: db.read_one(&totals)?,
        rocks: db.read(&rocks)?,
        months: db.read(&months)?,
    })
}

/// The query for a request. It stays of one type whatever is asked for.
fn specimens(request: Request) -> Query<Specimen> {
    let rocks = Some(request.rocks).filter(|rocks| !rocks.is_empty());
    let mut query = Specimen::rows()
        .filter(|s| rocks.map(|rocks| of_rocks(rocks)(s)))
        .filter(labelled(request.words))
        .filter(|s| request.from_m.map(|metres| s.top_m.ge(metres)))
        .filter(|s| request.to_m.map(|metres| s.top_m.lt(metres)))
        .filter(|s| request.year.map(|year| s.taken_on.year().eq(year)))
        .filter(|s| request.longer_m.map(|metres| length_m(s).gt(metres)));
    if !request.analysts.is_empty() {
        query = query.filter(|s| s.analyst_id.one_of(request.analysts));
    }
    if let Some(element) = request.element {
        query = query.filter(with_at_least(request.ppm.unwrap_or(0.0), element));
    }
    if !request.withdrawn {
        query = query.filter(not_withdrawn);
    }
    query
}

impl Request {
    /// Reads a query string. What cannot be read is told with its name, and nothing is guessed.
    fn of(query_string: &str) -> Result<Request> {
        let mut request = Request::default();
        for (name, value) in url::form_urlencoded::parse(query_string.as_bytes()) {
            request
                .set(&name, &value)
                .with_context(|| format!("`{name}={value}` cannot be read"))?;
        }
        Ok(request)
    }

    fn set(&mut self, name: &str, value: &str) -> Result<()> {
        match name {
            "rock" => match Rock::from_cell(Cell::Text(value)) {
                Ok(rock) => self.rocks.push(rock),
                Err(wrong) => bail!("expected {}", wrong.as_str()),
            },
            "q" => self
                .words
                .extend(value.split_whitespace().map(str::to_owned)),
            "from" => self.from_m = Some(value.parse()?),
            "to" => self.to_m = Some(value.parse()?),
            "year" => self.year = Some(value.parse()?),
            "analyst" if value == "none" => self.analysts.push(None),
            "analyst" => self.analysts.push(Some(value.parse()?)),
            "element" => self.element = Some(value.to_owned()),
            "ppm" => self.ppm = Some(value.parse()?),
            "longer" => self.longer_m = Some(value.parse()?),
            "withdrawn" => self.withdrawn = true,
            "sort" => self.by_label = value == "label",
            "page" => self.page = Some(value.parse()?),
            _ => bail!("there is no such filter"),
        }
        Ok(())
    }
}

/// A bar for each month, as SVG.
fn draw(months: &[Month]) -> Result<String> {
    use plotters::prelude::*;

    const INK: RGBColor = RGBColor(38, 50, 56);
    const BARS: RGBColor = RGBColor(57, 106, 122);
    let metres = |month: &Month| month.metres.unwrap_or(0.0);
    let (Some(first), Some(last)) = (months.first(), months.last()) else {
        bail!("there is nothing to draw");
    };
    let number = |day: Date| i32::from(day.year()) * 12 + i32::from(day.month()) - 1;
    let (from, to) = (number(first.first_day), number(last.first_day) + 1);
    let highest = months.iter().map(metres).fold(1.0, f64::max);
    let mut svg = String::new();
    {
        let area = SVGBackend::with_string(&mut svg, (1000, 420)).into_drawing_area();
        area.fill(&WHITE)?;
        let title = ("sans-serif", 22).into_font().color(&INK);
        let mut chart = ChartBuilder::on(&area)
            .caption("Metres of core, by the month they were taken in", title)
            .margin(18)
            .margin_right(44)
            .x_label_area_size(36)
            .y_label_area_size(56)
            .build_cartesian_2d(from..to, 0.0..highest * 1.05)?;
        chart
            .configure_mesh()
            .disable_x_mesh()
            .light_line_style(WHITE)
            .axis_style(INK)
            .label_style(("sans-serif", 14).into_font().color(&INK))
            .x_labels(12)
            .x_label_formatter(&|month| format!("{}-{:02}", month / 12, month % 12 + 1))
            .axis_desc_style(("sans-serif", 16).into_font().color(&INK))
            .y_desc("metres")
            .draw()?;
        chart.draw_series(months.iter().map(|month| {
            let left = number(month.first_day);
            let mut bar = Rectangle::new([(left, 0.0), (left + 1, metres(month))], BARS.filled());
            bar.set_margin(0, 0, 0, 1);
            bar
        }))?;
        area.present()?;
    }
    Ok(svg)
}

fn main() -> Result<()> {
    let record = StatementLog::new();
    let db = nepheline_coreshed::in_memory()?.logging_to(&record);
    let given: Vec<String> = std::env::args().skip(1).collect();
    let requests = match given.is_empty() {
        false => given,
        true => [
            "rock=basalt&rock=nepheline+syenite&from=100&to=300&sort=label&page=2",
            "q=kp+9&year=2019&analyst=none&analyst=5&element=Nd&ppm=200&longer=0.5&withdrawn",
            "rock=cheese",
            "page=9",
        ]
        .map(str::to_owned)
        .to_vec(),
    };
    for request in requests {
        println!("GET /specimens?{request}");
        let request = match Request::of(&request) {
            Ok(request) => request,
            Err(err) => {
                println!("400 {err:#}\n");
                continue;
            }
        };
        let mark = record.mark();
        let Answer { page, totals, rocks, months } = answer(&db, request)?;
        let labels: Vec<_> = page.rows().iter().map(|s| s.label.as_str()).collect();
        println!("200 page {} of {}: {}", page.number(), page.total_pages(), labels.join(", "));
        println!(
            "    {} specimens of {} boreholes, {:.1} m, {} unassigned",
            page.total_rows(),
            totals.boreholes,
            totals.metres.unwrap_or(0.0),
            totals.unassigned
        );
        let rocks: Vec<_> = rocks
            .iter()
            .map(|(rock, count)| format!("{rock:?} {count}"))
            .collect();
        println!("    {}", rocks.join(", "));
        println!("    {} statements\n", record.since(mark).len());
        if !months.is_empty() {
            let chart = std::env::temp_dir().join("nepheline-dashboard.svg");
            std::fs::write(&chart, draw(&months)?)?;
        }
    }
    Ok(())
}
