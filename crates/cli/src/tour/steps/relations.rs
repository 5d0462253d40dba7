//! Queries over several tables.

use anyhow::Result;
use nepheline::StatementLog;
use nepheline::prelude::*;
use nepheline_coreshed::scopes::{deeper_than, unassigned};
use nepheline_coreshed::{Borehole, Site, Specimen};

use crate::tour::Tour;
use crate::tour::rows::or_null;

pub(super) fn parents(tour: &mut Tour<'_>) -> Result<()> {
    // shown
    let query = Specimen::rows()
        .filter(|s| s.borehole().site().region.eq("Upper Tarn") & s.top_m.lt(60))
        .order_by(|s| (s.borehole().name.asc(), s.top_m.asc()))
        .select(|s| {
            (s.label, s.borehole().name, s.borehole().site().name, s.analyst().map(|a| a.name))
        });
    // until here
    tour.show(&query)?;
    let headings = ["label", "borehole", "site", "analyst"];
    tour.values(&headings, &query, |(label, borehole, site, analyst)| {
        vec![label, borehole, site, or_null(analyst)]
    })
}

pub(super) fn children(tour: &mut Tour<'_>) -> Result<()> {
    // shown
    let query = Specimen::rows()
        .filter(|s| s.assays().count().ge(8) & s.hazards().not_exists())
        .filter(|s| s.assays().any(|a| a.lab().accredited.is_false()))
        .order_by(|s| (s.assays().max(|a| a.ppm).desc(), s.label.asc()))
        .select(|s| {
            let last = s.assays().order_by(|a| (a.due_on.asc(), a.id.asc()));
            (s.label, s.assays().count(), s.assays().max(|a| a.ppm), last.last(|a| a.element))
        });
    // until here
    tour.show(&query)?;
    let headings = ["label", "assays", "most ppm", "last for"];
    tour.values(&headings, &query, |(label, assays, most, last)| {
        vec![label, assays.to_string(), or_null(most), or_null(last)]
    })
}

pub(super) fn two_levels(tour: &mut Tour<'_>) -> Result<()> {
    // shown
    let query = Site::rows()
        .filter(|s| {
            let specimens = s.boreholes().flat_map(|b| b.specimens());
            specimens.any(unassigned.and(deeper_than(600.0)))
        })
        .order_by(|s| s.name.asc())
        .select(|s| (s.name, s.region, s.boreholes().count()));
    // until here
    tour.show(&query)?;
    tour.values(&["site", "region", "boreholes"], &query, |(site, region, boreholes)| {
        vec![site, region, boreholes.to_string()]
    })
}

pub(super) fn alongside(tour: &mut Tour<'_>) -> Result<()> {
    let log = StatementLog::new();
    let db = tour.db.logging_to(&log);
    // shown
    let query = Borehole::rows()
        .filter(|b| b.name.starts_with("KP"))
        .order_by(|b| b.name.asc())
        .select(|b| (b.name, b.depth_m))
        .alongside(|b| {
            b.specimens()
                .order_by(|s| (s.top_m.desc(), s.label.asc()))
                .limit(2)
                .select(|s| (s.label, s.top_m))
                .alongside(|s| s.hazards().order_by(|h| h.name.asc()).select(|h| h.name))
        })
        .alongside(|b| b.site());
    let rows = db.read(&query)?;
    // until here
    tour.show_all(|dialect| query.sql(dialect))?;
    let fields = rows.iter().map(|((name, depth_m), specimens, site)| {
        let specimens = specimens.iter().map(|((label, top_m), hazards)| {
            let hazards = match hazards.is_empty() {
                true => String::new(),
                false => format!(" ({})", hazards.join(", ")),
            };
            format!("{label} from {top_m}{hazards}")
        });
        let specimens = specimens.collect::<Vec<_>>().join("; ");
        vec![name.clone(), depth_m.to_string(), specimens, site.name.clone()]
    });
    let fields: Vec<_> = fields.collect();
    tour.table(&["borehole", "depth_m", "deepest specimens", "site"], &fields)?;
    tour.note(&format!("{} statements ran", log.len()))
}

pub(super) fn joins(tour: &mut Tour<'_>) -> Result<()> {
    // shown
    let query = Specimen::rows()
        .join(|s| s.borehole())
        .join(|(s, _)| s.analyst())
        .filter(|(s, b, _)| s.base_m.gt(b.depth_m * 0.98))
        .order_by(|(s, _, _)| s.label.asc());
    // until here
    tour.show(&query)?;
    let headings = ["label", "base_m", "borehole", "depth_m", "analyst"];
    tour.values(&headings, &query, |(specimen, borehole, analyst)| {
        vec![
            specimen.label,
            specimen.base_m.to_string(),
            borehole.name,
            borehole.depth_m.to_string(),
            or_null(analyst.map(|analyst| analyst.name)),
        ]
    })
}

pub(super) fn row_in_hand(tour: &mut Tour<'_>) -> Result<()> {
    let db = tour.db.clone();
    // shown
    let specimen = db.read_one(&Specimen::row(46))?;
    let borehole = specimen.borehole();
    let assays = specimen
        .assays()
        .order_by(|a| a.id.asc())
        .select(|a| (a.element, a.ppm));
    // until here
    tour.show(&borehole)?;
    let name = db.read_one(&borehole)?.name;
    tour.note(&format!("it is from borehole {name}"))?;
    tour.show(&assays)?;
    tour.values(&["element", "ppm"], &assays, |(element, ppm)| vec![element, ppm.to_string()])
}
