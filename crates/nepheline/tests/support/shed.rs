//! The core shed: in memory, and on every engine.

use std::sync::OnceLock;

use nepheline::blocking::Database;
use nepheline::prelude::*;
use nepheline_coreshed::{
    Agency, Analyst, Assay, Borehole, Collar, Hazard, Lab, Site, Specimen, SpecimenHazard,
};

use super::{Engine, demos};

/// The whole shed in memory.
pub(crate) struct Shed {
    pub(crate) agencies: Vec<Agency>,
    pub(crate) sites: Vec<Site>,
    pub(crate) boreholes: Vec<Borehole>,
    pub(crate) collars: Vec<Collar>,
    pub(crate) analysts: Vec<Analyst>,
    pub(crate) specimens: Vec<Specimen>,
    pub(crate) assays: Vec<Assay>,
    pub(crate) labs: Vec<Lab>,
    pub(crate) hazards: Vec<Hazard>,
    pub(crate) links: Vec<SpecimenHazard>,
}

impl Shed {
    pub(crate) fn read() -> Shed {
        let db = nepheline_coreshed::in_memory().unwrap();
        Shed {
            agencies: db.read(&Agency::rows()).unwrap(),
            sites: db.read(&Site::rows()).unwrap(),
            boreholes: db.read(&Borehole::rows()).unwrap(),
            collars: db.read(&Collar::rows()).unwrap(),
            analysts: db.read(&Analyst::rows()).unwrap(),
            specimens: db.read(&Specimen::rows().order_by(|s| s.id.asc())).unwrap(),
            assays: db.read(&Assay::rows().order_by(|a| a.id.asc())).unwrap(),
            labs: db.read(&Lab::rows()).unwrap(),
            hazards: db.read(&Hazard::rows()).unwrap(),
            links: db.read(&SpecimenHazard::rows()).unwrap(),
        }
    }

    pub(crate) fn borehole(&self, s: &Specimen) -> &Borehole {
        self.boreholes
            .iter()
            .find(|b| b.id == s.borehole_id)
            .unwrap()
    }

    pub(crate) fn site(&self, b: &Borehole) -> &Site {
        self.sites.iter().find(|s| s.id == b.site_id).unwrap()
    }

    pub(crate) fn assays(&self, s: &Specimen) -> impl Iterator<Item = &Assay> {
        self.assays.iter().filter(|a| a.specimen_id == s.id)
    }

    pub(crate) fn hazards(&self, s: &Specimen) -> impl Iterator<Item = &Hazard> {
        let links = self.links.iter().filter(|link| link.specimen_id == s.id);
        links.map(|link| {
            self.hazards
                .iter()
                .find(|h| h.id == link.hazard_id)
                .unwrap()
        })
    }

    pub(crate) fn analyst(&self, s: &Specimen) -> Option<&Analyst> {
        self.analysts.iter().find(|a| Some(a.id) == s.analyst_id)
    }

    pub(crate) fn parent(&self, s: &Specimen) -> Option<&Specimen> {
        self.specimens.iter().find(|p| Some(p.id) == s.parent_id)
    }
}

/// The shed on every engine, opened once.
pub(crate) fn sheds() -> &'static [(Engine, Database)] {
    static SHEDS: OnceLock<Vec<(Engine, Database)>> = OnceLock::new();
    SHEDS.get_or_init(demos)
}

/// Deletes a specimen that a test has stored in the shed on a server.
pub(crate) fn forget(engine: &Engine, id: i64) {
    use nepheline::blocking::RunsQueries;
    if engine.name != "SQLite" {
        engine.open().write(&Specimen::row(id).delete()).unwrap();
    }
}
