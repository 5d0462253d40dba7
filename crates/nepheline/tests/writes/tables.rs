//! The tables that are written, and a handle of empty ones.

use std::sync::{Mutex, MutexGuard, PoisonError};

use nepheline::Clock;
use nepheline::blocking::Database;
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;

use crate::support::Engine;

#[derive(Debug, Clone, Copy, PartialEq, Storable)]
pub(crate) struct AgencyId(pub(crate) i64);

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "write_shelf", children(trays: Tray by shelf_id))]
pub(crate) struct Shelf {
    #[nepheline(key)]
    pub(crate) id: i64,
    pub(crate) load_g: i64,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(
    table = "write_tray",
    policies(own_agency, not_withdrawn),
    retire(withdrawn_at),
    carried(agency_id = AgencyId),
)]
pub(crate) struct Tray {
    #[nepheline(key, generated)]
    pub(crate) id: i64,
    pub(crate) agency_id: AgencyId,
    #[nepheline(references = Shelf)]
    pub(crate) shelf_id: Option<i64>,
    #[nepheline(unique, by_code_point)]
    pub(crate) label: String,
    pub(crate) grams: i64,
    /// NOT NULL in the database, which the program forgot.
    pub(crate) note: Option<String>,
    #[nepheline(version)]
    pub(crate) version: i64,
    #[nepheline(stamp = insert)]
    pub(crate) made_at: Timestamp,
    #[nepheline(stamp = write)]
    pub(crate) written_at: Timestamp,
    pub(crate) withdrawn_at: Option<Timestamp>,
}

/// Known by a name for which the engine may be less particular than we are.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "write_rig")]
pub(crate) struct Rig {
    #[nepheline(key, generated)]
    pub(crate) id: i64,
    #[nepheline(unique)]
    pub(crate) name: String,
    pub(crate) holes: i64,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "write_place")]
pub(crate) struct Place {
    #[nepheline(key)]
    pub(crate) shelf_id: i64,
    #[nepheline(key)]
    pub(crate) slot: i64,
    pub(crate) grams: i64,
}

/// A row that each agency has once, so that the carried value alone identifies it.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "write_allowance", carried(agency_id = AgencyId))]
pub(crate) struct Allowance {
    #[nepheline(key)]
    pub(crate) agency_id: AgencyId,
    pub(crate) grams: i64,
}

/// Unique where there is one.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "write_badge")]
pub(crate) struct Badge {
    #[nepheline(key, generated)]
    pub(crate) id: i64,
    #[nepheline(unique)]
    pub(crate) code: Option<i64>,
}

/// A table of which the database makes everything.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "write_ticket")]
pub(crate) struct Ticket {
    #[nepheline(key, generated)]
    pub(crate) id: i64,
}

/// A table that is retired with its children.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(
    table = "write_pallet",
    children(cartons: Carton by pallet_id),
    policies(on_the_floor),
    retire(cleared_at, with(cartons)),
)]
pub(crate) struct Pallet {
    #[nepheline(key)]
    pub(crate) id: i64,
    pub(crate) cleared_at: Option<Timestamp>,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(
    table = "write_carton",
    children(seals: Seal by (pallet_id, number)),
    policies(own_carton, not_cleared),
    carried(agency_id = AgencyId),
    retire(cleared_at, with(seals)),
)]
pub(crate) struct Carton {
    #[nepheline(key, references = Pallet)]
    pub(crate) pallet_id: i64,
    #[nepheline(key)]
    pub(crate) number: i64,
    pub(crate) agency_id: AgencyId,
    #[nepheline(version)]
    pub(crate) version: i64,
    pub(crate) cleared_at: Option<Timestamp>,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "write_seal", retire(broken))]
pub(crate) struct Seal {
    #[nepheline(key)]
    pub(crate) id: i64,
    pub(crate) pallet_id: i64,
    pub(crate) number: i64,
    pub(crate) broken: Option<bool>,
}

pub(crate) fn on_the_floor(p: PalletColumns) -> Condition {
    p.cleared_at.is_null()
}

pub(crate) fn own_carton(c: CartonColumns, agency: &AgencyId) -> Condition {
    c.agency_id.eq(*agency)
}

pub(crate) fn not_cleared(c: CartonColumns) -> Condition {
    c.cleared_at.is_null()
}

pub(crate) fn own_agency(t: TrayColumns, agency: &AgencyId) -> Condition {
    t.agency_id.eq(*agency)
}

pub(crate) fn not_withdrawn(t: TrayColumns) -> Condition {
    t.withdrawn_at.is_null()
}

pub(crate) fn at(hour: u8) -> Timestamp {
    format!("2024-05-01T{hour:02}:00:00Z").parse().unwrap()
}

/// The tables are for one test at a time.
pub(crate) fn alone() -> MutexGuard<'static, ()> {
    static ALONE: Mutex<()> = Mutex::new(());
    ALONE.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A handle of agency 3, at eight o'clock, of empty tables.
pub(crate) fn prepared(engine: &Engine) -> Database {
    let db = engine.open();
    for table in [
        "tray",
        "place",
        "shelf",
        "ticket",
        "pallet",
        "carton",
        "seal",
        "rig",
        "allowance",
        "badge",
    ] {
        db.run_text(&format!("DROP TABLE IF EXISTS write_{table}"), vec![])
            .unwrap();
    }
    let key = engine.pick(
        "INTEGER PRIMARY KEY",
        "bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY",
        "BIGINT AUTO_INCREMENT PRIMARY KEY",
    );
    let text = engine.pick("TEXT", "text COLLATE \"C\"", "VARCHAR(60) COLLATE utf8mb4_nopad_bin");
    let time = engine.pick("TEXT", "timestamptz", "DATETIME(6)");
    for table in [
        "shelf (id BIGINT PRIMARY KEY, load_g BIGINT NOT NULL)".to_owned(),
        format!(
            "tray (id {key}, agency_id BIGINT NOT NULL, shelf_id BIGINT, label {text} NOT NULL, \
             grams BIGINT NOT NULL, note {text} NOT NULL, version BIGINT NOT NULL, \
             made_at {time} NOT NULL, written_at {time} NOT NULL, withdrawn_at {time}, \
             CONSTRAINT tray_label UNIQUE (label), CONSTRAINT tray_weighs CHECK (grams >= 0), \
             CONSTRAINT tray_shelf FOREIGN KEY (shelf_id) REFERENCES write_shelf (id))"
        ),
        "place (shelf_id BIGINT, slot BIGINT, grams BIGINT NOT NULL, PRIMARY KEY (shelf_id, slot))"
            .to_owned(),
        format!("ticket (id {key})"),
        "allowance (agency_id BIGINT PRIMARY KEY, grams BIGINT NOT NULL)".to_owned(),
        format!("badge (id {key}, code BIGINT UNIQUE)"),
        format!(
            "rig (id {key}, name {} NOT NULL UNIQUE, holes BIGINT NOT NULL)",
            engine.pick("TEXT", "text", "VARCHAR(60) COLLATE utf8mb4_general_ci")
        ),
        format!("pallet (id BIGINT PRIMARY KEY, cleared_at {time})"),
        format!(
            "carton (pallet_id BIGINT, number BIGINT, agency_id BIGINT NOT NULL, version BIGINT NOT NULL, \
             cleared_at {time}, PRIMARY KEY (pallet_id, number))"
        ),
        "seal (id BIGINT PRIMARY KEY, pallet_id BIGINT, number BIGINT, broken BOOLEAN)".to_owned(),
    ] {
        db.run_text(&format!("CREATE TABLE write_{table}"), vec![])
            .unwrap();
    }
    db.carrying(AgencyId(3)).carrying(Clock::stopped_at(at(8)))
}

pub(crate) fn tray(label: impl Into<String>, grams: i64) -> TrayToInsert {
    let (label, note) = (label.into(), Some(String::new()));
    TrayToInsert { shelf_id: None, label, grams, note, withdrawn_at: None }
}
