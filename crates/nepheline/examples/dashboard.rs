//! The handler behind a list with filters: each may be absent, and they are of every kind.
//!
//! `cargo run -p nepheline --example dashboard` asks some requests; with a query string of your own
//! behind it, `cargo run -p nepheline --example dashboard -- 'rock=basalt&sort=label'`, that one.
#![allow(clippy::print_stdout, reason = "an example")]

use anyhow::{Context, Result, bail};
use nepheline::Cell;
use nepheline::prelude::*;
use nepheline_coreshed::scopes::{
    deepest_first, labelled, length_m, not_withdrawn, of_rocks, with_at_least,
};
use nepheline_coreshed::{Rock, Specimen};

/// What a request asks for, read and checked before any query is built.
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
    match request.by_label {
        true => query.order_by(|s| s.label.any_case().asc()),
        false => query.apply(deepest_first),
    }
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
            _ => bail!("there is no such filter"),
        }
        Ok(())
    }
}

fn main() -> Result<()> {
    let db = nepheline_coreshed::in_memory()?;
    let given: Vec<String> = std::env::args().skip(1).collect();
    let requests = match given.is_empty() {
        false => given,
        true => [
            "",
            "rock=basalt&rock=nepheline+syenite&from=100&to=300&sort=label",
            "q=kp+9&year=2019&analyst=none&analyst=5&element=Nd&ppm=200&longer=0.5&withdrawn",
            "rock=cheese",
        ]
        .map(str::to_owned)
        .to_vec(),
    };
    for request in requests {
        println!("GET /specimens?{request}");
        let query = match Request::of(&request) {
            Ok(request) => specimens(request),
            Err(err) => {
                println!("400 {err:#}\n");
                continue;
            }
        };
        println!("{}", query.sql(Dialect::Postgres)?.by_clause());
        let page = db.read(&query.clone().limit(3))?;
        let labels: Vec<_> = page
            .iter()
            .map(|specimen| specimen.label.as_str())
            .collect();
        println!("200 {} of {}: {}\n", page.len(), db.count(&query)?, labels.join(", "));
    }
    Ok(())
}
