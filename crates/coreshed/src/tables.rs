//! The tables, as a program that uses Nepheline would declare them.

use nepheline::prelude::*;

/// A survey agency: the tenant to whom sites belong.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(children(sites: Site by agency_id, invoices: Invoice by agency_id))]
pub struct Agency {
    /// The key.
    #[nepheline(key, generated)]
    pub id: i64,
    /// The official name.
    #[nepheline(unique, by_code_point)]
    pub name: String,
}

/// A place where an agency drills.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(children(boreholes: Borehole by site_id))]
pub struct Site {
    /// The key.
    #[nepheline(key, generated)]
    pub id: i64,
    /// The agency that owns it.
    #[nepheline(references = Agency)]
    pub agency_id: i64,
    /// The name on maps.
    #[nepheline(by_code_point)]
    pub name: String,
    /// The region that reports are about.
    #[nepheline(by_code_point)]
    pub region: String,
    /// The day from which nothing more is drilled; an archived site has one.
    pub closed_on: Option<Date>,
}

/// A hole that was drilled.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(
    children(specimens: Specimen by borehole_id),
    optional_child(collar: Collar by borehole_id),
)]
pub struct Borehole {
    /// The key.
    #[nepheline(key, generated)]
    pub id: i64,
    /// Where it is.
    #[nepheline(references = Site)]
    pub site_id: i64,
    /// The site's code and a number.
    #[nepheline(unique, by_code_point)]
    pub name: String,
    /// Its depth in metres.
    pub depth_m: f64,
    /// The day the drilling ended.
    pub drilled_on: Date,
    /// The rig that drilled it; empty where nobody wrote it down.
    #[nepheline(by_code_point)]
    pub rig: String,
}

/// The top of a borehole; every borehole has one.
#[derive(Debug, Clone, PartialEq, Table)]
pub struct Collar {
    /// The borehole, which is the key too.
    #[nepheline(key, references = Borehole)]
    pub borehole_id: i64,
    /// Metres east on the survey's grid.
    pub easting: f64,
    /// Metres north on the survey's grid.
    pub northing: f64,
    /// Metres above the sea.
    pub elevation_m: f64,
}

/// Somebody who describes specimens. Two of them share a name.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(children(specimens: Specimen by analyst_id))]
pub struct Analyst {
    /// The key.
    #[nepheline(key, generated)]
    pub id: i64,
    /// The full name.
    #[nepheline(by_code_point)]
    pub name: String,
}

/// The kinds of rock in the shed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Storable)]
#[nepheline(serialize, deserialize)]
#[expect(missing_docs, reason = "the names say it")]
pub enum Rock {
    Basalt,
    Granite,
    Gneiss,
    Schist,
    Pegmatite,
    Carbonatite,
    #[nepheline(text = "nepheline syenite")]
    NephelineSyenite,
}

/// A piece of core from a borehole, between two depths.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(
    children(assays: Assay by specimen_id, parts: Specimen by parent_id),
    bridged(hazards: Hazard across SpecimenHazard),
)]
pub struct Specimen {
    /// The key.
    #[nepheline(key, generated)]
    pub id: i64,
    /// The borehole it is from.
    #[nepheline(references = Borehole)]
    pub borehole_id: i64,
    /// The text on its label.
    #[nepheline(unique, by_code_point)]
    pub label: String,
    /// The kind of rock.
    #[nepheline(by_code_point)]
    pub rock: Rock,
    /// Where it begins, in metres down the hole.
    pub top_m: f64,
    /// Where it ends, in metres down the hole; not above `top_m`.
    pub base_m: f64,
    /// The day it was taken.
    pub taken_on: Date,
    /// The analyst who describes it, if there is one.
    #[nepheline(references = Analyst)]
    pub analyst_id: Option<i64>,
    /// The specimen it was split from, if it was.
    #[nepheline(references = Specimen)]
    pub parent_id: Option<i64>,
    /// When it was withdrawn, if it was.
    pub withdrawn_at: Option<Timestamp>,
}

/// A laboratory that measures.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(children(assays: Assay by lab_id, invoices: Invoice by lab_id))]
pub struct Lab {
    /// The key.
    #[nepheline(key, generated)]
    pub id: i64,
    /// The trading name.
    #[nepheline(unique, by_code_point)]
    pub name: String,
    /// The country it is in.
    #[nepheline(by_code_point)]
    pub country: String,
    /// True if it is accredited.
    pub accredited: bool,
}

/// A measurement of an element in a specimen.
#[derive(Debug, Clone, PartialEq, Table)]
pub struct Assay {
    /// The key.
    #[nepheline(key, generated)]
    pub id: i64,
    /// The measured specimen.
    #[nepheline(references = Specimen)]
    pub specimen_id: i64,
    /// The symbol of the element.
    #[nepheline(by_code_point)]
    pub element: String,
    /// Parts per million, by mass.
    pub ppm: f64,
    /// The lab that measures.
    #[nepheline(references = Lab)]
    pub lab_id: i64,
    /// The day the result is due.
    pub due_on: Date,
    /// The day the result came, once it did.
    pub reported_on: Option<Date>,
}

/// A bill of a lab to an agency.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(children(lines: InvoiceLine by invoice_id))]
pub struct Invoice {
    /// The key.
    #[nepheline(key, generated)]
    pub id: i64,
    /// The year and a number.
    #[nepheline(unique, by_code_point)]
    pub number: String,
    /// The lab that bills.
    #[nepheline(references = Lab)]
    pub lab_id: i64,
    /// The agency that pays.
    #[nepheline(references = Agency)]
    pub agency_id: i64,
    /// The day on the bill.
    pub issued_on: Date,
    /// The day it was paid, once it was.
    pub paid_on: Option<Date>,
    /// The part of the price that is taken off: 0.0250 is 2.5 %.
    pub discount: Decimal,
}

/// A line of an invoice. That of a credit note has a negative quantity.
#[derive(Debug, Clone, PartialEq, Table)]
pub struct InvoiceLine {
    /// The key.
    #[nepheline(key, generated)]
    pub id: i64,
    /// The invoice.
    #[nepheline(references = Invoice)]
    pub invoice_id: i64,
    /// The billed service.
    #[nepheline(by_code_point)]
    pub service: String,
    /// The pieces, days or kilometres, to two digits after the point.
    pub quantity: Decimal,
    /// The price of one, to four digits after the point.
    pub unit_price: Decimal,
    /// The part of the price that is added as tax: 0.1900 is 19 %.
    pub tax_rate: Decimal,
}

/// A reason to handle a specimen with care.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(bridged(specimens: Specimen across SpecimenHazard))]
pub struct Hazard {
    /// The key.
    #[nepheline(key, generated)]
    pub id: i64,
    /// The name of the hazard.
    #[nepheline(unique, by_code_point)]
    pub name: String,
}

/// The hazards of each specimen.
#[derive(Debug, Clone, PartialEq, Table)]
pub struct SpecimenHazard {
    /// The specimen.
    #[nepheline(key, references = Specimen)]
    pub specimen_id: i64,
    /// The hazard.
    #[nepheline(key, references = Hazard)]
    pub hazard_id: i64,
}
