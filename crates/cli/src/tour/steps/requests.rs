//! Filters, sorts, properties and totals that arrive as text.

use anyhow::Result;
use nepheline::prelude::*;
use nepheline::{NamedValues, Offer};
use nepheline_coreshed::{Specimen, offers, scopes};
use serde_json::Value as Json;

use super::super::Tour;
use crate::screen::NULL;

pub(super) fn filter(tour: &mut Tour<'_>) -> Result<()> {
    // shown
    let offer = Offer::of::<Specimen>()
        .value("label", |s| s.label)
        .value("depth", |s| s.top_m)
        .value("region", |s| s.borehole().site().region)
        .value("results", |s| s.assays().count())
        .value("overdue", |s| s.assays().any(scopes::overdue(date(2026, 6, 15))))
        .children("assays", |s| s.assays(), &offers::assays()?)
        .build()?;

    // From a link: ?filter=..&sortby=..&properties=..
    let filter = offer.cql2_text(
        "region LIKE 'Upper%' AND assays.element = 'Nd' AND assays.ppm > 400 AND overdue = FALSE",
    )?;
    let sort = offer.sort_by("-depth,label")?;
    let specimens = Specimen::rows()
        .filter(filter.scope())
        .order_by(sort.orders())
        .limit(5);
    let query = offer.properties("label,depth,results")?.rows_of(specimens);
    // until here
    tour.show_each(|dialect| query.sql(dialect))?;
    tour.values(&["label", "depth", "results"], &query, fields)
}

pub(super) fn totals(tour: &mut Tour<'_>) -> Result<()> {
    let offer = offers::specimens(date(2026, 6, 15))?;
    // shown
    let totals = offer
        .totals("region", "count, max(depth) as deepest, max(taken) as newest")?
        .having("deepest > 750")?
        .sort_by("-deepest")?;
    let query = totals.rows_of(Specimen::rows());
    // until here
    tour.show_each(|dialect| query.sql(dialect))?;
    tour.values(&["region", "count", "deepest", "newest"], &query, fields)
}

pub(super) fn mistake(tour: &mut Tour<'_>) -> Result<()> {
    let offer = offers::specimens(date(2026, 6, 15))?;
    // shown
    let refused = offer.cql2_text("depth > 100 AND rock = 'granite' AND dept < 'deep'");
    // until here
    match refused {
        Ok(filter) => tour.note(&format!("{filter} is no mistake")),
        Err(err) => tour.fault(&err),
    }
}

/// Returns the values of a row as text.
fn fields(row: NamedValues) -> Vec<String> {
    let shown = row.iter().map(|(name, _)| match row.json(name) {
        None | Some(Json::Null) => NULL.to_owned(),
        Some(Json::String(text)) => text,
        Some(other) => other.to_string(),
    });
    shown.collect()
}
