//! The tables, their policies, and worlds of rows of which some are hidden.

use std::collections::BTreeSet;

use nepheline::BindValue;
use nepheline::blocking::Database;
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;

use crate::support::Engine;

#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct AgencyId(pub(crate) i64);

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(
    table = "guard_site",
    children(boreholes: Borehole by site_id),
    policies(own_agency, not_closed),
)]
pub(crate) struct Site {
    #[nepheline(key)]
    pub(crate) id: i64,
    pub(crate) agency_id: i64,
    #[nepheline(by_code_point)]
    pub(crate) region: String,
    pub(crate) closed_on: Option<Date>,
    pub(crate) secret: i64,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(
    table = "guard_borehole",
    children(specimens: Specimen by borehole_id),
    policies(of_site),
)]
pub(crate) struct Borehole {
    #[nepheline(key)]
    pub(crate) id: i64,
    #[nepheline(references = Site)]
    pub(crate) site_id: i64,
    pub(crate) depth_m: f64,
    pub(crate) secret: i64,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "guard_analyst", policies(colleague))]
pub(crate) struct Analyst {
    #[nepheline(key)]
    pub(crate) id: i64,
    pub(crate) agency_id: i64,
    #[nepheline(by_code_point)]
    pub(crate) name: String,
    pub(crate) secret: i64,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(
    table = "guard_specimen",
    children(assays: Assay by specimen_id, parts: Specimen by parent_id),
    bridged(tags: Tag across Tagged),
    policies(not_withdrawn, of_borehole),
)]
pub(crate) struct Specimen {
    #[nepheline(key)]
    pub(crate) id: i64,
    #[nepheline(unique, by_code_point)]
    pub(crate) label: String,
    #[nepheline(references = Borehole)]
    pub(crate) borehole_id: i64,
    #[nepheline(references = Analyst)]
    pub(crate) analyst_id: Option<i64>,
    #[nepheline(references = Specimen)]
    pub(crate) parent_id: Option<i64>,
    pub(crate) grams: i64,
    pub(crate) withdrawn_at: Option<Timestamp>,
    pub(crate) secret: i64,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "guard_assay", policies(of_specimen))]
pub(crate) struct Assay {
    #[nepheline(key)]
    pub(crate) id: i64,
    #[nepheline(references = Specimen)]
    pub(crate) specimen_id: i64,
    #[nepheline(by_code_point)]
    pub(crate) element: String,
    pub(crate) ppm: i64,
    pub(crate) secret: i64,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "guard_tag", bridged(specimens: Specimen across Tagged))]
pub(crate) struct Tag {
    #[nepheline(key)]
    pub(crate) id: i64,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "guard_tagged")]
pub(crate) struct Tagged {
    #[nepheline(key, references = Specimen)]
    pub(crate) specimen_id: i64,
    #[nepheline(key, references = Tag)]
    pub(crate) tag_id: i64,
}

pub(crate) fn own_agency(s: SiteColumns, agency: &AgencyId) -> Condition {
    s.agency_id.eq(agency.0)
}

pub(crate) fn not_closed(s: SiteColumns) -> Condition {
    s.closed_on.is_null()
}

/// A policy over visible sites: the policies of sites apply inside.
pub(crate) fn of_site(b: BoreholeColumns) -> Condition {
    Site::rows().filter(|s| s.id.eq(b.site_id)).exists()
}

pub(crate) fn colleague(a: AnalystColumns, agency: &AgencyId) -> Condition {
    a.agency_id.eq(agency.0)
}

pub(crate) fn not_withdrawn(s: SpecimenColumns) -> Condition {
    s.withdrawn_at.is_null()
}

/// The same by a parent that is followed, whose policies hold for it.
pub(crate) fn of_borehole(s: SpecimenColumns) -> Condition {
    s.borehole().depth_m.ge(0)
}

pub(crate) fn of_specimen(a: AssayColumns) -> Condition {
    a.specimen().grams.ge(0)
}

/// Which policies are on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Mode {
    AllOn,
    /// All but that of agencies.
    OtherAgencies,
    Withdrawn,
    Closed,
    AllWaived,
}

impl Mode {
    pub(crate) fn of<T: nepheline::Tables, R, L: nepheline::Level>(
        self,
        query: nepheline::Query<T, R, L>,
    ) -> nepheline::Query<T, R, L> {
        match self {
            Mode::AllOn => query,
            Mode::OtherAgencies => query
                .waive_everywhere(own_agency)
                .waive_everywhere(colleague),
            Mode::Withdrawn => query.waive_everywhere(not_withdrawn),
            Mode::Closed => query.waive_everywhere(not_closed),
            Mode::AllWaived => query.waive_every_policy(),
        }
    }
}

/// The value of `secret` in the rows of other agencies: no engine can compute its absolute value.
const UNSOUND: i64 = i64::MIN;

/// All rows of all tables; those of agency 1 alone are asked for.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct World {
    pub(crate) sites: Vec<Site>,
    pub(crate) boreholes: Vec<Borehole>,
    pub(crate) analysts: Vec<Analyst>,
    pub(crate) specimens: Vec<Specimen>,
    pub(crate) assays: Vec<Assay>,
    pub(crate) tagged: Vec<Tagged>,
}

pub(crate) const TAGS: i64 = 3;

impl World {
    /// Made of numbers, which are drawn.
    pub(crate) fn of(mut draw: impl FnMut(i64) -> i64) -> World {
        let closed = Date::constant(2021, 5, 1);
        let at: Timestamp = "2024-03-01T08:00:00Z".parse().unwrap();
        let sites: Vec<Site> = (1..=6)
            .map(|id| Site {
                id,
                agency_id: draw(2) + 1,
                region: ["North", "South", "West"][draw(3) as usize].to_owned(),
                closed_on: (draw(4) == 0).then_some(closed),
                secret: draw(9),
            })
            .collect();
        let boreholes: Vec<Borehole> = (1..=12)
            .map(|id| Borehole {
                id,
                site_id: draw(6) + 1,
                depth_m: draw(900) as f64,
                secret: draw(9),
            })
            .collect();
        let analysts: Vec<Analyst> = (1..=4)
            .map(|id| Analyst {
                id,
                agency_id: draw(2) + 1,
                name: format!("Analyst {id}"),
                secret: draw(9),
            })
            .collect();
        let specimens: Vec<Specimen> = (1..=50)
            .map(|id| Specimen {
                id,
                label: format!("GD-{id:03}"),
                borehole_id: draw(12) + 1,
                analyst_id: (draw(3) > 0).then(|| draw(4) + 1),
                parent_id: (id > 1 && draw(2) == 0).then(|| draw(id - 1) + 1),
                grams: draw(100),
                withdrawn_at: (draw(4) == 0).then_some(at),
                secret: draw(9),
            })
            .collect();
        let assays = (1..=120)
            .map(|id| Assay {
                id,
                specimen_id: draw(50) + 1,
                element: ["Nd", "Ce", "La"][draw(3) as usize].to_owned(),
                ppm: draw(1000),
                secret: draw(9),
            })
            .collect();
        let links: BTreeSet<(i64, i64)> = (0..60).map(|_| (draw(50) + 1, draw(TAGS) + 1)).collect();
        let tagged = links
            .into_iter()
            .map(|(specimen_id, tag_id)| Tagged { specimen_id, tag_id })
            .collect();
        let mut world = World { sites, boreholes, analysts, specimens, assays, tagged };
        world.make_others_unsound();
        world
    }

    /// Sets the secrets of agency 2.
    fn make_others_unsound(&mut self) {
        let theirs: Vec<i64> = self
            .sites
            .iter()
            .filter(|s| s.agency_id != 1)
            .map(|s| s.id)
            .collect();
        self.sites
            .iter_mut()
            .filter(|s| theirs.contains(&s.id))
            .for_each(|s| s.secret = UNSOUND);
        self.analysts
            .iter_mut()
            .filter(|a| a.agency_id != 1)
            .for_each(|a| a.secret = UNSOUND);
        let mut holes = Vec::new();
        for hole in self
            .boreholes
            .iter_mut()
            .filter(|b| theirs.contains(&b.site_id))
        {
            hole.secret = UNSOUND;
            holes.push(hole.id);
        }
        let mut specimens = Vec::new();
        for specimen in self
            .specimens
            .iter_mut()
            .filter(|s| holes.contains(&s.borehole_id))
        {
            specimen.secret = UNSOUND;
            specimens.push(specimen.id);
        }
        let assays = self
            .assays
            .iter_mut()
            .filter(|a| specimens.contains(&a.specimen_id));
        assays.for_each(|a| a.secret = UNSOUND);
    }

    /// Only the rows of an agency.
    pub(crate) fn of_agency(&self, agency: i64) -> World {
        let mut world = self.clone();
        world.sites.retain(|s| s.agency_id == agency);
        world.analysts.retain(|a| a.agency_id == agency);
        world
            .boreholes
            .retain(|b| world.sites.iter().any(|s| s.id == b.site_id));
        world
            .specimens
            .retain(|s| world.boreholes.iter().any(|b| b.id == s.borehole_id));
        world
            .assays
            .retain(|a| world.specimens.iter().any(|s| s.id == a.specimen_id));
        world
            .tagged
            .retain(|t| world.specimens.iter().any(|s| s.id == t.specimen_id));
        world
    }

    /// Drops the references from one agency to the other.
    pub(crate) fn without_crossings(mut self) -> World {
        let worlds = [1, 2].map(|agency| self.of_agency(agency));
        for specimen in &mut self.specimens {
            let own = worlds
                .iter()
                .find(|world| world.specimens.iter().any(|s| s.id == specimen.id));
            let Some(own) = own else { continue };
            specimen.analyst_id = specimen
                .analyst_id
                .filter(|id| own.analysts.iter().any(|a| a.id == *id));
            specimen.parent_id = specimen
                .parent_id
                .filter(|id| own.specimens.iter().any(|s| s.id == *id));
        }
        self
    }

    /// The number of all rows.
    pub(crate) fn rows(&self) -> usize {
        let World { sites, boreholes, analysts, specimens, assays, tagged } = self;
        let rows = sites.len() + boreholes.len() + analysts.len() + specimens.len();
        rows + assays.len() + tagged.len()
    }

    /// Only what may be seen in this mode.
    pub(crate) fn visible(mut self, mode: Mode) -> World {
        let all = mode == Mode::AllWaived;
        let ours = |agency: i64| all || mode == Mode::OtherAgencies || agency == 1;
        let open = |s: &Site| all || mode == Mode::Closed || s.closed_on.is_none();
        let there = |s: &Specimen| all || mode == Mode::Withdrawn || s.withdrawn_at.is_none();
        self.sites.retain(|s| ours(s.agency_id) && open(s));
        self.analysts.retain(|a| ours(a.agency_id));
        self.boreholes
            .retain(|b| self.sites.iter().any(|s| s.id == b.site_id));
        self.specimens
            .retain(|s| there(s) && self.boreholes.iter().any(|b| b.id == s.borehole_id));
        self.assays
            .retain(|a| self.specimens.iter().any(|s| s.id == a.specimen_id));
        self.tagged
            .retain(|t| self.specimens.iter().any(|s| s.id == t.specimen_id));
        self
    }

    pub(crate) fn fill(&self, engine: &Engine, db: &Database) {
        fill(engine, db, &self.sites);
        fill(engine, db, &self.boreholes);
        fill(engine, db, &self.analysts);
        fill(engine, db, &self.specimens);
        fill(engine, db, &self.assays);
        fill(engine, db, &self.tagged);
        // Without a look at the tables PostgreSQL takes them for large ones, and plans at length.
        if engine.dialect() == Dialect::Postgres {
            let tables = "guard_site, guard_borehole, guard_analyst, guard_specimen, guard_assay, guard_tagged";
            db.run_text(&format!("ANALYZE {tables}"), vec![]).unwrap();
        }
    }
}

pub(crate) fn fill<T: Table>(engine: &Engine, db: &Database, rows: &[T]) {
    let (table, columns) = (T::INFO.name(), T::INFO.columns());
    db.run_text(&format!("DELETE FROM {table}"), vec![])
        .unwrap();
    let width = columns.len();
    let places = |row: usize| -> String {
        let places = (1..=width).map(|i| match engine.dialect() {
            Dialect::Postgres => format!("${}", row * width + i),
            _ => "?".to_owned(),
        });
        format!("({})", places.collect::<Vec<_>>().join(", "))
    };
    let values: Vec<String> = (0..rows.len()).map(places).collect();
    let binds: Vec<BindValue> = rows
        .iter()
        .flat_map(|row| columns.iter().map(|column| row.value(column)))
        .collect();
    if !rows.is_empty() {
        db.run_text(&format!("INSERT INTO {table} VALUES {}", values.join(", ")), binds)
            .unwrap();
    }
}

pub(crate) fn prepared(engine: &Engine) -> Database {
    let db = engine.open();
    let text = engine.pick("TEXT", "text COLLATE \"C\"", "VARCHAR(40) COLLATE utf8mb4_nopad_bin");
    let (day, time) =
        (engine.pick("TEXT", "date", "DATE"), engine.pick("TEXT", "timestamptz", "DATETIME(6)"));
    let float = engine.pick("REAL", "float8", "DOUBLE");
    for (table, columns) in [
        (
            "site",
            format!(
                "id BIGINT PRIMARY KEY, agency_id BIGINT, region {text}, closed_on {day}, secret BIGINT"
            ),
        ),
        (
            "borehole",
            format!("id BIGINT PRIMARY KEY, site_id BIGINT, depth_m {float}, secret BIGINT"),
        ),
        ("analyst", format!("id BIGINT PRIMARY KEY, agency_id BIGINT, name {text}, secret BIGINT")),
        (
            "specimen",
            format!(
                "id BIGINT PRIMARY KEY, label {text}, borehole_id BIGINT, analyst_id BIGINT, parent_id BIGINT, \
                 grams BIGINT, withdrawn_at {time}, secret BIGINT"
            ),
        ),
        (
            "assay",
            format!(
                "id BIGINT PRIMARY KEY, specimen_id BIGINT, element {text}, ppm BIGINT, secret BIGINT"
            ),
        ),
        ("tag", "id BIGINT".to_owned()),
        ("tagged", "specimen_id BIGINT, tag_id BIGINT".to_owned()),
    ] {
        db.run_text(&format!("DROP TABLE IF EXISTS guard_{table}"), vec![])
            .unwrap();
        db.run_text(&format!("CREATE TABLE guard_{table} ({columns})"), vec![])
            .unwrap();
    }
    let tags: Vec<Tag> = (1..=TAGS).map(|id| Tag { id }).collect();
    fill(engine, &db, &tags);
    db.carrying(AgencyId(1))
}
