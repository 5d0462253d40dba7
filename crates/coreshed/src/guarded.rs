//! The same tables with policies, as a program for several agencies declares them: each agency sees its own
//! sites and everything found there, archived sites are hidden, and so are withdrawn specimens.
//!
//! A handle carries the agency: `db.carrying(AgencyId(1))`. Without it, every statement is refused.

use nepheline::prelude::*;

use crate::Rock;

/// The tenant: the agency that sites belong to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Storable)]
pub struct AgencyId(pub i64);

/// A place where an agency drills.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(
    children(boreholes: Borehole by site_id),
    policies(own_agency, not_archived),
    carried(agency_id = AgencyId),
)]
pub struct Site {
    /// The key.
    #[nepheline(key, generated)]
    pub id: i64,
    /// The agency that inserted the site.
    pub agency_id: AgencyId,
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
#[nepheline(children(specimens: Specimen by borehole_id), policies(at_visible_site))]
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

/// A piece of core from a borehole; a delete marks it as withdrawn.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(
    children(assays: Assay by specimen_id),
    policies(not_withdrawn, of_visible_borehole),
    retire(withdrawn_at),
    serialize,
    changes(derive(Debug), deserialize),
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
    /// When it was withdrawn, if it was.
    pub withdrawn_at: Option<Timestamp>,
}

/// A measurement of an element in a specimen.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(policies(of_visible_specimen))]
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
    pub lab_id: i64,
    /// The day the result is due.
    pub due_on: Date,
    /// The day the result came, once it did.
    pub reported_on: Option<Date>,
}

/// An entry of the audit trail: each agency sees its own.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(policies(own_audit), carried(agency_id = AgencyId))]
pub struct AuditEntry {
    /// The key.
    #[nepheline(key, generated)]
    pub id: i64,
    /// The agency that has written.
    pub agency_id: AgencyId,
    /// The table that was written.
    #[nepheline(by_code_point)]
    pub entity: String,
    /// The operation of its last statement.
    #[nepheline(by_code_point)]
    pub operation: String,
    /// The number of rows.
    pub changed: i64,
    /// When it was written.
    #[nepheline(stamp = insert)]
    pub written_at: Timestamp,
}

/// Each agency sees its own audit trail.
pub fn own_audit(a: AuditEntryColumns, agency: &AgencyId) -> Condition {
    a.agency_id.eq(*agency)
}

/// Each agency sees its own sites.
pub fn own_agency(s: SiteColumns, agency: &AgencyId) -> Condition {
    s.agency_id.eq(*agency)
}

/// Hides archived sites.
pub fn not_archived(s: SiteColumns) -> Condition {
    s.closed_on.is_null()
}

/// A borehole is visible if its site is: the policies of sites apply inside.
pub fn at_visible_site(b: BoreholeColumns) -> Condition {
    Site::rows().filter(|s| s.id.eq(b.site_id)).exists()
}

/// Hides withdrawn specimens.
pub fn not_withdrawn(s: SpecimenColumns) -> Condition {
    s.withdrawn_at.is_null()
}

/// A specimen is visible if its borehole is.
pub fn of_visible_borehole(s: SpecimenColumns) -> Condition {
    Borehole::rows().filter(|b| b.id.eq(s.borehole_id)).exists()
}

/// An assay is visible if its specimen is.
pub fn of_visible_specimen(a: AssayColumns) -> Condition {
    Specimen::rows().filter(|s| s.id.eq(a.specimen_id)).exists()
}
