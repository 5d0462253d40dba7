//! The meaning of the examples of CQL2: the same rows on every engine, and those of plain Rust.

use std::collections::HashMap;
use std::sync::LazyLock;

use nepheline::blocking::RunsQueries as _;
use nepheline::prelude::*;
use nepheline_coreshed::{Assay, Specimen, in_memory};

use crate::plain::{Plain, PlainRow, passes};
use crate::support::demos;
use crate::{TODAY, offer};

/// The specimens of the demo, as plain Rust sees them.
pub(crate) struct Shed {
    pub(crate) specimens: Vec<PlainSpecimen>,
}

pub(crate) struct PlainSpecimen {
    pub(crate) id: i64,
    specimen: Specimen,
    region: String,
    assays: Vec<Assay>,
}

pub(crate) static SHED: LazyLock<Shed> = LazyLock::new(|| {
    let db = in_memory().unwrap();
    let mut assays: HashMap<i64, Vec<Assay>> = HashMap::new();
    for assay in db.read(&Assay::rows()).unwrap() {
        assays.entry(assay.specimen_id).or_default().push(assay);
    }
    let regions = Specimen::rows().select(|s| (s.id, s.borehole().site().region));
    let regions: HashMap<i64, String> = db.read(&regions).unwrap().into_iter().collect();
    let specimens = db.read(&Specimen::rows().order_by(|s| s.id.asc())).unwrap();
    let specimens = specimens.into_iter().map(|specimen| PlainSpecimen {
        id: specimen.id,
        region: regions[&specimen.id].clone(),
        assays: assays.remove(&specimen.id).unwrap_or_default(),
        specimen,
    });
    Shed { specimens: specimens.collect() }
});

impl PlainRow for PlainSpecimen {
    fn value(&self, name: &str) -> Option<Plain> {
        let Specimen { label, rock, top_m, taken_on, withdrawn_at, .. } = &self.specimen;
        let overdue = |assay: &Assay| assay.reported_on.is_none() && assay.due_on < TODAY;
        Some(match name {
            "label" => Plain::Text(label.clone()),
            "rock" => {
                let rock = serde_json::to_value(rock).unwrap();
                Plain::Text(rock.as_str().unwrap().to_owned())
            }
            "depth" => Plain::Float(*top_m),
            "taken" => Plain::Day(*taken_on),
            "withdrawn" => Plain::At((*withdrawn_at)?),
            "region" => Plain::Text(self.region.clone()),
            "results" => Plain::Whole(self.assays.len() as i64),
            "overdue" => Plain::Bool(self.assays.iter().any(overdue)),
            other => panic!("no name {other}"),
        })
    }

    fn children(&self, name: &str) -> Vec<&dyn PlainRow> {
        assert_eq!(name, "assays");
        self.assays
            .iter()
            .map(|assay| assay as &dyn PlainRow)
            .collect()
    }
}

impl PlainRow for Assay {
    fn value(&self, name: &str) -> Option<Plain> {
        Some(match name {
            "element" => Plain::Text(self.element.clone()),
            "ppm" => Plain::Float(self.ppm),
            "reported" => Plain::Day(self.reported_on?),
            other => panic!("no name {other}"),
        })
    }

    fn children(&self, _: &str) -> Vec<&dyn PlainRow> {
        Vec::new()
    }
}

/// Each example, and the number of specimens in the demo that pass it.
const EXAMPLES: &[(&str, usize)] = &[
    ("depth > 100", 483),
    ("depth BETWEEN 50 AND 60", 10),
    ("depth NOT BETWEEN 50 AND 60 AND rock = 'basalt'", 133),
    ("rock IN ('basalt','gneiss') OR depth <= 10", 239),
    ("NOT (rock = 'basalt' OR rock = 'gneiss')", 372),
    ("region LIKE 'Upper%'", 171),
    (r"label LIKE '%\%%'", 1),
    ("CASEI(region) = CASEI('UPPER TARN')", 171),
    ("CASEI(label) LIKE CASEI('kp-%')", 93),
    ("withdrawn IS NULL AND overdue = TRUE", 88),
    ("taken >= DATE('2024-01-01')", 152),
    ("T_AFTER(taken, DATE('2023-12-31'))", 152),
    ("T_DURING(taken, INTERVAL('2023-01-01','2023-12-31'))", 22),
    ("T_INTERSECTS(taken, INTERVAL('..','2020-01-01'))", 253),
    ("T_INTERSECTS(withdrawn, INTERVAL('..','..'))", 35),
    ("withdrawn < TIMESTAMP('2024-01-01T00:00:00Z')", 27),
    ("depth * 2 - 1 > results + 100", 536),
    ("(depth + 1) / 2 >= -3", 600),
    ("results % 2 = 0", 300),
    ("depth ^ 2 > 100", 588),
    ("results div 2 = 3", 151),
    ("results > 2.5", 529),
    ("assays.ppm > 400 AND assays.element = 'Nd'", 89),
    ("assays.ppm > 400 AND (assays.element = 'Nd' AND depth > 300)", 36),
    ("(assays.ppm > 400 OR assays.element = 'U') AND assays.ppm < 1000", 436),
    ("NOT assays.ppm > 400", 285),
    ("assays.reported IS NULL", 350),
    ("assays.ppm > depth", 395),
    ("length(label) > 6", 5),
    ("label = 'O''Brien''s piece'", 1),
    (r#""label" = 'x'"#, 0),
    ("TRUE", 600),
    ("depth > 1 AND FALSE", 0),
];

#[test]
fn each_example_has_its_rows_on_every_engine_and_in_plain_rust() {
    let offer = offer();
    let mut faults = Vec::new();
    let demos = demos();
    for (text, count) in EXAMPLES {
        let filter = offer.cql2_text(text).unwrap();
        let json = serde_json::to_value(&filter).unwrap();
        let passing = SHED.specimens.iter().filter(|row| passes(&json, *row));
        let expected: Vec<i64> = passing.map(|row| row.id).collect();
        if expected.len() != *count {
            faults
                .push(format!("{text}: {count} are listed, and plain Rust has {}", expected.len()));
        }
        let query = Specimen::rows()
            .filter(filter.scope())
            .select(|s| s.id)
            .order_by(|s| s.id.asc());
        for (engine, db) in &demos {
            let found = db.read(&query).unwrap();
            if found != expected {
                let (name, found, wanted) = (engine.name, found.len(), expected.len());
                faults.push(format!("{text}: {found} on {name}, and {wanted} in plain Rust"));
            }
        }
    }
    assert!(faults.is_empty(), "{}", faults.join("\n"));
}
