//! Building and compiling queries, against `write!` of the same text and its binds.

use std::fmt::Write;

use nepheline::BindValue;
use nepheline::prelude::*;
use nepheline_coreshed::Specimen;
use nepheline_coreshed::scopes::{deeper_than, unassigned};

use crate::twins;

const COLUMNS: &str = "\"specimen\".\"id\", \"specimen\".\"borehole_id\", \"specimen\".\"label\", \
     \"specimen\".\"rock\", \"specimen\".\"top_m\", \"specimen\".\"base_m\", \"specimen\".\"taken_on\", \
     \"specimen\".\"analyst_id\", \"specimen\".\"parent_id\", \"specimen\".\"withdrawn_at\"";

/// A query of five clauses.
fn plain(label: Option<&str>) -> Query<Specimen> {
    Specimen::rows()
        .filter(|s| label.map(|label| s.label.gt(label)))
        .filter(deeper_than(50.0))
        .filter(unassigned)
        .order_by(|s| (s.top_m.desc(), s.id.asc()))
        .limit(20)
}

fn plain_by_hand(label: Option<&str>) -> (String, Vec<BindValue>) {
    let (mut text, mut binds) = (String::new(), Vec::new());
    write!(text, "SELECT {COLUMNS} FROM \"specimen\"").unwrap();
    let mut joint = "WHERE";
    if let Some(label) = label {
        binds.push(BindValue::Text(label.into()));
        write!(text, " {joint} \"specimen\".\"label\" > ${}", binds.len()).unwrap();
        joint = "AND";
    }
    binds.push(BindValue::Float(50.0));
    write!(text, " {joint} \"specimen\".\"top_m\" > ${}", binds.len()).unwrap();
    write!(text, " AND \"specimen\".\"analyst_id\" IS NULL").unwrap();
    binds.push(BindValue::Int(20));
    write!(
        text,
        " ORDER BY \"specimen\".\"top_m\" DESC, \"specimen\".\"id\" LIMIT ${}",
        binds.len()
    )
    .unwrap();
    (text, binds)
}

/// A query with two parents followed and a question to the children.
fn related(region: Option<&str>) -> Query<Specimen> {
    Specimen::rows()
        .filter(unassigned)
        .filter(deeper_than(50.0))
        .filter(|s| region.map(|region| s.borehole().site().region.eq(region)))
        .filter(|s| {
            s.assays()
                .filter(|a| a.element.eq("Nd") & a.ppm.ge(400.0))
                .exists()
        })
        .order_by(|s| (s.borehole().name.asc(), s.top_m.asc()))
        .limit(20)
}

fn related_by_hand(region: Option<&str>) -> (String, Vec<BindValue>) {
    let (mut text, mut binds) = (String::new(), Vec::new());
    write!(
        text,
        "SELECT {COLUMNS} FROM \"specimen\" \
         INNER JOIN \"borehole\" ON \"borehole\".\"id\" = \"specimen\".\"borehole_id\""
    )
    .unwrap();
    if region.is_some() {
        write!(text, " INNER JOIN \"site\" ON \"site\".\"id\" = \"borehole\".\"site_id\"").unwrap();
    }
    binds.push(BindValue::Float(50.0));
    write!(
        text,
        " WHERE \"specimen\".\"analyst_id\" IS NULL AND \"specimen\".\"top_m\" > ${}",
        binds.len()
    )
    .unwrap();
    if let Some(region) = region {
        binds.push(BindValue::Text(region.into()));
        write!(text, " AND \"site\".\"region\" = ${}", binds.len()).unwrap();
    }
    binds.push(BindValue::Text("Nd".into()));
    write!(
        text,
        " AND EXISTS (SELECT 1 FROM \"assay\" WHERE \"assay\".\"specimen_id\" = \"specimen\".\"id\" \
         AND \"assay\".\"element\" = ${}",
        binds.len()
    )
    .unwrap();
    binds.push(BindValue::Float(400.0));
    write!(text, " AND \"assay\".\"ppm\" >= ${})", binds.len()).unwrap();
    binds.push(BindValue::Int(20));
    write!(text, " ORDER BY \"borehole\".\"name\", \"specimen\".\"top_m\" LIMIT ${}", binds.len())
        .unwrap();
    (text, binds)
}

pub(crate) fn measure() {
    let (label, region) = (Some("KP"), Some("Upper Tarn"));
    let compiled = |query: &Query<Specimen>| query.sql(Dialect::Postgres).unwrap();
    let (built_plain, built_related) = (plain(label), related(region));
    let (text, binds) = plain_by_hand(label);
    assert_eq!((compiled(&built_plain).text(), compiled(&built_plain).binds()), (&*text, &*binds));
    let (text, binds) = related_by_hand(region);
    assert_eq!(
        (compiled(&built_related).text(), compiled(&built_related).binds()),
        (&*text, &*binds)
    );

    let by_hand = || plain_by_hand(label);
    twins("build a query of five clauses", 100, || plain(label), by_hand);
    twins("compile a query of five clauses", 100, || compiled(&built_plain), by_hand);
    let by_hand = || related_by_hand(region);
    twins("build a query with relations", 100, || related(region), by_hand);
    twins("compile a query with relations", 100, || compiled(&built_related), by_hand);
}
