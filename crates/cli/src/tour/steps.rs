//! The steps of the tour: each asks one question and shows the SQL, the binds and the answer.

use anyhow::{Result, bail};
use clap::ValueEnum;
use jiff::civil::date;
use nepheline::prelude::*;
use nepheline::{Record, TimeUnit};
use nepheline_coreshed::scopes::{
    deeper_than, deepest_first, due_within, labelled, length_m, not_withdrawn, of_rocks,
    unassigned, with_at_least,
};
use nepheline_coreshed::{Assay, Borehole, Lab, Rock, Site, Specimen};

use super::Tour;
use crate::screen::NULL;

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(super) enum Step {
    /// Everything in a table
    AllRows,
    /// One row by its key
    ByKey,
    /// Scopes as filters
    Filters,
    /// Filters that may be absent
    OptionalFilters,
    /// Scopes joined, negated, listed, and with a query inside
    Scopes,
    /// Text in upper or lower case
    AnyCase,
    /// Values computed by the database
    Computed,
    /// Days and months
    Dates,
    /// Hand-written SQL
    Fragments,
    /// Parents, followed by name
    Parents,
    /// Questions to the rows that refer to a row
    Children,
    /// Questions across two relations at once
    TwoLevels,
    /// Rows of several tables side by side
    Joins,
    /// Children beside their parents, and how many statements that takes
    Alongside,
    /// Queries that begin at a row in hand
    RowInHand,
    /// Order, limit and offset
    Order,
    /// Counting in the database
    Count,
    /// A key that does not exist
    UnknownKey,
}

impl Step {
    pub(super) fn run(self, tour: &mut Tour<'_>) -> Result<()> {
        let (question, answer): (_, fn(&mut Tour<'_>) -> Result<()>) = match self {
            Step::AllRows => ("What is in the shed?", all_rows),
            Step::ByKey => ("What is specimen 42?", by_key),
            Step::Filters => ("Which specimens from below 700 m does nobody describe?", filters),
            Step::OptionalFilters => {
                ("One handler, filters as the request has them", optional_filters)
            }
            Step::Scopes => {
                ("Which shallow or unassigned nepheline syenites are rich in neodymium?", scopes)
            }
            Step::AnyCase => ("Which labels have \"ød-1\" in them, however written?", any_case),
            Step::Computed => ("How long are the carbonatites, and is that much?", computed),
            Step::Dates => ("Which results are due in the 30 days from June 15, 2024?", dates),
            Step::Fragments => ("What lies in tray 4, by the number on its label?", fragments),
            Step::Parents => ("What was taken from Upper Tarn near the surface, by whom?", parents),
            Step::Children => ("Which specimens were measured most often, and for what?", children),
            Step::TwoLevels => {
                ("At which sites was nobody assigned to a deep specimen?", two_levels)
            }
            Step::Alongside => {
                ("What are the two deepest specimens of each KP borehole?", alongside)
            }
            Step::Joins => ("Which specimens are from the last fiftieth of their borehole?", joins),
            Step::RowInHand => ("What belongs to specimen 46?", row_in_hand),
            Step::Order => ("What are the sixth to tenth deepest pegmatites and basalts?", order),
            Step::Count => {
                ("How many specimens were withdrawn, and is any lab not accredited?", count)
            }
            Step::UnknownKey => ("What if there is no specimen 9999?", unknown_key),
        };
        let name = self
            .to_possible_value()
            .map(|value| value.get_name().to_owned());
        tour.screen
            .heading(&format!("{}: {question}", name.unwrap_or_default()))?;
        answer(tour)
    }
}

fn all_rows(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::rows().order_by(|s| s.id.asc());
    tour.show(&query)?;
    let specimens = tour.db.read(&query)?;
    Ok(tour.screen.rows(&specimens)?)
}

fn by_key(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::row(42);
    tour.show(&query)?;
    let specimen = tour.db.read_one(&query)?;
    Ok(tour.screen.rows(&[specimen])?)
}

fn filters(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::rows()
        .filter(deeper_than(700.0))
        .filter(unassigned)
        .order_by(|s| s.top_m.asc());
    tour.show(&query)?;
    let specimens = tour.db.read(&query)?;
    Ok(tour.screen.rows(&specimens)?)
}

fn optional_filters(tour: &mut Tour<'_>) -> Result<()> {
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

fn scopes(tour: &mut Tour<'_>) -> Result<()> {
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

fn any_case(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::rows()
        .filter(labelled(vec!["ød-1".to_owned()]))
        .order_by(|s| s.label.any_case().asc())
        .select(|s| (s.label, s.label.lower(), s.label.length()));
    tour.show(&query)?;
    tour.values(&["label", "in lower case", "length"], &query, |(label, lower, length)| {
        vec![label, lower, length.to_string()]
    })
}

fn computed(tour: &mut Tour<'_>) -> Result<()> {
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

fn dates(tour: &mut Tour<'_>) -> Result<()> {
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

fn fragments(tour: &mut Tour<'_>) -> Result<()> {
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

fn parents(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::rows()
        .filter(|s| s.borehole().site().region.eq("Upper Tarn") & s.top_m.lt(60))
        .order_by(|s| (s.borehole().name.asc(), s.top_m.asc()))
        .select(|s| {
            (s.label, s.borehole().name, s.borehole().site().name, s.analyst().map(|a| a.name))
        });
    tour.show(&query)?;
    let headings = ["label", "borehole", "site", "analyst"];
    tour.values(&headings, &query, |(label, borehole, site, analyst)| {
        vec![label, borehole, site, analyst.unwrap_or_else(|| NULL.to_owned())]
    })
}

fn children(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::rows()
        .filter(|s| s.assays().count().ge(8) & s.hazards().not_exists())
        .filter(|s| s.assays().any(|a| a.lab().accredited.is_false()))
        .order_by(|s| (s.assays().max(|a| a.ppm).desc(), s.label.asc()))
        .select(|s| {
            let last = s.assays().order_by(|a| (a.due_on.asc(), a.id.asc()));
            (s.label, s.assays().count(), s.assays().max(|a| a.ppm), last.last(|a| a.element))
        });
    tour.show(&query)?;
    let headings = ["label", "assays", "most ppm", "last for"];
    tour.values(&headings, &query, |(label, assays, most, last)| {
        let most = most.map_or_else(|| NULL.to_owned(), |most| format!("{most}"));
        vec![label, assays.to_string(), most, last.unwrap_or_else(|| NULL.to_owned())]
    })
}

fn two_levels(tour: &mut Tour<'_>) -> Result<()> {
    let query = Site::rows()
        .filter(|s| {
            let specimens = s.boreholes().flat_map(|b| b.specimens());
            specimens.any(unassigned.and(deeper_than(600.0)))
        })
        .order_by(|s| s.name.asc())
        .select(|s| (s.name, s.region, s.boreholes().count()));
    tour.show(&query)?;
    tour.values(&["site", "region", "boreholes"], &query, |(site, region, boreholes)| {
        vec![site, region, boreholes.to_string()]
    })
}

fn alongside(tour: &mut Tour<'_>) -> Result<()> {
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
    tour.show_all(|dialect| query.sql(dialect))?;
    let record = Record::new();
    let rows = tour.db.recording_to(&record).read(&query)?;
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
    tour.screen.table(
        &["borehole", "depth_m", "deepest specimens", "site"],
        &fields,
        rows.len(),
    )?;
    Ok(tour
        .screen
        .line(&format!("{} statements ran", record.len()))?)
}

fn joins(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::rows()
        .join(|s| s.borehole())
        .join(|(s, _)| s.analyst())
        .filter(|(s, b, _)| s.base_m.gt(b.depth_m * 0.98))
        .order_by(|(s, _, _)| s.label.asc());
    tour.show(&query)?;
    let headings = ["label", "base_m", "borehole", "depth_m", "analyst"];
    tour.values(&headings, &query, |(specimen, borehole, analyst)| {
        vec![
            specimen.label,
            specimen.base_m.to_string(),
            borehole.name,
            borehole.depth_m.to_string(),
            analyst.map_or_else(|| NULL.to_owned(), |analyst| analyst.name),
        ]
    })
}

fn row_in_hand(tour: &mut Tour<'_>) -> Result<()> {
    let specimen = tour.db.read_one(&Specimen::row(46))?;
    let borehole = specimen.borehole();
    tour.show(&borehole)?;
    let name = tour.db.read_one(&borehole)?.name;
    tour.screen.line(&format!("it is from borehole {name}"))?;
    let assays = specimen
        .assays()
        .order_by(|a| a.id.asc())
        .select(|a| (a.element, a.ppm));
    tour.show(&assays)?;
    tour.values(&["element", "ppm"], &assays, |(element, ppm)| vec![element, ppm.to_string()])
}

fn order(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::rows()
        .filter(|s| s.rock.one_of([Rock::Pegmatite, Rock::Basalt]))
        .order_by(|s| (s.top_m.desc(), s.label.asc()))
        .limit(5)
        .offset(5);
    tour.show(&query)?;
    let specimens = tour.db.read(&query)?;
    Ok(tour.screen.rows(&specimens)?)
}

fn count(tour: &mut Tour<'_>) -> Result<()> {
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

fn unknown_key(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::row(9999);
    tour.show(&query)?;
    match tour.db.read_one(&query) {
        Ok(specimen) => bail!("the demo has a specimen 9999: {specimen:?}"),
        Err(err) => Ok(tour.screen.fault(&format!("error: {err}"))?),
    }
}
