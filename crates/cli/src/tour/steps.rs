//! The steps of the tour: each asks one question and shows the SQL, the binds and the answer.

use std::collections::BTreeSet;

use anyhow::{Result, bail};
use clap::ValueEnum;
use jiff::civil::date;
use nepheline::blocking::{Database, Transaction};
use nepheline::prelude::*;
use nepheline::{Clock, Paging, Record, TimeUnit, recursive};
use nepheline_coreshed::guarded::{self, AgencyId};
use nepheline_coreshed::scopes::{
    deeper_than, deepest_first, due_within, labelled, length_m, not_withdrawn, of_rocks,
    unassigned, with_at_least,
};
use nepheline_coreshed::{Assay, Borehole, Lab, Rock, Site, Specimen};

use super::Tour;
use super::rows::or_null;
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
    /// Groups, totals and a condition on them
    Totals,
    /// Numbers and running totals of the rows around a row
    Windows,
    /// The first of each kind
    FirstOfEach,
    /// Rows that lead to further rows
    Recursion,
    /// A numbered page, and one that goes on after a row
    Pages,
    /// Conditions that hold everywhere, and one of them waived
    Policies,
    /// What a handle does that does not say who is asking
    NobodyAsks,
    /// Marks instead of deletes, and back
    Retire,
    /// Rows that may be there already
    Upsert,
    /// A cap on statements
    Budget,
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
            Step::Totals => ("Which regions have more than 100 specimens from below 50 m?", totals),
            Step::Windows => {
                ("What was taken from LM-1, in which order, and how much by then?", windows)
            }
            Step::FirstOfEach => ("Which is the newest specimen of each rock?", first_of_each),
            Step::Recursion => ("What was split from what?", recursion),
            Step::Pages => ("What is on the third page, and what comes after that?", pages),
            Step::Policies => {
                ("What has the Upper Tarn Survey, and what besides archived?", policies)
            }
            Step::NobodyAsks => ("What if nobody says who is asking?", nobody_asks),
            Step::Retire => ("What becomes of specimens that are deleted?", retire),
            Step::Upsert => ("Which of three boreholes were known, and are ours?", upsert),
            Step::Budget => ("What if a page asks for each borehole apart?", budget),
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

#[derive(Debug, RowShape)]
struct RegionTotal {
    region: String,
    specimens: i64,
    unassigned: i64,
    deepest_m: Option<f64>,
}

fn totals(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::rows()
        .filter(deeper_than(50.0))
        .select(|s| {
            shape!(RegionTotal {
                region: per(s.borehole().site().region),
                specimens: nepheline::count(),
                unassigned: nepheline::count().among(s.analyst_id.is_null()),
                deepest_m: max(s.base_m),
            })
        })
        .having(|_| nepheline::count().gt(100))
        .order_by(|s| (nepheline::count().desc(), per(s.borehole().site().region).asc()));
    tour.show(&query)?;
    let headings = ["region", "specimens", "unassigned", "deepest_m"];
    tour.values(&headings, &query, |total| {
        let RegionTotal { region, specimens, unassigned, deepest_m } = total;
        vec![region, specimens.to_string(), unassigned.to_string(), or_null(deepest_m)]
    })
}

fn windows(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::rows()
        .filter(|s| s.borehole().name.eq("LM-1"))
        .order_by(|s| (s.taken_on.asc(), s.id.asc()))
        .select(|s| {
            (
                s.label,
                s.taken_on,
                row_number().over(|w| w.order_by((s.taken_on.asc(), s.id.asc()))),
                rank().over(|w| w.partition_by(s.rock).order_by(s.top_m.desc())),
                max(s.base_m).over(|w| w.order_by((s.taken_on.asc(), s.id.asc())).rows(..=0)),
            )
        });
    tour.show(&query)?;
    let headings = ["label", "taken_on", "number", "rank by depth in its rock", "deepest by then"];
    tour.values(&headings, &query, |(label, taken_on, number, rank, deepest)| {
        vec![label, taken_on.to_string(), number.to_string(), rank.to_string(), or_null(deepest)]
    })
}

fn first_of_each(tour: &mut Tour<'_>) -> Result<()> {
    let query = Specimen::rows()
        .order_by(|s| (s.taken_on.desc(), s.id.asc()))
        .limit_each(1, |s| s.rock)
        .select(|s| (s.rock, s.label, s.taken_on));
    tour.show(&query)?;
    tour.values(&["rock", "label", "taken_on"], &query, |(rock, label, taken_on)| {
        vec![format!("{rock:?}"), label, taken_on.to_string()]
    })
}

#[derive(Debug, RowShape)]
struct Part {
    id: i64,
    #[nepheline(by_code_point)]
    label: String,
    level: i64,
}

fn recursion(tour: &mut Tour<'_>) -> Result<()> {
    let whole = Specimen::rows()
        .filter(|s| s.id.one_of([4, 44]))
        .select(|s| shape!(Part { id: s.id, label: s.label, level: bind(0_i64) }));
    let query = recursive(whole, 20, |before| {
        Specimen::rows()
            .join(|s| before.filter(|b| s.parent_id.eq(b.id)))
            .select(|(s, b)| shape!(Part { id: s.id, label: s.label, level: b.level + 1 }))
    })
    .order_by(|p| (p.level.asc(), p.label.asc()));
    tour.show(&query)?;
    tour.values(&["id", "label", "level"], &query, |part| {
        vec![part.id.to_string(), part.label, part.level.to_string()]
    })
}

fn pages(tour: &mut Tour<'_>) -> Result<()> {
    let query = Borehole::rows().order_by(|b| (b.drilled_on.desc(), b.name.asc()));
    tour.show(&query)?;
    let page = tour.db.read_page(&query, Paging::of(5).number(3))?;
    let names = |rows: &[Borehole]| {
        let names: Vec<_> = rows.iter().map(|b| b.name.as_str()).collect();
        names.join(", ")
    };
    let (number, pages, rows) = (page.number(), page.all_pages(), page.all_rows());
    tour.screen
        .line(&format!("page {number} of {pages}, {rows} rows: {}", names(page.rows())))?;

    let record = Record::new();
    let db = tour.db.recording_to(&record);
    let first = db.read_after(&query, None, 5)?;
    let second = db.read_after(&query, first.after(), 5)?;
    tour.screen
        .line(&format!("the first five: {}", names(first.rows())))?;
    tour.screen
        .line(&format!("the five after them: {}", names(second.rows())))?;
    let back = db.read_before(&query, second.before(), 5)?;
    let same = back.rows() == first.rows();
    let answer = if same { "back again: the same" } else { "back again: others" };
    tour.screen
        .line(&format!("{answer}, with {} statements in all", record.len()))?;
    Ok(())
}

fn policies(tour: &mut Tour<'_>) -> Result<()> {
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

fn nobody_asks(tour: &mut Tour<'_>) -> Result<()> {
    match tour.db.count(&guarded::Site::rows()) {
        Ok(sites) => bail!("{sites} sites were told to nobody"),
        Err(err) => Ok(tour.screen.fault(&format!("error: {err}"))?),
    }
}

fn retire(tour: &mut Tour<'_>) -> Result<()> {
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

fn upsert(tour: &mut Tour<'_>) -> Result<()> {
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

fn budget(tour: &mut Tour<'_>) -> Result<()> {
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
