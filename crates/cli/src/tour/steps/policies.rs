//! Policies, the writes under them, and interceptors.

use std::collections::BTreeSet;

use anyhow::{Result, bail};
use nepheline::blocking::{Database, Transaction};
use nepheline::prelude::*;
use nepheline::{Clock, Sql};
use nepheline_coreshed::Borehole;
use nepheline_coreshed::guarded::{self, AgencyId, not_archived, not_withdrawn};

use crate::tour::Tour;
use crate::tour::rows::or_null;

pub(super) fn policies(tour: &mut Tour<'_>) -> Result<()> {
    let carried = Carried::new().with(AgencyId(1));
    let db = tour.db.clone();
    // shown
    let db = db.carrying(AgencyId(1));
    let sites = guarded::Site::rows().order_by(|s| s.id.asc()).select(|s| {
        let specimens = s.boreholes().flat_map(|b| b.specimens());
        (s.name, s.closed_on, specimens.count())
    });
    let archived_too = sites.clone().waive_everywhere(not_archived);
    // until here
    for query in [sites, archived_too] {
        tour.show_each(|dialect| query.sql_carrying(dialect, &carried))?;
        let sql = query.sql_carrying(db.dialect(), &carried)?;
        for (kind, waived) in [("applied", false), ("waived", true)] {
            let policies = policies_of(&sql, waived);
            if !policies.is_empty() {
                tour.note(&format!("{kind}: {policies}"))?;
            }
        }
        let rows = db.read(&query)?.into_iter();
        let rows: Vec<_> = rows
            .map(|(name, closed_on, count)| vec![name, or_null(closed_on), count.to_string()])
            .collect();
        tour.table(&["name", "closed_on", "specimens"], &rows)?;
    }
    Ok(())
}

fn policies_of(sql: &Sql, waived: bool) -> String {
    let used = sql
        .policies()
        .iter()
        .filter(|used| used.is_waived() == waived);
    let used: BTreeSet<String> = used
        .map(|used| format!("{} of {}", used.policy(), used.table()))
        .collect();
    used.into_iter().collect::<Vec<_>>().join(", ")
}

pub(super) fn missing_value(tour: &mut Tour<'_>) -> Result<()> {
    let db = tour.db.clone();
    // shown
    let outcome = db.count(&guarded::Site::rows());
    // until here
    match outcome {
        Ok(sites) => bail!("{sites} sites were read without an agency"),
        Err(err) => tour.fault(&err),
    }
}

pub(super) fn retire(tour: &mut Tour<'_>) -> Result<()> {
    let db = tour.db.clone();
    // shown
    let at: Timestamp = "2024-06-01T09:30:00Z".parse()?;
    let db = db.carrying(AgencyId(1)).carrying(Clock::stopped_at(at));
    let deep = guarded::Specimen::rows().filter(|s| s.top_m.gt(500));
    let delete = deep.clone().delete();
    let all = deep.clone().waive(not_withdrawn);
    let restore = all
        .clone()
        .filter(|s| s.withdrawn_at.eq(at))
        .update(|s| s.withdrawn_at.set_null());
    // until here
    let carried = Carried::new().with(AgencyId(1)).with(Clock::stopped_at(at));
    tour.show_each(|dialect| delete.sql_carrying(dialect, &carried))?;
    tour.show_each(|dialect| restore.sql_carrying(dialect, &carried))?;
    let notes = rolled_back(&db, |tx| {
        Ok([
            format!("{} deep specimens", tx.count(&deep)?),
            format!("{} deleted, {} still visible", tx.write(&delete)?, tx.count(&deep)?),
            format!("{} with the policy waived", tx.count(&all)?),
            format!("{} restored, {} visible", tx.write(&restore)?, tx.count(&deep)?),
        ])
    })?;
    notes.iter().try_for_each(|note| tour.note(note))
}

pub(super) fn upsert(tour: &mut Tour<'_>) -> Result<()> {
    let carried = Carried::new().with(AgencyId(1));
    let db = tour.db.clone();
    // shown
    let db = db.carrying(AgencyId(1));
    let drilled = |name: &str, depth_m: f64| guarded::BoreholeToInsert {
        site_id: 2,
        name: name.to_owned(),
        depth_m,
        drilled_on: date(2024, 5, 30),
        rig: "DR-7".to_owned(),
    };
    let boreholes = [drilled("LM-1", 351.5), drilled("LM-77", 64.0), drilled("HC-1", 90.0)];
    let upsert = guarded::Borehole::insert_all(boreholes)
        .or_update(|b| b.name, |b, new| b.depth_m.set(new.depth_m));
    // until here
    tour.show_each(|dialect| upsert.sql_carrying(dialect, &carried))?;
    let (counts, lower_mere) = rolled_back(&db, |tx| {
        let counts = tx.write_upsert(&upsert)?;
        let of_site = guarded::Borehole::rows()
            .filter(|b| b.site_id.eq(2))
            .order_by(|b| b.name.asc());
        Ok((counts, tx.read(&of_site)?))
    })?;
    tour.note(&format!(
        "{} inserted, {} updated, {} unchanged: HC-1 belongs to another agency",
        counts.inserted, counts.updated, counts.kept
    ))?;
    let rows = lower_mere.into_iter();
    let rows: Vec<_> = rows
        .map(|b| vec![b.name, b.depth_m.to_string(), b.drilled_on.to_string()])
        .collect();
    tour.table(&["name", "depth_m", "drilled_on"], &rows)
}

#[derive(Debug, RowShape)]
struct Deepest {
    borehole_id: i64,
    base_m: Option<f64>,
}

pub(super) fn joined_update(tour: &mut Tour<'_>) -> Result<()> {
    let carried = Carried::new().with(AgencyId(1));
    let db = tour.db.clone();
    // shown
    let db = db.carrying(AgencyId(1));
    let deepest = guarded::Specimen::rows()
        .filter(|s| s.base_m.gt(800))
        .select(|s| shape!(Deepest { borehole_id: per(s.borehole_id), base_m: max(s.base_m) }));
    let update = guarded::Borehole::rows()
        .join(|b| from(deepest).filter(|d| d.borehole_id.eq(b.id)))
        .update(|(b, d)| b.depth_m.set(d.base_m.coalesce(b.depth_m)));
    // until here
    tour.show_each(|dialect| update.sql_carrying(dialect, &carried))?;
    let changed = rolled_back(&db, |tx| tx.write(&update))?;
    tour.note(&format!("{changed} boreholes were updated, and set back"))
}

/// Returns the result of work in a transaction that is rolled back, so that the demo data stays as it is.
fn rolled_back<T>(
    db: &Database,
    work: impl FnOnce(&Transaction<'_>) -> Result<T, Error>,
) -> Result<T> {
    let mut result = None;
    let outcome: Result<(), Error> = db.transaction(|tx| {
        result = Some(work(tx)?);
        tx.read_one(&guarded::Specimen::row(-1)).map(drop)
    });
    match (result, outcome) {
        (Some(result), Err(err)) if err.kind() == ErrorKind::NotFound => Ok(result),
        (_, Err(err)) => Err(err.into()),
        (_, Ok(())) => bail!("there is a specimen -1"),
    }
}

pub(super) fn budget(tour: &mut Tour<'_>) -> Result<()> {
    let db = tour.db.clone();
    // shown
    let db = db.budget(3);
    let boreholes = db.read(&Borehole::rows().order_by(|b| b.id.asc()).limit(5))?;
    let counts: Result<Vec<u64>, Error> = boreholes
        .iter()
        .map(|borehole| db.count(&borehole.specimens()))
        .collect();
    // until here
    match counts {
        Ok(_) => bail!("six statements passed a budget of three"),
        Err(err) => tour.fault(&err),
    }
}
