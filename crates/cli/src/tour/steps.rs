//! The steps of the tour: each asks one question and shows the SQL, the binds and the answer.

use anyhow::{Result, bail};
use clap::ValueEnum;
use nepheline::prelude::*;
use nepheline_coreshed::scopes::{deeper_than, not_withdrawn, unassigned};
use nepheline_coreshed::{Lab, Rock, Specimen};

use super::Tour;

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
