//! The steps of the tour. Each has a question, the Rust that answers it, its SQL, and the rows.

mod policies;
mod queries;
mod relations;
mod requests;
mod totals;

use anyhow::Result;
use clap::ValueEnum;

use super::{Tour, source};

macro_rules! steps {
    ($($(#[$doc:meta])* $step:ident: $module:ident::$function:ident, $question:literal;)*) => {
        #[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
        pub(super) enum Step {
            $($(#[$doc])* $step,)*
        }

        impl Step {
            pub(super) fn question(self) -> &'static str {
                match self {
                    $(Step::$step => $question,)*
                }
            }

            /// Returns the Rust of the step, from its source file.
            pub(super) fn source(self) -> String {
                match self {
                    $(Step::$step => {
                        let file = include_str!(concat!(stringify!($module), ".rs"));
                        source::shown_of(file, stringify!($function))
                    })*
                }
            }

            /// Runs the step, and shows its SQL and its rows.
            pub(super) fn answer(self, tour: &mut Tour<'_>) -> Result<()> {
                match self {
                    $(Step::$step => $module::$function(tour),)*
                }
            }
        }
    };
}

steps! {
    /// All rows of a table
    AllRows: queries::all_rows, "Which specimens are in the shed?";
    /// One row by its key
    ByKey: queries::by_key, "Which specimen has the key 42?";
    /// Scopes as filters
    Filters: queries::filters, "Which specimens from below 700 m have no analyst?";
    /// Filters that may be absent
    OptionalFilters: queries::optional_filters, "How does one function serve every combination of filters?";
    /// A prepared query, run with several values
    Prepared: queries::prepared, "Which specimens end above a depth, as a service asks again and again?";
    /// Scopes that are combined, negated, listed, and contain a query
    Scopes: queries::scopes, "Which shallow or unassigned nepheline syenites are rich in neodymium?";
    /// Text comparisons that ignore case
    AnyCase: queries::any_case, "Which labels contain \"ød-1\" in any case?";
    /// Values computed by the database
    Computed: queries::computed, "How long are the carbonatites, and is that long?";
    /// Days, weeks and months
    Dates: queries::dates, "Which results are due in the 30 days from June 15, 2024?";
    /// Hand-written SQL
    Verbatim: queries::verbatim, "What lies in tray 4, by the number on its label?";
    /// A whole statement of hand-written SQL
    Statement: queries::statement, "What does a report look like that somebody has written in SQL?";
    /// Parents, followed by name
    Parents: relations::parents, "Which specimens of Upper Tarn lie near the surface, and who describes them?";
    /// Questions about the rows that refer to a row
    Children: relations::children, "Which specimens were measured most often, and for what?";
    /// Questions across two relations at once
    TwoLevels: relations::two_levels, "Which sites have a deep specimen without an analyst?";
    /// Joins, whose rows are tuples
    Joins: relations::joins, "Which specimens are from the last fiftieth of their borehole?";
    /// Children read with their parents, and the number of statements
    Alongside: relations::alongside, "What are the two deepest specimens of each KP borehole?";
    /// Queries that begin at a row that was read
    RowInHand: relations::row_in_hand, "What belongs to specimen 46?";
    /// Order, limit and offset
    Order: queries::order, "Which are the sixth to tenth deepest pegmatites and basalts?";
    /// Groups, aggregates and a condition on them
    Totals: totals::totals, "Which regions have more than 100 specimens from below 50 m?";
    /// Exact prices, discounts, taxes and shares
    Money: totals::money, "What did each lab bill, before and after discount and tax, and which part of the whole?";
    /// Windows over groups, and orders by what is selected
    Shares: totals::shares, "Which part of all specimens has each region, and who is first?";
    /// Subtotals, also of keys that may be NULL
    Subtotals: totals::subtotals, "How many specimens did the analysts describe, by region and in all?";
    /// Rows of two queries beside each other, also those without a match
    SideBySide: totals::side_by_side, "Which labs analyse neodymium, which write invoices, and which do only one?";
    /// Window functions: numbers, ranks and running totals
    Windows: totals::windows, "In which order was LM-1 sampled, and how deep by then?";
    /// The first row for each value of a column
    FirstOfEach: totals::first_of_each, "Which is the newest specimen of each rock?";
    /// Rows that lead to further rows
    Recursion: totals::recursion, "Which specimens were split from which?";
    /// A numbered page, and keyset pagination
    Pages: totals::pages, "What is on the third page, and what comes after that?";
    /// A filter, a sort and a list of properties that arrive as text
    RequestFilter: requests::filter, "What does a link ask for, by names that the program offers?";
    /// Groups and totals that arrive as text
    RequestTotals: requests::totals, "Which regions have specimens from below 750 m, as a link asks?";
    /// A mistake in a text that arrives
    RequestMistake: requests::mistake, "What does a link with a wrong name in it get?";
    /// Policies, and one of them waived
    Policies: policies::policies, "Which sites does the Upper Tarn Survey see, and which with archived ones?";
    /// A statement without the value that a policy needs
    MissingValue: policies::missing_value, "What happens if the handle carries no agency?";
    /// Soft deletes, and their reversal
    Retire: policies::retire, "What happens to specimens that are deleted?";
    /// An upsert under a policy
    Upsert: policies::upsert, "Which of three boreholes are new, known, or of another agency?";
    /// An update with values of joined tables
    JoinedUpdate: policies::joined_update, "How does a borehole become as deep as its deepest specimen?";
    /// A limit on the number of statements
    Budget: policies::budget, "What happens if a page reads for each borehole separately?";
    /// Counting and testing in the database
    Count: queries::count, "How many specimens were withdrawn, and is any lab not accredited?";
    /// A key that does not exist
    UnknownKey: queries::unknown_key, "What happens if there is no specimen 9999?";
}
