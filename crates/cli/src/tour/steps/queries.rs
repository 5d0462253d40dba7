//! Queries over one table: scopes, filters, computed values, and hand-written SQL.

use anyhow::{Result, bail};
use nepheline::prelude::*;
use nepheline::{TruncUnit, statement};
use nepheline_coreshed::scopes::{
    deeper_than, deepest_first, due_within, labelled, length_m, not_withdrawn, of_rocks,
    unassigned, with_at_least,
};
use nepheline_coreshed::{Assay, Borehole, Collar, Lab, Rock, Specimen};

use crate::tour::Tour;
use crate::tour::rows::or_null;

pub(super) fn all_rows(tour: &mut Tour<'_>) -> Result<()> {
    let db = tour.db.clone();
    // shown
    let query = Specimen::rows().order_by(|s| s.id.asc());
    let specimens = db.read(&query)?;
    // until here
    tour.show(&query)?;
    tour.rows(&specimens)
}

pub(super) fn by_key(tour: &mut Tour<'_>) -> Result<()> {
    let db = tour.db.clone();
    // shown
    let query = Specimen::row(42);
    let specimen = db.read_one(&query)?;
    // until here
    tour.show(&query)?;
    tour.rows(&[specimen])
}

pub(super) fn filters(tour: &mut Tour<'_>) -> Result<()> {
    let db = tour.db.clone();
    // shown
    let query = Specimen::rows()
        .filter(deeper_than(700.0))
        .filter(unassigned)
        .order_by(|s| s.top_m.asc());
    let specimens = db.read(&query)?;
    // until here
    tour.show(&query)?;
    tour.rows(&specimens)
}

pub(super) fn prepared(tour: &mut Tour<'_>) -> Result<()> {
    let db = tour.db.clone();
    // shown
    let above = <(Rock, f64, u32)>::prepare(|(rock, metres, rows)| {
        Specimen::rows()
            .filter(|s| s.rock.eq(rock) & s.base_m.lt(metres))
            .order_by(|s| s.base_m.desc())
            .limit(rows)
    });
    let gneiss = db.read(&above.bind((Rock::Gneiss, 40.0, 3)))?; // compiled once
    let schist = db.read(&above.bind((Rock::Schist, 60.0, 2)))?; // only binds
    // until here
    tour.show_each(|dialect| above.sql(dialect))?;
    tour.rows(&gneiss)?;
    tour.rows(&schist)
}

pub(super) fn optional_filters(tour: &mut Tour<'_>) -> Result<()> {
    // shown
    let find = |rock: Option<Rock>, below_m: Option<f64>| {
        Specimen::rows()
            .filter(|s| rock.map(|rock| s.rock.eq(rock)))
            .filter(|s| below_m.map(|metres| s.top_m.gt(metres)))
    };
    let both = find(Some(Rock::Carbonatite), Some(600.0));
    let only_a_rock = find(Some(Rock::Carbonatite), None);
    let neither = find(None, None);
    // until here
    for (request, query) in [("both", both), ("only a rock", only_a_rock), ("neither", neither)] {
        tour.show(&query)?;
        let specimens = tour.db.count(&query)?;
        tour.note(&format!("{request}: {specimens} specimens"))?;
    }
    Ok(())
}

pub(super) fn scopes(tour: &mut Tour<'_>) -> Result<()> {
    let db = tour.db.clone();
    // shown
    let shallow_or_unassigned = deeper_than(50.0).negated().or(unassigned);
    let rich = with_at_least(400.0, "Nd".to_owned());
    let query = Specimen::rows()
        .filter(shallow_or_unassigned)
        .filter(of_rocks(vec![Rock::NephelineSyenite]).and(rich))
        .apply(deepest_first);
    let specimens = db.read(&query)?;
    // until here
    tour.show(&query)?;
    tour.rows(&specimens)
}

pub(super) fn any_case(tour: &mut Tour<'_>) -> Result<()> {
    // shown
    let query = Specimen::rows()
        .filter(labelled(vec!["ød-1".to_owned()]))
        .order_by(|s| s.label.any_case().asc())
        .select(|s| (s.label, s.label.lower(), s.label.length()));
    // until here
    tour.show(&query)?;
    tour.values(&["label", "in lower case", "length"], &query, |(label, lower, length)| {
        vec![label, lower, length.to_string()]
    })
}

pub(super) fn computed(tour: &mut Tour<'_>) -> Result<()> {
    // shown
    let query = Specimen::rows()
        .filter(|s| s.rock.eq(Rock::Carbonatite))
        .order_by(|s| (length_m(s).desc(), s.label.asc()))
        .select(|s| {
            let size = case()
                .when(length_m(s).ge(2), "long")
                .when(length_m(s).eq(0), "nothing")
                .otherwise("short");
            (s.label, length_m(s).floor(), size, s.analyst_id.coalesce(0))
        });
    // until here
    tour.show(&query)?;
    let headings = ["label", "whole metres", "size", "analyst or 0"];
    tour.values(&headings, &query, |(label, metres, size, analyst)| {
        vec![label, metres.to_string(), size, analyst.to_string()]
    })
}

pub(super) fn dates(tour: &mut Tour<'_>) -> Result<()> {
    // shown
    let today = date(2024, 6, 15);
    let query = Assay::rows()
        .filter(due_within(30, today))
        .order_by(|a| (a.due_on.asc(), a.id.asc()))
        .select(|a| {
            let month = a.due_on.date_trunc(TruncUnit::Month);
            let reminder = a.due_on - weeks(1);
            (
                a.element,
                a.due_on,
                a.due_on.iso_week(),
                month,
                reminder,
                a.reported_on.days_since(a.due_on),
            )
        });
    // until here
    tour.show(&query)?;
    let headings = ["element", "due_on", "week", "month", "reminder", "days late"];
    tour.values(&headings, &query, |(element, due_on, week, month, reminder, late_by)| {
        let (due_on, week, month) = (due_on.to_string(), week.to_string(), month.to_string());
        vec![element, due_on, week, month, reminder.to_string(), or_null(late_by)]
    })
}

pub(super) fn verbatim(tour: &mut Tour<'_>) -> Result<()> {
    let db = tour.db.clone();
    // shown
    let tray = 4;
    let query = Specimen::rows()
        .filter(|s| {
            verbatim!(
                sqlite: "{} / 10 = {tray}",
                postgres: "{} / 10 = {tray}",
                mysql: "{} DIV 10 = {tray}",
                s.id
            )
            .condition()
        })
        .order_by(|s| {
            verbatim!(
                sqlite: "substr({}, -3)",
                postgres: "right({}, 3)",
                mysql: "RIGHT({}, 3)",
                s.label
            )
            .typed::<String>()
            .asc()
        });
    let specimens = db.read(&query)?;
    // until here
    tour.show(&query)?;
    tour.rows(&specimens)
}

pub(super) fn statement(tour: &mut Tour<'_>) -> Result<()> {
    let db = tour.db.clone();
    // shown
    let metres = 800.0;
    let report = statement!(
        "SELECT {columns of Borehole as b}, {columns of Collar as c}
         FROM borehole b LEFT JOIN collar c ON c.borehole_id = b.id
         WHERE b.depth_m > {metres} ORDER BY b.depth_m DESC, b.id LIMIT 4"
    );
    let rows: Vec<(Borehole, Option<Collar>)> = db.read(&report.clone().rows_as())?;
    // until here
    tour.show_each(|dialect| report.sql(dialect))?;
    let fields = rows.into_iter().map(|(borehole, collar)| {
        let elevation = or_null(collar.map(|collar| collar.elevation_m));
        vec![borehole.name, borehole.depth_m.to_string(), elevation]
    });
    tour.table(&["borehole", "depth_m", "elevation_m"], &fields.collect::<Vec<_>>())
}

pub(super) fn order(tour: &mut Tour<'_>) -> Result<()> {
    let db = tour.db.clone();
    // shown
    let query = Specimen::rows()
        .filter(|s| s.rock.one_of([Rock::Pegmatite, Rock::Basalt]))
        .order_by(|s| (s.top_m.desc(), s.label.asc()))
        .limit(5)
        .offset(5);
    let specimens = db.read(&query)?;
    // until here
    tour.show(&query)?;
    tour.rows(&specimens)
}

pub(super) fn count(tour: &mut Tour<'_>) -> Result<()> {
    let db = tour.db.clone();
    // shown
    let withdrawn = Specimen::rows().filter(not_withdrawn.negated());
    let number = db.count(&withdrawn)?;
    let not_accredited = Lab::rows().filter(|l| l.accredited.eq(false));
    let is_there_one = db.exists(&not_accredited)?;
    // until here
    tour.show_each(|dialect| withdrawn.count_sql(dialect))?;
    tour.note(&format!("{number} specimens were withdrawn"))?;
    tour.show_each(|dialect| not_accredited.exists_sql(dialect))?;
    tour.note(if is_there_one { "yes, there is one" } else { "no, there is none" })
}

pub(super) fn unknown_key(tour: &mut Tour<'_>) -> Result<()> {
    let db = tour.db.clone();
    // shown
    let query = Specimen::row(9999);
    let outcome = db.read_one(&query);
    // until here
    tour.show(&query)?;
    match outcome {
        Ok(specimen) => bail!("the demo has a specimen 9999: {specimen:?}"),
        Err(err) => tour.fault(&err),
    }
}
