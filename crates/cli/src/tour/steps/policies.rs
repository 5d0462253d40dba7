//! Policies, the writes under them, and gates.

use std::collections::BTreeSet;

use anyhow::{Result, bail};
use jiff::civil::date;
use nepheline::Clock;
use nepheline::blocking::{Database, Transaction};
use nepheline::prelude::*;
use nepheline_coreshed::Borehole;
use nepheline_coreshed::guarded::{self, AgencyId};

use crate::tour::Tour;
use crate::tour::rows::or_null;

pub(super) fn policies(tour: &mut Tour<'_>) -> Result<()> {
    let carried = Carried::new().with(AgencyId(1));
    let db = tour.db.carrying(AgencyId(1));
    let sites = || {
        guarded::Site::rows().order_by(|s| s.id.asc()).select(|s| {
            let specimens = s.boreholes().flat_map(|b| b.specimens());
            (s.name, s.closed_on, specimens.count())
        })
    };
    let archived_too = sites().waive_everywhere(guarded::not_archived);
    for query in [sites(), archived_too] {
        tour.show_each(|dialect| query.sql_carrying(dialect, &carried))?;
        let met = query.sql_carrying(db.dialect(), &carried)?;
        for (what, waived) in [("applied", false), ("waived", true)] {
            let told = met
                .policies()
                .iter()
                .filter(|met| met.is_waived() == waived);
            let told: BTreeSet<String> = told
                .map(|met| format!("{} of {}", met.policy(), met.table()))
                .collect();
            if !told.is_empty() {
                let told: Vec<String> = told.into_iter().collect();
                tour.screen.line(&format!("{what}: {}", told.join(", ")))?;
            }
        }
        let rows = db.read(&query)?;
        let all = rows.len();
        let shown: Vec<_> = rows
            .into_iter()
            .map(|(name, closed_on, count)| vec![name, or_null(closed_on), count.to_string()])
            .collect();
        tour.screen
            .table(&["name", "closed_on", "specimens"], &shown, all)?;
    }
    Ok(())
}

pub(super) fn nobody_asks(tour: &mut Tour<'_>) -> Result<()> {
    match tour.db.count(&guarded::Site::rows()) {
        Ok(sites) => bail!("{sites} sites were told to nobody"),
        Err(err) => Ok(tour.screen.fault(&format!("error: {err}"))?),
    }
}

pub(super) fn retire(tour: &mut Tour<'_>) -> Result<()> {
    let at = date(2024, 6, 1)
        .at(9, 30, 0, 0)
        .to_zoned(jiff::tz::TimeZone::UTC)?
        .timestamp();
    let carried = Carried::new().with(AgencyId(1)).with(Clock::fixed(at));
    let db = tour.db.carrying(AgencyId(1)).carrying(Clock::fixed(at));
    let deep = guarded::Specimen::rows().filter(|s| s.top_m.gt(500));
    let delete = deep.clone().delete();
    let restore = deep
        .clone()
        .waive(guarded::not_withdrawn)
        .filter(|s| s.withdrawn_at.eq(at))
        .update(|s| s.withdrawn_at.set_null());
    tour.show_each(|dialect| delete.sql_carrying(dialect, &carried))?;
    tour.show_each(|dialect| restore.sql_carrying(dialect, &carried))?;
    let told = undone(&db, |tx| {
        let mut told = vec![format!("{} deep specimens", tx.count(&deep)?)];
        told.push(format!("{} deleted, {} left to see", tx.write(&delete)?, tx.count(&deep)?));
        let all = deep.clone().waive(guarded::not_withdrawn);
        told.push(format!("{} with the policy waived", tx.count(&all)?));
        told.push(format!("{} restored, {} to see", tx.write(&restore)?, tx.count(&deep)?));
        Ok(told)
    })?;
    for line in told {
        tour.screen.line(&line)?;
    }
    Ok(())
}

pub(super) fn upsert(tour: &mut Tour<'_>) -> Result<()> {
    let carried = Carried::new().with(AgencyId(1));
    let db = tour.db.carrying(AgencyId(1));
    let drilled = |name: &str, depth_m: f64| guarded::UnsavedBorehole {
        site_id: 2,
        name: name.to_owned(),
        depth_m,
        drilled_on: date(2024, 5, 30),
        rig: "DR-7".to_owned(),
    };
    let boreholes = [drilled("LM-1", 351.5), drilled("LM-77", 64.0), drilled("HC-1", 90.0)];
    let upsert = guarded::Borehole::insert_all(boreholes)
        .or_update(|b| b.name, |b, new| b.depth_m.set(new.depth_m));
    tour.show_each(|dialect| upsert.sql_carrying(dialect, &carried))?;
    let (told, lower_mere) = undone(&db, |tx| {
        let told = tx.write_upsert(&upsert)?;
        let of_site = guarded::Borehole::rows()
            .filter(|b| b.site_id.eq(2))
            .order_by(|b| b.name.asc());
        Ok((told, tx.read(&of_site)?))
    })?;
    tour.screen.line(&format!(
        "{} new, {} known and deepened, {} kept: HC-1 is of another agency",
        told.inserted, told.updated, told.kept
    ))?;
    let rows = lower_mere
        .into_iter()
        .map(|b| vec![b.name, b.depth_m.to_string(), b.drilled_on.to_string()]);
    let rows: Vec<_> = rows.collect();
    Ok(tour
        .screen
        .table(&["name", "depth_m", "drilled_on"], &rows, rows.len())?)
}

/// What work in a transaction tells, which is undone: the demo data stays as it is.
fn undone<T>(db: &Database, work: impl FnOnce(&Transaction<'_>) -> Result<T, Error>) -> Result<T> {
    let mut told = None;
    let outcome: Result<(), Error> = db.transaction(|tx| {
        told = Some(work(tx)?);
        tx.read_one(&guarded::Specimen::row(-1)).map(drop)
    });
    match (told, outcome) {
        (Some(told), Err(err)) if err.kind() == ErrorKind::NotFound => Ok(told),
        (_, Err(err)) => Err(err.into()),
        (_, Ok(())) => bail!("there is a specimen -1"),
    }
}

pub(super) fn budget(tour: &mut Tour<'_>) -> Result<()> {
    let db = tour.db.budget(3);
    let boreholes = db.read(&Borehole::rows().order_by(|b| b.id.asc()).limit(5))?;
    let each: Result<Vec<u64>, Error> = boreholes
        .iter()
        .map(|borehole| db.count(&borehole.specimens()))
        .collect();
    match each {
        Ok(_) => bail!("six statements passed a budget of three"),
        Err(err) => Ok(tour.screen.fault(&format!("error: {err}"))?),
    }
}
