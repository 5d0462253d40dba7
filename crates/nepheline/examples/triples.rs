//! Filters that an admin page sends as triples of a field, an operator and a value, in JSON.
//!
//! `cargo run -p nepheline --example triples` reads some, prints each as CQL2 and as SQL, and counts its rows on demo data.
#![allow(clippy::print_stdout, reason = "an example")]

use nepheline::cql2::{Cql2, property};
use nepheline::prelude::*;
use nepheline::{Offer, OfferedFilter};
use nepheline_coreshed::{Specimen, in_memory, offers};
use serde::Deserialize;
use serde_json::Value as Json;

/// One row of the admin page's filter.
#[derive(Debug, Deserialize)]
struct Triple {
    field: String,
    operator: String,
    value: Json,
}

/// Returns a triple as an expression, or the reason why it is none. The offer checks its name and its types.
fn expression(triple: Triple) -> Result<Cql2, String> {
    let Triple { field, operator, value } = triple;
    let field = property(&field);
    if operator == "in" {
        let Json::Array(items) = value else { return Err("`in` needs a list".to_owned()) };
        let items: Result<Vec<Cql2>, String> = items.into_iter().map(literal).collect();
        return Ok(field.one_of(items?));
    }
    if value.is_null() {
        return match operator.as_str() {
            "=" => Ok(field.is_null()),
            "<>" => Ok(!field.is_null()),
            other => Err(format!("`{other}` compares with a value")),
        };
    }
    let compared = field.operator(&operator, literal(value)?);
    compared.ok_or_else(|| format!("no operator `{operator}`"))
}

/// Returns a value of JSON. A text that is a day is one.
fn literal(value: Json) -> Result<Cql2, String> {
    match value {
        Json::Bool(value) => Ok(value.into()),
        Json::Number(number) => match (number.as_i64(), number.as_f64()) {
            (Some(whole), _) => Ok(whole.into()),
            (None, Some(float)) => Ok(float.into()),
            (None, None) => Err(format!("{number} is too great")),
        },
        Json::String(text) => Ok(match text.parse::<Date>() {
            Ok(day) if text.len() == 10 => day.into(),
            _ => text.into(),
        }),
        other => Err(format!("{other} is no value")),
    }
}

/// Reads a list of triples, which all have to hold.
fn filter(offer: &Offer<Specimen>, json: &str) -> anyhow::Result<OfferedFilter<Specimen>> {
    let triples: Vec<Triple> = serde_json::from_str(json)?;
    let terms: Result<Vec<Cql2>, String> = triples.into_iter().map(expression).collect();
    let terms = terms.map_err(anyhow::Error::msg)?;
    let all = terms.into_iter().reduce(|all, term| all & term);
    Ok(offer.filter_of(all.unwrap_or(true.into()))?)
}

fn main() -> anyhow::Result<()> {
    let db = in_memory()?;
    let offer = offers::specimens(date(2026, 6, 15))?;
    for json in [
        r#"[{"field": "depth", "operator": ">=", "value": 300},
            {"field": "rock", "operator": "in", "value": ["basalt", "gneiss"]}]"#,
        r#"[{"field": "assays.element", "operator": "=", "value": "Nd"},
            {"field": "assays.ppm", "operator": ">", "value": 400.5},
            {"field": "withdrawn", "operator": "=", "value": null}]"#,
        r#"[{"field": "taken", "operator": "t_after", "value": "2025-01-01"}]"#,
        r#"[{"field": "depht", "operator": "<", "value": 10}]"#,
        r#"[{"field": "rock", "operator": "=", "value": "cheese"}]"#,
    ] {
        match filter(&offer, json) {
            Err(err) => println!("{err}\n"),
            Ok(filter) => {
                let query = Specimen::rows().filter(filter.scope());
                let sql = query.sql(Dialect::Sqlite)?;
                let clause = sql
                    .text()
                    .split_once(" WHERE ")
                    .map_or("", |(_, clause)| clause);
                println!("{filter}\n  {clause}\n  {} specimens\n", db.count(&query)?);
            }
        }
    }
    Ok(())
}
