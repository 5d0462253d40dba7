//! Queries over one table: scopes, filters, what is computed, and hand-written SQL.

use anyhow::{Result, bail};
use jiff::civil::date;
use nepheline::TimeUnit;
use nepheline::prelude::*;
use nepheline_coreshed::scopes::{
    deeper_than, deepest_first, due_within, labelled, length_m, not_withdrawn, of_rocks,
    unassigned, with_at_least,
};
use nepheline_coreshed::{Assay, Lab, Rock, Specimen};

use crate::screen::NULL;
use crate::tour::Tour;

pub(super) fn all_rows(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::rows().order_by(|s| s.id.asc());
    tour.show(&query)?;
    let specimens = tour.db.read(&query)?;
    Ok(tour.screen.rows(&specimens)?)
}

pub(super) fn by_key(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::row(42);
    tour.show(&query)?;
    let specimen = tour.db.read_one(&query)?;
    Ok(tour.screen.rows(&[specimen])?)
}

pub(super) fn filters(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::rows()
        .filter(deeper_than(700.0))
        .filter(unassigned)
        .order_by(|s| s.top_m.asc());
    tour.show(&query)?;
    let specimens = tour.db.read(&query)?;
    Ok(tour.screen.rows(&specimens)?)
}

pub(super) fn optional_filters(tour: &mut Tour<'_>) -> Result<()> {
    let find = |rock: Option<Rock>, below_m: Option<f64>| {
        Specimen::rows()
            .filter(|s| rock.map(|rock| s.rock.eq(rock)))
            .filter(|s| below_m.map(|metres| s.top_m.gt(metres)))
    };
    let requests = [
        ("both given", Some(Rock::Carbonatite), Some(600.0)),
        ("only a rock", Some(Rock::Carbonatite), None),
        ("neither", None, None),
    ];
    for (request, rock, below_m) in requests {
        tour.screen.line(&format!("- {request}"))?;
        let query = find(rock, below_m);
        tour.show(&query)?;
        let specimens = tour.db.read(&query)?;
        tour.screen
            .line(&format!("{} specimens", specimens.len()))?;
    }
    Ok(())
}

pub(super) fn scopes(tour: &mut Tour<'_>) -> Result<()> {
    let shallow_or_unassigned = deeper_than(50.0).negated().or(unassigned);
    let rich = with_at_least(400.0, "Nd".to_owned());
    let query = Specimen::rows()
        .filter(shallow_or_unassigned)
        .filter(of_rocks(vec![Rock::NephelineSyenite]).and(rich))
        .apply(deepest_first);
    tour.show(&query)?;
    let specimens = tour.db.read(&query)?;
    Ok(tour.screen.rows(&specimens)?)
}

pub(super) fn any_case(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::rows()
        .filter(labelled(vec!["ød-1".to_owned()]))
        .order_by(|s| s.label.any_case().asc())
        .select(|s| (s.label, s.label.lower(), s.label.length()));
    tour.show(&query)?;
    tour.values(&["label", "in lower case", "length"], &query, |(label, lower, length)| {
        vec![label, lower, length.to_string()]
    })
}

pub(super) fn computed(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::rows()
        .filter(|s| s.rock.eq(Rock::Carbonatite))
        .order_by(|s| (length_m(s).desc(), s.label.asc()))
        .select(|s| {
            let size = case()
                .when(length_m(s).ge(2), "long")
                .when(length_m(s).eq(0), "nothing")
                .otherwise("short");
            (s.label, length_m(s).floor(), size, s.analyst_id.if_null(0))
        });
    tour.show(&query)?;
    let headings = ["label", "whole metres", "size", "analyst or 0"];
    tour.values(&headings, &query, |(label, metres, size, analyst)| {
        vec![label, metres.to_string(), size, analyst.to_string()]
    })
}

pub(super) fn dates(tour: &mut Tour<'_>) -> Result<()> {
    // The clock is the caller's: nothing here asks the database what day it is.
    let today = date(2024, 6, 15);
    let query = Assay::rows()
        .filter(due_within(30, today))
        .order_by(|a| (a.due_on.asc(), a.id.asc()))
        .select(|a| {
            let late_by = a.reported_on.days_since(a.due_on);
            (
                a.element,
                a.due_on,
                a.due_on.iso_week(),
                a.due_on.truncated_to(TimeUnit::Month),
                late_by,
            )
        });
    tour.show(&query)?;
    let headings = ["element", "due_on", "week", "month", "days late"];
    tour.values(&headings, &query, |(element, due_on, week, month, late_by)| {
        let late_by = late_by.map_or_else(|| NULL.to_owned(), |days| days.to_string());
        vec![element, due_on.to_string(), week.to_string(), month.to_string(), late_by]
    })
}

pub(super) fn fragments(tour: &mut Tour<'_>) -> Result<()> {
    let tray = 4;
    let query = Specimen::rows()
        .filter(|s| {
            verbatim!(
                sqlite: "{} / 10 = {tray}",
                postgres: "{} / 10 = {tray}",
                mysql: "{} DIV 10 = {tray}",
                s.id
            )
            .holds()
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
    tour.show(&query)?;
    let specimens = tour.db.read(&query)?;
    Ok(tour.screen.rows(&specimens)?)
}

pub(super) fn order(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::rows()
        .filter(|s| s.rock.one_of([Rock::Pegmatite, Rock::Basalt]))
        .order_by(|s| (s.top_m.desc(), s.label.asc()))
        .limit(5)
        .offset(5);
    tour.show(&query)?;
    let specimens = tour.db.read(&query)?;
    Ok(tour.screen.rows(&specimens)?)
}

pub(super) fn count(tour: &mut Tour<'_>) -> Result<()> {
    let withdrawn = Specimen::rows().filter(not_withdrawn.negated());
    tour.show_each(|dialect| withdrawn.count_sql(dialect))?;
    let found = tour.db.count(&withdrawn)?;
    tour.screen
        .line(&format!("{found} specimens were withdrawn"))?;

    let not_accredited = Lab::rows().filter(|l| l.accredited.eq(false));
    tour.show_each(|dialect| not_accredited.has_rows_sql(dialect))?;
    let answer = if tour.db.has_rows(&not_accredited)? { "yes, there is" } else { "no" };
    Ok(tour.screen.line(answer)?)
}

pub(super) fn unknown_key(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::row(9999);
    tour.show(&query)?;
    match tour.db.read_one(&query) {
        Ok(specimen) => bail!("the demo has a specimen 9999: {specimen:?}"),
        Err(err) => Ok(tour.screen.fault(&format!("error: {err}"))?),
    }
}
