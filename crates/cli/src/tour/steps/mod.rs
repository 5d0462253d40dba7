//! The steps of the tour: each asks one question and shows the SQL, the binds and the answer.

mod policies;
mod queries;
mod relations;
mod totals;

use anyhow::Result;
use clap::ValueEnum;

use super::Tour;
use policies::{budget, nobody_asks, policies, retire, upsert};
use queries::{
    all_rows, any_case, by_key, computed, count, dates, filters, fragments, optional_filters,
    order, scopes, unknown_key,
};
use relations::{alongside, children, joins, parents, row_in_hand, two_levels};
use totals::{first_of_each, pages, recursion, totals, windows};

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
