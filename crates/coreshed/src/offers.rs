//! The names that the survey's web pages and their links may use in filters and sorts.

use nepheline::prelude::*;
use nepheline::{Offer, Offered};

use crate::{Assay, Specimen, scopes};

/// The names of assays.
///
/// # Errors
///
/// None, since the names are fixed; the test of this crate builds them.
pub fn assays() -> Result<Offer<Assay>, Error> {
    Offer::of::<Assay>()
        .value(Offered::name("element").described("the symbol of the element"), |a| a.element)
        .value(Offered::name("ppm").described("parts per million, by mass"), |a| a.ppm)
        .value("reported", |a| a.reported_on)
        .build()
}

/// The names of specimens. `today` decides which results are overdue.
///
/// # Errors
///
/// None, since the names are fixed.
pub fn specimens(today: Date) -> Result<Offer<Specimen>, Error> {
    Offer::of::<Specimen>()
        .value(Offered::name("label").described("the text on the label"), |s| s.label)
        .value("rock", |s| s.rock)
        .value(Offered::name("depth").described("metres down the hole"), |s| s.top_m)
        .value("taken", |s| s.taken_on)
        .value("withdrawn", |s| s.withdrawn_at)
        .value("region", |s| s.borehole().site().region)
        .value(Offered::name("results").described("the number of assays"), |s| s.assays().count())
        .value(Offered::name("overdue").described("true while a result is late"), move |s| {
            s.assays().any(scopes::overdue(today))
        })
        .children("assays", |s| s.assays(), &assays()?)
        .function("length", |(text,): (Expr<Option<String>>,)| text.length())
        .build()
}
